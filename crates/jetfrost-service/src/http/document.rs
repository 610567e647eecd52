//! The OpenAPI document (version 3.1): what the routes and types say of themselves, completed by what holds for all of them.

use std::collections::BTreeSet;

use actix_web::http::header::IF_MATCH;
use serde_json::{Map, Value, json};
use utoipa::OpenApi;
use utoipa::openapi::security::{ApiKey, ApiKeyValue, Http, HttpAuthScheme, SecurityScheme};
use utoipa_actix_web::AppExt;
use utoipa_actix_web::scope::scope;

use super::{COOKIE, api_routes, bounds, examples};

/// What the document says of itself; paths and types are added by the routes.
#[derive(OpenApi)]
#[openapi(info(
    title = "Jetfrost",
    description = "The office's shared backup destination. Errors are problem documents (RFC 9457). A POST that creates something \
                   may carry an Idempotency-Key: the same call with the same key is made once, and its answer given again for a day. \
                   What several people may change has an ETag: sent back in If-Match, it keeps one from overwriting what another \
                   changed meanwhile.",
    license(name = "MIT OR Apache-2.0", identifier = "MIT OR Apache-2.0"),
))]
struct Document;

/// The refusals that many calls have: status, name, what it means.
const REFUSALS: [(&str, &str, &str); 10] = [
    ("400", "BadRequest", "The request is not one that the API knows."),
    ("401", "NotSignedIn", "No credential, or one that is not valid any more."),
    ("403", "NotAllowed", "The credential does not allow this."),
    ("404", "NotFound", "There is no such thing, or none that the caller may see."),
    ("409", "Conflict", "The state of things does not allow this now."),
    ("412", "ChangedMeanwhile", "Somebody else changed it since the version in If-Match was read."),
    ("413", "TooLarge", "The body is longer than the call takes."),
    ("415", "UnsupportedMediaType", "The body is of a media type that the call does not take."),
    ("422", "Invalid", "The values do not make sense, alone or together."),
    ("429", "TooMuch", "Too many attempts, or too much at once: Retry-After says how long to wait."),
];

/// The document.
pub(crate) fn document() -> Value {
    let (_, mut document) = actix_web::App::new()
        .into_utoipa_app()
        .openapi(Document::openapi())
        .service(scope(jetfrost_wire::ROOT).configure(api_routes))
        .split_for_parts();
    let components = document.components.get_or_insert_default();
    components.add_security_scheme("bearer", SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer)));
    components.add_security_scheme("cookie", SecurityScheme::ApiKey(ApiKey::Cookie(ApiKeyValue::new(COOKIE))));
    let mut document = serde_json::to_value(document).unwrap_or_default();
    document["servers"] = json!([{ "url": "/", "description": "The service that this document comes from." }]);
    document["components"]["responses"] = REFUSALS.iter().map(|(_, name, says)| ((*name).to_owned(), problem(says))).collect();
    let paths = document["paths"].as_object_mut().into_iter().flat_map(Map::iter_mut);
    for (path, item) in paths {
        let item = item.as_object_mut();
        let has_version = item.as_ref().is_some_and(|item| item.values().any(takes_version));
        for (method, call) in item.into_iter().flat_map(Map::iter_mut) {
            complete(path, method, call);
            if has_version && matches!(method.as_str(), "get" | "put" | "patch") {
                let says = "The version of what can be set, for If-Match; figures that change by themselves do not change it.";
                call["responses"]["200"]["headers"] = json!({ "ETag": { "description": says, "schema": { "type": "string" } } });
            }
        }
    }
    let schemas = document["components"]["schemas"].clone();
    plain(&mut document["components"]["schemas"], &schemas);
    for kind in taken(&document) {
        let schema = &mut document["components"]["schemas"][&kind];
        bounds::bound(&kind, schema);
        if let Some(example) = examples::of(&kind) {
            schema["examples"] = json!([example]);
        }
    }
    document
}

/// The names of all types that calls take, with those that they are made of.
fn taken(document: &Value) -> BTreeSet<String> {
    let (mut names, mut found) = (Vec::new(), BTreeSet::new());
    for call in document["paths"].as_object().into_iter().flatten().flat_map(|(_, item)| item.as_object().into_iter().flatten()) {
        named(&call.1["requestBody"], &mut names);
    }
    while let Some(name) = names.pop() {
        if found.insert(name.clone()) {
            named(&document["components"]["schemas"][&name], &mut names);
        }
    }
    found
}

/// Adds the names of all types that are mentioned somewhere.
fn named(node: &Value, names: &mut Vec<String>) {
    match node {
        Value::Object(fields) => {
            names.extend(fields.get("$ref").and_then(Value::as_str).and_then(|path| path.rsplit('/').next()).map(str::to_owned));
            fields.values().for_each(|field| named(field, names));
        }
        Value::Array(items) => items.iter().for_each(|item| named(item, names)),
        _ => {}
    }
}

/// Whether a call heeds a version.
pub(super) fn takes_version(call: &Value) -> bool {
    call["parameters"].as_array().into_iter().flatten().any(|one| one["in"] == "header" && one["name"] == IF_MATCH.as_str())
}

/// Writes an object that is made of several as one: alternatives with a word that tells them apart are otherwise beyond common
/// generators of clients.
fn plain(node: &mut Value, schemas: &Value) {
    if let Some(whole) = node.get("allOf").and_then(|parts| merged(parts.as_array()?, schemas)) {
        let says = node.get("description").cloned();
        *node = whole;
        says.into_iter().for_each(|says| node["description"] = says);
    }
    match node {
        Value::Object(fields) => fields.values_mut().for_each(|field| plain(field, schemas)),
        Value::Array(items) => items.iter_mut().for_each(|item| plain(item, schemas)),
        _ => {}
    }
}

