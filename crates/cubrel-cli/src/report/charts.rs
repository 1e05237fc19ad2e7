//! Pictures of a report: where bytes are, how tables belong together, how figures go.

use cubrel::catalog::{Catalog, CatalogRelationship};
use cubrel::sizes::Sizes;
use cubrel::units::{bytes, counted};
use maud::{Markup, html};

/// A rectangle of a picture.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Rect {
    x: f64,
    y: f64,
    w: f64,
    h: f64,
}

/// Rectangles for weights, which come in falling order, each as near to a square as can be: M. Bruls, K. Huizing and
/// J. van Wijk, "Squarified treemaps" (VisSym 2000).
fn squares(weights: &[f64], mut room: Rect) -> Vec<Rect> {
    let whole: f64 = weights.iter().sum();
    if whole <= 0.0 || room.w <= 0.0 || room.h <= 0.0 {
        return weights.iter().map(|_| Rect { w: 0.0, h: 0.0, ..room }).collect();
    }
    let scale = room.w * room.h / whole;
    let areas: Vec<f64> = weights.iter().map(|w| w * scale).collect();
    let mut placed = Vec::with_capacity(areas.len());
    let mut start = 0;
    while start < areas.len() {
        let side = room.w.min(room.h);
        let worst = |row: &[f64]| {
            let sum: f64 = row.iter().sum();
            let (most, least) = row.iter().fold((0.0f64, f64::MAX), |(m, l), a| (m.max(*a), l.min(*a)));
            if sum <= 0.0 || least <= 0.0 {
                f64::MAX
            } else {
                (side * side * most / (sum * sum)).max(sum * sum / (side * side * least))
            }
        };
        let mut end = start + 1;
        while end < areas.len() && worst(&areas[start..=end]) <= worst(&areas[start..end]) {
            end += 1;
        }
        let row = &areas[start..end];
        let thick = row.iter().sum::<f64>() / side.max(f64::MIN_POSITIVE);
        let mut at = 0.0;
        for area in row {
            let long = area / thick.max(f64::MIN_POSITIVE);
            placed.push(if room.w >= room.h {
                Rect { x: room.x, y: room.y + at, w: thick, h: long }
            } else {
                Rect { x: room.x + at, y: room.y, w: long, h: thick }
            });
            at += long;
        }
        if room.w >= room.h {
            room = Rect { x: room.x + thick, w: (room.w - thick).max(0.0), ..room };
        } else {
            room = Rect { y: room.y + thick, h: (room.h - thick).max(0.0), ..room };
        }
        start = end;
    }
    placed
}

/// Where the bytes are: a tile for each column, those of a table together.
pub fn treemap(sizes: &Sizes) -> Markup {
    let (w, h) = (960.0, 420.0);
    let mut tables: Vec<_> = sizes.tables.iter().filter(|t| t.bytes > 0).collect();
    tables.sort_by_key(|t| std::cmp::Reverse(t.bytes));
    let weights: Vec<f64> = tables.iter().map(|t| t.bytes as f64).collect();
    let places = squares(&weights, Rect { x: 0.0, y: 0.0, w, h });
    let mut tiles = Vec::new();
    for (table, place) in tables.iter().zip(places) {
        let mut columns: Vec<_> = table.columns.iter().filter(|c| c.bytes > 0).collect();
        columns.sort_by_key(|c| std::cmp::Reverse(c.bytes));
        let weights: Vec<f64> = columns.iter().map(|c| c.bytes as f64).collect();
        let inner = squares(&weights, place);
        tiles.extend(
            columns.into_iter().zip(inner).map(|(c, rect)| (format!("{}.{}", table.name, c.name), c.bytes, rect)),
        );
    }
    let label = format!("Bytes by column, {} in all", bytes(sizes.model.bytes));
    html! {
        svg viewBox=(format!("0 0 {w} {h}")) role="img" aria-label=(label) {
            @for (name, weight, r) in &tiles {
                g {
                    title { (name) ": " (bytes(*weight)) }
                    rect .tile x=(n(r.x)) y=(n(r.y)) width=(n(r.w)) height=(n(r.h)) {}
                    @if r.h > 18.0 && r.w > 7.0 * name.chars().count() as f64 {
                        text x=(n(r.x + 5.0)) y=(n(r.y + 15.0)) { (name) }
                    }
                    @if r.h > 36.0 && r.w > 7.0 * name.chars().count() as f64 {
                        text x=(n(r.x + 5.0)) y=(n(r.y + 31.0)) { (bytes(*weight)) }
                    }
                }
            }
        }
    }
}

/// A number of a picture, without digits that nobody sees.
fn n(x: f64) -> String {
    format!("{x:.1}")
}

/// A relationship with the numbers of the tables at its many side and its one side.
type Link<'c> = (usize, usize, &'c CatalogRelationship);

/// Height of a row of tables, of a table's box, and the room between two columns of them.
const ROW: f64 = 46.0;
const BOX: f64 = 30.0;
const GAP: f64 = 90.0;

