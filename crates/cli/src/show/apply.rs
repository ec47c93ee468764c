//! What a document changed, or would change, for people.

use comfy_table::Cell;
use merismos_api::ApplyAnswer;

use super::table::{bar, number, percent, points, table};
use super::{bad, good, strong, text};

/// Prints changes, share moves and warnings.
pub(crate) fn print(answer: &ApplyAnswer, preview: bool) {
    if answer.changes.is_empty() && !answer.made {
        text(&format!("Nothing changes: revision {} has this content already.\n", answer.revision));
    } else {
        let head = if preview { "Would change" } else { "Changed" };
        text(&format!("{}\n", strong(head)));
        for change in &answer.changes {
            let sign = match (&change.change.old, &change.change.new) {
                (None, _) => good("+"),
                (Some(_), None) => bad("-"),
                (Some(_), Some(_)) => "~".to_owned(),
            };
            text(&format!("  {sign} {}\n", change.words));
        }
    }
    if !answer.moves.is_empty() {
        let head = if preview { "Shares would move" } else { "Shares move" };
        text(&format!("{}\n", strong(head)));
        let mut table = table(&["server", "before", "after", "", "points", ""]);
        for it in &answer.moves {
            let moved = it.after.unwrap_or(0.0) - it.before.unwrap_or(0.0);
            let share = |share: Option<f64>| share.map_or_else(|| "-".to_owned(), percent);
            table.add_row(vec![
                Cell::new(&it.server),
                number(share(it.before)),
                number(share(it.after)),
                Cell::new(bar(it.after.unwrap_or(0.0), 12)),
                number(points(moved)),
                Cell::new(it.why_none.as_deref().unwrap_or("")),
            ]);
        }
        text(&format!("{table}\n"));
    }
    for warning in &answer.warnings {
        let line = warning.line.map_or(String::new(), |line| format!("line {line}, "));
        text(&format!(
            "{} {line}{}: {}. {}\n",
            bad("warning"),
            warning.path,
            warning.says,
            capital(&warning.help)
        ));
    }
    if answer.made {
        text(&format!("Revision {} runs now.\n", answer.revision));
    } else if preview && !answer.changes.is_empty() {
        text(&format!("This was a preview: revision {} runs on, nothing was changed.\n", answer.revision));
    }
}

fn capital(sentence: &str) -> String {
    let mut letters = sentence.chars();
    let first = letters.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", letters.as_str())
}
