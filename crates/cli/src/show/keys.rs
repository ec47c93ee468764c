//! Keys of a document for people.

use comfy_table::Cell;
use merismos_core::config::key_help::KeyHelp;

use super::table::table;
use super::{strong, text};
use crate::args::KindKey;

/// Prints how many keys each kind has.
pub(crate) fn kinds(all: &[KindKey]) {
    let mut table = table(&["kind", "keys"]);
    for of_kind in all.chunk_by(|a, b| a.kind == b.kind) {
        let mut names: Vec<&str> = of_kind.iter().map(|found| found.key.key.as_str()).collect();
        // A key that means something else with another value of `kind` is listed once.
        let mut seen = std::collections::BTreeSet::new();
        names.retain(|name| seen.insert(*name));
        table.add_row(vec![Cell::new(&of_kind[0].kind), Cell::new(names.join(", "))]);
    }
    text(&format!("{table}\n"));
}

/// Prints the keys of one kind, a line each.
pub(crate) fn list(of_kind: &[KindKey]) {
    let mut table = table(&["key", "default", "meaning"]);
    for found in of_kind {
        let default = if found.key.needed { "needed" } else { &found.key.default };
        table.add_row(vec![Cell::new(&found.key.key), Cell::new(default), Cell::new(sentence(&found.key))]);
    }
    text(&format!("{table}\n"));
}

fn sentence(key: &KeyHelp) -> String {
    let when = key.when.as_ref().map_or_else(String::new, |when| format!("{}: ", when.values.join(", ")));
    format!("{when}{}", key.help)
}

/// Prints all that is to be said of a key.
pub(crate) fn one(found: &KindKey) {
    let key = &found.key;
    let mut lines = vec![format!("{} of a {}", strong(&key.key), found.kind), format!("  {}", key.help)];
    lines.extend(key.about.lines().map(|line| format!("  {line}")));
    lines.push(String::new());
    for choice in &key.choices {
        let when =
            choice.when.as_ref().map_or_else(String::new, |when| format!(" ({})", when.values.join(", ")));
        lines.push(format!("  {:<18}{}{when}", choice.name, choice.help));
    }
    let mut fact = |name: &str, value: &str| {
        if !value.is_empty() {
            lines.push(format!("  {name:<18}{value}"));
        }
    };
    fact("type", &key.value.to_string());
    fact("default", if key.needed { "needed" } else { &key.default });
    fact("range", &key.range);
    fact("example", &key.example);
    fact("names a", key.refers.as_deref().unwrap_or_default());
    let condition = |when: &Option<merismos_core::config::keys::DecidedBy>| {
        when.as_ref().map_or_else(String::new, |when| format!("{} is {}", when.key, when.values.join(" or ")))
    };
    fact("exists where", &condition(&key.when));
    fact("has effect where", &condition(&key.effective));
    text(&(lines.join("\n") + "\n\n"));
}
