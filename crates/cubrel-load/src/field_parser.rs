//! How the fields of a column are read.

use super::dialect::Shape;
use super::infer::is_code;
use super::time_zone::TimeZone;
use cubrel_value::{Type, date, parse};

/// What a column admits beyond what its type can hold.
#[derive(Clone, Copy)]
pub(super) enum Admitted {
    /// Somebody has declared the type, or has seen all values.
    Settled,
    /// Numbers, if they are written as all would have to be for this type to be found.
    Number(u8),
    /// Anything of the type.
    Any,
    /// Nothing: no value has been seen yet that would tell the type.
    Unknown,
}

impl Admitted {
    pub(super) fn of(ty: Option<Type>, declared: bool) -> Admitted {
        match ty {
            _ if declared => Admitted::Settled,
            None => Admitted::Unknown,
            Some(Type::Int) => Admitted::Number(0),
            Some(Type::Decimal { scale, .. }) => Admitted::Number(scale),
            Some(Type::Float) => Admitted::Number(u8::MAX),
            Some(_) => Admitted::Any,
        }
    }

    /// Whether it admits a field that has no more decimals than the type.
    #[inline]
    fn admits_short(self, field: &[u8]) -> bool {
        match self {
            Admitted::Settled | Admitted::Any => true,
            Admitted::Unknown => false,
            Admitted::Number(_) => !is_code(field),
        }
    }

    #[inline]
    pub(super) fn admits(self, field: &[u8]) -> bool {
        let decimals = || memchr::memchr(b'.', field).map_or(0, |p| field.len() - p - 1);
        let fits = |scale: u8| scale == u8::MAX || decimals() <= usize::from(scale);
        self.admits_short(field) && if let Admitted::Number(scale) = self { fits(scale) } else { true }
    }
}

/// Fields that stand for null.
pub(super) struct Missing<'a> {
    fields: Vec<&'a [u8]>,
    /// Which lengths there are; the last bit is for all that are longer.
    lengths: u64,
}

impl<'a> Missing<'a> {
    pub(super) fn new(fields: &'a [String]) -> Missing<'a> {
        let lengths = fields.iter().fold(0, |lengths, f| lengths | Missing::length(f.as_bytes()));
        Missing { fields: fields.iter().map(String::as_bytes).collect(), lengths }
    }

    fn length(field: &[u8]) -> u64 {
        1 << field.len().min(63)
    }

    #[inline]
    pub(super) fn has(&self, field: &[u8]) -> bool {
        // Few fields are as long as what stands for nothing.
        self.lengths & Missing::length(field) != 0 && self.fields.contains(&field)
    }
}

/// How the fields of a column are read.
pub(super) struct FieldParser<'a> {
    pub(super) kind: Admitted,
    pub(super) shape: &'a Shape,
    pub(super) missing: &'a Missing<'a>,
    /// Whether blanks around a field are no part of it.
    pub(super) trim: bool,
    /// Where times that say how far they are from UTC are told; by default they are in UTC.
    pub(super) zone: Option<&'a TimeZone>,
}

/// A field without the blanks around it.
pub(super) fn trimmed(field: &[u8]) -> &[u8] {
    const NO_BREAK: &[u8] = "\u{a0}".as_bytes();
    let mut field = field.trim_ascii();
    while let Some(rest) = field.strip_prefix(NO_BREAK).or_else(|| field.strip_suffix(NO_BREAK)) {
        field = rest.trim_ascii();
    }
    field
}

/// What a field says.
pub(super) enum ParsedField<T> {
    Null,
    Value(T),
    /// It is not of the type.
    Misfit,
}

impl FieldParser<'_> {
    /// A field as it counts.
    #[inline]
    pub(super) fn field<'f>(&self, field: &'f [u8]) -> &'f [u8] {
        if self.trim { trimmed(field) } else { field }
    }

    /// Reads a field by `read`; first by `short`, which gives `None` for everything that needs a closer look, and never
    /// takes decimals off.
    #[inline(always)]
    pub(super) fn read<T>(
        &self,
        field: &[u8],
        short: impl Fn(&[u8]) -> Option<T>,
        read: impl Fn(&[u8]) -> Option<T>,
    ) -> ParsedField<T> {
        let field = self.field(field);
        if self.missing.has(field) {
            return ParsedField::Null;
        }
        let short = if self.shape.is_as_written(field) { short(field) } else { None };
        let value = short.filter(|_| self.kind.admits_short(field)).or_else(|| self.read_long(field, read));
        value.map_or(ParsedField::Misfit, ParsedField::Value)
    }

    #[inline(never)]
    fn read_long<T>(&self, field: &[u8], read: impl Fn(&[u8]) -> Option<T>) -> Option<T> {
        let field = self.shape.normal(field);
        if self.kind.admits(&field) { read(&field) } else { None }
    }

    /// A time, or the beginning of a day.
    #[inline]
    pub(super) fn time(&self, field: &[u8]) -> Option<i64> {
        match (date::parse_moment(field), self.zone) {
            (Some((utc, true)), Some(zone)) => zone.local(utc),
            (Some((time, _)), _) => Some(time),
            (None, _) => parse::timestamp(field),
        }
    }

    /// Whether a field is a text, and stands for itself.
    #[inline]
    pub(super) fn text(&self, field: &[u8], is_text: bool) -> ParsedField<()> {
        match self.kind {
            _ if self.missing.has(field) => ParsedField::Null,
            Admitted::Unknown => ParsedField::Misfit,
            _ if is_text || std::str::from_utf8(field).is_ok() => ParsedField::Value(()),
            _ => ParsedField::Misfit,
        }
    }
}

/// The type of a column: one without any value is text.
pub(super) fn finalized(ty: Option<Type>) -> Type {
    ty.unwrap_or(Type::Text)
}
