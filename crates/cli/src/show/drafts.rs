//! Drafts and revisions for people.

use comfy_table::Cell;
use merismos_api::{Between, Draft, DraftReview, Drafts, RevisionAnswer, RevisionHead, Revisions};

use super::review::{changes, impact, warning};
use super::table::{number, table};
use super::{bad, good, moment, strong, text};

/// Prints the list of drafts.
pub(crate) fn list(drafts: &Drafts) {
    if drafts.drafts.is_empty() {
        text("There are no drafts; `merismos draft create NAME` begins one.\n");
        return;
    }
    let mut table = table(&["draft", "owner", "from revision", "changed", "note", ""]);
    for it in &drafts.drafts {
        table.add_row(vec![
            Cell::new(&it.name),
            Cell::new(&it.owner),
            number(it.base),
            Cell::new(moment(it.changed)),
            Cell::new(&it.note),
            Cell::new(if it.stale { "! to be rebased" } else { "" }),
        ]);
    }
    text(&format!("{table}\n"));
}

/// Prints that a draft was begun.
pub(crate) fn begun(draft: &Draft) {
    text(&format!(
        "Draft {} begins from revision {}. Add to it with --draft {}, look with `merismos draft review {}`.\n",
        draft.name, draft.base, draft.name, draft.name
    ));
}

/// Prints what a draft would do.
pub(crate) fn review(review: &DraftReview) {
    let draft = &review.draft;
    let note = if draft.note.is_empty() { String::new() } else { format!(": {}", draft.note) };
    text(&format!(
        "{} by {}, from revision {}{note}\n",
        strong(&format!("Draft {}", draft.name)),
        draft.owner,
        draft.base
    ));
    if review.changes.is_empty() {
        text("  It changes nothing yet.\n");
    }
    changes(&review.changes);
    if let Some(between) = &review.between {
        text(&format!("{} revision {} runs by now. Since {}:\n", bad("Stale:"), between.to, between.from));
        changes(&between.changes);
        text(&format!("`merismos draft rebase {}` lets it begin from what runs.\n", draft.name));
    }
    for mistake in &review.mistakes {
        text(&format!("{} {mistake}\n", bad("mistake")));
    }
    if let Some(would) = &review.review {
        impact(would);
        would.warnings.iter().filter(|it| !it.known).for_each(warning);
        if would.warnings.iter().any(merismos_api::Warned::needs_word) {
            text(&format!(
                "`merismos draft accept {} KEY` accepts a warning that is meant to be so.\n",
                draft.name
            ));
        } else if !review.changes.is_empty() && review.mistakes.is_empty() {
            text(&format!("{} `merismos draft deploy {}`\n", good("Ready:"), draft.name));
        }
    }
}

fn head(revision: &RevisionHead) -> String {
    let note = if revision.note.is_empty() { String::new() } else { format!(": {}", revision.note) };
    format!("by {}, {}{note}", revision.author, moment(revision.at))
}

/// Prints revisions.
pub(crate) fn revisions(revisions: &Revisions) {
    if revisions.revisions.is_empty() {
        text("There are no revisions yet.\n");
        return;
    }
    let mut table = table(&["revision", "author", "made", "note", "accepted", ""]);
    for it in &revisions.revisions {
        table.add_row(vec![
            number(it.number),
            Cell::new(&it.author),
            Cell::new(moment(it.at)),
            Cell::new(&it.note),
            Cell::new(it.accepted.iter().map(|it| it.key.as_str()).collect::<Vec<_>>().join(", ")),
            Cell::new(if it.running { "runs" } else { "" }),
        ]);
    }
    text(&format!("{table}\n"));
}

/// Prints what a revision changed.
pub(crate) fn revision(answer: &RevisionAnswer) {
    let revision = &answer.revision;
    let runs = if revision.running { ", runs" } else { "" };
    text(&format!("{}{runs} {}\n", strong(&format!("Revision {}", revision.number)), head(revision)));
    if answer.changes.is_empty() {
        text("  It changed nothing.\n");
    }
    changes(&answer.changes);
    for it in &revision.accepted {
        text(&format!("  accepted by {}: {} ({})\n", it.who, it.says, it.key));
    }
}

/// Prints what changed between two revisions.
pub(crate) fn between(between: &Between) {
    text(&format!("{}\n", strong(&format!("From revision {} to {}", between.from, between.to))));
    if between.changes.is_empty() {
        text("  Nothing: they have the same content.\n");
    }
    changes(&between.changes);
}
