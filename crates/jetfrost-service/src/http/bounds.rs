//! The bounds of what calls take, for the document: the same numbers that count when a call is made.

use super::large;
use jetfrost_office::names::{LEAST_PASSWORD, MOST_NAME, MOST_PASSWORD};
use serde_json::{Map, Value, json};

use crate::shared::bounds as most;

/// The longest path that the operating system takes.
const MOST_PATH: usize = 4096;

/// What a parameter may be, by its name.
pub(super) fn of_parameter(name: &str) -> Value {
    match name {
        // Ids of records, and of image stores.
        "id" => json!({ "pattern": "^[0-9A-Za-z_-]{1,64}$" }),
        "hash" => json!({ "pattern": "^[0-9a-f]{64}$" }),
        "slot" => json!({ "pattern": "^[0-9a-f]{16}$" }),
        "wait_seconds" => json!({ "maximum": 30 }),
        "if-match" | "login" | "destination" | "who" | "text" | "after" => json!({ "maxLength": 512 }),
        _ => Value::Null,
    }
}

/// What a field of a body may be, by the name of its type and its own; of a list, what each of its items may be.
fn of_field(kind: &str, field: &str) -> Value {
    let text = |most: usize| json!({ "minLength": 1, "maxLength": most });
    let up_to = |most: usize| json!({ "maxLength": most });
    match (kind, field) {
        ("DiscoverySettings", "name") => text(most::ANNOUNCED_NAME),
        ("DiscoverySettings", "interfaces") => text(most::INTERFACE),
        ("MailSettings", "login") | ("SetMail", "password") => text(most::MAIL_SECRET),
        ("MailSettings", "server") => text(most::HOST),
        ("MailSettings", "sender" | "recipients") => text(most::MAIL_ADDRESS),
        ("MailSettings", "port") => json!({ "maximum": u16::MAX }),
        ("NewAccount" | "NewPassword" | "FirstAdministrator", "password") | ("OwnPassword", "new") => {
            json!({ "minLength": LEAST_PASSWORD, "maxLength": MOST_PASSWORD })
        }
        ("OwnPassword", "old") | (_, "password") => up_to(MOST_PASSWORD),
        ("NewToken", "days") => json!({ "minimum": 1, "maximum": most::TOKEN_DAYS }),
        ("CheckedItem", "what" | "found") => up_to(most::CHECKED),
        ("NewOrder", "sealed") => json!({ "minLength": base64(most::ORDER.start()), "maxLength": base64(most::ORDER.end()) }),
        ("GiveUp" | "AnswerOrder", "reason") => up_to(most::WHY_A_RUN_ENDED),
        ("NewHold" | "MarkPoint", "reason") | ("Dismiss", "why") => text(most::REASON),
        ("SignIn", "label") => up_to(MOST_NAME),
        ("AskHandOuts", "codes") | (_, "code" | "confirmation") => up_to(128),
        ("Typed", "until_now") => up_to(10_000),
        ("Roster", "table") => up_to(large::MOST),
        (_, "hours") if kind != "Retention" => json!({ "minimum": 1, "maximum": most::CODE_HOURS }),
        (_, "waiting_days" | "scrub_days" | "protected_days") => json!({ "maximum": most::DAYS }),
        (_, "description") => up_to(most::DESCRIPTION),
        (_, "directory") => json!({ "pattern": "^/", "maxLength": MOST_PATH }),
        (_, "platform") => up_to(most::PLATFORM),
        (_, "client_version") => up_to(most::VERSION),
        (
            _,
            "name" | "login" | "display_name" | "machine" | "claims" | "destination" | "workstation" | "label" | "groups"
            | "logins",
        ) => text(MOST_NAME),
        _ => Value::Null,
    }
}

/// So many characters have bytes in base64.
fn base64(bytes: &usize) -> usize {
    bytes.div_ceil(3) * 4
}

/// How many items a list of a body may have, where that is bounded by more than the body's length.
fn of_list(kind: &str, field: &str) -> Value {
    match (kind, field) {
        ("DiscoverySettings", "interfaces") => json!({ "maxItems": most::INTERFACES }),
        ("CheckedOff", "items") => json!({ "minItems": 1, "maxItems": most::MOST_CHECKED }),
        ("Enrol", "slots") => json!({ "minItems": 1, "maxItems": most::SLOTS }),
        ("AskHandOuts", "codes") => json!({ "minItems": 1, "maxItems": most::HAND_OUTS }),
        _ => Value::Null,
    }
}

/// Writes the bounds into a type that calls take.
pub(super) fn bound(kind: &str, schema: &mut Value) {
    for (field, schema) in schema.get_mut("properties").and_then(Value::as_object_mut).into_iter().flat_map(Map::iter_mut) {
        let bounds = of_field(kind, field);
        if schema["items"].is_object() {
            add(&mut schema["items"], bounds);
            add(schema, of_list(kind, field));
        } else {
            add(schema, bounds);
        }
        // Numbers are kept as signed ones of 64 bits.
        if schema["format"] == "int64" && schema.get("maximum").is_none() {
            schema["maximum"] = i64::MAX.into();
        }
    }
    for part in ["oneOf", "anyOf", "allOf"] {
        schema.get_mut(part).and_then(Value::as_array_mut).into_iter().flatten().for_each(|part| bound(kind, part));
    }
}

/// Adds bounds to a schema.
pub(super) fn add(schema: &mut Value, bounds: Value) {
    if let (Some(schema), Value::Object(bounds)) = (schema.as_object_mut(), bounds) {
        schema.extend(bounds);
    }
}
