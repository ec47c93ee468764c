//! What a key of a document is: the one declaration that the reader, the JSON Schema, the reference, the command line's flags and the
//! console's forms are made from.
//!
//! Keys are declared on the document's types by `#[derive(Keys)]`; [`keys`](crate::config::keys) lists them.

use serde::Serialize;

use crate::config::decode::{Section, TextFormat, formats};
use crate::config::object::ObjectKind;

/// A type whose fields are keys of a table.
pub trait Keys: Sized {
    /// The keys, in the order in which people read them.
    const FIELDS: &'static [Field];

    /// Reads the keys of a table that is open. What is wrong stands among its problems afterwards; `None` if something that has to be
    /// there could not be read.
    fn read(section: &mut Section<'_, '_>) -> Option<Self>;
}

impl<T: Keys> Keys for Box<T> {
    const FIELDS: &'static [Field] = T::FIELDS;

    fn read(section: &mut Section<'_, '_>) -> Option<Self> {
        T::read(section).map(Self::new)
    }
}

/// The keys that one field of a type declares.
#[derive(Debug)]
pub enum Field {
    /// A single key of the object.
    Key(&'static Key),
    /// The keys of another type, in the same table.
    Inline {
        /// Those keys.
        fields: &'static [Field],
        /// When there are any of them.
        when: Option<KeyCondition>,
        /// Whether they are there together or not at all, so that none of them is needed by itself.
        is_optional: bool,
    },
}

/// The declaration of a key: type, range, default, conditions and texts.
#[derive(Debug)]
pub struct Key {
    /// Its name in the document.
    pub name: &'static str,
    /// What it means, in a sentence or two.
    pub help: &'static str,
    /// What else an engineer must know: cost, danger, and what larger and smaller values do. Paragraphs are lines.
    pub about: &'static str,
    /// What values look like.
    pub shape: Shape,
    /// Whether an object is whole without it and its default.
    pub is_optional: bool,
    /// What holds when it is left out.
    pub default: DefaultValue,
    /// The smallest and the largest value.
    pub range: Range,
    /// How many items a list has.
    pub count: Option<ItemCount>,
    /// Whether each item of a list is there only once.
    pub is_distinct: bool,
    /// The format of a text, where its type has several.
    pub format: Option<&'static TextFormat>,
    /// Which values there are for each value of another key.
    pub choices: Option<ChoicesByKey>,
    /// What would be right, where range and format do not tell.
    pub expected: &'static str,
    /// A value that is right.
    pub example: &'static str,
    /// The kind of object that it names.
    pub refers: Option<ObjectKind>,
    /// The values of another key that it exists with.
    pub when: Option<KeyCondition>,
    /// The values of another key that it has an effect with.
    pub effective: Option<KeyCondition>,
    /// What forms call it, where that is not its name with spaces.
    pub label: &'static str,
    /// The heading that it stands under, where that is not the one of the key before it.
    pub group: &'static str,
    /// Whether a form shows it at once.
    pub is_basic: bool,
    /// Whether people write the text with the escapes of a document (`\\r\\n`).
    pub has_escapes: bool,
}

impl Key {
    /// A key that has to be given, and of which nothing else is said.
    pub const NEEDED: Self = Self {
        name: "",
        help: "",
        about: "",
        shape: Shape::Flag,
        is_optional: false,
        default: DefaultValue::None,
        range: Range::None,
        count: None,
        is_distinct: false,
        format: None,
        choices: None,
        expected: "",
        example: "",
        refers: None,
        when: None,
        effective: None,
        label: "",
        group: "",
        is_basic: false,
        has_escapes: false,
    };

    /// Whether it is a page, which people keep in files.
    #[must_use]
    pub fn is_page(&self) -> bool {
        self.format.is_some_and(|format| std::ptr::eq(format, &formats::PAGE))
    }

    /// Whether it has to be given.
    #[must_use]
    pub fn is_needed(&self) -> bool {
        !self.is_optional && self.choices.is_none() && self.default == DefaultValue::None
    }
}

/// What values of a key look like.
#[derive(Clone, Copy, Debug)]
pub enum Shape {
    /// A text of some format.
    Text {
        /// The format, unless the key has one of its own.
        format: &'static TextFormat,
    },
    /// A duration, such as `2s`.
    Duration,
    /// A number of bytes, such as `64KiB`.
    Size,
    /// A whole number, within the key's range.
    Number,
    /// A flag: `true` or `false`.
    Flag,
    /// One of a few words.
    Choice {
        /// The words that may be written.
        names: &'static [&'static str],
        /// What each of them means.
        help: fn(&str) -> &'static str,
    },
    /// A list of several values of one shape.
    List {
        /// What each looks like.
        of: &'static Shape,
    },
    /// As a list, of which one item may stand without brackets.
    OneOrMore {
        /// What each looks like.
        of: &'static Shape,
    },
    /// A table whose keys are names that the author chooses.
    Map {
        /// What names look like.
        names: &'static TextFormat,
        /// What each looks like.
        of: &'static Shape,
    },
    /// A table with keys of its own.
    Table {
        /// Keys of the table inside this one.
        fields: &'static [Field],
    },
}

impl Shape {
    /// What each item of a list looks like; of other values themselves.
    #[must_use]
    pub fn item(&self) -> &Self {
        match self {
            Self::List { of } => of,
            other => other,
        }
    }
}

/// What holds when a key is left out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DefaultValue {
    /// Nothing, or the key has to be given.
    None,
    /// This value, as a document writes it.
    Value(&'static str),
    /// A value for each value of another key.
    ByKey {
        /// Name of the key whose value holds.
        key: &'static str,
        /// Its values and what holds with each.
        values: &'static [(&'static str, &'static str)],
    },
    /// What is no value: `the pool's`.
    Described(&'static str),
}

/// The smallest and the largest value of a key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Range {
    /// Every value of the type is allowed.
    None,
    /// Whole numbers between two bounds.
    Numbers {
        /// The smallest number that is allowed.
        least: i64,
        /// The largest number that is allowed.
        most: i64,
    },
    /// Of durations or sizes, as a document writes them.
    Texts {
        /// The smallest value that is allowed, as it is written in a document.
        least: &'static str,
        /// The largest value that is allowed, as it is written in a document.
        most: &'static str,
    },
}

/// How many items a list has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ItemCount {
    /// The fewest items that a list may have.
    pub least: usize,
    /// The most items that a list may have.
    pub most: usize,
}

/// The values of another key of the same table that a key goes with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct KeyCondition {
    /// Name of the key that decides.
    pub key: &'static str,
    /// Values of that key with which this one exists.
    pub values: &'static [&'static str],
}

/// Which values a key has for each value of another key. The first is the default.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ChoicesByKey {
    /// Name of the key that decides.
    pub key: &'static str,
    /// Its values and which there are with each.
    pub names: &'static [(&'static str, &'static [&'static str])],
}
