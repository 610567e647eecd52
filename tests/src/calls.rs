//! The calls of the API as Rust, made from its document: what `jetfrost-wire/src/calls.rs` is held to.

use serde_json::Value;

const METHODS: [&str; 5] = ["get", "post", "put", "patch", "delete"];

/// The part of the file that the document says, behind its imports: a function a call.
#[must_use]
pub fn as_rust(document: &Value) -> String {
    let paths = document["paths"].as_object().expect("paths");
    let of_api = paths.iter().filter_map(|(path, calls)| Some((path.strip_prefix(jetfrost_wire::ROOT)?, calls)));
    let calls = of_api
        .flat_map(|(path, calls)| METHODS.iter().filter_map(move |method| Some(function(method, path, calls.get(*method)?))));
    calls.collect()
}

fn function(method: &str, path: &str, call: &Value) -> String {
    let method = method.to_uppercase();
    let name = call["operationId"].as_str().expect("a name");
    let parameters: Vec<&str> = path.split('{').skip(1).filter_map(|rest| rest.split_once('}')).map(|(name, _)| name).collect();
    let taken: Vec<String> = parameters.iter().map(|name| format!("{name}: impl Display")).collect();
    let given: Vec<String> = parameters.iter().map(|name| format!("segment({name})")).collect();
    let shape = parameters.iter().fold(path.to_owned(), |path, name| path.replace(&format!("{{{name}}}"), "{}"));
    let path_of = if given.is_empty() { format!("\"{path}\"") } else { format!("format!(\"{shape}\", {})", given.join(", ")) };
    let body = rust_type(&call["requestBody"]["content"], "Octets");
    let answers = call["responses"].as_object().expect("answers");
    let answer = answers.iter().find(|(status, _)| status.starts_with('2')).map(|(_, answer)| &answer["content"]);
    let answer = rust_type(answer.unwrap_or(&Value::Null), "File");
    format!(
        "\n/// `{method} {path}`\n#[must_use]\npub fn {name}({}) -> Call<{body}, {answer}> {{\n    Call::new(Method::{method}, {path_of})\n}}\n",
        taken.join(", ")
    )
}

/// The type of a body or an answer; `else_` for one that is not JSON.
fn rust_type(content: &Value, else_: &str) -> String {
    let Some(content) = content.as_object() else { return "()".into() };
    let Some(json) = content.get("application/json") else { return else_.into() };
    let name = json["schema"]["$ref"].as_str().expect("a named type").rsplit('/').next().expect("a name");
    match name.split_once('_') {
        Some((list @ ("Page" | "Found"), of)) => format!("{list}<{of}>"),
        _ => name.to_owned(),
    }
}
