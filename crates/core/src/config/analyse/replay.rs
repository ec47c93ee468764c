//! Requests of the last hour, as far as they are kept, and where they would go after a change.
//!
//! A sample keeps what rules look at most: host, path, method, client, and how the client speaks. It keeps no header fields, so of a request that a
//! rule would be asked about by one of them nothing is known.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::renames::Renames;
use super::rules::describe;
use crate::config::Document;
use crate::config::document::{AmbiguousPaths, FrontendSpec, MaintenanceKeys, RuleSpec};
use crate::name::Name;
use crate::rules::{
    AccessList, FieldChanges, RequestVersion, RuleEdits, RuleFacts, RuleOutcome, RuleSet, location,
    request_path,
};
use crate::time::Tick;

/// How many different requests are kept of half an hour, of one frontend and of all. Others are not.
const MOST_OF_ONE: usize = 500;
const MOST: usize = 5_000;
/// After so long what was kept moves on, and what had moved on before is forgotten.
const HALF: Duration = Duration::from_secs(30 * 60);
/// How many requests that would go elsewhere are shown.
const SHOWN: usize = 10;

/// A request as it came, without its header fields.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SampledRequest {
    /// The frontend that it came to.
    pub frontend: Name,
    /// Its method.
    pub method: String,
    /// The host that it asked for, as it was written.
    pub host: Option<String>,
    /// Its path with its query.
    pub target: String,
    /// The address of its client, as far as it is trusted.
    pub client: IpAddr,
    /// The server name of its client's TLS handshake.
    pub server_name: Option<String>,
    /// Whether its client showed a certificate that passed.
    pub has_certificate: bool,
    /// What its client speaks.
    pub version: RequestVersion,
    /// The address and port that its client connected to.
    pub local: SocketAddr,
}

/// Requests that are alike: the same frontend, method, host and path. The last of them stands for all.
#[derive(Clone, Debug)]
struct RequestShape {
    last: SampledRequest,
    count: u64,
}

/// Method, host and path.
type RequestShapeKey = (String, Option<String>, String);

/// What is kept of half an hour, by frontend.
#[derive(Clone, Debug, Default)]
struct RequestShapes {
    of: BTreeMap<Name, BTreeMap<RequestShapeKey, RequestShape>>,
    /// How many there are.
    total: usize,
}

/// What came in the last hour: at most 500 different requests of a frontend, and 5,000 of all, in each half of it.
#[derive(Clone, Debug, Default)]
pub struct RecentRequests {
    now: RequestShapes,
    before: RequestShapes,
    since: Tick,
}

/// Where the requests of the last hour would go after a change.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RequestReplay {
    /// How many sampled requests of the frontends whose rules or pools change were asked about.
    pub requests: u64,
    /// How many of them would go elsewhere.
    pub elsewhere: u64,
    /// Of how many nothing can be said: a rule looks at their header fields, which are not kept.
    pub undecided: u64,
    /// Those that would go elsewhere, the most frequent first, ten at most.
    pub moves: Vec<RequestMove>,
}

/// Requests that are alike and would go elsewhere.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RequestMove {
    /// The frontend that they came to.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub frontend: Name,
    /// Their method.
    pub method: String,
    /// The host that they asked for; absent where they named none.
    pub host: Option<String>,
    /// Their path.
    pub path: String,
    /// How many of them were sampled.
    pub requests: u64,
    /// What becomes of them now.
    pub before: String,
    /// What would become of them.
    pub after: String,
}

impl RecentRequests {
    /// Keeps a request.
    pub fn add(&mut self, request: SampledRequest, now: Tick) {
        if now.since(self.since) >= HALF {
            let last = std::mem::take(&mut self.now);
            // What is older than an hour is gone.
            self.before = if now.since(self.since) >= HALF * 2 { RequestShapes::default() } else { last };
            self.since = now;
        }
        let path = request.target.split('?').next().unwrap_or_default().to_owned();
        let key = (request.method.clone(), request.host.clone(), path);
        let RequestShapes { of, total } = &mut self.now;
        let shapes = of.entry(request.frontend.clone()).or_default();
        if let Some(shape) = shapes.get_mut(&key) {
            shape.count += 1;
            shape.last = request;
        } else if shapes.len() < MOST_OF_ONE && *total < MOST {
            *total += 1;
            shapes.insert(key, RequestShape { last: request, count: 1 });
        }
    }

