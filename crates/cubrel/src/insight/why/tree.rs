//! A formula as a tree, with the value of each part in its own context.

use super::answer::{WhyFilter, WhyKind, WhyPart};
use super::explained::{Explained, written};
use crate::Error;
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::typed::{LetId, Op};
use cubrel_plan::{Assembly, Bound, DimId, Fold, Key, Leaf, SetLeaf};
use cubrel_run::{BoundValue, Members, OneCell};
use cubrel_value::{Type, Value};

/// Combinations of a `per` that are shown.
const COMBINATIONS: usize = 8;

/// Values of the `let`s around a part.
type Lets = Vec<(LetId, Value, Type)>;

impl Explained<'_> {
    /// A whole assembly, in the one cell of a cell.
    pub(super) fn assembly(&self, assembly: &Assembly, cell: &OneCell<'_, '_>) -> Result<WhyPart, Error> {
        let mut part = self.scalar(&assembly.scalar, assembly, cell, &mut Vec::new())?;
        if !assembly.label.is_empty() && part.text != assembly.label {
            part = WhyPart {
                text: assembly.label.clone(),
                kind: WhyKind::Measure,
                value: part.value.clone(),
                ty: part.ty,
                removed: Vec::new(),
                added: Vec::new(),
                read: None,
                note: None,
                parts: vec![part],
            };
        }
        Ok(part)
    }

    fn value(&self, scalar: &Scalar, assembly: &Assembly, cell: &OneCell<'_, '_>, lets: &Lets) -> Result<Value, Error> {
        let bound = lets.iter().rev().fold(scalar.clone(), |body, (id, value, ty)| Scalar {
            ty: body.ty,
            place: body.place.clone(),
            kind: ScalarKind::Let(
                *id,
                Box::new(Scalar { kind: ScalarKind::Constant(value.clone()), ty: *ty, place: body.place.clone() }),
                Box::new(body),
            ),
        });
        Ok(cell.value(&bound, assembly)?)
    }

    fn plain(&self, scalar: &Scalar, kind: WhyKind, value: Option<Value>) -> WhyPart {
        WhyPart {
            text: written(&scalar.place),
            kind,
            value,
            ty: scalar.ty,
            removed: Vec::new(),
            added: Vec::new(),
            read: None,
            note: None,
            parts: Vec::new(),
        }
    }

    fn scalar(
        &self,
        scalar: &Scalar,
        assembly: &Assembly,
        cell: &OneCell<'_, '_>,
        lets: &mut Lets,
    ) -> Result<WhyPart, Error> {
        if let ScalarKind::Leaf(leaf) = scalar.kind {
            return self.leaf(&assembly.leaves[leaf], scalar, assembly, cell);
        }
        let value = self.value(scalar, assembly, cell, lets)?;
        let mut part = self.plain(scalar, WhyKind::Operator, Some(value));
        part.parts = self.parts_of(scalar, assembly, cell, lets)?;
        // Conversions that the language makes by itself are not shown.
        let converts = matches!(scalar.kind, ScalarKind::Call(Op::ToFloat | Op::Rescale { .. } | Op::ToTimestamp, _));
        if let ([only], true) = (part.parts.as_slice(), converts)
            && only.text == part.text
        {
            part = part.parts.remove(0);
        }
        Ok(part)
    }

    fn parts_of(
        &self,
        scalar: &Scalar,
        assembly: &Assembly,
        cell: &OneCell<'_, '_>,
        lets: &mut Lets,
    ) -> Result<Vec<WhyPart>, Error> {
        let mut parts = Vec::new();
        let add = |parts: &mut Vec<WhyPart>, s: &Scalar, lets: &mut Lets| -> Result<Value, Error> {
            let value = self.value(s, assembly, cell, lets)?;
            if !matches!(s.kind, ScalarKind::Constant(_)) {
                parts.push(self.scalar(s, assembly, cell, lets)?);
            }
            Ok(value)
        };
        match &scalar.kind {
            ScalarKind::Constant(_) | ScalarKind::Leaf(_) => {}
            ScalarKind::LetRef(_) | ScalarKind::Fault(_) => {}
            ScalarKind::Let(id, value, body) => {
                let mut bound = self.scalar(value, assembly, cell, lets)?;
                bound.kind = WhyKind::Let;
                let is_constant = matches!(value.kind, ScalarKind::Constant(_));
                let value_of = self.value(value, assembly, cell, lets)?;
                if !is_constant {
                    parts.push(bound);
                }
                lets.push((*id, value_of, value.ty));
                let inner = self.scalar(body, assembly, cell, lets);
                lets.pop();
                parts.push(inner?);
            }
            ScalarKind::Call(_, args) => {
                for arg in args {
                    add(&mut parts, arg, lets)?;
                }
            }
            // Only what was looked at to find the result is shown.
            ScalarKind::Coalesce(args) => {
                for arg in args {
                    if !add(&mut parts, arg, lets)?.is_null() {
                        break;
                    }
                }
            }
            ScalarKind::And(a, b) | ScalarKind::Or(a, b) => {
                let decisive = Value::Bool(matches!(scalar.kind, ScalarKind::Or(..)));
                if add(&mut parts, a, lets)? != decisive {
                    add(&mut parts, b, lets)?;
                }
            }
            ScalarKind::Case(arms, otherwise) => {
                let mut taken = false;
                for (condition, result) in arms {
                    if add(&mut parts, condition, lets)? == Value::Bool(true) {
                        add(&mut parts, result, lets)?;
                        taken = true;
                        break;
                    }
                }
                if let (Some(result), false) = (otherwise, taken) {
                    add(&mut parts, result, lets)?;
                }
            }
        }
        Ok(parts)
    }

    fn leaf(&self, leaf: &Leaf, scalar: &Scalar, around: &Assembly, cell: &OneCell<'_, '_>) -> Result<WhyPart, Error> {
        // A leaf by itself is a whole assembly of one part.
        let alone = |leaf: &Leaf| Assembly {
            label: String::new(),
            scalar: Scalar { kind: ScalarKind::Leaf(0), ..scalar.clone() },
            leaves: vec![leaf.clone()],
            scope: around.scope.clone(),
        };
        let value =
            || self.value(&Scalar { kind: ScalarKind::Leaf(0), ..scalar.clone() }, &alone(leaf), cell, &Vec::new());
        match leaf {
            Leaf::Read(..) | Leaf::OverDays(_) => {
                let mut part = self.plain(scalar, WhyKind::Aggregate, Some(value()?));
                let read = match leaf {
                    Leaf::Read(read, _) => read,
                    Leaf::OverDays(over) => &over.by_set,
                    _ => return Ok(part),
                };
                let rows = cell.rows_of(read)?.len() as u64;
                let table = cell.read(read).table;
                let all = self.tables.rows(table) as u64;
                part.read = Some((self.schema.table(table).name.clone(), rows, all));
                Ok(part)
            }
            Leaf::Part(body) => self.assembly(body, cell),
            Leaf::Dim(_) | Leaf::Current { .. } => Ok(self.plain(scalar, WhyKind::Current, Some(value()?))),
            Leaf::Member(of, _) => {
                let mut part = self.plain(scalar, WhyKind::Operator, Some(value()?));
                part.parts = vec![self.assembly(of, cell)?];
                Ok(part)
            }
            Leaf::Bind { values, body } => self.bound(values, body, scalar, cell),
            Leaf::Project { .. } | Leaf::Period(_) => {
                let mut part = self.plain(scalar, WhyKind::Given, Some(value()?));
                let (body, inner) = self.edited(leaf, cell)?;
                let (before, after) = (self.filters(&around.scope, cell), self.filters(&body.scope, &inner));
                (part.removed, part.added) = changes(&before, &after);
                part.parts = vec![self.assembly(body, &inner)?];
                Ok(part)
            }
            Leaf::Fold(fold) => self.fold(fold, scalar, cell, value()?),
            Leaf::Rank(rank) => {
                let mut part = self.plain(scalar, WhyKind::Per, Some(value()?));
                let figures = cell.keeping(&rank.keep).combinations(&rank.domain)?.values(&rank.figure)?;
                let count = figures.iter().filter(|figure| !figure.is_null()).count();
                part.note = Some(format!("of {count} values that have a figure"));
                part.parts = vec![self.assembly(&rank.mine, cell)?];
                Ok(part)
            }
        }
    }

    fn bound(
        &self,
        values: &[Bound],
        body: &Assembly,
        scalar: &Scalar,
        cell: &OneCell<'_, '_>,
    ) -> Result<WhyPart, Error> {
        let inside = cell.holding(values)?;
        let mut parts = Vec::new();
        for (n, bound) in values.iter().enumerate() {
            match bound {
                Bound::Value(value) => {
                    let mut part = self.assembly(value, cell)?;
                    part.note = Some("evaluated once, here".into());
                    parts.push(part);
                }
                Bound::Set(set) => parts.push(self.set(set, inside.held(DimId::new(cell.dims() + n)), scalar)),
            }
        }
        let inner = self.assembly(body, &inside)?;
        let mut part = self.plain(scalar, WhyKind::Given, inner.value.clone());
        if inner.text == part.text {
            part.removed = inner.removed;
            part.added = inner.added;
            part.note = inner.note;
            part.kind = inner.kind;
            parts.extend(inner.parts);
        } else {
            parts.push(inner);
        }
        part.parts = parts;
        Ok(part)
    }

    fn set(&self, set: &SetLeaf, held: Option<&BoundValue>, scalar: &Scalar) -> WhyPart {
        let values = match held.and_then(BoundValue::members) {
            Some(Members::Values(values)) => values.iter().map(ToString::to_string).collect::<Vec<_>>(),
            _ => Vec::new(),
        };
        let mut part = self.plain(scalar, WhyKind::Let, None);
        let word = if set.bottom { "bottom" } else { "top" };
        part.text = format!(
            "{word}({}, {} per {})",
            set.count,
            written(&set.figure.scalar.place),
            self.schema.column_name(set.column)
        );
        let more = if values.len() > COMBINATIONS { ", …" } else { "" };
        let shown: Vec<String> = values.into_iter().take(COMBINATIONS).collect();
        part.note = Some(format!("chosen: {}{more}", shown.join(", ")));
        part
    }

    /// The body of an edited part, and its one cell.
    fn edited<'l, 'e, 'a>(
        &self,
        leaf: &'l Leaf,
        cell: &OneCell<'e, 'a>,
    ) -> Result<(&'l Assembly, OneCell<'e, 'a>), Error> {
        match leaf {
            Leaf::Project { keep, body } => Ok((body, cell.keeping(keep))),
            Leaf::Period(period) => {
                let inner = cell.under(period)?;
                match period.body.leaves.as_slice() {
                    [next @ (Leaf::Project { .. } | Leaf::Period(_))] => self.edited(next, &inner),
                    _ => Ok((&period.body, inner)),
                }
            }
            _ => Err(Error::Form("this part is under no edit".into())),
        }
    }

    fn fold(&self, fold: &Fold, scalar: &Scalar, cell: &OneCell<'_, '_>, value: Value) -> Result<WhyPart, Error> {
        let mut part = self.plain(scalar, WhyKind::Per, Some(value));
        let all = cell.combinations_of(fold)?;
        let mut kept: Vec<usize> = (0..all.count()).collect();
        if let Some(filter) = &fold.filter {
            let truths = all.values(filter)?;
            kept.retain(|i| truths[*i] == Value::Bool(true));
        }
        let dropped = all.count() - kept.len();
        part.note = Some(match dropped {
            0 => format!("over {} combinations", kept.len()),
            _ => format!("over {} combinations; {dropped} more do not meet the `where`", kept.len()),
        });
        let Some(arg) = fold.args.first() else { return Ok(part) };
        let ty = arg.scalar.ty;
        let values = all.values(arg)?;
        // Those with the greatest values say most.
        let mut shown: Vec<(&Value, usize)> =
            kept.into_iter().map(|i| (&values[i], i)).filter(|(v, _)| !v.is_null()).collect();
        shown.sort_by(|(a, i), (b, j)| b.total_cmp(a).then(i.cmp(j)));
        for (value, i) in shown.into_iter().take(COMBINATIONS) {
            let names = fold.domain.keys.iter().enumerate().map(|(n, key)| {
                let code = all.code(fold.domain.outer_dims + n, i);
                match key {
                    Key::Column(column) => self.equals(*column, code),
                    Key::Row(table) => self.row_name(*table, code),
                    Key::Value(_) => String::new(),
                }
            });
            let mut combination = self.plain(scalar, WhyKind::Combination, Some(value.clone()));
            combination.text = names.collect::<Vec<_>>().join(", ");
            combination.ty = ty;
            part.parts.push(combination);
        }
        Ok(part)
    }
}

/// What an edit removed from a context, and what it added.
fn changes(before: &[WhyFilter], after: &[WhyFilter]) -> (Vec<WhyFilter>, Vec<WhyFilter>) {
    let missing = |from: &[WhyFilter], of: &[WhyFilter]| {
        from.iter().filter(|f| !of.iter().any(|o| o.text == f.text)).cloned().collect()
    };
    (missing(before, after), missing(after, before))
}
