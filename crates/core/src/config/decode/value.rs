//! How the types of values are read.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Display;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;

use ipnet::IpNet;

use super::formats::{self, TextFormat};
use super::section::{Place, quoted};
use crate::announcement::Community;
use crate::config::document::{
    Algorithm, AmbiguousPaths, BalancePer, ChallengeKind, ChecksNeeded, ChoosePool, CipherSuite,
    ClientCertificates, CookieSameSite, DaysBefore, DnsRecordType, Failback, HashKey, HttpVersion,
    LimitAction, LimitKey, LookupRecords, MailTls, NotifiedChange, OneOrMore, OpenConnections, PassiveAction,
    PersistenceKind, PinWhenGone, PoolLossAnswer, PreemptionMode, Protocol, ProxyVersion, RedirectStatus,
    RuleAction, RulePersistence, StatusRange, TlsNameOf, TlsPolicy, TlsVerify, TsigAlgorithm, UnknownName,
    WhenAbsent, WhenEmpty, WhenNone,
};
use crate::config::key::{Key, Range, Shape};
use crate::config::listen_address::{AddressRange, AddressRef};
use crate::config::schema::checks::SecretRef;
use crate::config::schema::expectation::{ExpectedValue, Pattern};
use crate::config::tree::{DocumentNode, Value};
use crate::name::Name;
use crate::rules::{Condition, ConditionError, LocationTemplate};
use crate::units::{Size, Span};
use crate::vrrp::ChecksumRule;

/// A type that values of keys are read into.
pub(crate) trait KeyValue: Sized {
    /// What values look like.
    const SHAPE: Shape;
    /// Whether an object is whole without a value.
    const IS_OPTIONAL: bool = false;

    /// What a key that was not given and has no default is.
    fn absent() -> Option<Self> {
        None
    }

    /// Reads a value; what is wrong with it is noted at its place.
    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self>;

    /// The value of a default, as it stands in a declaration.
    fn from_default(text: &str, key: &'static Key) -> Self {
        let value = match Self::SHAPE {
            Shape::Number => Value::Number(text.parse().expect("a whole number")),
            Shape::Flag => Value::Flag(text == "true"),
            Shape::List { .. } | Shape::OneOrMore { .. } => {
                let item = |text: &str| DocumentNode { line: 0, value: Value::Text(text.to_owned()) };
                Value::List(text.split_whitespace().map(item).collect())
            }
            _ => Value::Text(text.to_owned()),
        };
        let mut problems = Vec::new();
        let mut place = Place { around: "", key: key.name, line: 0, problems: &mut problems };
        let read = Self::read(&DocumentNode { line: 0, value }, &mut place, key);
        read.unwrap_or_else(|| panic!("the default {text:?} of {} is no value of it", key.name))
    }
}

/// What would be right for a key.
pub(in crate::config) fn expected(key: &Key) -> String {
    if !key.expected.is_empty() {
        return key.expected.to_owned();
    }
    describe_shape(&key.shape, key)
}

fn describe_shape(shape: &Shape, key: &Key) -> String {
    match shape {
        Shape::Text { format } => key.format.unwrap_or(format).expected(key.example),
        Shape::Duration => format!("a duration such as 250ms or 2s, {}", between(key.range)),
        Shape::Size => format!("a size such as 16KiB, {}", between(key.range)),
        Shape::Number => format!("a whole number {}", between(key.range)),
        Shape::Flag => "true or false".to_owned(),
        Shape::Choice { names, .. } => quoted(names),
        Shape::List { of } => describe_list(of, key),
        Shape::OneOrMore { of } => format!("{}, or {}", describe_shape(of, key), describe_list(of, key)),
        Shape::Map { .. } | Shape::Table { .. } => "a table with keys".to_owned(),
    }
}

fn between(range: Range) -> String {
    match range {
        Range::None => String::new(),
        Range::Numbers { least, most } => format!("from {least} to {most}"),
        Range::Texts { least, most } => format!("from {least} to {most}"),
    }
}

