//! Which part uses which, drawn: as text for graph programs, and as a picture.

use std::fmt::Write as _;

use cubrel::unused::Unused;
use cubrel::uses::Uses;
use unicode_width::UnicodeWidthStr;

/// Parts and arrows between them, each part in a column.
pub struct Network {
    nodes: Vec<Node>,
    /// From the part that uses to the one that is used.
    arrows: Vec<(usize, usize)>,
}

struct Node {
    name: String,
    kind: String,
    column: usize,
}

impl Network {
    fn node(&mut self, name: &str, kind: &str, column: usize) -> usize {
        let known = self.nodes.iter().position(|n| n.name == name && n.kind == kind);
        known.unwrap_or_else(|| {
            self.nodes.push(Node { name: name.into(), kind: kind.into(), column });
            self.nodes.len() - 1
        })
    }

    fn arrow(&mut self, from: usize, to: usize) {
        if !self.arrows.contains(&(from, to)) {
            self.arrows.push((from, to));
        }
    }

    /// In the language of Graphviz.
    pub fn dot(&self) -> String {
        let quoted = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', " "));
        let mut text =
            String::from("digraph uses {\n  rankdir = RL;\n  node [shape = box, fontname = \"sans-serif\"];\n");
        for (i, node) in self.nodes.iter().enumerate() {
            let label = quoted(&format!("{}: {}", node.kind, node.name));
            let _ = writeln!(text, "  n{i} [label = {label}];");
        }
        for (from, to) in &self.arrows {
            let _ = writeln!(text, "  n{from} -> n{to};");
        }
        text + "}\n"
    }

    /// As a picture: what is asked of on the left, what uses it to the right.
    pub fn svg(&self) -> String {
        const ROW: usize = 44;
        const HEIGHT: usize = 34;
        const GAP: usize = 56;
        const MARGIN: usize = 16;
        let columns = self.nodes.iter().map(|n| n.column + 1).max().unwrap_or(0);
        let width = |n: &Node| 20 + 8 * n.name.width().max(n.kind.width());
        let widths: Vec<usize> =
            (0..columns).map(|c| self.nodes.iter().filter(|n| n.column == c).map(width).max().unwrap_or(0)).collect();
        let left = |c: usize| MARGIN + widths[..c].iter().map(|w| w + GAP).sum::<usize>();
        let mut next = vec![0usize; columns];
        let places: Vec<(usize, usize)> = self
            .nodes
            .iter()
            .map(|n| {
                let row = next[n.column];
                next[n.column] += 1;
                (left(n.column), MARGIN + row * ROW)
            })
            .collect();
        let (w, h) = (left(columns).saturating_sub(GAP) + MARGIN, 2 * MARGIN + next.iter().max().unwrap_or(&0) * ROW);
        let mut svg = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {w} {h}\" width=\"{w}\" height=\"{h}\" \
             font-family=\"system-ui, sans-serif\" role=\"img\">\n<style>.box{{fill:#f4f7f9;stroke:#4a6b7c}} \
             .kind{{fill:#566973;font-size:10px}} .name{{fill:#12232c;font-size:13px}} .arrow{{fill:none;stroke:#8aa2ae}}\
             @media (prefers-color-scheme: dark){{.box{{fill:#1d2a31;stroke:#7fa3b5}} .kind{{fill:#a9bcc6}} \
             .name{{fill:#eef4f7}}}}</style>\n"
        );
        for (from, to) in &self.arrows {
            let ((x1, y1), (x2, y2)) = (places[*to], places[*from]);
            let (x1, y1, y2) = (x1 + widths[self.nodes[*to].column], y1 + HEIGHT / 2, y2 + HEIGHT / 2);
            let middle = (x1 + x2) / 2;
            let _ = writeln!(svg, "<path class=\"arrow\" d=\"M{x1} {y1} C{middle} {y1} {middle} {y2} {x2} {y2}\"/>");
        }
        for (node, (x, y)) in self.nodes.iter().zip(&places) {
            let (w, kind, name) = (widths[node.column], escaped(&node.kind), escaped(&node.name));
            let _ = writeln!(
                svg,
                "<rect class=\"box\" x=\"{x}\" y=\"{y}\" width=\"{w}\" height=\"{HEIGHT}\" rx=\"4\"/>\
                 <text class=\"kind\" x=\"{}\" y=\"{}\">{kind}</text><text class=\"name\" x=\"{}\" y=\"{}\">{name}</text>",
                x + 10,
                y + 13,
                x + 10,
                y + 27
            );
        }
        svg + "</svg>\n"
    }
}

fn escaped(text: &str) -> String {
    let harmless = |c: char| if c.is_control() { ' ' } else { c };
    let text: String = text.chars().map(harmless).collect();
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// What uses a part.
pub fn of_uses(uses: &Uses) -> Network {
    let mut network = Network { nodes: Vec::new(), arrows: Vec::new() };
    let asked = network.node(&uses.name, uses.kind.name(), 0);
    for used in &uses.used_by {
        let before = match used.through.last() {
            None => asked,
            // Whoever stands between was told before.
            Some(name) => {
                let column = used.through.len();
                network.nodes.iter().position(|n| n.name == *name && n.column == column).unwrap_or(asked)
            }
        };
        let node = network.node(&used.name, used.kind.name(), used.through.len() + 1);
        network.arrow(node, before);
    }
    network
}

/// What nothing uses, with what it alone uses.
pub fn of_unused(unused: &Unused) -> Network {
    let mut network = Network { nodes: Vec::new(), arrows: Vec::new() };
    for part in &unused.unused {
        let first = network.node(&part.name, part.kind.name(), 0);
        for name in &part.then_unused {
            let then = network.node(name, "then unused", 1);
            network.arrow(first, then);
        }
    }
    network
}
