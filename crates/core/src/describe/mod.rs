//! Reasons in words: the one place where the core's typed reasons become sentences for people. Nothing reads these sentences but people.

mod routing;
mod selection;
mod warnings;

pub use routing::pool_choice;
pub use selection::{Tense, because, full_words, server_fact, why_not};
pub use warnings::{Advice, warning};

/// The first few of many, and how many more there are.
pub(crate) fn first_of(all: impl ExactSizeIterator<Item = String>) -> String {
    const SHOWN: usize = 5;
    let total = all.len();
    let shown = all.take(SHOWN).collect::<Vec<_>>().join(", ");
    if total > SHOWN { format!("{shown} and {} more", total - SHOWN) } else { shown }
}

/// Names with commas between.
fn names(names: &[crate::name::Name]) -> String {
    names.iter().map(crate::name::Name::as_str).collect::<Vec<_>>().join(", ")
}