fn describe_list(of: &Shape, key: &Key) -> String {
    let count = match key.count {
        Some(count) if count.least == 0 => format!("at most {} ", count.most),
        Some(count) => format!("{} to {} ", count.least, count.most),
        None => String::new(),
    };
    let once = if key.is_distinct { ", each once" } else { "" };
    match of {
        Shape::Text { format } => {
            let format = key.format.unwrap_or(format);
            let example = if key.example.is_empty() { format.example } else { key.example };
            format!("a list of {count}{} in quotes{once}, such as [{example:?}]", format.many)
        }
        Shape::Choice { names, .. } => format!("a list of {}{once}", quoted(names)),
        other => format!("a list of {count}values{once}, each {}", describe_shape(other, key)),
    }
}

impl<T: KeyValue> KeyValue for Option<T> {
    const SHAPE: Shape = T::SHAPE;
    const IS_OPTIONAL: bool = true;

    fn absent() -> Option<Self> {
        Some(None)
    }

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        T::read(node, place, key).map(Some)
    }
}

impl KeyValue for bool {
    const SHAPE: Shape = Shape::Flag;

    fn absent() -> Option<Self> {
        Some(false)
    }

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        if let Value::Flag(flag) = node.value {
            return Some(flag);
        }
        place.mismatch(&node.value, expected(key));
        None
    }
}

macro_rules! numbers {
    ($($type:ty)*) => {$(
        impl KeyValue for $type {
            const SHAPE: Shape = Shape::Number;

            fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
                let is_inside = |number: &i64| match key.range {
                    Range::Numbers { least, most } => (least..=most).contains(number),
                    Range::None | Range::Texts { .. } => true,
                };
                let number = match &node.value {
                    Value::Number(number) if is_inside(number) => Self::try_from(*number).ok(),
                    _ => None,
                };
                if number.is_none() {
                    place.mismatch(&node.value, expected(key));
                }
                number
            }
        }
    )*};
}
numbers!(u8 u16 u32 i64);

/// Reads a duration or a size.
fn measure<T: FromStr + Ord + Display>(
    node: &DocumentNode,
    place: &mut Place<'_, '_>,
    key: &'static Key,
    shape: Shape,
) -> Option<T>
where
    T::Err: std::fmt::Debug,
{
    let bound = |text: &str| text.parse::<T>().expect("a bound in a declaration");
    let is_inside = |value: &T| match key.range {
        Range::Texts { least, most } => (bound(least)..=bound(most)).contains(value),
        Range::None | Range::Numbers { .. } => true,
    };
    let value = text(&node.value).and_then(|text| text.parse::<T>().ok()).filter(is_inside);
    if value.is_none() {
        place.mismatch(&node.value, describe_shape(&shape, key));
    }
    value
}

impl KeyValue for Span {
    const SHAPE: Shape = Shape::Duration;

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        measure(node, place, key, Self::SHAPE)
    }
}

impl KeyValue for Size {
    const SHAPE: Shape = Shape::Size;

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        measure(node, place, key, Self::SHAPE)
    }
}

fn text(value: &Value) -> Option<&str> {
    match value {
        Value::Text(text) => Some(text),
        Value::Number(_) | Value::Flag(_) | Value::List(_) | Value::Table(_) | Value::Other(_) => None,
    }
}

/// Reads a text that has a format.
fn formatted<T: FromStr>(
    node: &DocumentNode,
    place: &mut Place<'_, '_>,
    key: &'static Key,
    of_type: &'static TextFormat,
) -> Option<T> {
    let format = key.format.unwrap_or(of_type);
    let value = text(&node.value).and_then(format.read).and_then(|text| text.parse().ok());
    if value.is_none() {
        let own = || format.expected(key.example);
        place.mismatch(&node.value, if key.expected.is_empty() { own() } else { key.expected.to_owned() });
    }
    value
}

macro_rules! texts {
    ($($type:ty => $format:ident),* $(,)?) => {$(
        impl KeyValue for $type {
            const SHAPE: Shape = Shape::Text { format: &formats::$format };

            fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
                formatted(node, place, key, &formats::$format)
            }
        }
    )*};
}
texts! {
    Name => NAME,
    Community => COMMUNITY,
    IpAddr => IP_ADDRESS,
    SocketAddr => SOCKET_ADDRESS,
    AddressRef => SERVER_ADDRESS,
    AddressRange => ADDRESS_RANGE,
    HashKey => HASH_KEY,
    LimitKey => LIMIT_KEY,
    PersistenceKind => PERSISTENCE,
    Failback => FAILBACK,
    ExpectedValue => CONDITION,
    SecretRef => SECRET,
    StatusRange => STATUS_RANGE,
    DaysBefore => DAYS_BEFORE,
}

