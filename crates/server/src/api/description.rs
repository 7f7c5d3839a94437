//! The API's description, completed: what holds for every operation is said once here, and put into each.

use serde_json::{Map, Value, json};

/// What anybody may ask who is not signed in: method and path below `/api/v1`.
const OPEN: [(&str, &str); 14] = [
    ("get", "/welcome"),
    ("post", "/set-up"),
    ("post", "/session"),
    ("post", "/session/passkey"),
    ("post", "/session/second"),
    ("post", "/devices"),
    ("get", "/client"),
    ("get", "/client/program"),
    ("post", "/connections"),
    ("post", "/connections/token"),
    ("post", "/invitation/look"),
    ("post", "/invitation/accept"),
    ("post", "/sign-up"),
    ("options", "/uploads"),
];

/// What a status means, where an operation does not say it better.
fn meaning(status: &str) -> &'static str {
    match status {
        "200" => "Done: what is there, or what has become of it",
        "201" => "Made",
        "202" => "Begun; it goes on in the background",
        "204" => "Done; there is nothing to tell",
        "206" => "A part, as Range asked for",
        "304" => "The caller has it already, as the conditions of the request say",
        "400" => "The request cannot be read, or asks for what cannot be",
        "401" => "Nobody is signed in, or the sign-in has ended",
        "403" => "The caller may not do this, or must prove who they are once more",
        "404" => "Nothing is there, or nothing that the caller may know of",
        "409" => "It contradicts what is there",
        "410" => "It was there, and counts no more",
        "412" => "What stands there is not in the state that the request asks for",
        "413" => "It is larger than may be",
        "415" => "The body is of a kind that is not taken here",
        "416" => "The range lies outside of what there is",
        "422" => "The bytes are not those that were announced",
        "423" => "Somebody holds a lock",
        "429" => "Too many attempts: Retry-After says when to try again",
        "507" => "There is no room, on the disk or within a quota",
        _ => "Refused or failed: `code` is stable, `remedy` says what to do",
    }
}

/// What is named in a path.
fn named(name: &str) -> &'static str {
    match name {
        "node" => "The number of a file or folder",
        "root" => "The number of a shelf's top folder",
        "shelf" => "The name of a shelf: `home`, `given`, or a shared one's",
        "path" => "The way below the shelf, with slashes",
        "sign_in" => "An account's sign-in name",
        "device" => "The number of a computer",
        "factor" => "The number of a second factor",
        "grant" => "The number of what was given",
        "letter" => "The number of a letter",
        "moment" => "A moment, such as `m1a4`",
        "session" => "A browser's sign-in, as the list has it",
        "name" => "Its name",
        _ => "Its number or id, as the list has it",
    }
}

/// A value as it may be sent for a property, by its name.
fn sample(name: &str) -> Option<Value> {
    Some(match name {
        "sign_in" => json!("celia"),
        "display_name" => json!("Celia Ward"),
        "password" | "present" => json!("gulls over the harbour"),
        "device" => json!("scanner room"),
        "mail" => json!("celia@museum.example"),
        "name" => json!("Letters"),
        "title" | "label" => json!("Before the move"),
        "message" | "note" => json!("For the lamp house"),
        "path" => json!("Plans:/Hall"),
        "node" | "parent" | "id" => json!(42),
        "nodes" | "keep" | "ids" | "of" => json!([42]),
        "until" | "ends" | "begins" | "at" => json!("2026-12-31T23:59:59Z"),
        "code" => json!("123456"),
        "can" | "level" => json!("edit"),
        "kind" => json!("link"),
        "role" => json!("member"),
        "groups" | "add" | "remove" => json!(["Friends"]),
        "owners" => json!(["ines"]),
        "quota" | "hard" | "soft" => json!(21_474_836_480_i64),
        "to" => json!("account:celia"),
        "scope" => json!("service"),
        "value" => json!("30"),
        "secret" => json!("0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"),
        "ticket" | "token" => json!("89abcdef0123456789abcdef0123456789abcdef0123456789abcdef01234567"),
        "days" | "minutes" | "most" => json!(30),
        "moment" | "seen" | "version" => json!("m1a4"),
        _ => return None,
    })
}

