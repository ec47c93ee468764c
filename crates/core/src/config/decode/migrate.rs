//! Documents of older formats, brought to the form of this one.

use crate::config::document::FORMAT;
use crate::config::tree::{DocumentNode, Value};

/// Brings a tree of an older format to this release's; gives the format that it was written in when it was lifted.
///
/// A format that is not known stays as it is, for reading it tells what would be right.
pub(in crate::config) fn migrate(tree: &mut DocumentNode) -> Option<i64> {
    let Value::Table(entries) = &mut tree.value else { return None };
    let (_, _, format) = entries.iter_mut().find(|(key, _, _)| key == "format")?;
    let Value::Number(written) = format.value else { return None };
    if !(1..FORMAT).contains(&written) {
        return None;
    }
    format.value = Value::Number(FORMAT);
    if written < 2 {
        from_1_to_2(tree);
    }
    if written < 3 {
        from_2_to_3(tree);
    }
    Some(written)
}

/// Format 2 says of what an answer's timeout is: of its first byte, beside the one for the whole answer.
fn from_1_to_2(tree: &mut DocumentNode) {
    for (_, _, pool) in tree.entries_mut("pools") {
        if let Value::Table(keys) = &mut pool.value {
            for (key, _, _) in keys.iter_mut().filter(|(key, _, _)| key == "answer_timeout") {
                "first_byte_timeout".clone_into(key);
            }
        }
    }
}

/// Gives the keys of a table their new names.
fn rename_keys(table: &mut DocumentNode, renames: &[(&str, &str)]) {
    let Value::Table(keys) = &mut table.value else { return };
    for (key, _, _) in keys {
        if let Some((_, new)) = renames.iter().find(|(old, _)| old == key) {
            (*new).clone_into(key);
        }
    }
}

/// What format 3 calls the keys of servers, and of pools for their servers.
const SERVER_KEYS: [(&str, &str); 1] = [("whole_answer_timeout", "response_timeout")];
/// What format 3 calls the keys of pools.
const POOL_KEYS: [(&str, &str); 8] = [
    ("keep_limit", "idle_connections"),
    ("keep_idle", "idle_connection_timeout"),
    ("keep_age", "idle_connection_age"),
    ("connect_ahead", "preconnect"),
    ("usable_from", "min_eligible"),
    ("tier_minimum", "tier_min_eligible"),
    ("hash_bound", "bounded_load"),
    ("whole_answer_timeout", "response_timeout"),
];
/// What format 3 calls the keys of lookups.
const LOOKUP_KEYS: [(&str, &str); 2] = [("together", "merge_addresses"), ("least_interval", "min_interval")];
/// What format 3 calls the keys of frontends.
const FRONTEND_KEYS: [(&str, &str); 7] = [
    ("life_limit", "max_connection_age"),
    ("greeting_timeout", "client_hello_timeout"),
    ("stream_limit", "max_concurrent_streams"),
    ("head_limit", "header_size_limit"),
    ("field_limit", "header_count_limit"),
    ("head_timeout", "header_timeout"),
    ("unit", "balance_per"),
];
/// What format 3 calls the keys of checks.
const CHECK_KEYS: [(&str, &str); 4] = [
    ("body_lacks", "body_not_contains"),
    ("json_wanted", "json_expect"),
    ("wanted", "expect"),
    ("wishes", "server_feedback"),
];
/// What format 3 calls the keys of notifications.
const NOTIFICATION_KEYS: [(&str, &str); 3] =
    [("gather", "batch_window"), ("after", "min_duration"), ("at_most_every", "min_interval")];
/// The keys of pools that are one table in format 3.
const PASSIVE_CHECK_KEYS: [(&str, &str); 5] = [
    ("evidence_failures", "failures"),
    ("evidence_within", "within"),
    ("evidence_errors", "count_5xx"),
    ("evidence_verdict", "action"),
    ("evidence_even_if_last", "allow_last"),
];

/// Format 3 has the names of the trade: `messages` are `notifications`, addresses of ranges are `reserved`, and what traffic says of
/// servers is a table, `passive_check`.
fn from_2_to_3(tree: &mut DocumentNode) {
    rename_keys(tree, &[("messages", "notifications")]);
    for (_, _, range) in tree.entries_mut("ranges") {
        rename_keys(range, &[("taken", "reserved")]);
    }
    for (_, _, check) in tree.entries_mut("checks") {
        rename_keys(check, &CHECK_KEYS);
    }
    for (_, _, pool) in tree.entries_mut("pools") {
        rename_keys(pool, &POOL_KEYS);
        gather_passive_check(pool);
        for (_, _, server) in pool.entries_mut("servers") {
            rename_keys(server, &SERVER_KEYS);
        }
        for (_, _, lookup) in pool.entries_mut("lookups") {
            rename_keys(lookup, &LOOKUP_KEYS);
        }
    }
    for (_, _, frontend) in tree.entries_mut("frontends") {
        rename_keys(frontend, &FRONTEND_KEYS);
    }
    for (_, _, notification) in tree.entries_mut("notifications") {
        rename_keys(notification, &NOTIFICATION_KEYS);
        rename_mail_tls(notification);
    }
}

/// Moves the keys of a passive check into a table of their own, each with the line that it had.
fn gather_passive_check(pool: &mut DocumentNode) {
    let Value::Table(keys) = &mut pool.value else { return };
    let is_moved = |key: &str| PASSIVE_CHECK_KEYS.iter().any(|(old, _)| *old == key);
    let (moved, kept): (Vec<_>, Vec<_>) =
        std::mem::take(keys).into_iter().partition(|(key, _, _)| is_moved(key));
    *keys = kept;
    let Some(line) = moved.first().map(|(_, line, _)| *line) else { return };
    let mut table = DocumentNode { line, value: Value::Table(moved) };
    rename_keys(&mut table, &PASSIVE_CHECK_KEYS);
    keys.push(("passive_check".to_owned(), line, table));
}

/// The ways of speaking TLS to a mail server have the names of the trade.
fn rename_mail_tls(notification: &mut DocumentNode) {
    let Value::Table(keys) = &mut notification.value else { return };
    for (_, _, node) in keys.iter_mut().filter(|(key, _, _)| key == "mail_tls") {
        if let Value::Text(text) = &mut node.value {
            match text.as_str() {
                "begun" => "starttls".clone_into(text),
                "whole" => "tls".clone_into(text),
                _ => {}
            }
        }
    }
}