impl KeyValue for String {
    const SHAPE: Shape = Shape::Text { format: &formats::TEXT };

    fn absent() -> Option<Self> {
        Some(Self::new())
    }

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        formatted(node, place, key, &formats::TEXT)
    }
}

impl KeyValue for IpNet {
    const SHAPE: Shape = Shape::Text { format: &formats::NETWORK };

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        let network = text(&node.value).and_then(formats::network);
        if network.is_none() {
            place.mismatch(&node.value, formats::NETWORK.expected(key.example));
        }
        network
    }
}

impl KeyValue for Pattern {
    const SHAPE: Shape = Shape::Text { format: &formats::PATTERN };

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        let Some(text) = text(&node.value).and_then(formats::PATTERN.read) else {
            place.mismatch(&node.value, formats::PATTERN.expected(key.example));
            return None;
        };
        match text.parse() {
            Ok(pattern) => Some(pattern),
            Err(error) => {
                let error: regex::Error = error;
                // The lines before the last draw a picture of the mistake.
                let message = error.to_string();
                let message = message.lines().last().unwrap_or_default().trim();
                place.mismatch(&node.value, format!("a regular expression: {message}"));
                None
            }
        }
    }
}

impl KeyValue for Condition {
    const SHAPE: Shape = Shape::Text { format: &formats::RULE_CONDITION };

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, _key: &'static Key) -> Option<Self> {
        let Some(text) = text(&node.value).and_then(formats::RULE_CONDITION.read) else {
            place.mismatch(&node.value, formats::RULE_CONDITION.expected(""));
            return None;
        };
        match text.parse() {
            Ok(condition) => Some(condition),
            Err(error) => {
                let ConditionError { at, found, expected } = error;
                place.problem(format!("found {found} at character {at} of the condition"), expected);
                None
            }
        }
    }
}

impl KeyValue for LocationTemplate {
    const SHAPE: Shape = Shape::Text { format: &formats::LOCATION };

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, _key: &'static Key) -> Option<Self> {
        let Some(text) = text(&node.value).and_then(formats::LOCATION.read) else {
            place.mismatch(&node.value, formats::LOCATION.expected(""));
            return None;
        };
        match text.parse::<Self>() {
            Ok(template) => Some(template),
            Err(error) => {
                place.problem(format!("found {text:?}: {error}"), formats::LOCATION.expected(""));
                None
            }
        }
    }
}

macro_rules! choices {
    ($($type:ty)*) => {$(
        impl KeyValue for $type {
            const SHAPE: Shape = Shape::Choice {
                names: <$type as strum::VariantNames>::VARIANTS,
                help: |name| name
                    .parse::<$type>()
                    .ok()
                    .and_then(|value| strum::EnumMessage::get_documentation(&value))
                    .unwrap_or_default(),
            };

            fn read(node: &DocumentNode, place: &mut Place<'_, '_>, _key: &'static Key) -> Option<Self> {
                let choice = text(&node.value).and_then(|text| text.parse().ok());
                if choice.is_none() {
                    place.mismatch(&node.value, quoted(<$type as strum::VariantNames>::VARIANTS));
                }
                choice
            }
        }
    )*};
}
choices! {
    Algorithm AmbiguousPaths BalancePer ChallengeKind ChecksumRule CipherSuite ChoosePool ClientCertificates ChecksNeeded DnsRecordType HttpVersion LimitAction LookupRecords MailTls NotifiedChange OpenConnections
    PassiveAction CookieSameSite PinWhenGone PoolLossAnswer PreemptionMode Protocol ProxyVersion RedirectStatus RuleAction RulePersistence TlsNameOf TlsPolicy TlsVerify TsigAlgorithm UnknownName WhenAbsent WhenEmpty
    WhenNone
}

