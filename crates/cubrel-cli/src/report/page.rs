//! The page: one file, no network.

use cubrel::catalog::{CatalogMeasure, CatalogTable};
use cubrel::units::{bytes, count};
use cubrel::{Formats, Grid, Severity, Type};
use maud::{DOCTYPE, Markup, PreEscaped, html};

use super::charts;
use super::{Answer, Facts};
use crate::output::grid_layout::{Block, layout};
use crate::output::text::Align;

const STYLE: &str = include_str!("style.css");
/// Shows the measures in which the words that are typed stand.
const SCRIPT: &str = "const box=document.getElementById('find');if(box)box.addEventListener('input',()=>{const words=box.value.toLowerCase().split(/\\s+/);\
document.querySelectorAll('#measures tbody tr').forEach(r=>{const t=r.textContent.toLowerCase();r.hidden=!words.every(w=>t.includes(w))})});";
/// Lines of a grid that a page has; the rest is counted.
const LINES: usize = 200;

/// The whole page.
pub fn page(facts: &Facts) -> Markup {
    let name = facts.catalog.name.clone().unwrap_or_else(|| "Model".into());
    let sections = [
        ("questions", "Saved queries"),
        ("figures", "What the figures mean"),
        ("tables", "Tables"),
        ("weight", "Where the bytes are"),
        ("times", "How long it takes"),
        ("care", "Care"),
    ];
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (name) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                a .skip href="#main" { "To the content" }
                header {
                    h1 { (name) }
                    dl .facts {
                        (fact("tables", &facts.catalog.tables.len().to_string()))
                        (fact("rows", &count(facts.sizes.model.rows)))
                        (fact("measures", &facts.catalog.measures.len().to_string()))
                        (fact("in memory", &bytes(facts.sizes.model.bytes)))
                        (fact("made on", &facts.day))
                        @if let Some(roles) = &facts.roles { (fact("as seen by", roles)) }
                    }
                    nav aria-label="Sections" { ul { @for (id, title) in sections { li { a href=(format!("#{id}")) { (title) } } } } }
                }
                main id="main" {
                    section id="questions" { h2 { "Saved queries" } (questions(facts)) }
                    section id="figures" { h2 { "What the figures mean" } (measures(facts)) }
                    section id="tables" { h2 { "Tables" } (tables(facts)) }
                    section id="weight" { h2 { "Where the bytes are" } (weight(facts)) }
                    section id="times" { h2 { "How long it takes" } (times(facts)) }
                    section id="care" { h2 { "Care" } (care(facts)) }
                }
                footer { p { "Written by cubrel " (env!("CARGO_PKG_VERSION")) " from the model and its data on " (facts.day) "." } }
                script { (PreEscaped(SCRIPT)) }
            }
        }
    }
}

fn fact(name: &str, value: &str) -> Markup {
    html! { div { dt { (name) } dd { (value) } } }
}

/// Something that may be wider than the page: it scrolls by itself, also by keyboard.
fn wide(label: &str, inner: &Markup) -> Markup {
    html! { div .wide role="region" tabindex="0" aria-label=(label) { (inner) } }
}

fn questions(facts: &Facts) -> Markup {
    html! {
        @if facts.answers.is_empty() { p .soft { "No query is saved in this model." } }
        @for answer in &facts.answers {
            article {
                h3 { (answer.name) }
                @if let Some(note) = &answer.note { p { (note) } }
                @match &answer.outcome {
                    Ok(grid) => { (grid_of(answer, grid, &facts.formats)) }
                    Err(why) => { p .warn { "It cannot be answered: " (why) } }
                }
                details { summary { "The query" } code { (answer.text) } }
            }
        }
    }
}

