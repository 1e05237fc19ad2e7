//! What can stand under the keys of a model's file, by its JSON Schema.

use std::sync::LazyLock;

use serde_json::Value as Json;

use super::file::ModelFile;

/// The JSON Schema of `model.toml`, made from the types that read it.
///
/// ```
/// assert!(cubrel::model_schema()["properties"]["table"].is_object());
/// ```
pub fn model_schema() -> Json {
    schema().clone()
}

/// The same, made once: every text of a model that is read is held against it.
pub fn schema() -> &'static Json {
    static SCHEMA: LazyLock<Json> =
        LazyLock::new(|| serde_json::to_value(schemars::schema_for!(ModelFile)).unwrap_or(Json::Null));
    &SCHEMA
}

/// Follows references, and takes the part of a choice that is a value (the other one is null).
pub fn resolved<'s>(root: &'s Json, schema: &'s Json) -> &'s Json {
    if let Some(reference) = schema.get("$ref").and_then(Json::as_str) {
        let name = reference.trim_start_matches("#/$defs/");
        return resolved(root, &root["$defs"][name]);
    }
    if let Some(choice) = schema.get("anyOf").and_then(Json::as_array)
        && let [only, null] = choice.as_slice()
        && null.get("type").and_then(Json::as_str) == Some("null")
    {
        return resolved(root, only);
    }
    schema
}

/// What stands in a list: of a schema, or of the form of a choice that is a list.
pub fn element(schema: &Json) -> Option<&Json> {
    let forms = || schema.get("anyOf")?.as_array()?.iter().find_map(|form| form.get("items"));
    schema.get("items").or_else(forms)
}

/// Whether a schema allows a kind of value.
pub fn expects(schema: &Json, kind: &str) -> bool {
    // A whole number is a number.
    let is_it = |one: &str| one == kind || one == "number" && kind == "integer";
    match schema.get("type") {
        Some(Json::String(one)) => is_it(one),
        Some(Json::Array(several)) => several.iter().filter_map(Json::as_str).any(is_it),
        // A choice between forms is left to the reader of the types.
        _ => schema.get("properties").is_none() || kind == "object",
    }
}

/// What the schema of a key says, which keys lead to (elements of lists by their number), with its references unfollowed:
/// they have its meaning beside them.
pub fn said_of<'s>(root: &'s Json, path: &[String]) -> Option<&'s Json> {
    path.iter().try_fold(root, |schema, key| {
        let schema = resolved(root, schema);
        let named = schema.get("properties").and_then(|p| p.get(key));
        let any = || schema.get("additionalProperties").filter(|s| s.is_object());
        let numbered = || element(schema).filter(|_| key.parse::<usize>().is_ok());
        named.or_else(any).or_else(numbered)
    })
}
