//! What can be said of conditions without a request: that one holds whenever another does, and that one never does.
//!
//! Both answers err on the side of silence: `false` means that it is not known.

use super::condition::{Fact, Test, TestComparison, Tree};
use super::matcher::paths_of;
use super::request_path::is_under;

/// The parts of a condition that all have to hold.
fn parts(tree: &Tree) -> &[Tree] {
    match tree {
        Tree::All(parts) => parts,
        Tree::Always => &[],
        Tree::Any(_) | Tree::Not(_) | Tree::Test(_) => std::slice::from_ref(tree),
    }
}

/// Whether every request that meets `one` surely meets `other`.
#[must_use]
pub fn implies(one: &Tree, other: &Tree) -> bool {
    if one == other || *other == Tree::Always {
        return true;
    }
    match (one, other) {
        (Tree::Any(ways), _) => return ways.iter().all(|way| implies(way, other)),
        (_, Tree::All(needs)) => return needs.iter().all(|need| implies(one, need)),
        (_, Tree::Any(ways)) if ways.iter().any(|way| implies(one, way)) => return true,
        _ => {}
    }
    parts(one).iter().any(|part| part_implies(part, other))
}

fn part_implies(part: &Tree, other: &Tree) -> bool {
    match (part, other) {
        _ if part == other => true,
        (Tree::Test(part), Tree::Test(other)) => test_implies(part, other),
        // What is not met by more is not met by less.
        (Tree::Not(part), Tree::Not(other)) => implies(other, part),
        (Tree::Test(part), Tree::Not(other)) => match &**other {
            Tree::Test(other) => are_apart(part, other),
            _ => false,
        },
        (Tree::Any(ways), _) => ways.iter().all(|way| implies(way, other)),
        _ => false,
    }
}

fn test_implies(one: &Test, other: &Test) -> bool {
    if one.fact != other.fact {
        return false;
    }
    let is_name = matches!(one.fact, Fact::Host | Fact::ServerName);
    match (&one.comparison, &other.comparison) {
        (_, TestComparison::Present) => true,
        (TestComparison::Is(own), TestComparison::Is(wanted)) => own
            .iter()
            .all(|own| wanted.iter().any(|wanted| own == wanted || (is_name && covers(wanted, own)))),
        (TestComparison::Is(own) | TestComparison::Under(own), TestComparison::Under(wanted)) => {
            own.iter().all(|own| wanted.iter().any(|wanted| is_under(own.as_bytes(), wanted.as_bytes())))
        }
        (TestComparison::Is(own), TestComparison::Contains(part)) if !is_name => {
            own.iter().all(|own| own.contains(part.as_str()))
        }
        (TestComparison::Is(own), TestComparison::Matches(pattern)) if !is_name => {
            own.iter().all(|own| pattern.matches(own.as_bytes()))
        }
        (TestComparison::In(own), TestComparison::In(wanted)) => own.iter().all(|own| wanted.contains(own)),
        _ => false,
    }
}

/// Whether a name with `*` in place of its first label covers another one.
fn covers(wildcard: &str, name: &str) -> bool {
    let rest = wildcard.strip_prefix("*.");
    rest.is_some_and(|rest| name.split_once('.').is_some_and(|(label, own)| label != "*" && own == rest))
}

/// Whether a request surely has one value at most of a fact.
fn is_single(fact: &Fact) -> bool {
    !matches!(fact, Fact::Header(_) | Fact::Query(_) | Fact::Cookie(_) | Fact::ContentType)
}

/// Whether no request meets both tests.
fn are_apart(one: &Test, other: &Test) -> bool {
    if one.fact != other.fact || !is_single(&one.fact) {
        return false;
    }
    let is_name = matches!(one.fact, Fact::Host | Fact::ServerName);
    match (&one.comparison, &other.comparison) {
        (TestComparison::Is(own), TestComparison::Is(others)) => !own.iter().any(|own| {
            others.iter().any(|other| own == other || (is_name && (covers(other, own) || covers(own, other))))
        }),
        (TestComparison::Is(exact), TestComparison::Under(above))
        | (TestComparison::Under(above), TestComparison::Is(exact)) => {
            !exact.iter().any(|exact| above.iter().any(|above| is_under(exact.as_bytes(), above.as_bytes())))
        }
        (TestComparison::Under(own), TestComparison::Under(others)) => !own.iter().any(|own| {
            others.iter().any(|other| {
                is_under(own.as_bytes(), other.as_bytes()) || is_under(other.as_bytes(), own.as_bytes())
            })
        }),
        _ => false,
    }
}

