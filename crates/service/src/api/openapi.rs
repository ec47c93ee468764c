//! The OpenAPI document: what the handlers say of themselves, completed by what holds for all of them.
//!
//! Answers that the common layers give, what names and texts look like, and examples are written here once instead of at every
//! call.

use std::collections::BTreeSet;

use bytes::Bytes;
use merismos_core::text::PLAIN_PATTERN;
use serde_json::{Map, Value, json};
use utoipa::openapi::OpenApi;

/// What a name looks like.
const NAME: &str = "^[a-z][a-z0-9-]{0,62}$";
/// What a server of a pool looks like.
const POOL_SERVER: &str = "^[a-z][a-z0-9-]{0,62}/[a-z][a-z0-9-]{0,62}$";
/// What the path of an object looks like.
const OBJECT_PATH: &str = "^((hosts|ranges|checks|pools|frontends|notifications|networks|addresses|announce|certificates|authorities|limits|rules|examples)\\.[a-z][a-z0-9-]{0,62}\
                     |pools\\.[a-z][a-z0-9-]{0,62}\\.(servers|lookups)\\.[a-z][a-z0-9-]{0,62}\
                     |ranges\\.[a-z][a-z0-9-]{0,62}\\.reserved\\.[a-z][a-z0-9-]{0,62})$";
/// A text of which something is left without the white space around it.
const WORDS: &str = "\\S";
/// A path with its query, as a request line has it.
const REQUEST_PATH: &str = "^/[!-~]*$";

/// Fields of a head, one a line, as RFC 9110, 5.1 wants their names.
const FIELDS: &str = "^([!#$%&'*+.^_`|~0-9A-Za-z-]+:[^\\u0000-\\u001f\\u007f]*(\\n|$))*$";
/// Networks and addresses, as far as they are written in the usual ways.
const NETWORK: &str = "^((25[0-5]|2[0-4][0-9]|1[0-9]{2}|[1-9]?[0-9])(\\.(25[0-5]|2[0-4][0-9]|1[0-9]{2}|[1-9]?[0-9])){3}\
                       (/(3[0-2]|[12]?[0-9]))?\
                       |(::1|[0-9a-f]{1,4}(:[0-9a-f]{1,4}){0,6}::)(/(12[0-8]|1[01][0-9]|[1-9]?[0-9]))?)$";

/// A label with its value.
const LABEL: &str = "^[a-z][a-z0-9-]{0,62}=.*\\S.*$";
/// A length of time.
const SPAN: &str = "^[0-9]{1,4}(ms|s|m|h)$";
/// What properties of what calls take look like: schema, property, pattern.
const PATTERNS: [(&str, &str, &str); 30] = [
    ("Edit", "object", OBJECT_PATH),
    ("Edit", "to", NAME),
    ("Edit", "pool", NAME),
    ("Edit", "range", NAME),
    ("Edit", "name", NAME),
    ("ApplyOptions", "note", PLAIN_PATTERN),
    ("NewDraft", "note", PLAIN_PATTERN),
    ("DraftEdits", "note", PLAIN_PATTERN),
    ("DutyRequest", "reason", PLAIN_PATTERN),
    ("AddressOrderRequest", "reason", PLAIN_PATTERN),
    ("NodeOrderRequest", "reason", PLAIN_PATTERN),
    ("DutiesRequest", "label", LABEL),
    ("DutyRequest", "within", SPAN),
    ("WindowPlan", "reason", PLAIN_PATTERN),
    ("WindowPlan", "label", LABEL),
    ("WindowPlan", "within", SPAN),
    ("Schedule", "length", SPAN),
    ("RollPlan", "pool", NAME),
    ("RollPlan", "reason", PLAIN_PATTERN),
    ("RollPlan", "label", LABEL),
    ("RollPlan", "within", SPAN),
    ("RollPlan", "soak", SPAN),
    ("RollPlan", "return_within", SPAN),
    ("RollOrderRequest", "reason", PLAIN_PATTERN),
    ("WorkReport", "server", POOL_SERVER),
    ("WorkReport", "note", PLAIN_PATTERN),
    ("TrialRequest", "frontend", NAME),
    ("TrialRequest", "path", REQUEST_PATH),
    ("TrialRequest", "certificate", NAME),
    ("TrialRequest", "from", NETWORK),
];

