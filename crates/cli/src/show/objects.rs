//! The objects of the configuration for people.

use comfy_table::Cell;
use merismos_api::{Hosts, ObjectView, Objects};
use merismos_core::config::ObjectPath;
use merismos_core::config::object::ObjectKind;

use super::table::table;
use super::{strong, text};

fn labels<'l>(labels: impl IntoIterator<Item = (&'l String, &'l String)>) -> String {
    labels.into_iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ")
}

/// How people call the object at a path.
fn words(path: &str) -> String {
    path.parse::<ObjectPath>().map_or_else(|_| path.to_owned(), |object| object.words())
}

/// Prints objects of one kind.
pub(crate) fn list(objects: &Objects, kind: ObjectKind) {
    if objects.objects.is_empty() {
        let what = if objects.total == 0 { "There is" } else { "On this page is" };
        text(&format!("{what} no {kind} that matches.\n"));
        return;
    }
    let uses = match kind {
        ObjectKind::Pool
        | ObjectKind::Check
        | ObjectKind::Range
        | ObjectKind::Host
        | ObjectKind::Reserved
        | ObjectKind::Certificate
        | ObjectKind::Address
        | ObjectKind::Announcement
        | ObjectKind::Authority
        | ObjectKind::Limit
        | ObjectKind::Rule
        | ObjectKind::Network => true,
        ObjectKind::Server
        | ObjectKind::Lookup
        | ObjectKind::Frontend
        | ObjectKind::Example
        | ObjectKind::Notification => false,
    };
    let kind = kind.to_string();
    let mut head = vec![kind.as_str(), "is"];
    if uses {
        head.push("used by");
    }
    head.extend(["labels", "note"]);
    let mut table = table(&head);
    for object in &objects.objects {
        let mut row = vec![Cell::new(&object.name), Cell::new(&object.summary)];
        if uses {
            row.push(Cell::new(object.used_by.iter().map(|path| words(path)).collect::<Vec<_>>().join(", ")));
        }
        row.extend([Cell::new(labels(&object.labels)), Cell::new(&object.note)]);
        table.add_row(row);
    }
    text(&format!("{table}\n"));
    let shown = objects.objects.len() as u64;
    if shown < objects.total {
        text(&format!(
            "{shown} of {} are shown; --limit, --offset and --search find the others.\n",
            objects.total
        ));
    }
}

/// Prints one object with all its keys.
pub(crate) fn one(view: &ObjectView) {
    text(&format!("{} · {}\n", strong(&words(&view.path)), view.path));
    print_keys(&view.keys, "  ");
    if let Some(timing) = &view.timing {
        text(&format!("  a failure is {}\n", super::review::timing(timing)));
    }
    for path in &view.used_by {
        text(&format!("  used by {}\n", words(path)));
    }
}

fn print_keys(value: &serde_json::Value, indent: &str) {
    use serde_json::Value;

    let Value::Object(keys) = value else {
        text(&format!("{indent}{}\n", plain(value)));
        return;
    };
    for (key, value) in keys {
        match value {
            // What a check sends and wants may hold anything: it is shown as it can be given again.
            Value::String(said) if key == "send" || key == "expect" => {
                let bytes = if said.chars().all(merismos_core::text::is_plain) {
                    String::new()
                } else {
                    format!("  ({})", merismos_core::text::sent(said))
                };
                text(&format!("{indent}{key:22} {}{bytes}\n", merismos_core::text::escaped(said)));
            }
            Value::Object(inner)
                if inner.values().all(|inner| !inner.is_object()) && key.as_str() != "servers" =>
            {
                let pairs: Vec<_> =
                    inner.iter().map(|(key, value)| format!("{key}={}", plain(value))).collect();
                text(&format!("{indent}{key:22} {}\n", pairs.join("  ")));
            }
            Value::Object(inner) => {
                text(&format!("{indent}{key}\n"));
                for (name, value) in inner {
                    let pairs = value.as_object().into_iter().flatten();
                    let pairs: Vec<_> = pairs.map(|(key, value)| format!("{key} {}", plain(value))).collect();
                    text(&format!("{indent}  {name:20} {}\n", pairs.join(", ")));
                }
            }
            plain_value => text(&format!("{indent}{key:22} {}\n", plain(plain_value))),
        }
    }
}

fn plain(value: &serde_json::Value) -> String {
    use serde_json::Value;

    match value {
        Value::String(text) => text.clone(),
        Value::Array(items) => items.iter().map(plain).collect::<Vec<_>>().join(" "),
        Value::Object(pairs) => labels_of(pairs),
        other => other.to_string(),
    }
}

fn labels_of(pairs: &serde_json::Map<String, serde_json::Value>) -> String {
    pairs.iter().map(|(key, value)| format!("{key}={}", plain(value))).collect::<Vec<_>>().join(" ")
}

pub(crate) fn hosts(hosts: &Hosts) {
    if hosts.hosts.is_empty() {
        text("There is no host that matches.\n");
        return;
    }
    let mut table = table(&["host", "address", "servers", "labels", "note"]);
    for host in &hosts.hosts {
        table.add_row(vec![
            Cell::new(host.name.as_deref().unwrap_or("(only seen)")),
            Cell::new(&host.address),
            Cell::new(host.servers.join(", ")),
            Cell::new(labels(&host.labels)),
            Cell::new(&host.note),
        ]);
    }
    text(&format!("{table}\n"));
    let shown = hosts.hosts.len() as u64;
    if shown < hosts.total {
        text(&format!(
            "{shown} of {} are shown; --limit, --offset and --search find the others.\n",
            hosts.total
        ));
    }
}