    /// Where they would go on the way from `old` to `new`; `None` where no rule and no pool of a frontend that got any of them changes.
    #[must_use]
    pub fn replay(&self, old: &Document, new: &Document) -> Option<RequestReplay> {
        let renames = Renames::between(old, new);
        let mut frontends: BTreeMap<&Name, Option<(FrontendSide<'_>, FrontendSide<'_>)>> = BTreeMap::new();
        let mut replay: Option<RequestReplay> = None;
        let mut shapes: BTreeMap<_, (&RequestShape, u64)> = BTreeMap::new();
        for (frontend, of) in self.now.of.iter().chain(&self.before.of) {
            for (key, shape) in of {
                shapes.entry((frontend, key)).or_insert((shape, 0)).1 += shape.count;
            }
        }
        for ((_, (_, _, path)), (shape, count)) in shapes {
            let request = &shape.last;
            let sides = frontends
                .entry(&request.frontend)
                .or_insert_with(|| sides(old, new, &renames, &request.frontend));
            let Some(sides) = sides else { continue };
            let found = replay.get_or_insert_default();
            found.requests += count;
            let (Some(before), Some(after)) = (sides.0.fate(request), sides.1.fate(request)) else {
                found.undecided += count;
                continue;
            };
            if is_alike(&before, &after, &renames) {
                continue;
            }
            found.elsewhere += count;
            found.moves.push(RequestMove {
                frontend: request.frontend.clone(),
                method: request.method.clone(),
                host: request.host.clone(),
                path: path.clone(),
                requests: count,
                before: sides.0.in_words(request, &before),
                after: sides.1.in_words(request, &after),
            });
        }
        if let Some(found) = &mut replay {
            found.moves.sort_by_key(|one| std::cmp::Reverse(one.requests));
            found.moves.truncate(SHOWN);
        }
        replay
    }
}

/// Whether the same becomes of a request, under whatever name of rule and pool.
fn is_alike(before: &RuleOutcome, after: &RuleOutcome, renames: &Renames) -> bool {
    let pools = before.pools.iter().map(|pool| renames.pools.get(pool).unwrap_or(pool));
    pools.eq(&after.pools)
        && before.status == after.status
        && before.location == after.location
        && before.edits.target == after.edits.target
        && before.edits.host == after.edits.host
}

/// A frontend before or after the change.
struct FrontendSide<'d> {
    document: &'d Document,
    frontend: &'d FrontendSpec,
    /// Which clients are let in; all of them where there is none.
    access: Option<AccessList>,
    listed: Vec<(&'d Name, &'d RuleSpec)>,
    rules: RuleSet,
}

/// Both sides of a frontend; `None` where it is gone, or nothing that decides about its requests changes.
fn sides<'d>(
    old: &'d Document,
    new: &'d Document,
    renames: &Renames,
    name: &Name,
) -> Option<(FrontendSide<'d>, FrontendSide<'d>)> {
    let before = old.frontends.get(name)?;
    let after = new.frontends.get(renames.frontends.get(name).unwrap_or(name))?;
    let is_same = old.rules_of(before).eq(new.rules_of(after))
        && before.chosen_pools().eq(after.chosen_pools())
        && refuses_ambiguous(before) == refuses_ambiguous(after)
        && redirect(before) == redirect(after)
        && maintenance(before) == maintenance(after)
        && (&before.allow, &before.deny) == (&after.allow, &after.deny)
        && old.networks == new.networks;
    (!is_same).then(|| (FrontendSide::new(old, before), FrontendSide::new(new, after)))
}

fn refuses_ambiguous(frontend: &FrontendSpec) -> bool {
    frontend.http.as_ref().and_then(|http| http.ambiguous_paths) != Some(AmbiguousPaths::Allow)
}

/// The port of `https` to which every request is redirected, and the status of that.
fn redirect(frontend: &FrontendSpec) -> Option<(u16, u16)> {
    let http = frontend.http.as_ref()?;
    let status = http.redirect_status.unwrap_or_default();
    Some((http.redirect_to_https?, status.number()))
}

