//! From the tree to the document: keys, types and ranges, every mistake noted.

mod checks;
mod notifications;
mod objects;

use std::collections::BTreeMap;
use std::fmt::Display;
use std::net::{IpAddr, SocketAddr};
use std::ops::RangeInclusive;
use std::str::FromStr;

use super::Problem;
use super::document::{Document, Labels};
use super::listen_address::{AddressRange, AddressRef, AddressSource};
use super::tree::{DocumentNode, Value};
use crate::name::Name;
use crate::text::is_plain;
use crate::units::Span;

/// Reads a tree; what could not be read is left out of the document and stands among the problems.
pub(super) fn read(tree: &DocumentNode) -> (Document, Vec<Problem>) {
    let mut problems = Vec::new();
    let document =
        Section::open(tree, String::new(), &mut problems).map(objects::document).unwrap_or_default();
    (document, problems)
}

/// One table of the tree while it is read: knows its path and which keys it was asked for.
struct Section<'t, 'p> {
    entries: &'t [(String, usize, DocumentNode)],
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
    fn open(node: &'t DocumentNode, path: String, problems: &'p mut Vec<Problem>) -> Option<Self> {
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

    fn find(&mut self, key: &'static str) -> Option<(usize, &'t DocumentNode)> {
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

    /// Reads every entry of a table of names and plain values.
    fn pairs<T>(
        &mut self,
        key: &'static str,
        parse: impl Fn(&'t Value) -> Result<T, String>,
    ) -> BTreeMap<Name, T> {
        let mut pairs = BTreeMap::new();
        let Some((_, node)) = self.find(key) else { return pairs };
        let path = self.sub_path(key);
        let Some(table) = Section::open(node, path.clone(), self.problems) else { return pairs };
        for (name, line, node) in table.entries {
            let path = format!("{path}.{name}");
            let mut wrong = |found: String, wanted: String| {
                table.problems.push(Problem { line: Some(*line), ..Problem::at(&path, found, wanted) });
            };
            match (name.parse::<Name>(), parse(&node.value)) {
                (Ok(name), Ok(value)) => drop(pairs.insert(name, value)),
                (Err(error), _) => wrong(format!("found the name {name:?}"), error.to_string()),
                (Ok(_), Err(wanted)) => wrong(format!("found {}", describe(&node.value)), wanted),
            }
        }
        pairs
    }

    /// Reads the labels and the note that every object may have.
    fn about(&mut self) -> (Labels, String) {
        (self.pairs("labels", label), self.value("note", note).unwrap_or_default())
    }

    /// Reads every entry of a table of named objects.
    fn named<T>(
        &mut self,
        key: &'static str,
        mut read: impl FnMut(Section<'t, '_>) -> Option<T>,
    ) -> BTreeMap<Name, T> {
        let mut objects = BTreeMap::new();
        let Some((_, node)) = self.find(key) else { return objects };
        let path = self.sub_path(key);
        let Some(table) = Section::open(node, path.clone(), self.problems) else { return objects };
        for (name, line, node) in table.entries {
            let path = format!("{path}.{name}");
            let parsed = name.parse::<Name>();
            if let Err(error) = &parsed {
                let problem = Problem::at(&path, format!("found the name {name:?}"), error.to_string());
                table.problems.push(Problem { line: Some(*line), ..problem });
            }
            let object = Section::open(node, path, table.problems)
                .map(|section| Section { line: *line, ..section })
                .and_then(&mut read);
            if let (Ok(name), Some(object)) = (parsed, object) {
                objects.insert(name, object);
            }
        }
        objects
    }

    /// Reads a table inside this one, when it is there.
    fn table<T>(&mut self, key: &'static str, read: impl FnOnce(Section<'t, '_>) -> Option<T>) -> Option<T> {
        let (line, node) = self.find(key)?;
        let path = self.sub_path(key);
        let section = Section::open(node, path, self.problems)?;
        read(Section { line, ..section })
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
        "format" => "format = 3",
        "addresses" => "a prefix or a range, such as addresses = \"192.0.2.16/28\"",
        "name" => "a DNS name, such as name = \"booking.skerry.example\"",
        "records" => "records = \"address\" or records = \"service\"",
        "listen" => "an address and port, such as listen = \"192.0.2.10:80\"",
        "address" => "an address and port, such as address = \"192.0.2.21:8080\"",
        "pool" => "the name of a pool, such as pool = \"booking\"",
        "kind" => "what is asked, such as kind = \"http\"",
        "query" => "a statement, such as query = \"SELECT @@read_only\"",
        "user" => "who logs in, such as user = \"merismos\"",
        "program" => "a file name, such as program = \"lag\"",
        "protocol" => "protocol = \"http\", \"tcp\" or \"udp\"",
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
        let wanted = || format!("a whole number from {} to {}", range.start(), range.end());
        match value {
            Value::Number(number) if range.contains(number) => T::try_from(*number).map_err(|_| wanted()),
            _ => Err(wanted()),
        }
    }
}

fn within<T>(
    least: &'static str,
    most: &'static str,
    example: &'static str,
) -> impl FnOnce(&Value) -> Result<T, String>
where
    T: FromStr + Ord + Display,
    T::Err: std::fmt::Debug,
{
    // The bounds are read when there is a value to hold against them: most keys are left out by most objects.
    move |value| {
        let least: T = least.parse().expect("a bound written here");
        let most: T = most.parse().expect("a bound written here");
        let parsed = text(value).and_then(|text| text.parse::<T>().ok());
        parsed
            .filter(|value| (&least..=&most).contains(&value))
            .ok_or_else(|| format!("{example} from {least} to {most}"))
    }
}

fn span(least: &'static str, most: &'static str) -> impl FnOnce(&Value) -> Result<Span, String> {
    within(least, most, "a duration such as 250ms or 2s,")
}

fn name(value: &Value) -> Result<Name, String> {
    text(value).and_then(|text| text.parse().ok()).ok_or_else(|| "a name in quotes".to_owned())
}

fn ip(value: &Value) -> Result<IpAddr, String> {
    text(value)
        .and_then(|text| text.parse().ok())
        .ok_or_else(|| "an IP address, such as \"192.0.2.21\" or \"2001:db8::21\"".to_owned())
}

fn socket_address(value: &Value) -> Result<SocketAddr, String> {
    let parsed = text(value).and_then(|text| text.parse::<SocketAddr>().ok());
    parsed.filter(|address| address.port() != 0).ok_or_else(|| {
        "an IP address and a port from 1 to 65535, such as \"192.0.2.53:53\" or \"[2001:db8::53]:53\""
            .to_owned()
    })
}

fn address(value: &Value) -> Result<AddressRef, String> {
    let place = text(value).and_then(|text| text.parse::<AddressRef>().ok());
    place.filter(|place| !matches!(place.written(), AddressSource::Taken { .. })).ok_or_else(|| {
        "an IP address or a host's name, and a port from 1 to 65535, such as \"192.0.2.21:8080\", \
         \"[2001:db8::21]:8080\" or \"gull:8080\"; a DNS name is a lookup"
            .to_owned()
    })
}

fn listen(value: &Value) -> Result<AddressRef, String> {
    let place = text(value).and_then(|text| text.parse::<AddressRef>().ok());
    place.filter(|place| !matches!(place.written(), AddressSource::Host(_))).ok_or_else(|| {
        "an IP address and a port from 1 to 65535, such as \"192.0.2.10:80\" or \"[2001:db8::10]:80\", or an address \
         taken from a range, such as \"public/web:80\""
            .to_owned()
    })
}

fn addresses(value: &Value) -> Result<AddressRange, String> {
    let range = text(value).and_then(|text| text.parse::<AddressRange>().ok());
    range.filter(|range| range.len() <= 1 << 16).ok_or_else(|| {
        "a prefix such as \"192.0.2.16/28\" or a range such as \"192.0.2.16-192.0.2.31\", of 65536 addresses at most"
            .to_owned()
    })
}

fn label(value: &Value) -> Result<String, String> {
    plain_text(value, 200).ok_or_else(|| "a text of 1 to 200 characters on one line".to_owned())
}

fn note(value: &Value) -> Result<String, String> {
    match value {
        Value::Text(text) if text.is_empty() => Ok(String::new()),
        _ => plain_text(value, 500).ok_or_else(|| "a text of at most 500 characters on one line".to_owned()),
    }
}

fn plain_text(value: &Value, most: usize) -> Option<String> {
    let good = |text: &&str| (1..=most).contains(&text.chars().count()) && text.chars().all(is_plain);
    text(value).filter(good).map(str::to_owned)
}

/// A DNS name as the hosts of RFC 1123, 2.1 and the services of RFC 2782 are written.
fn dns_name(value: &Value) -> Result<String, String> {
    let is_label = |label: &str| {
        (1..=63).contains(&label.len())
            && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_')
    };
    let good = |name: &&str| name.len() <= 253 && name.trim_end_matches('.').split('.').all(is_label);
    text(value)
        .filter(good)
        .map(str::to_owned)
        .ok_or_else(|| "a DNS name, such as \"booking.skerry.example\"".to_owned())
}