/// Whether surely no request meets a condition: two of its parts exclude each other.
#[must_use]
pub fn is_never_met(tree: &Tree) -> bool {
    match tree {
        Tree::Always | Tree::Test(_) => false,
        Tree::Not(part) => **part == Tree::Always,
        Tree::Any(ways) => ways.iter().all(is_never_met),
        Tree::All(parts) => {
            let pairs = parts
                .iter()
                .enumerate()
                .flat_map(|(at, one)| parts[at + 1..].iter().map(move |other| (one, other)));
            parts.iter().any(is_never_met)
                || pairs.into_iter().any(|(one, other)| exclude_each_other(one, other))
        }
    }
}

fn exclude_each_other(one: &Tree, other: &Tree) -> bool {
    match (one, other) {
        (Tree::Test(one), Tree::Test(other)) => are_apart(one, other),
        (Tree::Not(not), holds) | (holds, Tree::Not(not)) => implies(holds, not),
        _ => false,
    }
}

/// Whether one request may meet both of two conditions that name paths, and neither holds whenever the other does: it matters then which of their rules
/// comes first.
#[must_use]
pub fn overlap(one: &Tree, other: &Tree) -> bool {
    let may_meet_both =
        || !parts(one).iter().any(|one| parts(other).iter().any(|other| exclude_each_other(one, other)));
    !paths_of(one).is_empty()
        && !paths_of(other).is_empty()
        && may_meet_both()
        && !implies(one, other)
        && !implies(other, one)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::Condition;
    use super::*;

    fn tree(text: &str) -> Tree {
        text.parse::<Condition>().unwrap().tree().clone()
    }

    #[rstest]
    #[case("host is a.example", "always", true)]
    #[case("always", "host is a.example", false)]
    #[case("host is a.example and path is /x", "host is a.example", true)]
    #[case("host is a.example", "host is a.example and path is /x", false)]
    #[case("host is a.example", "host is b.example, a.example", true)]
    #[case("host is a.example, c.example", "host is b.example, a.example", false)]
    #[case("host is a.skerry.example", "host is *.skerry.example", true)]
    #[case("host is a.b.skerry.example", "host is *.skerry.example", false)]
    #[case("path is /admin/users", "path under /admin", true)]
    #[case("path under /admin/users", "path under /admin", true)]
    #[case("path under /admin", "path under /admin/users", false)]
    #[case("path is /a", "path matches ^/[ab]$", true)]
    #[case("method is GET", "method is not POST", true)]
    #[case("header X-A is 1", "not header X-A is 2", false)]
    #[case("header X-A is 1", "header X-A present", true)]
    #[case("path is /a or path is /b", "path is /a, /b", true)]
    #[case("path is /a", "path is /b or path is /a", true)]
    #[case("path is /a or path is /c", "path is /a, /b", false)]
    #[case("client in office", "client in office, 192.0.2.0/24", true)]
    #[case("client not in office, quay", "client not in office", true)]
    fn one_holds_whenever_another_does(#[case] one: &str, #[case] other: &str, #[case] does: bool) {
        assert_eq!(implies(&tree(one), &tree(other)), does);
    }

    #[rstest]
    #[case("host is a.example and host is b.example", true)]
    #[case("host is a.example and host is *.example", false)]
    #[case("path under /a and path is /b", true)]
    #[case("path under /a and path is /a/b", false)]
    #[case("path under /a and path under /b", true)]
    #[case("path is /a and not path under /a", true)]
    #[case("not path under / and path is /a", true)]
    #[case("method is GET and method is POST", true)]
    #[case("header X-A is 1 and header X-A is 2", false)]
    #[case("(method is GET and method is POST) or path is /", false)]
    #[case("client in office and client not in office", true)]
    #[case("not always", true)]
    fn what_excludes_itself_is_never_met(#[case] condition: &str, #[case] never: bool) {
        assert_eq!(is_never_met(&tree(condition)), never);
    }
}
