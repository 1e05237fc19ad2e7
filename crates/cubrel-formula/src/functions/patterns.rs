//! Values as texts, by patterns and locales.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

use super::entry::{Function, FunctionError, Parameter};
use cubrel_value::format::{Formats, check_pattern};
use cubrel_value::{Type, Value};

thread_local! {
    /// What is known of a locale costs more to find out than to use.
    static KNOWN: RefCell<HashMap<String, Rc<Formats>>> = RefCell::default();
}

fn formats(locale: &str) -> Result<Rc<Formats>, FunctionError> {
    KNOWN.with_borrow_mut(|known| {
        if let Some(formats) = known.get(locale) {
            return Ok(formats.clone());
        }
        let formats = if locale.is_empty() { Formats::default() } else { Formats::new(Some(locale), None)? };
        let formats = Rc::new(formats);
        known.insert(locale.to_string(), formats.clone());
        Ok(formats)
    })
}

fn to_text(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let [value, Value::Text(pattern), rest @ ..] = args else {
        return Ok(Value::Null);
    };
    check_pattern(value.natural_type(), pattern)?;
    let locale = rest.first().and_then(Value::as_text).unwrap_or("");
    Ok(Value::text(formats(locale)?.show(value, value.natural_type(), Some(pattern))))
}

pub(super) const FUNCTIONS: &[Function] = &[Function {
    name: "to_text",
    signature: "to_text(x, pattern [, locale]) -> text",
    meaning: "a number, date or timestamp by a pattern as in Unicode UTS #35; by default in the model's locale",
    example: ("to_text(1234.5, '#,##0.00', 'de-DE')", "1.234,50"),
    parameters: &[Parameter::Any, Parameter::Text, Parameter::Text],
    optional: 1,
    repeated: false,
    result: |_| Type::Text,
    sees_nulls: false,
    run: to_text,
    batch: None,
}];