/// An example of a schema: what must be there, and what usually is.
fn example(schema: &Value, schemas: &Map<String, Value>, deep: usize) -> Value {
    if let Some(name) = schema["$ref"].as_str().and_then(|r| r.rsplit('/').next()) {
        return schemas.get(name).map_or(Value::Null, |its| example(its, schemas, deep));
    }
    if let Some(one) = schema["oneOf"].as_array().or(schema["anyOf"].as_array()) {
        let shown = one.iter().find(|s| s["type"] != "null");
        return shown.map_or(Value::Null, |s| example(s, schemas, deep));
    }
    let kind = match &schema["type"] {
        Value::Array(kinds) => kinds.iter().find(|k| *k != "null").cloned().unwrap_or_default(),
        other => other.clone(),
    };
    match kind.as_str().unwrap_or_default() {
        "object" => {
            let needed: Vec<&str> =
                schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
            let mut made = Map::new();
            for (name, its) in schema["properties"].as_object().into_iter().flatten() {
                let fits = sample(name).filter(|value| is_of(value, its));
                if needed.contains(&name.as_str()) {
                    made.insert(name.clone(), fits.unwrap_or_else(|| example(its, schemas, deep + 1)));
                } else if deep == 0
                    && needed.is_empty()
                    && made.len() < 3
                    && let Some(value) = fits
                {
                    made.insert(name.clone(), value);
                }
            }
            Value::Object(made)
        }
        "array" => json!([]),
        "integer" | "number" => json!(1),
        "boolean" => json!(true),
        "string" => json!("…"),
        _ => json!({}),
    }
}

fn is_of(value: &Value, schema: &Value) -> bool {
    let kind = match value {
        Value::String(_) => "string",
        Value::Number(_) => "integer",
        Value::Array(_) => "array",
        _ => return false,
    };
    let same = match &schema["type"] {
        Value::String(is) => is == kind,
        Value::Array(kinds) => kinds.iter().any(|k| k == kind),
        _ => false,
    };
    let items = |items: &Value| match value.as_array().and_then(|list| list.first()) {
        Some(first) => is_of(first, items),
        None => true,
    };
    same && (kind != "array" || items(&schema["items"]))
}

