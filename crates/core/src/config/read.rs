//! From the tree to the document: keys, types and ranges, every mistake noted.

use std::collections::BTreeMap;
use std::fmt::Display;
use std::net::SocketAddr;
use std::ops::RangeInclusive;
use std::str::FromStr;

use super::Problem;
use super::document::{
    Algorithm, Check, CheckKind, Document, FORMAT, Frontend, Pool, Protocol, Server, StatusRange,
};
use super::tree::{Node, Value};
use crate::name::Name;
use crate::units::{Size, Span};

/// Reads a tree; what could not be read is left out of the document and stands among the problems.
pub(super) fn read(tree: &Node) -> (Document, Vec<Problem>) {
    let mut problems = Vec::new();
    let document = Section::open(tree, String::new(), &mut problems).map(document).unwrap_or_default();
    (document, problems)
}

/// One table of the tree while it is read: knows its path and which keys it was asked for.
struct Section<'t, 'p> {
    entries: &'t [(String, usize, Node)],
    path: String,
    line: usize,
    known: Vec<&'static str>,
    problems: &'p mut Vec<Problem>,
}

/// How a value is called in messages.
fn describe(value: &Value) -> String {
    match value {
        Value::Text(text) => format!("the text {text:?}"),
        Value::Number(number) => format!("the number {number}"),
        Value::Flag(flag) => format!("{flag}"),
        Value::List(_) => "a list".to_owned(),
        Value::Table(_) => "a table".to_owned(),
        Value::Other(written) => written.clone(),
    }
}

impl<'t, 'p> Section<'t, 'p> {
    fn open(node: &'t Node, path: String, problems: &'p mut Vec<Problem>) -> Option<Self> {
        if let Value::Table(entries) = &node.value {
            return Some(Self { entries, path, line: node.line, known: Vec::new(), problems });
        }
        let found = format!("found {}", describe(&node.value));
        problems.push(Problem { line: Some(node.line), ..Problem::at(&path, found, "a table with keys") });
        None
    }

    fn sub_path(&self, key: &str) -> String {
        if self.path.is_empty() { key.to_owned() } else { format!("{}.{key}", self.path) }
    }

    fn find(&mut self, key: &'static str) -> Option<(usize, &'t Node)> {
        self.known.push(key);
        self.entries.iter().find(|(name, _, _)| name == key).map(|(_, line, node)| (*line, node))
    }

    fn problem(&mut self, key: &str, line: usize, found: String, wanted: String) {
        self.problems.push(Problem { line: Some(line), ..Problem::at(&self.sub_path(key), found, wanted) });
    }