fn grid_of(answer: &Answer, grid: &Grid, formats: &Formats) -> Markup {
    let layout = layout(grid, formats);
    let blocks: Vec<(&Block, bool)> =
        layout.rows.iter().map(|b| (b, true)).chain(layout.columns.iter().map(|b| (b, false))).collect();
    let heads = blocks.first().map_or(0, |(b, _)| b.heads.len());
    let lines = layout.totals.len();
    let over_time =
        matches!(grid.columns.first().map(|c| c.ty), Some(Type::Date | Type::Timestamp)) && layout.rows.len() == 1;
    let largest: Vec<f64> =
        blocks.iter().map(|(b, _)| b.figures.iter().flatten().fold(0.0f64, |m, x| m.max(x.abs()))).collect();
    let class = |b: &Block| if b.align == Align::Right { "number" } else { "" };
    let table = html! {
        table {
            caption .soft { (count(lines as u64)) @if lines == 1 { " line" } @else { " lines" } }
            thead {
                @for level in 0..heads {
                    tr { @for (block, _) in &blocks { th scope="col" class=(class(block)) { (block.heads[level]) } } }
                }
            }
            tbody {
                @for row in 0..lines.min(LINES) {
                    tr class=[layout.totals[row].then_some("total")] {
                        @for (place, ((block, is_axis), largest)) in blocks.iter().zip(&largest).enumerate() {
                            @let share = block.figures.get(row).copied().flatten().filter(|_| !block.total && *largest > 0.0);
                            @if *is_axis && block.cells[row].is_empty() {
                                @match above(block, row).filter(|_| place < layout.alike[row]) {
                                    Some(text) => th scope="row" { span .unseen { (text) } },
                                    None => td {},
                                }
                            }
                            @else if *is_axis { th scope="row" class=(class(block)) { (block.cells[row]) } }
                            @else if let Some(x) = share {
                                td class="number bar" style=(format!("--share:{:.1}%", x.abs() / largest * 100.0)) { (block.cells[row]) }
                            }
                            @else { td class=(class(block)) { (block.cells[row]) } }
                        }
                    }
                }
            }
        }
    };
    html! {
        @if over_time && lines > 2 {
            @for block in layout.columns.iter().filter(|b| b.align == Align::Right && !b.total) {
                @let name = block.heads.iter().filter(|h| !h.is_empty()).cloned().collect::<Vec<_>>().join(", ");
                figure { (charts::trend(&block.figures, &format!("{name} over time"))) figcaption .soft { (name) } }
            }
        }
        @if lines == 0 { p .soft { "Nothing matches." } } @else { (wide(&answer.name, &table)) }
        @if lines > LINES { p .soft { "and " (count((lines - LINES) as u64)) " more lines" } }
    }
}

/// What a cell of an axis stands under, for those who do not see what stands above it.
fn above(block: &Block, row: usize) -> Option<&str> {
    block.cells[..row].iter().rev().map(String::as_str).find(|text| !text.is_empty())
}

fn measures(facts: &Facts) -> Markup {
    let mut all: Vec<&CatalogMeasure> = facts.catalog.measures.iter().collect();
    all.sort_by_key(|m| (m.group.is_none(), m.group.clone()));
    let table = html! {
        table id="measures" {
            caption .soft { (all.len()) " measures" }
            thead { tr { @for head in ["Measure", "Group", "Formula", "What it means", "Format", "Used by"] { th scope="col" { (head) } } } }
            tbody {
                @for m in all {
                    tr {
                        th scope="row" { (m.label.as_deref().unwrap_or(&m.name)) @if m.label.is_some() { br; code .soft { (m.name) } } }
                        td { (m.group.as_deref().unwrap_or_default()) }
                        td { code { (m.formula) } @if let Some(wrong) = &m.wrong { br; span .warn { (wrong) } } }
                        td { (m.note.as_deref().unwrap_or_default()) }
                        td { (m.format.as_deref().unwrap_or_default()) }
                        td { (facts.users(&m.name)) }
                    }
                }
            }
        }
    };
    html! {
        p { label for="find" { "Find a measure " } input id="find" type="search"; }
        (wide("Measures", &table))
    }
}

fn tables(facts: &Facts) -> Markup {
    let fresh = |t: &CatalogTable| facts.newest.iter().find(|(name, _)| *name == t.name).map(|(_, day)| day.clone());
    let orphans = |t: &CatalogTable| -> u64 {
        let own = |many: &str| many.strip_prefix(&t.name).is_some_and(|rest| rest.starts_with('.'));
        facts
            .sizes
            .relationships
            .iter()
            .filter(|r| own(&r.many) && !r.spare)
            .map(|r| r.unmatched_rows)
            .max()
            .unwrap_or(0)
    };
    let table = html! {
        table {
            caption .soft { (facts.catalog.tables.len()) " tables" }
            thead { tr {
                th scope="col" { "Table" } th scope="col" .number { "Rows" } th scope="col" .number { "Columns" }
                th scope="col" { "Newest day" } th scope="col" .number { "Rows that point at nothing" } th scope="col" { "What it holds" }
            } }
            tbody {
                @for t in &facts.catalog.tables {
                    tr {
                        th scope="row" { (t.name) }
                        td .number { (count(t.rows)) }
                        td .number { (t.columns.len()) }
                        td { (fresh(t).unwrap_or_default()) }
                        td .number { @let n = orphans(t); @if n > 0 { (count(n)) } }
                        td {
                            (t.note.as_deref().unwrap_or_default())
                            @if let Some(first) = &t.same_as { "a copy of " (first) }
                        }
                    }
                }
            }
        }
    };
    html! {
        (wide("Tables", &table))
        figure {
            (wide("How tables belong together", &charts::diagram(&facts.catalog)))
            figcaption .soft { "Each line leads from the rows that point to the one that they point at; dashed ones are followed only where a formula says so." }
        }
    }
}