/// The tables and their relationships: those that point on the left, what they point at to the right of them.
pub fn diagram(catalog: &Catalog) -> Markup {
    let names: Vec<&str> = catalog.tables.iter().map(|t| t.name.as_str()).collect();
    let ends = |r: &CatalogRelationship| -> Option<(usize, usize)> {
        let place = |side: &[String]| {
            let column = side.first()?;
            names.iter().position(|name| column.strip_prefix(*name).is_some_and(|rest| rest.starts_with('.')))
        };
        Some((place(&r.many)?, place(&r.one)?))
    };
    let links: Vec<Link<'_>> =
        catalog.relationships.iter().filter_map(|r| ends(r).map(|(many, one)| (many, one, r))).collect();
    let places = boxes(&names, &levels(names.len(), &links));
    let w = places.iter().map(|r| r.x + r.w).fold(90.0, f64::max);
    let h = places.iter().map(|r| r.y + ROW).fold(10.0, f64::max);
    let label = format!("{} and {}", counted(names.len() as u64, "table"), counted(links.len() as u64, "relationship"));
    html! {
        svg viewBox=(format!("0 0 {} {}", n(w + 10.0), n(h + 10.0))) role="img" aria-label=(label) {
            @for (many, one, r) in &links {
                path class=(if r.spare { "link spare" } else { "link" }) d=(arrow(places[*many], places[*one])) {
                    title { (format!("{} → {}{}", r.many.join(", "), r.one.join(", "), if r.spare { " (spare)" } else { "" })) }
                }
            }
            @for (name, r) in names.iter().zip(&places) {
                g {
                    rect .box x=(n(r.x)) y=(n(r.y)) width=(n(r.w)) height=(n(r.h)) rx="5" {}
                    text x=(n(r.x + 12.0)) y=(n(r.y + 20.0)) { (name) }
                }
            }
        }
    }
}

/// The column in which each table stands: right of all that point at it. Default ways never lead back.
fn levels(tables: usize, links: &[Link<'_>]) -> Vec<usize> {
    let mut levels = vec![0; tables];
    for _ in 0..tables {
        for (many, one, _) in links.iter().filter(|(many, one, r)| !r.spare && many != one) {
            levels[*one] = levels[*one].max((levels[*many] + 1).min(tables));
        }
    }
    levels
}

/// Where each table's box stands.
fn boxes(names: &[&str], levels: &[usize]) -> Vec<Rect> {
    let columns = levels.iter().max().map_or(0, |last| last + 1);
    let mut widths = vec![24.0f64; columns];
    for (name, level) in names.iter().zip(levels) {
        widths[*level] = widths[*level].max(name.chars().count() as f64 * 8.0 + 24.0);
    }
    let left = |level: usize| 10.0 + widths[..level].iter().map(|width| width + GAP).sum::<f64>();
    let mut next = vec![0usize; columns];
    let place = |level: &usize| {
        let row = next[*level];
        next[*level] += 1;
        Rect { x: left(*level), y: 10.0 + row as f64 * ROW, w: widths[*level], h: BOX }
    };
    levels.iter().map(place).collect()
}

/// A line from the right side of one box to the left side of another.
fn arrow(from: Rect, to: Rect) -> String {
    let (x1, y1, x2, y2) = (from.x + from.w, from.y + from.h / 2.0, to.x, to.y + to.h / 2.0);
    let reach = ((x2 - x1).abs() / 2.0).max(40.0);
    let (a, b) = (n(x1 + reach), n(x2 - reach));
    format!("M{} {} C{a} {} {b} {} {} {}", n(x1), n(y1), n(y1), n(y2), n(x2), n(y2))
}

/// A small line of some figures; missing ones leave a gap.
pub fn trend(figures: &[Option<f64>], label: &str) -> Markup {
    let (w, h) = (220.0, 44.0);
    let known: Vec<f64> = figures.iter().flatten().copied().filter(|x| x.is_finite()).collect();
    let (least, most) = known.iter().fold((f64::MAX, f64::MIN), |(a, b), x| (a.min(*x), b.max(*x)));
    let span = if most > least { most - least } else { 1.0 };
    let step = w / (figures.len().max(2) - 1) as f64;
    let mut path = String::new();
    let mut is_open = false;
    for (i, figure) in figures.iter().enumerate() {
        match figure.filter(|x| x.is_finite()) {
            Some(x) => {
                let y = 4.0 + (h - 8.0) * (1.0 - (x - least) / span);
                path += &format!("{}{} {} ", if is_open { "L" } else { "M" }, n(i as f64 * step), n(y));
                is_open = true;
            }
            None => is_open = false,
        }
    }
    html! {
        svg width=(n(w)) height=(n(h)) viewBox=(format!("0 0 {w} {h}")) role="img" aria-label=(label) {
            path .trend d=(path.trim_end()) {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tiles_cover_their_room_by_their_weights() {
        let room = Rect { x: 0.0, y: 0.0, w: 600.0, h: 400.0 };
        for weights in [vec![6.0, 6.0, 4.0, 3.0, 2.0, 2.0, 1.0], vec![1.0], vec![5.0; 40], vec![1000.0, 1.0, 1.0]] {
            let tiles = squares(&weights, room);
            let whole: f64 = weights.iter().sum();
            for (tile, weight) in tiles.iter().zip(&weights) {
                let expected = weight / whole * room.w * room.h;
                assert!((tile.w * tile.h - expected).abs() < 1e-6 * room.w * room.h, "{tile:?} {weight}");
                assert!(
                    tile.x >= -1e-6
                        && tile.y >= -1e-6
                        && tile.x + tile.w <= room.w + 1e-6
                        && tile.y + tile.h <= room.h + 1e-6
                );
            }
        }
        assert_eq!(squares(&[], room), []);
        assert_eq!(squares(&[0.0, 0.0], room).len(), 2);
    }
}