    /// Reads a value with `parse`, which says what would be right when it can't.
    fn value<T>(
        &mut self,
        key: &'static str,
        parse: impl FnOnce(&'t Value) -> Result<T, String>,
    ) -> Option<T> {
        let (line, node) = self.find(key)?;
        match parse(&node.value) {
            Ok(value) => Some(value),
            Err(wanted) => {
                self.problem(key, line, format!("found {}", describe(&node.value)), wanted);
                None
            }
        }
    }

    /// Reads a value that has to be there.
    fn required<T>(
        &mut self,
        key: &'static str,
        parse: impl FnOnce(&'t Value) -> Result<T, String>,
    ) -> Option<T> {
        let present = self.entries.iter().any(|(name, _, _)| name == key);
        if !present {
            self.known.push(key);
            let line = self.line;
            self.problem(key, line, format!("the key {key} is missing"), missing_help(key).to_owned());
            return None;
        }
        self.value(key, parse)
    }

    /// Reads every entry of a table of named things.
    fn named<T>(
        &mut self,
        key: &'static str,
        mut read: impl FnMut(Section<'t, '_>) -> Option<T>,
    ) -> BTreeMap<Name, T> {
        let mut things = BTreeMap::new();
        let Some((_, node)) = self.find(key) else { return things };
        let path = self.sub_path(key);
        let Some(table) = Section::open(node, path.clone(), self.problems) else { return things };
        for (name, line, node) in table.entries {
            let path = format!("{path}.{name}");
            let parsed = name.parse::<Name>();
            if let Err(error) = &parsed {
                let problem = Problem::at(&path, format!("found the name {name:?}"), error.to_string());
                table.problems.push(Problem { line: Some(*line), ..problem });
            }
            let thing = Section::open(node, path, table.problems)
                .map(|section| Section { line: *line, ..section })
                .and_then(&mut read);
            if let (Ok(name), Some(thing)) = (parsed, thing) {
                things.insert(name, thing);
            }
        }
        things
    }

    /// Says which keys nobody asked for.
    fn close(self) {
        for (key, line, _) in self.entries {
            if self.known.contains(&key.as_str()) {
                continue;
            }
            let nearest = self
                .known
                .iter()
                .max_by(|a, b| strsim::jaro_winkler(a, key).total_cmp(&strsim::jaro_winkler(b, key)));
            let wanted = match nearest {
                Some(near) if strsim::jaro_winkler(near, key) > 0.8 => format!("the key {near}"),
                _ => format!("one of the keys {}", self.known.join(", ")),
            };
            let path = if self.path.is_empty() { key.clone() } else { format!("{}.{key}", self.path) };
            let found = format!("there is no key {key:?} here");
            self.problems.push(Problem { line: Some(*line), ..Problem::at(&path, found, wanted) });
        }
    }
}

fn missing_help(key: &str) -> &'static str {
    match key {
        "format" => "format = 1",
        "listen" => "an address and port, such as listen = \"192.0.2.10:80\"",
        "address" => "an address and port, such as address = \"192.0.2.21:8080\"",
        "pool" => "the name of a pool, such as pool = \"booking\"",
        "kind" => "kind = \"tcp\" or kind = \"http\"",
        "protocol" => "protocol = \"http\"",
        _ => "this key with a value",
    }
}

fn text(value: &Value) -> Option<&str> {
    match value {
        Value::Text(text) => Some(text),
        Value::Number(_) | Value::Flag(_) | Value::List(_) | Value::Table(_) | Value::Other(_) => None,
    }
}

fn number<T: TryFrom<i64>>(range: RangeInclusive<i64>) -> impl FnOnce(&Value) -> Result<T, String> {
    move |value| {
        let wanted = format!("a whole number from {} to {}", range.start(), range.end());
        match value {
            Value::Number(number) if range.contains(number) => T::try_from(*number).map_err(|_| wanted),
            _ => Err(wanted),
        }
    }
}

fn within<T>(least: &str, most: &str, example: &str) -> impl FnOnce(&Value) -> Result<T, String>
where
    T: FromStr + Ord + Display,
    T::Err: std::fmt::Debug,
{
    let least: T = least.parse().expect("a bound written here");
    let most: T = most.parse().expect("a bound written here");
    let wanted = format!("{example} from {least} to {most}");
    move |value| {
        let parsed = text(value).and_then(|text| text.parse::<T>().ok());
        parsed.filter(|value| (&least..=&most).contains(&value)).ok_or(wanted)
    }
}

fn span(least: &str, most: &str) -> impl FnOnce(&Value) -> Result<Span, String> {
    within(least, most, "a duration such as 250ms or 2s,")
}

fn name(value: &Value) -> Result<Name, String> {
    text(value).and_then(|text| text.parse().ok()).ok_or_else(|| "a name in quotes".to_owned())
}

fn address(value: &Value) -> Result<SocketAddr, String> {
    let parsed = text(value).and_then(|text| text.parse::<SocketAddr>().ok());
    parsed.filter(|address| address.port() != 0).ok_or_else(|| {
        "an IP address and a port from 1 to 65535, such as \"192.0.2.21:8080\" or \"[2001:db8::21]:8080\""
            .to_owned()
    })
}

fn document(mut section: Section<'_, '_>) -> Document {
    section.required("format", |value| match value {
        Value::Number(FORMAT) => Ok(()),
        _ => Err(format!("format = {FORMAT}, the only format this release reads")),
    });
    let checks = section.named("checks", check);
    let pools = section.named("pools", pool);
    let frontends = section.named("frontends", frontend);
    section.close();
    Document { format: FORMAT, checks, pools, frontends }
}

fn frontend(mut section: Section<'_, '_>) -> Option<Frontend> {
    let protocol = section.required("protocol", |value| match text(value) {
        Some("http") => Ok(Protocol::Http),
        _ => Err("\"http\"".to_owned()),
    });
    let listen = section.required("listen", address);
    let pool = section.required("pool", name);
    let head_limit = section.value("head_limit", within("1KiB", "64KiB", "a size such as 16KiB,"));
    let head_timeout = section.value("head_timeout", span("100ms", "5m"));
    let idle_timeout = section.value("idle_timeout", span("100ms", "1h"));
    section.close();
    Some(Frontend {
        protocol: protocol?,
        listen: listen?,
        pool: pool?,
        head_limit: head_limit.unwrap_or(Size::from_bytes(16 << 10)),
        head_timeout: head_timeout.unwrap_or(Span::from_millis(10_000)),
        idle_timeout: idle_timeout.unwrap_or(Span::from_millis(60_000)),
    })
}

fn pool(mut section: Section<'_, '_>) -> Option<Pool> {
    let algorithm = section.value("algorithm", |value| match text(value) {
        Some("round-robin") => Ok(Algorithm::RoundRobin),
        _ => Err("\"round-robin\"".to_owned()),
    });
    let check = section.value("check", name);
    let connect_timeout = section.value("connect_timeout", span("10ms", "60s"));
    let answer_timeout = section.value("answer_timeout", span("10ms", "1h"));
    let idle_timeout = section.value("idle_timeout", span("100ms", "1h"));
    let attempts = section.value("attempts", number(1..=16));
    let servers = section.named("servers", server);
    section.close();
    Some(Pool {
        algorithm: algorithm.unwrap_or(Algorithm::RoundRobin),
        check,
        connect_timeout: connect_timeout.unwrap_or(Span::from_millis(1_000)),
        answer_timeout: answer_timeout.unwrap_or(Span::from_millis(30_000)),
        idle_timeout: idle_timeout.unwrap_or(Span::from_millis(60_000)),
        attempts: attempts.unwrap_or(3),
        servers,
    })
}

fn server(mut section: Section<'_, '_>) -> Option<Server> {
    let address = section.required("address", address);
    let weight = section.value("weight", number(0..=1_000));
    section.close();
    Some(Server { address: address?, weight: weight.unwrap_or(1) })
}

fn check(mut section: Section<'_, '_>) -> Option<Check> {
    let kind = section.required("kind", |value| match text(value) {
        Some("tcp") => Ok(CheckKind::Tcp),
        Some("http") => Ok(CheckKind::Http { path: "/".to_owned(), accept: Vec::new() }),
        _ => Err("\"tcp\" or \"http\"".to_owned()),
    });
    let kind = match kind {
        Some(CheckKind::Http { path, .. }) => Some(CheckKind::Http {
            path: section.value("path", probe_path).unwrap_or(path),
            accept: section
                .value("accept", accepted)
                .unwrap_or_else(|| vec!["200-299".parse().expect("a range")]),
        }),
        other => other,
    };
    let interval = section.value("interval", span("100ms", "1h"));
    let timeout = section.value("timeout", span("10ms", "60s"));
    let down_after = section.value("down_after", number(1..=100));
    let up_after = section.value("up_after", number(1..=100));
    if kind.is_some() {
        section.close();
    }
    Some(Check {
        kind: kind?,
        interval: interval.unwrap_or(Span::from_millis(2_000)),
        timeout: timeout.unwrap_or(Span::from_millis(1_000)),
        down_after: down_after.unwrap_or(3),
        up_after: up_after.unwrap_or(2),
    })
}

fn probe_path(value: &Value) -> Result<String, String> {
    let good = |path: &&str| path.starts_with('/') && path.bytes().all(|byte| byte.is_ascii_graphic());
    text(value)
        .filter(good)
        .map(str::to_owned)
        .ok_or_else(|| "a path that begins with a slash and holds no spaces, such as \"/health\"".to_owned())
}

fn accepted(value: &Value) -> Result<Vec<StatusRange>, String> {
    let wanted = || "a list of status codes and ranges in quotes, such as [\"200-299\", \"304\"]".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    let ranges: Option<Vec<StatusRange>> =
        items.iter().map(|item| text(&item.value).and_then(|text| text.parse().ok())).collect();
    ranges.filter(|ranges| !ranges.is_empty()).ok_or_else(wanted)
}