/// Reads the items of a list; `None` when one of them is wrong, or there are too many or too few.
fn items<T: KeyValue>(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Vec<T>> {
    let Value::List(items) = &node.value else {
        place.mismatch(&node.value, describe_list(&T::SHAPE, key));
        return None;
    };
    let fits = key.count.is_none_or(|count| (count.least..=count.most).contains(&items.len()));
    let mut ignored = Vec::new();
    let mut wrong = None;
    let mut read = Vec::with_capacity(items.len());
    for item in items {
        let mut inner =
            Place { around: place.around, key: place.key, line: place.line, problems: &mut ignored };
        match T::read(item, &mut inner, key) {
            Some(value) => read.push(value),
            None => wrong = wrong.or(Some(item)),
        }
    }
    if let Some(item) = wrong {
        place.problem(
            format!("found {} in the list", super::describe(&item.value)),
            describe_list(&T::SHAPE, key),
        );
        return None;
    }
    if !fits {
        place.problem(format!("found a list of {} items", items.len()), describe_list(&T::SHAPE, key));
        return None;
    }
    Some(read)
}

/// How many items of a list are compared each with each.
const FEW_ITEMS: usize = 100;

impl<T: KeyValue + PartialEq> KeyValue for Vec<T> {
    const SHAPE: Shape = Shape::List { of: &T::SHAPE };
    const IS_OPTIONAL: bool = true;

    fn absent() -> Option<Self> {
        Some(Self::new())
    }

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        let items = items::<T>(node, place, key)?;
        let is_twice = |(at, item): (usize, &T)| items[..at].contains(item);
        let has_twice = || {
            if items.len() <= FEW_ITEMS {
                return items.iter().enumerate().any(is_twice);
            }
            // Comparing each with each would take long; texts that mean the same are written alike in lists so long.
            let mut seen = BTreeSet::new();
            let Value::List(nodes) = &node.value else { return false };
            nodes.iter().filter_map(|node| text(&node.value)).any(|text| !seen.insert(text))
        };
        if key.is_distinct && has_twice() {
            place.problem("found an item twice".to_owned(), describe_list(&T::SHAPE, key));
            return None;
        }
        Some(items)
    }
}

impl<T: KeyValue + PartialEq> KeyValue for OneOrMore<T> {
    const SHAPE: Shape = Shape::OneOrMore { of: &T::SHAPE };
    const IS_OPTIONAL: bool = true;

    fn absent() -> Option<Self> {
        Some(Self(Vec::new()))
    }

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        match &node.value {
            Value::List(_) => Vec::read(node, place, key).map(Self),
            _ => T::read(node, place, key).map(|one| Self(vec![one])),
        }
    }
}

impl<T: KeyValue + Ord> KeyValue for BTreeSet<T> {
    const SHAPE: Shape = Shape::List { of: &T::SHAPE };
    const IS_OPTIONAL: bool = true;

    fn absent() -> Option<Self> {
        Some(Self::new())
    }

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        items::<T>(node, place, key).map(|items| items.into_iter().collect())
    }
}

impl<T: KeyValue> KeyValue for BTreeMap<Name, T> {
    const SHAPE: Shape = Shape::Map { names: &formats::NAME, of: &T::SHAPE };
    const IS_OPTIONAL: bool = true;

    fn absent() -> Option<Self> {
        Some(Self::new())
    }

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        Some(place.named(node, key))
    }
}

/// Fields of a request: names are tokens (RFC 9110, 5.1).
impl KeyValue for BTreeMap<String, String> {
    const SHAPE: Shape = Shape::Map { names: &formats::FIELD_NAME, of: &<String as KeyValue>::SHAPE };
    const IS_OPTIONAL: bool = true;

    fn absent() -> Option<Self> {
        Some(Self::new())
    }

    fn read(node: &DocumentNode, place: &mut Place<'_, '_>, key: &'static Key) -> Option<Self> {
        let pairs = place.pairs(node, key, |name| {
            (formats::FIELD_NAME.read)(name).ok_or_else(|| formats::FIELD_NAME.expected(""))
        });
        if let Some(count) = key.count.filter(|count| pairs.len() > count.most) {
            place
                .problem(format!("found {} entries", pairs.len()), format!("at most {} entries", count.most));
        }
        Some(pairs)
    }
}
