//! The OpenAPI document (version 3.1): what the routes and types say of themselves, completed by what holds for all of them.

use serde_json::{Map, Value, json};
use utoipa::OpenApi;
use utoipa::openapi::security::{ApiKey, ApiKeyValue, Http, HttpAuthScheme, SecurityScheme};
use utoipa_actix_web::AppExt;
use utoipa_actix_web::scope::scope;

use super::{COOKIE, api_routes};

/// What the document says of itself; paths and types are added by the routes.
#[derive(OpenApi)]
#[openapi(info(
    title = "Jetfrost",
    description = "The office's shared backup destination. Errors are problem documents (RFC 9457). A POST that creates something \
                   may carry an Idempotency-Key: the same call with the same key is made once, and its answer given again for a day.",
    license(name = "MIT OR Apache-2.0", identifier = "MIT OR Apache-2.0"),
))]
struct Document;

/// The refusals that many calls have: status, name, what it means.
const REFUSALS: [(&str, &str, &str); 9] = [
    ("400", "BadRequest", "The request is not one that the API knows."),
    ("401", "NotSignedIn", "No credential, or one that is not valid any more."),
    ("403", "NotAllowed", "The credential does not allow this."),
    ("404", "NotFound", "There is no such thing, or none that the caller may see."),
    ("409", "Conflict", "The state of things does not allow this now."),
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
        for (method, call) in item.as_object_mut().into_iter().flat_map(Map::iter_mut) {
            complete(path, method, call);
        }
    }
    let schemas = document["components"]["schemas"].clone();
    plain(&mut document["components"]["schemas"], &schemas);
    document
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

fn complete(path: &str, method: &str, call: &mut Value) {
    for parameter in call.get_mut("parameters").and_then(Value::as_array_mut).into_iter().flatten() {
        let name = parameter["name"].as_str().unwrap_or_default().to_owned();
        bound(&name, &mut parameter["schema"]);
    }
    let has_body = call.get("requestBody").is_some();
    if has_body {
        bytes_as_such(&mut call["requestBody"]["content"]);
    }
    let refusals: Vec<&str> = [
        (true, "400"),
        (call.get("security").is_some(), "401"),
        (call.get("security").is_some(), "403"),
        (path.contains('{'), "404"),
        (method != "get", "409"),
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

/// What a parameter may be, by its name.
fn bound(name: &str, schema: &mut Value) {
    let pattern = |pattern: &str| Some(("pattern", Value::from(pattern)));
    let says = match name {
        // Ids of records, and of image stores.
        "id" => pattern("^[0-9A-Za-z_-]{1,64}$"),
        "hash" => pattern("^[0-9a-f]{64}$"),
        "slot" => pattern("^[0-9a-f]{16}$"),
        "wait_seconds" => Some(("maximum", 30.into())),
        "login" | "destination" | "who" | "text" | "after" => Some(("maxLength", 512.into())),
        _ => None,
    };
    if let (Some((key, value)), Some(schema)) = (says, schema.as_object_mut()) {
        schema.insert(key.into(), value);
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
