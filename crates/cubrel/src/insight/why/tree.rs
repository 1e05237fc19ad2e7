//! A formula as a tree, with the value of each part in its own context.

use super::answer::{WhyFilter, WhyKind, WhyPart};
use super::explained::{Explained, written};
use crate::Error;
use crate::formula::scalar::{Scalar, ScalarKind};
use crate::formula::typed::{LetId, Op};
use crate::plan::{Assembly, Bound, Fold, Key, Leaf};
use crate::run::domain::expand;
use crate::run::frame::{Frame, KeyColumn};
use crate::run::periods;
use crate::value::{Type, Value};

/// Combinations of a `per` that are shown.
const COMBINATIONS: usize = 8;

/// Values of the `let`s around a part.
type Lets = Vec<(LetId, Value, Type)>;

impl Explained<'_> {
    /// A whole assembly, in the one cell of a frame.
    pub(super) fn assembly(&self, assembly: &Assembly, frame: &Frame) -> Result<WhyPart, Error> {
        let mut part = self.scalar(&assembly.scalar, assembly, frame, &mut Vec::new())?;
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

    fn value(&self, scalar: &Scalar, assembly: &Assembly, frame: &Frame, lets: &Lets) -> Result<Value, Error> {
        let bound = lets.iter().rev().fold(scalar.clone(), |body, (id, value, ty)| Scalar {
            ty: body.ty,
            place: body.place.clone(),
            kind: ScalarKind::Let(
                *id,
                Box::new(Scalar { kind: ScalarKind::Constant(value.clone()), ty: *ty, place: body.place.clone() }),
                Box::new(body),
            ),
        });
        Ok(self.executor.eval_part(&bound, assembly, frame)?.get(0, scalar.ty))
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

    fn scalar(&self, scalar: &Scalar, assembly: &Assembly, frame: &Frame, lets: &mut Lets) -> Result<WhyPart, Error> {
        if let ScalarKind::Leaf(leaf) = scalar.kind {
            return self.leaf(&assembly.leaves[leaf], scalar, assembly, frame);
        }
        let value = self.value(scalar, assembly, frame, lets)?;
        let mut part = self.plain(scalar, WhyKind::Operator, Some(value));
        part.parts = self.parts_of(scalar, assembly, frame, lets)?;
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
        frame: &Frame,
        lets: &mut Lets,
    ) -> Result<Vec<WhyPart>, Error> {
        let mut parts = Vec::new();
        let add = |parts: &mut Vec<WhyPart>, s: &Scalar, lets: &mut Lets| -> Result<Value, Error> {
            let value = self.value(s, assembly, frame, lets)?;
            if !matches!(s.kind, ScalarKind::Constant(_)) {
                parts.push(self.scalar(s, assembly, frame, lets)?);
            }
            Ok(value)
        };
        match &scalar.kind {
            ScalarKind::Constant(_) | ScalarKind::Leaf(_) => {}
            ScalarKind::LetRef(_) | ScalarKind::Fault(_) => {}
            ScalarKind::Let(id, value, body) => {
                let mut bound = self.scalar(value, assembly, frame, lets)?;
                bound.kind = WhyKind::Let;
                let is_constant = matches!(value.kind, ScalarKind::Constant(_));
                let value_of = self.value(value, assembly, frame, lets)?;
                if !is_constant {
                    parts.push(bound);
                }
                lets.push((*id, value_of, value.ty));
                let inner = self.scalar(body, assembly, frame, lets);
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

    fn leaf(&self, leaf: &Leaf, scalar: &Scalar, around: &Assembly, frame: &Frame) -> Result<WhyPart, Error> {
        // A leaf by itself is a whole assembly of one part.
        let alone = |leaf: &Leaf| Assembly {
            label: String::new(),
            scalar: Scalar { kind: ScalarKind::Leaf(0), ..scalar.clone() },
            leaves: vec![leaf.clone()],
            scope: around.scope.clone(),
        };
        let value =
            || self.value(&Scalar { kind: ScalarKind::Leaf(0), ..scalar.clone() }, &alone(leaf), frame, &Vec::new());
        match leaf {
            Leaf::Read(..) | Leaf::OverDays(_) => {
                let mut part = self.plain(scalar, WhyKind::Aggregate, Some(value()?));
                let read = match leaf {
                    Leaf::Read(read, _) => read,
                    Leaf::OverDays(over) => &over.by_set,
                    _ => return Ok(part),
                };
                let rows = self.rows_read(read, frame)?.len() as u64;
                let table = self.executor.reads().read_plan(read.read).table;
                let all = self.executor.tables().rows(table) as u64;
                part.read = Some((self.schema.table(table).name.clone(), rows, all));
                Ok(part)
            }
            Leaf::Part(body) => self.assembly(body, frame),
            Leaf::Dim(_) | Leaf::Current { .. } => Ok(self.plain(scalar, WhyKind::Current, Some(value()?))),
            Leaf::Member(of, _) => {
                let mut part = self.plain(scalar, WhyKind::Operator, Some(value()?));
                part.parts = vec![self.assembly(of, frame)?];
                Ok(part)
            }
            Leaf::Bind { values, body } => self.bound(values, body, scalar, frame),
            Leaf::Project { .. } | Leaf::Period(_) => {
                let mut part = self.plain(scalar, WhyKind::Given, Some(value()?));
                let (body, inner) = self.edited(leaf, frame)?;
                let (before, after) = (self.filters(&around.scope, frame), self.filters(&body.scope, &inner));
                (part.removed, part.added) = changes(&before, &after);
                part.parts = vec![self.assembly(body, &inner)?];
                Ok(part)
            }
            Leaf::Fold(fold) => self.fold(fold, scalar, frame, value()?),
            Leaf::Rank(rank) => {
                let mut part = self.plain(scalar, WhyKind::Per, Some(value()?));
                let (outer, _) = frame.project(&rank.keep);
                let all = expand(self.executor.reads(), &rank.domain, &outer, &[], || Ok(None))?;
                let figures = self.executor.eval(&rank.figure, &all.frame)?;
                let count = (0..all.frame.cells).filter(|i| figures.values.is_valid(*i)).count();
                part.note = Some(format!("of {count} values that have a figure"));
                part.parts = vec![self.assembly(&rank.mine, frame)?];
                Ok(part)
            }
        }
    }

    fn bound(&self, values: &[Bound], body: &Assembly, scalar: &Scalar, frame: &Frame) -> Result<WhyPart, Error> {
        let mut dims: Vec<KeyColumn> = Vec::new();
        let mut parts = Vec::new();
        for bound in values {
            dims.push(self.executor.bound(bound, frame)?.0);
            match bound {
                Bound::Value(value) => {
                    let mut part = self.assembly(value, frame)?;
                    part.note = Some("evaluated once, here".into());
                    parts.push(part);
                }
                Bound::Set(set) => parts.push(self.set(set, &dims, scalar)),
            }
        }
        let inner = self.assembly(body, &frame.with(dims))?;
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

    fn set(&self, set: &crate::plan::SetLeaf, dims: &[KeyColumn], scalar: &Scalar) -> WhyPart {
        use crate::run::frame::{BoundValue, Members};
        let members = dims.last().and_then(|d| d.held(0)).and_then(BoundValue::members);
        let values = match members {
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
    fn edited<'l>(&self, leaf: &'l Leaf, frame: &Frame) -> Result<(&'l Assembly, Frame), Error> {
        match leaf {
            Leaf::Project { keep, body } => Ok((body, frame.project(keep).0)),
            Leaf::Period(period) => {
                let inner = frame.with([periods::days(self.executor.reads(), period, frame)?]);
                match period.body.leaves.as_slice() {
                    [next @ (Leaf::Project { .. } | Leaf::Period(_))] => self.edited(next, &inner),
                    _ => Ok((&period.body, inner)),
                }
            }
            _ => Err(Error::Form("this part is under no edit".into())),
        }
    }

    fn fold(&self, fold: &Fold, scalar: &Scalar, frame: &Frame, value: Value) -> Result<WhyPart, Error> {
        let mut part = self.plain(scalar, WhyKind::Per, Some(value));
        let all = expand(self.executor.reads(), &fold.domain, frame, &[], || {
            if fold.sparse { self.executor.supports(&fold.args) } else { Ok(None) }
        })?;
        let mut kept: Vec<u32> = (0..all.frame.cells as u32).collect();
        if let Some(filter) = &fold.filter {
            let truths = self.executor.eval(filter, &all.frame)?.values.truths();
            kept.retain(|i| truths[*i as usize]);
        }
        let dropped = all.frame.cells - kept.len();
        part.note = Some(match dropped {
            0 => format!("over {} combinations", kept.len()),
            _ => format!("over {} combinations; {dropped} more do not meet the `where`", kept.len()),
        });
        let Some(arg) = fold.args.first() else { return Ok(part) };
        let ty = arg.scalar.ty;
        let values = self.executor.eval(arg, &all.frame)?.values;
        // Those with the greatest values say most.
        let mut shown: Vec<(Value, u32)> =
            kept.iter().map(|i| (values.get(*i as usize, ty), *i)).filter(|(v, _)| !v.is_null()).collect();
        shown.sort_by(|(a, i), (b, j)| b.total_cmp(a).then(i.cmp(j)));
        for (value, i) in shown.into_iter().take(COMBINATIONS) {
            let names = fold.domain.keys.iter().enumerate().map(|(n, key)| {
                let code = all.frame.dims[fold.domain.outer_dims + n].codes[i as usize];
                match key {
                    Key::Column(column) => self.equals(*column, code),
                    Key::Row(table) => self.row_name(*table, code),
                    Key::Value(_) => String::new(),
                }
            });
            let mut combination = self.plain(scalar, WhyKind::Combination, Some(value));
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
