//! Input that is exactly what the document says: no array where an object is expected, no field that nobody reads.

use serde_json::Value;

/// As alike as this is worth a suggestion (Jaro-Winkler).
const ALIKE: f64 = 0.75;
/// No honest body is nested so deep.
const DEEPEST: usize = 64;

/// Holds a value against a schema of a document.
///
/// # Errors
/// A sentence that says what is wrong, and where.
pub(super) fn check(value: &Value, schema: &Value, document: &Value) -> Result<(), String> {
    Checker { document }.check(value, schema, &mut Vec::new())
}

/// Whether a name is one of those that are known; otherwise what to say.
///
/// # Errors
/// A sentence with the nearest of them.
pub(super) fn known_name<'n>(name: &str, known: impl Iterator<Item = &'n str>, what: &str) -> Result<(), String> {
    let known: Vec<&str> = known.collect();
    if known.contains(&name) {
        return Ok(());
    }
    let likeness = |other: &&str| strsim::jaro_winkler(name, other);
    let nearest = known.iter().copied().max_by(|a, b| likeness(a).total_cmp(&likeness(b)));
    let hint = nearest.filter(|nearest| likeness(nearest) >= ALIKE).map(|nearest| format!("; did you mean '{nearest}'?"));
    let shown: String = name.chars().take(64).collect();
    Err(format!("there is no {what} '{shown}' here{}", hint.unwrap_or_default()))
}

struct Checker<'d> {
    document: &'d Value,
}

impl<'d> Checker<'d> {
    fn check(&self, value: &Value, schema: &'d Value, at: &mut Vec<String>) -> Result<(), String> {
        if at.len() > DEEPEST {
            return Err("it is nested too deep".into());
        }
        let schema = self.resolve(schema);
        let either = schema["oneOf"].as_array().or(schema["anyOf"].as_array());
        if let Some(either) = either {
            return self.check_either(value, either, at);
        }
        if !is_of_type(value, &schema["type"]) {
            return Err(format!("{} is expected, not {}{}", shown(&schema["type"]), kind(value), place(at)));
        }
        let fields = self.fields(schema);
        match value {
            Value::Object(object) if !fields.is_empty() => {
                for (name, value) in object {
                    let field = fields.iter().find(|(known, _)| known == name);
                    let Some((_, schema)) = field else {
                        return known_name(name, fields.iter().map(|(known, _)| *known), "field").map_err(|e| e + &place(at));
                    };
                    self.within(value, schema, name, at)?;
                }
                Ok(())
            }
            Value::Object(object) if schema["additionalProperties"].is_object() => {
                object.iter().try_for_each(|(name, value)| self.within(value, &schema["additionalProperties"], name, at))
            }
            Value::Array(items) if schema["items"].is_object() => {
                items.iter().enumerate().try_for_each(|(n, value)| self.within(value, &schema["items"], &n.to_string(), at))
            }
            _ => Ok(()),
        }
    }

    fn within(&self, value: &Value, schema: &'d Value, name: &str, at: &mut Vec<String>) -> Result<(), String> {
        at.push(name.to_owned());
        let checked = self.check(value, schema, at);
        at.pop();
        checked
    }

    /// One of several: the first that fits; otherwise what is wrong with the one that says of itself that it is meant, or with the last.
    fn check_either(&self, value: &Value, either: &'d [Value], at: &mut Vec<String>) -> Result<(), String> {
        let mut wrong = Err(format!("nothing like this is expected{}", place(at)));
        for schema in either {
            if self.is_meant(value, schema) {
                wrong = self.check(value, schema, at);
            }
            if wrong.is_ok() {
                return Ok(());
            }
        }
        wrong
    }

    /// Whether a value has the fixed words that an alternative has; serde says the rest.
    fn is_meant(&self, value: &Value, schema: &'d Value) -> bool {
        let fixed = |(name, field): &(&str, &'d Value)| match self.resolve(field)["enum"].as_array() {
            Some(words) if words.len() == 1 => value.get(*name) == words.first(),
            _ => true,
        };
        self.fields(self.resolve(schema)).iter().all(fixed)
    }

    /// The fields of an object, with those of what it is made of.
    fn fields(&self, schema: &'d Value) -> Vec<(&'d str, &'d Value)> {
        let own = schema["properties"].as_object().into_iter().flatten().map(|(name, schema)| (name.as_str(), schema));
        let parts = schema["allOf"].as_array().into_iter().flatten();
        own.chain(parts.flat_map(|part| self.fields(self.resolve(part)))).collect()
    }

    fn resolve(&self, schema: &'d Value) -> &'d Value {
        let name = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/components/schemas/"));
        name.map_or(schema, |name| &self.document["components"]["schemas"][name])
    }
}

/// Whether a value may be of a type (JSON Schema 2020-12), where it is an object, an array or nothing; of the rest serde says more.
fn is_of_type(value: &Value, types: &Value) -> bool {
    let allows =
        |name: &str| types.is_null() || types == name || types.as_array().is_some_and(|all| all.iter().any(|t| t == name));
    match value {
        Value::Object(_) => allows("object"),
        Value::Array(_) => allows("array"),
        Value::Null => true,
        _ => types != "null",
    }
}

fn shown(types: &Value) -> String {
    match types {
        Value::Array(all) => all.iter().map(shown).collect::<Vec<_>>().join(" or "),
        Value::String(name) if name == "object" || name == "integer" || name == "array" => format!("an {name}"),
        Value::String(name) => format!("a {name}"),
        _ => "something else".into(),
    }
}

fn kind(value: &Value) -> &'static str {
    match value {
        Value::Object(_) => "an object",
        Value::Array(_) => "an array",
        Value::String(_) => "a string",
        Value::Number(_) => "a number",
        Value::Bool(_) => "a boolean",
        Value::Null => "nothing",
    }
}

fn place(at: &[String]) -> String {
    if at.is_empty() { String::new() } else { format!(" (in '{}')", at.join(".")) }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn checked(value: &Value, name: &str) -> Result<(), String> {
        let schema = json!({ "$ref": format!("#/components/schemas/{name}") });
        let document = crate::http::document::document();
        check(value, &schema, &document)
    }

    #[test]
    fn a_field_that_nobody_reads_is_named_with_the_nearest_that_there_is() {
        let said = checked(&json!({ "login": "tove", "machien": "knot" }), "NewEnrolmentCode").expect_err("refused");
        assert_eq!(said, "there is no field 'machien' here; did you mean 'machine'?");
        let said = checked(&json!({ "login": "tove", "limit": { "what": "bytes", "byte": 3 } }), "NewEnrolmentCode");
        assert_eq!(said.expect_err("refused"), "there is no field 'byte' here; did you mean 'bytes'? (in 'limit')");
        let said = checked(&json!({ "login": "tove", "colour": "red" }), "NewEnrolmentCode").expect_err("refused");
        assert_eq!(said, "there is no field 'colour' here");
    }

    #[test]
    fn an_array_is_no_object() {
        let said = checked(&json!(["ingrid", "a password"]), "SignIn").expect_err("refused");
        assert_eq!(said, "an object is expected, not an array");
    }

    #[test]
    fn what_is_right_passes() {
        for limit in [json!({ "what": "usual" }), json!({ "what": "none" }), json!({ "what": "bytes", "bytes": 7 })] {
            assert_eq!(checked(&json!({ "login": "tove", "limit": limit }), "NewEnrolmentCode"), Ok(()));
        }
        assert_eq!(checked(&json!({ "login": "ingrid", "password": "x", "carry": "token" }), "SignIn"), Ok(()));
    }
}