fn weight(facts: &Facts) -> Markup {
    let mut columns: Vec<_> = facts.sizes.tables.iter().flat_map(|t| t.columns.iter().map(move |c| (t, c))).collect();
    columns.sort_by_key(|(_, c)| std::cmp::Reverse(c.bytes));
    let table = html! {
        table {
            caption .soft { "The heaviest columns" }
            thead { tr {
                th scope="col" { "Column" } th scope="col" .number { "Bytes" } th scope="col" .number { "Of the model" }
                th scope="col" .number { "Different values" } th scope="col" { "Form" }
            } }
            tbody {
                @for (t, c) in columns.iter().take(15) {
                    tr {
                        th scope="row" { (t.name) "." (c.name) }
                        td .number.bar style=(format!("--share:{:.1}%", c.share * 100.0)) { (bytes(c.bytes)) }
                        td .number { (format!("{:.1} %", c.share * 100.0)) }
                        td .number { (count(c.distinct)) }
                        td { (c.encoding) }
                    }
                }
            }
        }
    };
    html! { figure { (charts::treemap(&facts.sizes)) } (wide("The heaviest columns", &table)) }
}

fn times(facts: &Facts) -> Markup {
    let mut timed: Vec<(&Answer, f64)> = facts.answers.iter().filter_map(|a| Some((a, a.ms?))).collect();
    timed.sort_by(|a, b| b.1.total_cmp(&a.1));
    let most = timed.first().map_or(1.0, |(_, ms)| ms.max(1e-6));
    let table = html! {
        table {
            caption .soft { "Saved queries, the slowest first: the median of some warm runs" }
            thead { tr { th scope="col" { "Query" } th scope="col" .number { "Milliseconds" } } }
            tbody {
                @for (answer, ms) in &timed {
                    tr {
                        th scope="row" { (answer.name) }
                        td .number.bar style=(format!("--share:{:.1}%", ms / most * 100.0)) { (format!("{ms:.2}")) }
                    }
                }
            }
        }
    };
    html! { @if timed.is_empty() { p .soft { "No query is saved." } } @else { (wide("Times", &table)) } }
}

fn care(facts: &Facts) -> Markup {
    let unused = html! {
        table {
            caption .soft { "What nothing uses" }
            thead { tr { th scope="col" { "Part" } th scope="col" { "Kind" } th scope="col" .number { "Bytes" } th scope="col" { "Then unused" } } }
            tbody {
                @for part in &facts.unused.unused {
                    tr {
                        th scope="row" { (part.name) } td { (part.kind.name()) }
                        td .number { @if part.bytes > 0 { (bytes(part.bytes)) } } td { (part.then_unused.join(", ")) }
                    }
                }
            }
        }
    };
    html! {
        h3 { "Problems and hints" }
        @if facts.problems.is_empty() { p .soft { "Nothing is wrong with this model." } }
        ul {
            @for p in &facts.problems {
                li { span class=(if p.severity == Severity::Hint { "soft" } else { "warn" }) { (p.severity.name()) ": " } (p.message) }
            }
        }
        h3 { "Unused parts" }
        @if facts.unused.unused.is_empty() { p .soft { "Everything is used." } }
        @else { p { "Without them the model takes " (bytes(facts.unused.bytes)) " less." } (wide("Unused parts", &unused)) }
        @if let Some(advice) = &facts.advice {
            h3 { "Advice" }
            @if advice.advice.is_empty() { p .soft { "Nothing was found that would make this model smaller or faster." } }
            ol { @for advised in &advice.advice { li {
                (advised.says)
                @if let (Some(before), Some(after)) = (advised.bytes_before, advised.bytes_after) { " (" (bytes(before.saturating_sub(after))) " less)" }
            } } }
        }
    }
}
