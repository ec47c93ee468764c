//! Drafts and revisions for people.

use comfy_table::Cell;
use merismos_api::{
    Between, Draft, DraftReview, Drafts, NamedChange, RevisionHead, RevisionResponse, Revisions,
};

use super::review::{changes, impact, warnings};
use super::table::{number, table};
use super::{bad, good, moment, strong, text};

/// Prints the list of drafts.
pub(crate) fn list(drafts: &Drafts) {
    if drafts.drafts.is_empty() {
        text("There are no drafts; `merismos draft create NAME` begins one.\n");
        return;
    }
    let mut table = table(&["draft", "owner", "from revision", "changed", "note", ""]);
    for draft in &drafts.drafts {
        table.add_row(vec![
            Cell::new(&draft.name),
            Cell::new(&draft.owner),
            number(draft.base),
            Cell::new(moment(draft.changed)),
            Cell::new(&draft.note),
            Cell::new(if draft.stale { "! to be rebased" } else { "" }),
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
        warnings(&would.warnings);
        if would.warnings.iter().any(merismos_api::AcceptedWarning::needs_word) {
            text(&format!(
                "`merismos draft accept {} KEY` accepts a warning that is meant to be so.\n",
                draft.name
            ));
        } else if !review.changes.is_empty() && review.mistakes.is_empty() {
            text(&format!("{} `merismos draft deploy {}`\n", good("Ready:"), draft.name));
        }
    }
}

/// Prints what one edit did to a draft, and in a line how the draft is.
pub(crate) fn edited(before: &[NamedChange], review: &DraftReview) {
    let new: Vec<_> = review.changes.iter().filter(|change| !before.contains(change)).cloned().collect();
    changes(&new);
    // What was changed before and stands otherwise now is among the new ones.
    let stands =
        |change: &&NamedChange| review.changes.iter().any(|now| now.change.path == change.change.path);
    let undone: Vec<_> =
        before.iter().filter(|change| !stands(change)).map(|warning| warning.change.path.as_str()).collect();
    if !undone.is_empty() {
        text(&format!("  as it runs again: {}\n", undone.join(", ")));
    }
    let name = &review.draft.name;
    let warnings = review
        .review
        .iter()
        .flat_map(|review| &review.warnings)
        .filter(|warning| warning.needs_word())
        .count();
    let state = match (review.mistakes.len(), review.draft.stale, warnings) {
        (0, false, 0) => good("ready"),
        (0, false, 1) => bad("1 warning to accept"),
        (0, false, many) => bad(&format!("{many} warnings to accept")),
        (0, true, _) => bad("to be rebased"),
        (1, ..) => bad("1 mistake"),
        (many, ..) => bad(&format!("{many} mistakes")),
    };
    let count = match review.changes.len() {
        1 => "1 change".to_owned(),
        many => format!("{many} changes"),
    };
    text(&format!("Draft {name}: {count}, {state}; `merismos draft review {name}` shows it all.\n"));
}

fn head(revision: &RevisionHead) -> String {
    let note = if revision.note.is_empty() { String::new() } else { format!(": {}", revision.note) };
    format!("by {}, {}{note}", revision.author, moment(revision.at))
}

pub(crate) fn revisions(revisions: &Revisions) {
    if revisions.revisions.is_empty() {
        text("There are no revisions yet.\n");
        return;
    }
    let mut table = table(&["revision", "author", "made", "changed", "note", "accepted", ""]);
    for revision in &revisions.revisions {
        table.add_row(vec![
            number(revision.number),
            Cell::new(&revision.author),
            Cell::new(moment(revision.at)),
            Cell::new(&revision.changed),
            Cell::new(&revision.note),
            Cell::new(
                revision.accepted.iter().map(|accepted| accepted.key.as_str()).collect::<Vec<_>>().join(", "),
            ),
            Cell::new(if revision.running { "runs" } else { "" }),
        ]);
    }
    text(&format!("{table}\n"));
}

/// Prints what a revision changed.
pub(crate) fn revision(answer: &RevisionResponse) {
    let revision = &answer.revision;
    let runs = if revision.running { ", runs" } else { "" };
    text(&format!("{}{runs} {}\n", strong(&format!("Revision {}", revision.number)), head(revision)));
    if answer.changes.is_empty() {
        text("  It changed nothing.\n");
    }
    changes(&answer.changes);
    for accepted in &revision.accepted {
        text(&format!("  accepted by {}: {} ({})\n", accepted.who, accepted.message, accepted.key));
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