/// What clients get instead of the application.
fn maintenance(frontend: &FrontendSpec) -> Option<&MaintenanceKeys> {
    let keys = &frontend.http.as_ref()?.maintenance;
    keys.maintenance.as_ref().map(|_| keys)
}

impl<'d> FrontendSide<'d> {
    fn new(document: &'d Document, frontend: &'d FrontendSpec) -> Self {
        let listed: Vec<_> = document.rules_of(frontend).collect();
        let rules = RuleSet::new(listed.iter().map(|(_, rule)| &rule.when), &document.networks);
        let access = AccessList::of(frontend, document);
        Self { document, frontend, access, listed, rules }
    }

    /// Whether a client gets the page of a frontend in maintenance.
    fn is_in_maintenance(&self, client: IpAddr) -> bool {
        maintenance(self.frontend).is_some_and(|keys| {
            let mut excepted =
                keys.maintenance_except.iter().filter_map(|name| self.document.networks.get(name));
            !excepted.any(|networks| networks.iter().any(|network| network.contains(&client.to_canonical())))
        })
    }

    fn turns_away(&self, client: IpAddr) -> bool {
        self.access.as_ref().is_some_and(|list| !list.admits(client))
    }

    fn in_words(&self, request: &SampledRequest, outcome: &RuleOutcome) -> String {
        if self.turns_away(request.client) {
            "is not let in (allow, deny)".to_owned()
        } else if let Some((port, status)) = redirect(self.frontend) {
            format!("is redirected to https, port {port} ({status})")
        } else if self.is_in_maintenance(request.client) {
            "gets 503: maintenance".to_owned()
        } else {
            describe(outcome)
        }
    }

