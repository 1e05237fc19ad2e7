//! What `given` does to the filter context of a cell, edit by edit.

use super::*;

impl Naive<'_> {
    pub(super) fn edited(&self, edits: &[TypedEdit], context: &Context, names: &Names) -> (Context, Names) {
        let mut names = names.clone();
        for edit in edits {
            if let TypedEdit::Narrow(narrow) = edit {
                for (id, value) in &narrow.outer {
                    let around = names.clone();
                    self.bind(*id, value, context, &around, &mut names);
                }
            }
        }
        let mut inner = context.clone();
        edits.iter().for_each(|e| self.drop_filters(e, &mut inner));
        for edit in edits {
            match edit {
                TypedEdit::Narrow(narrow) => inner.filters.push(self.predicate(narrow, context, &names, Origin::Edit)),
                TypedEdit::Period(period) => self.period(period, &mut inner),
                _ => {}
            }
        }
        (inner, names)
    }

    pub(super) fn period(&self, period: &TypedPeriod, context: &mut Context) {
        let schema = self.data.schema;
        let calendar = period.calendar;
        let day_kind = |c: ColumnId| schema.column(c).day_kind;
        let seen = Context {
            filters: context
                .filters
                .iter()
                .filter_map(|f| self.kept(f, &|_, c| c.table != calendar || !day_kind(c)))
                .collect(),
            ..context.clone()
        };
        let date = |row: usize| match self.data.value(period.date, Some(row)) {
            Value::Date(day) => day,
            other => unreachable!("{other:?} in a calendar"),
        };
        let mut visible: BTreeSet<i32> = self.data.visible(calendar, &seen).into_iter().map(date).collect();
        if let Some(table) = period.rows_of {
            let path = self.data.ways(table, &context.detours)[&calendar].clone();
            let rows = self.data.visible(table, context).into_iter();
            let days: BTreeSet<i32> = rows.filter_map(|r| self.data.follow_all(&path, Some(r))).map(date).collect();
            visible.retain(|day| days.contains(day));
        }
        context.filters.retain(|f| f.origin != Origin::Row || f.table != calendar);
        context.filters =
            context.filters.iter().filter_map(|f| self.kept(f, &|_, c| c.table != calendar || day_kind(c))).collect();
        let days = days::edited(&visible, period.edit);
        let rows = (0..self.data.tables[calendar.0 as usize].len()).map(|r| days.contains(&date(r))).collect();
        context.filters.push(Filter {
            table: calendar,
            columns: vec![period.date],
            rows,
            null: false,
            origin: Origin::Edit,
        });
    }

    pub(super) fn predicate(&self, narrow: &Narrow, context: &Context, names: &Names, origin: Origin) -> Filter {
        let passes = |row| self.row_value(&narrow.predicate, narrow.table, row, context, names) == Value::Bool(true);
        Filter {
            table: narrow.table,
            columns: narrow.columns.clone(),
            rows: (0..self.data.tables[narrow.table.0 as usize].len()).map(|r| passes(Some(r))).collect(),
            null: passes(None),
            origin,
        }
    }

    pub(super) fn drop_filters(&self, edit: &TypedEdit, context: &mut Context) {
        let named = |targets: &[EditTarget], c: ColumnId| {
            targets.contains(&EditTarget::Column(c)) || targets.contains(&EditTarget::Table(c.table))
        };
        let row_of = |targets: &[EditTarget], f: &Filter| targets.contains(&EditTarget::Table(f.table));
        let keep: Box<Keep<'_>> = match edit {
            TypedEdit::Period(_) => return,
            TypedEdit::Narrow(n) if !n.instead => return,
            TypedEdit::Narrow(n) => {
                let targets: Vec<EditTarget> = n.columns.iter().map(|c| EditTarget::Column(*c)).collect();
                Box::new(move |_, c| !named(&targets, c))
            }
            TypedEdit::Without(targets) => {
                context.filters.retain(|f| f.origin != Origin::Row || !row_of(targets, f));
                Box::new(move |_, c| !named(targets, c))
            }
            TypedEdit::WithoutAllBut(targets) => {
                context.filters.retain(|f| f.origin != Origin::Row || row_of(targets, f));
                Box::new(move |_, c| named(targets, c))
            }
            TypedEdit::WithoutAll => {
                context.filters.clear();
                return;
            }
            TypedEdit::WithoutAxes => {
                context.filters.retain(|f| f.origin != Origin::Axis);
                return;
            }
            TypedEdit::WithoutRow => {
                if let Some(place) = context.filters.iter().rposition(|f| f.origin == Origin::Row) {
                    context.filters.remove(place);
                }
                return;
            }
        };
        context.filters = context.filters.iter().filter_map(|f| self.kept(f, &*keep)).collect();
    }

    /// What is left of a filter when some of its columns are dropped: rows whose other values occur in a row that passes.
    pub(super) fn kept(&self, f: &Filter, keep: &Keep<'_>) -> Option<Filter> {
        if f.origin == Origin::Row {
            return Some(f.clone());
        }
        let columns: Vec<ColumnId> = f.columns.iter().copied().filter(|c| keep(f, *c)).collect();
        if columns.len() == f.columns.len() {
            return Some(f.clone());
        }
        if columns.is_empty() {
            return None;
        }
        let combination = |row| columns.iter().map(|c| self.data.look_up(f.table, row, *c, &[])).collect::<Vec<_>>();
        let count = f.rows.len();
        let mut allowed: Vec<Vec<Value>> = (0..count).filter(|r| f.rows[*r]).map(|r| combination(Some(r))).collect();
        if f.null {
            allowed.push(combination(None));
        }
        let rows = (0..count).map(|r| allowed.contains(&combination(Some(r)))).collect();
        let null = allowed.contains(&combination(None));
        Some(Filter { columns, rows, null, ..f.clone() })
    }
}
