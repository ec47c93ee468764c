//! `#[derive(Keys)]`: one declaration for each key of a document.
//!
//! A field of a document type declares its key: the name and what is flattened come from `serde`'s attributes, the help from the doc
//! comment (its first paragraph is the short one), the shape from the field's type, and the rest from `#[key(...)]`:
//!
//! | attribute | meaning |
//! |---|---|
//! | `range = 1..=100`, `range = "1s".."1h"` | the smallest and largest value, of each item in a list or table |
//! | `count = 1..=8` | how many items a list has |
//! | `distinct` | each item of a list only once |
//! | `default = "2s"` | the default, as a document writes it |
//! | `default(protocol(http = "60s", tcp = "10m"))` | the default for each value of another key |
//! | `without = "the interval"` | what holds without the key, where that is no value |
//! | `needed` | the key has to be given although the field is an `Option` |
//! | `format = HOST` | the format of a text, from `formats` |
//! | `expected = "..."` | what would be right, where range and format do not tell |
//! | `example = "..."` | a value that is right, for messages and forms |
//! | `choices(protocol(http = "request connection"))` | which values there are for each value of another key; the first is the default |
//! | `when(protocol = "http tcp")` | the key exists only where another key has one of these values |
//! | `effective(algorithm = "hash")` | the key has an effect only there |
//! | `refers = Pool` | the value names an object of this kind |
//! | `escapes` | people write the text with the escapes of a document |
//! | `label = "..."`, `group = "..."`, `basic` | how forms and help show it; those that are not basic stand behind "more" |
//!
//! An enum with `#[serde(tag = "kind")]` is a key that decides which others there are. `#[keys(check = function)]` on a struct names a
//! function that looks at the whole table.

mod attributes;
mod expand;

use proc_macro::TokenStream;
use syn::{DeriveInput, parse_macro_input};

/// Implements `Keys` for a struct with named fields, or for an enum that is tagged by a key.
#[proc_macro_derive(Keys, attributes(key, keys))]
pub fn derive_keys(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    expand::keys(&input).unwrap_or_else(|error| error.to_compile_error()).into()
}