/// One object of several; `None` if one of them is something else.
fn merged(parts: &[Value], schemas: &Value) -> Option<Value> {
    let (mut properties, mut required) = (Map::new(), Vec::new());
    for part in parts {
        let name = part["$ref"].as_str().and_then(|path| path.rsplit('/').next());
        let part = name.map_or(part, |name| &schemas[name]);
        properties.extend(part["properties"].as_object()?.clone());
        required.extend(part["required"].as_array().into_iter().flatten().cloned());
    }
    Some(json!({ "type": "object", "properties": properties, "required": required }))
}

fn problem(says: &str) -> Value {
    let schema = json!({ "$ref": "#/components/schemas/Problem" });
    json!({ "description": says, "content": { "application/problem+json": { "schema": schema } } })
}

/// Every part of the path that differs is a parameter, and text: a type of its own, such as that of an id, says so too little.
fn name_parts(path: &str, call: &mut Value) {
    let names = path.split('{').skip(1).filter_map(|rest| Some(rest.split_once('}')?.0));
    if !call["parameters"].is_array() && path.contains('{') {
        call["parameters"] = json!([]);
    }
    for name in names {
        let Some(parameters) = call["parameters"].as_array_mut() else { continue };
        let known = parameters.iter_mut().find(|one| one["in"] == "path" && one["name"] == name);
        match known {
            Some(one) if one["schema"].get("$ref").is_some() => one["schema"] = json!({ "type": "string" }),
            Some(_) => {}
            None => parameters.push(json!({ "name": name, "in": "path", "required": true, "schema": { "type": "string" } })),
        }
    }
}

fn complete(path: &str, method: &str, call: &mut Value) {
    name_parts(path, call);
    for parameter in call.get_mut("parameters").and_then(Value::as_array_mut).into_iter().flatten() {
        let name = parameter["name"].as_str().unwrap_or_default().to_owned();
        bounds::add(&mut parameter["schema"], bounds::of_parameter(&name));
    }
    let (has_body, has_version) = (call.get("requestBody").is_some(), takes_version(call));
    if has_body {
        bytes_as_such(&mut call["requestBody"]["content"]);
    }
    let refusals: Vec<&str> = [
        (true, "400"),
        (call.get("security").is_some(), "401"),
        (call.get("security").is_some(), "403"),
        (path.contains('{'), "404"),
        (method != "get", "409"),
        (has_version, "412"),
        (has_body, "413"),
        (has_body, "415"),
        (method != "get", "422"),
        (true, "429"),
    ]
    .into_iter()
    .filter_map(|(is_so, status)| is_so.then_some(status))
    .collect();
    let Some(responses) = call["responses"].as_object_mut() else { return };
    for (status, response) in responses.iter_mut() {
        let says = match status.as_str() {
            "default" => "A problem: the kind says which, and the next step what to do.",
            "204" => "Done.",
            _ => "What was asked for.",
        };
        response["description"] = says.into();
        if response.get("content").is_some() {
            bytes_as_such(&mut response["content"]);
        }
    }
    for (status, name, _) in REFUSALS.iter().filter(|(status, ..)| refusals.contains(status)) {
        let response = json!({ "$ref": format!("#/components/responses/{name}") });
        responses.entry((*status).to_owned()).or_insert(response);
    }
}

/// A body of bytes is no array of numbers.
fn bytes_as_such(content: &mut Value) {
    for (kind, media) in content.as_object_mut().into_iter().flat_map(Map::iter_mut) {
        if media["schema"]["items"]["type"] == "integer" {
            let says = json!({ "type": "string", "format": "binary", "contentMediaType": kind });
            media["schema"] = says;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::strict;
    use super::*;

    #[test]
    fn every_body_has_an_example_that_the_document_itself_takes() {
        let document = document();
        let calls =
            document["paths"].as_object().expect("paths").values().flat_map(|item| item.as_object().expect("calls").values());
        let mut bodies = 0;
        for schema in calls.map(|call| &call["requestBody"]["content"]["application/json"]["schema"]).filter(|s| s.is_object()) {
            let name = schema["$ref"].as_str().and_then(|path| path.rsplit('/').next()).expect("a type");
            let example = &document["components"]["schemas"][name]["examples"][0];
            assert!(example.is_object(), "{name} has no example");
            assert_eq!(strict::check(example, schema, &document), Ok(()), "{name}");
            bodies += 1;
        }
        assert!(bodies > 40, "{bodies}");
    }

    #[test]
    fn text_that_calls_take_is_bounded() {
        let document = document();
        for kind in taken(&document) {
            let schema = &document["components"]["schemas"][&kind];
            let parts = schema["oneOf"].as_array().cloned().unwrap_or_else(|| vec![schema.clone()]);
            for (field, schema) in parts.iter().flat_map(|part| part["properties"].as_object().into_iter().flatten()) {
                let one = if schema["items"].is_object() { &schema["items"] } else { schema };
                let is_text =
                    one["type"] == "string" || one["type"].as_array().is_some_and(|types| types.contains(&"string".into()));
                let is_bounded = ["enum", "maxLength", "format"].iter().any(|key| one.get(key).is_some());
                assert!(!is_text || is_bounded, "{kind}.{field} has no bound");
            }
        }
    }
}
