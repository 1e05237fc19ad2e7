//! Why a cell has its value, for people.

use cubrel::why::{Why, WhyPart};
use cubrel::{Formats, Type, Value};
use maud::{Markup, html};

fn value(formats: &Formats, value: &Value, ty: Type) -> String {
    if value.is_null() { "nothing".into() } else { formats.show(value, ty, None) }
}

fn part(formats: &Formats, part_of: &WhyPart) -> Markup {
    html! {
        li {
            code { (part_of.text) }
            @if let Some(found) = &part_of.value { " = " b { (value(formats, found, part_of.ty)) } }
            @if let Some((table, seen, all)) = &part_of.read {
                span .soft { " over " (cubrel::units::count(*seen)) " of " (cubrel::units::count(*all)) " rows of " (table) }
            }
            @for filter in &part_of.removed { div .soft { "without " code { (filter.text) } } }
            @for filter in &part_of.added { div .soft { "with " code { (filter.text) } } }
            @if let Some(note) = &part_of.note { div .soft { (note) } }
            @if !part_of.parts.is_empty() { ul { @for inner in &part_of.parts { (part(formats, inner)) } } }
        }
    }
}

/// An explanation.
pub fn explained(why: &Why, formats: &Formats, place: &str, back: &str) -> Markup {
    html! {
        section .why id="why" aria-label="Why" tabindex="-1" {
            h2 { (why.label.as_deref().unwrap_or(&why.name)) " is " (formats.show(&why.value, why.ty, why.format.as_deref())) }
            p { @if place.is_empty() { "in all" } @else { "where " code { (place) } } " · " a href=(back) { "close" } }
            @for note in &why.notes { p .soft { (note) } }
            div .columns {
                div {
                    h3 { "Filters" }
                    @if why.filters.is_empty() { p .soft { "none act on it" } }
                    ul { @for filter in &why.filters { li { code { (filter.text) } span .soft { " from " (filter.origin) } } } }
                    h3 { "Rows left" }
                    table {
                        thead { tr { th scope="col" { "Table" } th scope="col" .number { "Left" } th scope="col" .number { "Of" } th scope="col" { "By" } } }
                        tbody { @for table in &why.tables {
                            tr { th scope="row" { (table.table) } td .number { (cubrel::units::count(table.left)) } td .number { (cubrel::units::count(table.rows)) } td .soft { (table.by) } }
                        } }
                    }
                }
                div { h3 { "Formula" } ul .tree { (part(formats, &why.tree)) } }
            }
            @for rows in why.rows.iter().filter(|rows| !rows.rows.is_empty()) {
                h3 { "Rows behind " code { (rows.of) } span .soft { " (the first of " (cubrel::units::count(rows.count)) ")" } }
                div .wide role="region" tabindex="0" aria-label="Rows" {
                    table {
                        thead { tr { @for column in &rows.columns { th scope="col" { (column) } } } }
                        tbody { @for row in &rows.rows { tr { @for field in row { td { @if field.is_null() { "" } @else { (field.to_string()) } } } } } }
                    }
                }
            }
        }
    }
}
