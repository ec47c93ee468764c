//! Tokens for people.

use comfy_table::Cell;
use merismos_api::{MadeToken, TokenResponse, Tokens};

use super::table::table;
use super::{moment, note, strong, text};

pub(crate) fn list(tokens: &Tokens) {
    let mut table = table(&["token", "created", "last used", "revoked", ""]);
    let at = |wall: Option<_>| wall.map_or_else(|| "-".to_owned(), moment);
    for token in &tokens.tokens {
        let is_yours = token.name == tokens.yours && token.revoked.is_none();
        table.add_row(vec![
            Cell::new(&token.name),
            Cell::new(moment(token.made)),
            Cell::new(at(token.used)),
            Cell::new(at(token.revoked)),
            Cell::new(if is_yours { "this call's" } else { "" }),
        ]);
    }
    text(&format!("{table}\n"));
}

/// Prints a new token alone, so that it can be caught by a script; all else goes beside it.
pub(crate) fn made(made: &MadeToken) {
    note(&format!("Token {} counts from now on. It is shown this once:", made.name));
    text(&format!("{}\n", made.token));
    not_kept(made.saved, made.recorded);
}

/// Prints that a token was revoked.
pub(crate) fn revoked(answer: &TokenResponse) {
    text(&format!("Token {} and its sessions of the console have ended.\n", strong(&answer.name)));
    not_kept(answer.saved, answer.recorded);
}

/// Says where it is not kept yet.
fn not_kept(saved: bool, recorded: bool) {
    if !recorded {
        note("The database did not take it yet; it is in the node's state file and follows by itself.");
    }
    if !saved {
        note("The node's state file could not be written; the database has it. `merismos status` says why.");
    }
}