fn problem() -> Value {
    json!({ "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } })
}

/// Completes what the code says of each operation.
pub fn complete(mut all: Value) -> Value {
    all["servers"] = json!([{ "url": "/", "description": "The service that this was asked of" }]);
    if let Some(info) = all["info"].as_object_mut() {
        info.remove("license");
    }
    all["components"]["securitySchemes"] = json!({
        "token": {
            "type": "http", "scheme": "bearer",
            "description": "The token of a connected computer (POST /api/v1/devices)"
        },
        "browser": {
            "type": "apiKey", "in": "cookie", "name": crate::identity::cookies::COOKIE,
            "description": "The console's sign-in; over https its name begins with __Host-. What changes something is believed from our own pages alone (Origin)."
        }
    });
    all["security"] = json!([{ "token": [] }, { "browser": [] }]);
    let schemas = all["components"]["schemas"].as_object().cloned().unwrap_or_default();
    if let Some(its) = all["components"]["schemas"]["Problem"].as_object_mut() {
        its.insert(
            "examples".into(),
            json!([{
                "type": "about:blank", "title": "The name is taken", "status": 409,
                "detail": "The name \"Letters\" is taken in this folder.", "code": "name_taken",
                "remedy": "Choose another name."
            }]),
        );
    }
    for (schema, property, limits) in LIMITS {
        let limits: Value = serde_json::from_str(limits).unwrap_or_default();
        let its = all.pointer_mut(&format!("/components/schemas/{schema}/properties/{property}"));
        if let (Some(Value::Object(its)), Value::Object(limits)) = (its, limits) {
            its.extend(limits);
        }
    }
    upload_told(&mut all);
    corrected(&mut all);
    for (path, method) in [("", "post"), ("~1{id}", "head"), ("~1{id}", "patch"), ("~1{id}", "delete")] {
        let Some(its) = all.pointer_mut(&format!("/paths/~1api~1v1~1uploads{path}/{method}")) else {
            continue;
        };
        let mut parameters = its.get("parameters").and_then(Value::as_array).cloned().unwrap_or_default();
        let header = |name: &str, schema: Value, description: &str| json!({ "name": name, "in": "header", "required": true, "schema": schema, "description": description });
        parameters.push(header(
            "Tus-Resumable",
            json!({ "enum": ["1.0.0"] }),
            "The version of the protocol (tus)",
        ));
        let number = json!({ "type": "integer", "minimum": 0 });
        if method == "patch" {
            parameters.push(header(
                "Upload-Offset",
                number,
                "Where these bytes begin: how many have arrived",
            ));
        }
        its["parameters"] = parameters.into();
    }
    for (path, item) in all["paths"].as_object_mut().into_iter().flatten() {
        let below = path.strip_prefix("/api/v1").unwrap_or(path).to_string();
        for (method, operation) in item.as_object_mut().into_iter().flatten() {
            let open = OPEN.contains(&(method.as_str(), below.as_str()));
            operation_completed(operation, open, method, &schemas);
        }
    }
    all
}

/// What words and values a property takes, where its type says less.
const LIMITS: [(&str, &str, &str); 37] = [
    ("Grant", "can", r#"{"enum":["view","add","edit","manage","deny"]}"#),
    ("GivenPlace", "level", r#"{"enum":["view","add","edit","manage"]}"#),
    ("Facts", "level", r#"{"enum":["view","add","edit","manage"]}"#),
    ("Shelf", "level", r#"{"enum":["view","add","edit","manage"]}"#),
    ("Why", "level", r#"{"enum":["view","add","edit","manage",null]}"#),
    ("Opening", "can", r#"{"enum":["view","download","add","edit"]}"#),
    ("Opening", "kind", r#"{"enum":["link","intake"]}"#),
    ("Node", "given", r#"{"enum":["out","in","both",null]}"#),
    ("ComparedLine", "what", r#"{"enum":["same","removed","added","gap"]}"#),
    ("Change", "what", r#"{"enum":["changed","removed","arrived","left","out_of_sight"]}"#),
    ("NewOpening", "kind", r#"{"enum":["link","intake"]}"#),
    ("OpeningSet", "can", r#"{"enum":["view","download","add","edit",null]}"#),
    ("NewArchive", "format", r#"{"enum":["zip","tar"]}"#),
    ("NewArchive", "nodes", r#"{"minItems":1}"#),
    ("NewAccount", "role", r#"{"enum":["administrator","member","",null]}"#),
    ("AccountChange", "role", r#"{"enum":["administrator","member",null]}"#),
    ("NewGrant", "can", r#"{"enum":["view","add","edit","manage","deny"]}"#),
    ("NewGuest", "can", r#"{"enum":["view","add","edit","manage"]}"#),
    ("NewFolder", "name", r#"{"minLength":1,"maxLength":255}"#),
    ("NewGroup", "name", r#"{"minLength":1}"#),
    ("NewShelf", "name", r#"{"minLength":1}"#),
    ("WantedStates", "states", r#"{"maxItems":1000}"#),
    ("NewConnection", "device", r#"{"minLength":1}"#),
    ("ConnectionAnswer", "within", r#"{"maxItems":50}"#),
    ("DeviceReport", "pairs", r#"{"maxItems":100}"#),
    ("NewDevice", "device", r#"{"minLength":1}"#),
    ("MailTest", "to", r#"{"format":"email","examples":["ines@museum.example"]}"#),
    ("OpeningMail", "to", r#"{"minItems":1}"#),
    ("GivenChange", "of", r#"{"minItems":1}"#),
    ("NewRollback", "to", r#"{"examples":["m1a4"]}"#),
    ("LetterChange", "do", r#"{"enum":["again","end"]}"#),
    ("NewLock", "minutes", r#"{"minimum":0}"#),
    ("Removal", "days", r#"{"minimum":0}"#),
    ("SignIn", "sign_in", r#"{"minLength":1,"maxLength":254}"#),
    ("NewDevice", "sign_in", r#"{"minLength":1,"maxLength":254}"#),
    ("InvitationSecret", "secret", r#"{"minLength":1}"#),
    ("UploadPlace", "name", r#"{"minLength":1,"maxLength":255}"#),
];

/// What the description's maker writes otherwise than the standard has it: tuples (JSON Schema 2020-12, `prefixItems`), and
/// unsigned numbers of 32 bits, which no `format` is for.
fn corrected(value: &mut Value) {
    match value {
        Value::Object(map) => {
            if let Some(Value::Array(items)) = map.get("items").cloned() {
                map.insert("prefixItems".into(), Value::Array(items));
                map.insert("items".into(), false.into());
            }
            if map.get("format").is_some_and(|f| f == "int32") && map.get("minimum").is_some_and(|m| m == 0) {
                map.remove("format");
                map.entry("maximum").or_insert(u32::MAX.into());
            }
            map.values_mut().for_each(corrected);
        }
        Value::Array(list) => list.iter_mut().for_each(corrected),
        _ => {}
    }
}

/// One route answers three methods for an unfinished upload.
fn upload_told(all: &mut Value) {
    let Some(item) = all.pointer_mut("/paths/~1api~1v1~1uploads~1{id}").and_then(Value::as_object_mut) else {
        return;
    };
    let Some(patch) = item.get("patch").cloned() else { return };
    let other = |id: &str, summary: &str, responses: Value| {
        let mut made = patch.clone();
        if let Some(made) = made.as_object_mut() {
            made.remove("requestBody");
            made.remove("description");
        }
        made["operationId"] = id.into();
        made["summary"] = summary.into();
        made["responses"] = responses;
        made
    };
    let gone = json!({ "description": "" , "content": problem() });
    let told = json!({ "200": { "description": "The headers Upload-Offset, Upload-Length and Upload-Metadata" }, "404": gone });
    item.insert("head".into(), other("look_at_upload", "Tells how far an upload is.", told));
    let ended = json!({ "204": { "description": "Its bytes are dropped" }, "404": gone });
    item.insert("delete".into(), other("end_upload", "Ends an upload.", ended));
    item["patch"]["summary"] = "Goes on with an upload.".into();
}

fn operation_completed(operation: &mut Value, open: bool, method: &str, schemas: &Map<String, Value>) {
    if open {
        operation["security"] = json!([]);
    }
    for parameter in operation.get_mut("parameters").and_then(Value::as_array_mut).into_iter().flatten() {
        if parameter["description"].as_str().unwrap_or_default().is_empty() {
            let name = parameter["name"].as_str().unwrap_or_default();
            parameter["description"] = named(name).into();
        }
    }
    let mut takes_json = false;
    if let Some(content) = operation.pointer_mut("/requestBody/content").and_then(Value::as_object_mut) {
        for (kind, body) in content {
            if !kind.ends_with("json") {
                // Bytes as they are: a list of numbers is no way to send them.
                body["schema"] = json!({ "type": "string", "format": "binary" });
            }
            if kind == "application/json" {
                takes_json = true;
                let shown = example(&body["schema"], schemas, 0);
                body["example"] = shown;
            }
        }
    }
    let Some(responses) = operation.get_mut("responses").and_then(Value::as_object_mut) else { return };
    let mut more = vec!["default"];
    if !open {
        more.push("401");
    }
    if takes_json {
        more.extend(["400", "413", "415"]);
    }
    if method == "get" && responses.contains_key("206") {
        more.push("416");
        responses.entry("304").or_insert_with(|| json!({ "description": meaning("304") }));
    }
    for status in more {
        responses
            .entry(status)
            .or_insert_with(|| json!({ "description": meaning(status), "content": problem() }));
    }
    for (status, response) in responses.iter_mut() {
        if response["description"].as_str().unwrap_or_default().is_empty() {
            response["description"] = meaning(status).into();
        }
        let is_problem = response["content"]["application/json"]["schema"]["$ref"]
            .as_str()
            .is_some_and(|r| r.ends_with("/Problem"));
        if is_problem {
            response["content"] = problem();
        }
        if status == "429" || status == "503" {
            response["headers"] = json!({
                "Retry-After": { "description": "Seconds until it is worth trying again", "schema": { "type": "integer" } }
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_operation_says_who_may_ask_what_comes_back_and_how_it_is_refused() {
        let all = crate::api::description();
        let mut seen = 0;
        for (path, item) in all["paths"].as_object().unwrap() {
            for (method, operation) in item.as_object().unwrap() {
                seen += 1;
                let at = format!("{method} {path}");
                assert!(!operation["summary"].as_str().unwrap_or_default().is_empty(), "{at}");
                let responses = operation["responses"].as_object().unwrap();
                assert!(responses.contains_key("default"), "{at}");
                assert!(responses.contains_key("401") || operation["security"] == json!([]), "{at}");
                for (status, response) in responses {
                    assert!(
                        !response["description"].as_str().unwrap_or_default().is_empty(),
                        "{at} {status}"
                    );
                    let refused = status.starts_with(['4', '5']) || status == "default";
                    for kind in response["content"].as_object().into_iter().flatten().map(|(k, _)| k) {
                        assert_eq!(refused, kind == "application/problem+json", "{at} {status} {kind}");
                    }
                }
            }
        }
        assert!(seen > 120, "{seen}");
        for (method, path) in OPEN {
            assert!(all["paths"][format!("/api/v1{path}")][method].is_object(), "{method} {path}");
        }
    }
}
