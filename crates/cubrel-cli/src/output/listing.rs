//! What can be asked of a model: its saved queries, measures, columns and lenses.

use cubrel::catalog::{Catalog, CatalogTable};

use super::Output;
use super::table::TextTable;
use super::text::Align;
use crate::failure::{Done, Failure};
use crate::format::Format;

/// Something that can be asked for.
struct Listed {
    kind: &'static str,
    /// The group of a measure, the table of a column.
    group: String,
    name: String,
    about: String,
}

/// Lists everything that is not hidden.
pub fn write(catalog: &Catalog, out: &mut Output) -> Done {
    let all = listed(catalog);
    match out.format() {
        Format::Json => out.json(&serde_json::json!(catalog))?,
        Format::Csv => whole(&all).write_csv(out)?,
        Format::Table | Format::Markdown => on_terminal(&all, out)?,
        _ => {
            let help = "take `--format json`, or name a query".to_string();
            return Err(Failure::Other("a list of what can be asked is no grid".into(), help));
        }
    }
    Ok(0)
}

fn listed(catalog: &Catalog) -> Vec<Listed> {
    let about = |label: &Option<String>, note: &Option<String>| {
        let parts: Vec<&str> = label.iter().chain(note).map(String::as_str).collect();
        parts.join(" · ")
    };
    let queries = catalog.queries.iter().map(|q| Listed {
        kind: "query",
        group: String::new(),
        name: q.name.clone(),
        about: about(&None, &q.note),
    });
    let measures = catalog.measures.iter().filter(|m| !m.hidden && m.wrong.is_none()).map(|m| Listed {
        kind: "measure",
        group: m.group.clone().unwrap_or_default(),
        name: cubrel::quote_name(&m.name).to_string(),
        about: about(&m.label, &m.note),
    });
    let lenses = catalog.lenses.iter().map(|l| Listed {
        kind: "lens",
        group: String::new(),
        name: cubrel::quote_name(&l.name).to_string(),
        about: format!("{}{}", l.label.as_ref().map_or(String::new(), |l| format!("{l} · ")), l.readings.join(", ")),
    });
    let columns = catalog.tables.iter().filter(|t| !t.hidden).flat_map(columns);
    queries.chain(measures).chain(lenses).chain(columns).collect()
}

fn columns(table: &CatalogTable) -> Vec<Listed> {
    let of = |name: &str| format!("{}.{}", cubrel::quote_name(&table.name), cubrel::quote_name(name));
    let hierarchies = table.hierarchies.iter().map(|h| Listed {
        kind: "hierarchy",
        group: table.name.clone(),
        name: cubrel::quote_name(&h.name).to_string(),
        about: h.levels.join(" / "),
    });
    let columns = table.columns.iter().filter(|c| !c.hidden).map(|c| {
        let parts: Vec<&str> = [c.ty.as_str()].into_iter().chain(c.label.as_deref()).chain(c.note.as_deref()).collect();
        Listed { kind: "column", group: table.name.clone(), name: of(&c.name), about: parts.join(" · ") }
    });
    hierarchies.chain(columns).collect()
}

fn whole(all: &[Listed]) -> TextTable {
    let heads = ["kind", "group", "name", "about"];
    let mut table = TextTable::new(&heads.map(|head| (head, Align::Left)));
    all.iter().for_each(|l| table.row(vec![l.kind.into(), l.group.clone(), l.name.clone(), l.about.clone()]));
    table
}

/// Under headings: the queries, the measures by group, the lenses, the columns by table.
fn on_terminal(all: &[Listed], out: &mut Output) -> Result<(), Failure> {
    if all.is_empty() {
        return out.text("there is nothing to ask for\n");
    }
    let heading = |listed: &Listed| match (listed.kind, listed.group.as_str()) {
        ("query", _) => "Saved queries: cubrel query NAME".to_string(),
        ("lens", _) => "Lenses: on an axis".to_string(),
        ("measure", "") => "Measures".to_string(),
        ("measure", group) => format!("Measures: {group}"),
        (_, table) => format!("Columns of {table}"),
    };
    let mut groups: Vec<(String, Vec<&Listed>)> = Vec::new();
    for listed in all {
        let heading = heading(listed);
        match groups.iter_mut().find(|(known, _)| *known == heading) {
            Some((_, list)) => list.push(listed),
            None => groups.push((heading, vec![listed])),
        }
    }
    for (heading, list) in groups {
        out.heading(&heading)?;
        let mut table = TextTable::new(&[("", Align::Left), ("", Align::Left)]).wrapped_in(1);
        list.iter().for_each(|l| table.row(vec![format!("  {}", l.name), l.about.clone()]));
        table.write(out)?;
    }
    Ok(())
}