    /// What becomes of a request; `None` where a rule looks at its header fields.
    fn fate(&self, request: &SampledRequest) -> Option<RuleOutcome> {
        if self.turns_away(request.client) {
            return Some(RuleOutcome { status: Some(403), ..RuleOutcome::default() });
        }
        if let Some((port, status)) = redirect(self.frontend) {
            let location = Some(port.to_string());
            return Some(RuleOutcome { status: Some(status), location, ..RuleOutcome::default() });
        }
        if self.is_in_maintenance(request.client) {
            return Some(RuleOutcome { status: Some(503), ..RuleOutcome::default() });
        }
        if !self.rules.is_empty()
            && refuses_ambiguous(self.frontend)
            && request_path::read(&request.target).ambiguity.is_some()
        {
            return Some(RuleOutcome { status: Some(400), ..RuleOutcome::default() });
        }
        let was_asked = Cell::new(false);
        let not_kept = |_: &str, _: &mut dyn FnMut(&[u8]) -> bool| {
            was_asked.set(true);
            false
        };
        let facts = RuleFacts {
            client: request.client,
            method: &request.method,
            target: &request.target,
            path: None,
            host: request.host.as_deref().map(str::as_bytes),
            server_name: request.server_name.as_deref(),
            has_certificate: request.has_certificate,
            certificate_subject: &String::new,
            version: request.version,
            local: request.local,
            any_field: &not_kept,
        };
        let (mut outcome, mut from) = (RuleOutcome::default(), 0);
        loop {
            let met = self.rules.next(&facts, from);
            if was_asked.get() {
                return None;
            }
            let Some((name, rule)) = met.and_then(|place| self.listed.get(place).copied()) else {
                outcome.pools = self.frontend.chosen_pools().cloned().collect();
                return Some(outcome);
            };
            if let Some(edits) = RuleEdits::of(rule) {
                edits.apply(&facts, &mut outcome.edits);
                // Fields that a rule sets decide nothing, and their values are not known.
                outcome.edits.request = FieldChanges::default();
                outcome.edits.response = FieldChanges::default();
                was_asked.set(false);
            }
            if !rule.goes_on() {
                outcome.rule = Some(name.clone());
                outcome.pools = rule.pools().map(|(pool, _)| pool.clone()).collect();
                outcome.status = rule.own_status();
                outcome.location = location(rule, facts.host, facts.target);
                return Some(outcome);
            }
            from = met.unwrap_or_default() + 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::config::{Checked, DocumentFormat};

    /// A site with these rules, each a name and its keys.
    fn site(rules: &[(&str, &str)], more: &str) -> Checked {
        let names: Vec<String> = rules.iter().map(|(name, _)| format!("\"{name}\"")).collect();
        let rules: String = rules.iter().map(|(name, keys)| format!("[rules.{name}]\n{keys}\n")).collect();
        let text = format!(
            "format = 3\n[pools.quay]\nservers.gull = {{ address = \"192.0.2.1:80\" }}\n\
             [pools.booking]\nservers.tern = {{ address = \"192.0.2.2:80\" }}\n\
             [frontends.site]\nprotocol = \"http\"\nlisten = \"127.0.0.1:8080\"\npool = \"quay\"\nrules = [{}]\n{more}\n{rules}",
            names.join(", ")
        );
        crate::config::load(&text, DocumentFormat::Toml).unwrap()
    }

    fn request(target: &str) -> SampledRequest {
        SampledRequest {
            frontend: "site".parse().unwrap(),
            method: "GET".to_owned(),
            host: Some("www.skerry.example".to_owned()),
            target: target.to_owned(),
            client: [192, 0, 2, 77].into(),
            server_name: None,
            has_certificate: false,
            version: RequestVersion::One,
            local: "192.0.2.10:8080".parse().unwrap(),
        }
    }

    fn recent(targets: &[&str]) -> RecentRequests {
        let mut recent = RecentRequests::default();
        targets.iter().for_each(|target| recent.add(request(target), Tick(1)));
        recent
    }

    const TO_BOOKING: &str = "when = \"path under /book\"\naction = \"pool\"\npool = \"booking\"";
    const SEEN: &[&str] = &["/", "/book/1?day=3", "/book/1?day=4", "/book/2", "/"];

    #[rstest]
    #[case::a_new_rule(&[], &[("book", TO_BOOKING)], (5, 3, 0), Some(("/book/1", 2, "meets no rule and goes to pool quay", "meets rule book and goes to pool booking")))]
    #[case::a_rule_less(&[("book", TO_BOOKING)], &[], (5, 3, 0), Some(("/book/1", 2, "meets rule book and goes to pool booking", "meets no rule and goes to pool quay")))]
    #[case::another_name(&[("book", TO_BOOKING)], &[("ferries", TO_BOOKING)], (5, 0, 0), None)]
    #[case::by_the_query(&[], &[("third", "when = \"query day is 4\"\naction = \"refuse\"")], (5, 2, 0), Some(("/book/1", 2, "meets no rule and goes to pool quay", "meets rule third and gets 403")))]
    #[case::by_the_client(&[], &[("near", "when = \"client in 192.0.2.0/24 and path is /\"\naction = \"close\"")], (5, 2, 0), Some(("/", 2, "meets no rule and goes to pool quay", "meets rule near and its connection is closed")))]
    #[case::by_a_field_that_is_asked_for(&[], &[("blue", "when = \"header X-Tenant is blue\"\naction = \"refuse\"")], (5, 0, 5), None)]
    #[case::by_a_field_behind_a_path(&[], &[("blue", "when = \"path is / and cookie visit is x\"\naction = \"refuse\"")], (5, 0, 2), None)]
    #[case::a_field_that_is_only_set(&[("tag", "when = \"always\"\naction = \"continue\"\nset_request_fields = { X-From = \"{header.User-Agent}\" }")], &[("tag", "when = \"always\"\naction = \"continue\"\nset_request_fields = { X-From = \"{header.User-Agent}\" }\nrewrite_path = \"/new{path}\"")], (5, 5, 0), Some(("/", 2, "meets no rule and goes to pool quay", "meets no rule and goes to pool quay as /new/")))]
    fn requests_of_the_last_hour_are_asked_again(
        #[case] before: &[(&str, &str)],
        #[case] after: &[(&str, &str)],
        #[case] counts: (u64, u64, u64),
        #[case] first: Option<(&str, u64, &str, &str)>,
    ) {
        let (old, new) = (site(before, ""), site(after, ""));
        let replay = recent(SEEN).replay(old.document(), new.document()).unwrap();
        assert_eq!((replay.requests, replay.elsewhere, replay.undecided), counts);
        let found = replay
            .moves
            .first()
            .map(|first| (first.path.as_str(), first.requests, first.before.as_str(), first.after.as_str()));
        assert_eq!(found, first);
    }

    #[test]
    fn where_nothing_that_decides_changes_nothing_is_said() {
        let old = site(&[("book", TO_BOOKING)], "");
        let new = site(&[("book", TO_BOOKING)], "note = \"other words\"");
        assert_eq!(recent(SEEN).replay(old.document(), new.document()), None);
        assert_eq!(RecentRequests::default().replay(old.document(), site(&[], "").document()), None);
    }

    #[test]
    fn a_redirect_of_all_is_seen() {
        let (old, new) = (site(&[], ""), site(&[], "redirect_to_https = 443"));
        let replay = recent(SEEN).replay(old.document(), new.document()).unwrap();
        assert_eq!((replay.requests, replay.elsewhere), (5, 5));
        assert_eq!(replay.moves[0].after, "is redirected to https, port 443 (308)");
    }

    #[rstest]
    #[case::turned_away("deny = [\"near\"]", 5)]
    #[case::others("deny = [\"far\"]", 0)]
    #[case::not_let_in("allow = [\"far\"]", 5)]
    fn who_is_let_in_is_asked_again(#[case] keys: &str, #[case] elsewhere: u64) {
        const NETWORKS: &str = "[networks]\nnear = [\"192.0.2.64/26\"]\nfar = [\"198.51.100.0/24\"]";
        let (old, new) = (site(&[], NETWORKS), site(&[], &format!("{keys}\n{NETWORKS}")));
        let replay = recent(SEEN).replay(old.document(), new.document()).unwrap();
        assert_eq!((replay.requests, replay.elsewhere), (5, elsewhere));
        assert!(
            replay.moves.iter().all(|change| change.after == "is not let in (allow, deny)"),
            "{replay:?}"
        );
    }

    #[test]
    fn maintenance_is_seen() {
        let old = site(&[], "[networks]\noffice = [\"192.0.2.77/32\"]");
        for (except, elsewhere) in [("", 5), ("maintenance_except = [\"office\"]\n", 0)] {
            let keys =
                format!("maintenance = \"a new engine\"\n{except}[networks]\noffice = [\"192.0.2.77/32\"]");
            let new = site(&[], &keys);
            let replay = recent(SEEN).replay(old.document(), new.document()).unwrap();
            assert_eq!((replay.requests, replay.elsewhere), (5, elsewhere));
            assert!(replay.moves.iter().all(|change| change.after == "gets 503: maintenance"), "{replay:?}");
        }
    }

    #[test]
    fn what_is_older_than_an_hour_is_forgotten_and_memory_has_a_bound() {
        let (old, new) = (site(&[], ""), site(&[("book", TO_BOOKING)], ""));
        let mut recent = RecentRequests::default();
        let at = |minutes: u64| Tick(0).plus(Duration::from_secs(minutes * 60));
        let asked = |recent: &RecentRequests| {
            recent.replay(old.document(), new.document()).map_or(0, |replay| replay.requests)
        };
        recent.add(request("/book/old"), at(1));
        recent.add(request("/book"), at(31));
        assert_eq!(asked(&recent), 2, "the half before still counts");
        recent.add(request("/book"), at(62));
        assert_eq!(asked(&recent), 2, "the first is gone");
        recent.add(request("/"), at(500));
        assert_eq!(asked(&recent), 1, "no request came for long");
        for number in 0..MOST_OF_ONE * 2 {
            recent.add(request(&format!("/book/{number}")), at(501));
        }
        assert_eq!(recent.now.total, MOST_OF_ONE);
        let replay = recent.replay(old.document(), new.document()).unwrap();
        assert_eq!(replay.moves.len(), SHOWN);
        for frontend in 0..20 {
            for number in 0..MOST_OF_ONE {
                let frontend = format!("site-{frontend}").parse().unwrap();
                recent.add(SampledRequest { frontend, ..request(&format!("/{number}")) }, at(502));
            }
        }
        assert_eq!(recent.now.total, MOST);
        assert_eq!(replay.elsewhere, MOST_OF_ONE as u64 - 1);
    }
}