/// Examples of what is in paths and queries, by its name.
fn example(parameter: &str) -> Option<Value> {
    Some(match parameter {
        "pool" => json!("booking"),
        "server" => json!("gull"),
        "frontend" => json!("booking"),
        "check" => json!("site-answers"),
        "certificate" => json!("booking"),
        "draft" => json!("winter-timetable"),
        "token" => json!("night-shift"),
        "name" => json!("watch"),
        "id" | "from" => json!(1),
        "number" | "to" => json!(2),
        "before" => json!(120),
        "limit" => json!(50),
        "offset" => json!(0),
        "client" => json!("192.0.2.77"),
        "path" => json!("/ferry?day=3"),
        "host" | "sni" => json!("booking.skerry.example"),
        "cookie" => json!("visit=a81f; lang=en"),
        "first_bytes" => json!("LOGIN anna"),
        "header" => json!("X-Account: 17"),
        "connection" => json!("booking/gull"),
        "kind" => json!("server"),
        "object" => json!("booking"),
        "by" => json!("night-shift"),
        "since" => json!("2026-11-28T06:00:00Z"),
        "until" => json!("2026-11-28T07:00:00Z"),
        "inside" => json!("booking"),
        "search" => json!("gull"),
        "labels" => json!("site=north"),
        "format" => json!("toml"),
        "short" => json!(true),
        _ => return None,
    })
}

/// Examples of bodies, by the operation that takes them.
fn body_example(operation: &str) -> Option<Value> {
    let server = json!({ "address": "192.0.2.24:8080", "weight": 2 });
    Some(match operation {
        "apply_document" => json!({
            "format": "toml",
            "text": "format = 3\n\n[pools.booking]\nservers.gull = { address = \"192.0.2.21:8080\" }\n",
            "note": "one server to begin with",
            "preview": true,
        }),
        "order_certificate" => json!({ "renew": true }),
        "order_address" => json!({ "order": "move", "to": "south", "reason": "new kernel on north" }),
        "order_node" => json!({ "order": "drain", "reason": "new disk" }),
        "change_objects" => json!({
            "edits": [{ "do": "add", "object": "pools.booking.servers.auk", "keys": server }],
            "note": "more room for the summer",
            "preview": true,
            "based_on": 2,
        }),
        "edit_draft" => json!({
            "edits": [{ "do": "change", "object": "pools.booking.servers.gull", "keys": { "weight": 3 } }],
        }),
        "begin_draft" => json!({ "name": "winter-timetable", "note": "fewer ferries, fewer servers" }),
        "deploy_draft" => json!({ "note": "the winter timetable holds from tonight on", "based_on": 2 }),
        "revert_to_revision" => json!({ "note": "back to what worked", "preview": true }),
        "give_duty" => json!({ "duty": "draining", "reason": "new disk", "within": "10m" }),
        "give_duties" => json!({ "host": "gull", "duty": "draining", "reason": "new disk", "within": "10m" }),
        "put_window" => json!({
            "host": "gull", "start": "2026-12-01T22:00:00", "zone": "Europe/Oslo", "length": "2h",
            "repeat": "FREQ=WEEKLY;BYDAY=TU", "reason": "updates of the system",
        }),
        "begin_roll" => json!({
            "plan": { "pool": "booking", "reason": "updates of the system", "soak": "2m" },
            "preview": true,
        }),
        "order_roll" => json!({ "order": "pause", "reason": "lunch" }),
        "report_work" => json!({ "server": "booking/gull", "outcome": "done" }),
        "try_check" => json!({ "servers": ["booking/gull"] }),
        "begin_trial" => json!({ "frontend": "booking", "requests": 100, "path": "/ferry?day=3" }),
        "log_in" => json!({ "token": "the-token-of-this-node" }),
        "create_token" => json!({ "name": "night-shift" }),
        _ => return None,
    })
}

/// The document as it is served.
pub(super) fn whole(document: &OpenApi) -> Bytes {
    let mut document = serde_json::to_value(document).expect("an OpenAPI document is JSON");
    for operation in operations(&mut document) {
        complete(operation);
    }
    let schemas = &mut document["components"]["schemas"];
    for (schema, property, pattern) in PATTERNS {
        let found = refine(&mut schemas[schema], property, pattern);
        assert!(found, "{schema} has {property}");
    }
    say_what_is_always_there(&mut document);
    let schemas = &mut document["components"]["schemas"];
    schemas["DutyRequest"]["properties"]["reason"]["allOf"] = json!([{ "pattern": WORDS }]);
    for request in ["TryRequest", "DutiesRequest"] {
        schemas[request]["properties"]["servers"]["items"]["pattern"] = json!(POOL_SERVER);
    }
    Bytes::from(document.to_string())
}

/// Where a service answers, a property that may be null is always there: says so in the schemas that only responses have.
fn say_what_is_always_there(document: &mut Value) {
    let mut sent = BTreeSet::new();
    for operation in operations(document) {
        references(operation.get("requestBody").unwrap_or(&Value::Null), &mut sent);
    }
    let schemas = document["components"]["schemas"].as_object_mut().expect("components have schemas");
    loop {
        let mut more = BTreeSet::new();
        for name in &sent {
            references(&schemas[name], &mut more);
        }
        let before = sent.len();
        sent.extend(more);
        if sent.len() == before {
            break;
        }
    }
    for (_, schema) in schemas.iter_mut().filter(|(name, _)| !sent.contains(*name)) {
        require_nullable(schema);
    }
}

