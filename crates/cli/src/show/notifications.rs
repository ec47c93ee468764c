//! Messages to people, for people.

use comfy_table::{Cell, Color};
use merismos_api::SentMessage;

use super::table::{number, table};
use super::{moment, text};

/// Prints messages that were made, and what became of them.
pub(crate) fn sent(messages: &[SentMessage]) {
    if messages.is_empty() {
        text("No message was made yet.\n");
        return;
    }
    let mut rows = table(&["", "made", "notification", "by", "tries", "message"]);
    for message in messages {
        let (sign, state) = match (message.delivered, message.next_try, &message.why) {
            (Some(_), ..) => (Cell::new("✓").fg(Color::Green), String::new()),
            (None, Some(next), why) => {
                let why = why.as_ref().map_or_else(String::new, |why| format!(": {why}"));
                (Cell::new("…"), format!("\non its way, tried again at {}{why}", moment(next)))
            }
            (None, None, why) => (
                Cell::new("✗").fg(Color::Red),
                format!("\nnot delivered: {}", why.as_deref().unwrap_or("no reason is known")),
            ),
        };
        rows.add_row(vec![
            sign,
            Cell::new(moment(message.at)),
            Cell::new(&message.name),
            Cell::new(&message.via),
            number(message.tries),
            Cell::new(format!("{}{state}", message.message)),
        ]);
    }
    text(&format!("{rows}\n"));
}