/// The names of the schemas that a value refers to.
fn references(value: &Value, found: &mut BTreeSet<String>) {
    match value {
        Value::Object(entries) => {
            if let Some(name) = value["$ref"].as_str().and_then(|to| to.strip_prefix("#/components/schemas/"))
            {
                found.insert(name.to_owned());
            }
            entries.values().for_each(|value| references(value, found));
        }
        Value::Array(items) => items.iter().for_each(|value| references(value, found)),
        _ => {}
    }
}

fn require_nullable(schema: &mut Value) {
    for variants in ["oneOf", "allOf"] {
        schema
            .get_mut(variants)
            .and_then(Value::as_array_mut)
            .into_iter()
            .flatten()
            .for_each(require_nullable);
    }
    let Some(properties) = schema.get("properties").and_then(Value::as_object) else { return };
    let is_null = |schema: &Value| schema["type"] == "null";
    let is_nullable = |schema: &Value| {
        schema["type"].as_array().is_some_and(|types| types.iter().any(|name| name == "null"))
            || schema["oneOf"].as_array().is_some_and(|variants| variants.iter().any(is_null))
    };
    let nullable: Vec<Value> = properties
        .iter()
        .filter(|(_, schema)| is_nullable(schema))
        .map(|(name, _)| Value::from(name.as_str()))
        .collect();
    if nullable.is_empty() {
        return;
    }
    let entries = schema.as_object_mut().expect("it has properties");
    let required = entries.entry("required").or_insert_with(|| json!([]));
    let required = required.as_array_mut().expect("a list");
    for name in nullable {
        if !required.contains(&name) {
            required.push(name);
        }
    }
}

fn operations(document: &mut Value) -> impl Iterator<Item = &mut Map<String, Value>> {
    let paths = document["paths"].as_object_mut().into_iter();
    let of_paths = paths.flat_map(|paths| paths.values_mut());
    let all = of_paths.filter_map(Value::as_object_mut).flat_map(|path| path.values_mut());
    all.filter_map(Value::as_object_mut)
}

/// Adds to a call what the layers before it may answer, and examples of what it takes.
fn complete(operation: &mut Map<String, Value>) {
    let takes_body = operation.contains_key("requestBody");
    let common = [
        (true, "500", "The service failed; its log says how"),
        (takes_body, "400", "The call is wrong"),
        (takes_body, "408", "The body took too long"),
        (takes_body, "413", "The body is too large"),
        (takes_body, "415", "The body is not declared as JSON"),
        (takes_body, "422", "The body is not what this call takes, or holds mistakes, which are all listed"),
    ];
    let problem = json!({ "application/problem+json": { "schema": { "$ref": "#/components/schemas/ProblemDocument" } } });
    if let Some(responses) = operation.get_mut("responses").and_then(Value::as_object_mut) {
        for (_, status, says) in common.into_iter().filter(|(applies, ..)| *applies) {
            let response = || json!({ "description": says, "content": problem });
            responses.entry(status).or_insert_with(response);
        }
        for response in responses.values_mut() {
            if response["description"].as_str().is_none_or(|says| says.trim().is_empty()) {
                response["description"] = json!("It is done");
            }
        }
    }
    for parameter in operation.get_mut("parameters").and_then(Value::as_array_mut).into_iter().flatten() {
        let name = parameter["name"].as_str().unwrap_or_default();
        match name {
            "object" if parameter["in"] == "path" => {
                parameter["schema"]["pattern"] = json!(OBJECT_PATH);
                parameter["example"] = json!("pools.booking.servers.gull");
            }
            "client" => parameter["schema"]["anyOf"] = json!([{ "format": "ipv4" }, { "format": "ipv6" }]),
            "path" => parameter["schema"]["pattern"] = json!(REQUEST_PATH),
            "header" => parameter["schema"]["pattern"] = json!(FIELDS),
            _ => {}
        }
        if parameter["example"].is_null()
            && let Some(example) = example(parameter["name"].as_str().unwrap_or_default())
        {
            parameter["example"] = example;
        }
    }
    if takes_body && let Some(example) = body_example(operation["operationId"].as_str().unwrap_or_default()) {
        operation["requestBody"]["content"]["application/json"]["example"] = example;
    }
}

/// Says what a property looks like, wherever a schema and its variants have it; gives whether one does.
fn refine(schema: &mut Value, property: &str, pattern: &str) -> bool {
    let mut found = false;
    for variants in ["oneOf", "allOf"] {
        for variant in schema.get_mut(variants).and_then(Value::as_array_mut).into_iter().flatten() {
            found |= refine(variant, property, pattern);
        }
    }
    if let Some(property) = schema.get_mut("properties").and_then(|all| all.get_mut(property)) {
        property["pattern"] = json!(pattern);
        found = true;
    }
    found
}
