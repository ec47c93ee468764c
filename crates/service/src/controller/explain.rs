//! Which server a request would go to, in words.

use merismos_api::{ExplainResponse, LimitTrace, PassedOverServer, PinView};
use merismos_core::config::document::{Algorithm, BalancePer, PersistenceKind, PinWhenGone, Protocol};
use merismos_core::describe::{Tense, because, full_words, pool_choice, server_fact, why_not};
use merismos_core::eligibility::IneligibleReason;
use merismos_core::limits::ClientLimit;
use merismos_core::name::{Name, PoolServer};
use merismos_core::pins::{LearnedPin, PinLookup, PinMoment};
use merismos_core::routing::{
    Explanation, Frontend, PassedOver, Pool, PoolChoiceReason, RequestFacts, Server, Snapshot, Spill, WhyPool,
};
use merismos_core::time::Wall;
use merismos_core::units::humane;
use rand::RngExt;

use super::limits::traces;
use super::rules::by_rules;
use super::state::ControllerState;
use super::{HypotheticalRequest, UnknownFrontend};
use crate::clock::wall;

impl ControllerState {
    /// Which server a request would go to, and why no other.
    pub(super) fn explain(
        &self,
        name: &Name,
        imagined: &HypotheticalRequest,
    ) -> Result<ExplainResponse, UnknownFrontend> {
        let snapshot: std::sync::Arc<Snapshot> = self.publisher.plane.snapshot();
        let frontend = snapshot.frontend_named(name).ok_or_else(|| UnknownFrontend(name.clone()))?;
        let frontend = imagined.sni.as_deref().and_then(|name| frontend.passed_on(name)).unwrap_or(frontend);
        if frontend.access.as_ref().is_some_and(|access| !access.admits(imagined.client)) {
            let what = match frontend.protocol {
                Protocol::Http => {
                    "its connection is reset, or its request gets 403 where a trusted proxy names it"
                }
                Protocol::Tcp => "its connection is reset",
                Protocol::Udp => "its datagrams are dropped",
            };
            let why = format!("the client {} is not let in (allow, deny): {what}", imagined.client);
            let refused = explain_refused(frontend, &frontend.pool, why, None, snapshot.revision);
            return Ok(ExplainResponse { others: Vec::new(), ..refused });
        }
        let now = self.publisher.plane.now();
        let ask = |limits: &[&std::sync::Arc<ClientLimit>], label: Option<&str>| {
            with_facts(imagined, label, |facts| traces(frontend, limits.iter().copied(), facts, now))
        };
        let own: Vec<_> = frontend.limits.iter().flat_map(|limits| limits.iter()).collect();
        let mut limits = if frontend.redirect.is_some() { Vec::new() } else { ask(&own, None) };
        let refused = |why: String, limits: Vec<LimitTrace>| {
            let refused = explain_refused(frontend, &frontend.pool, why, None, snapshot.revision);
            ExplainResponse { others: Vec::new(), limits, ..refused }
        };
        if let Some(why) = held_off(frontend, &limits) {
            return Ok(refused(why, limits));
        }
        let Some(rules) = frontend.rules.as_deref().filter(|_| frontend.redirect.is_none()) else {
            let explained = self.explain_pools(frontend, imagined, false, snapshot.revision);
            return Ok(ExplainResponse { limits, ..explained });
        };
        let ruled = by_rules(frontend, rules, &self.document(), imagined);
        limits.extend(ask(&ruled.limits, ruled.label.as_deref()));
        let explained = match (held_off(frontend, &limits), ruled.goes) {
            (Some(why), _) | (None, Err(why)) => refused(why, limits.clone()),
            (None, Ok(way)) => self.explain_pools(way, imagined, ruled.without_pins, snapshot.revision),
        };
        // A frontend that only has limits has no rules to speak of.
        let has_rules = !rules.rules().is_empty() || ruled.view.status.is_some();
        Ok(ExplainResponse { rules: has_rules.then_some(ruled.view), limits, ..explained })
    }

    /// Which server of a frontend's pools a request would go to.
    fn explain_pools(
        &self,
        frontend: &Frontend,
        imagined: &HypotheticalRequest,
        without_pins: bool,
        revision: u64,
    ) -> ExplainResponse {
        with_facts(imagined, None, |facts| {
            self.explain_facts(frontend, imagined, facts, without_pins, revision)
        })
    }

    fn explain_facts(
        &self,
        frontend: &Frontend,
        imagined: &HypotheticalRequest,
        facts: &RequestFacts<'_>,
        without_pins: bool,
        revision: u64,
    ) -> ExplainResponse {
        if let Some(to) = frontend.redirect {
            let why = format!(
                "every request is redirected to https at port {} (status {}), and no server gets it",
                to.port, to.status
            );
            let refused = explain_refused(frontend, &frontend.pool, why, None, revision);
            return ExplainResponse { others: Vec::new(), ..refused };
        }
        let draw = frontend.kept_draw(facts).unwrap_or_else(|| rand::rng().random());
        let explanation = frontend.explain(facts, draw, self.publisher.plane.now());
        let pool = std::sync::Arc::clone(&explanation.pool);
        // A tie is looked for in all pools, and before any of them is chosen.
        let before = imagined.connection.as_ref();
        let (mut why_no_tie, mut pin) = (Vec::new(), None);
        for pool in frontend.pools() {
            let pinned = self.pinned(pool, facts).filter(|_| !without_pins);
            let refuses = pool.pin_rule.as_ref().is_some_and(|rule| rule.when_gone == PinWhenGone::Refuse);
            pin = pinned.as_ref().map(|(_, view)| view.clone()).or(pin);
            let gone = pinned.as_ref().filter(|(place, _)| !pool.servers[*place].may_go_on());
            if let Some((place, view)) = gone {
                let server = &pool.servers[*place];
                let reason = server.standing.reason.map(|reason| reason.to_string()).unwrap_or_default();
                let says = format!("the client's pin ({}) names {}: {reason}", view.kind, server.name);
                if refuses {
                    let why = format!("{says}; pin_when_gone is refuse, so no other server may have it");
                    return explain_refused(frontend, pool, why, pin, revision);
                }
                why_no_tie.push(says);
            }
            let goes_on = pinned.filter(|(place, _)| pool.servers[*place].may_go_on());
            let pinned = goes_on.map(|(place, view)| (place, ClientTie::Pin(view)));
            let tied =
                pinned.or_else(|| Some((of_connection(frontend, pool, before?)?, ClientTie::Connection)));
            let Some((place, tie)) = tied else { continue };
            let server = &pool.servers[place];
            // A relayed connection holds its room already.
            let is_new = matches!(&tie, ClientTie::Pin(_)) || frontend.protocol == Protocol::Http;
            match server.cell.room.full(server.limits, self.publisher.plane.now()).filter(|_| is_new) {
                None => return explain_tie(frontend, pool, place, tie, revision),
                Some(full) => why_no_tie.push(format!("{} {}: {}", tie.of(), server.name, full_words(full))),
            }
        }
        let mut why = why_chosen(frontend, &explanation);
        if !why_no_tie.is_empty() {
            why = format!("{}; {why}", why_no_tie.join("; "));
        } else if let Some(before) = before {
            why = format!("{}; {why}", why_not_before(frontend, before));
        }
        ExplainResponse {
            frontend: frontend.name.to_string(),
            pool: pool.name.to_string(),
            why_pool: explanation.why_pool.as_ref().map(pool_choice),
            pool_reason: explanation.why_pool.clone(),
            algorithm: pool.algorithm.to_string(),
            unit: frontend.balance_per.to_string(),
            revision,
            key: explanation.key,
            server: explanation.chosen.map(|chosen| chosen.server.to_string()),
            why,
            others: explanation
                .passed
                .into_iter()
                .map(|passed| self.passed(passed, pool.algorithm, explanation.refused))
                .collect(),
            pin,
            rules: None,
            limits: Vec::new(),
        }
    }

    /// The place of the server that the client is pinned to, with its pin.
    fn pinned(&self, pool: &Pool, facts: &RequestFacts<'_>) -> Option<(usize, PinView)> {
        let rule = pool.pin_rule.as_ref()?;
        let now = wall();
        let second = self.publisher.plane.pin_second();
        let moment = PinMoment { minute: u32::try_from(now.0 / 60_000).unwrap_or(0), second };
        let PinLookup::Pinned { place, kind, key, .. } = rule.peek(facts, moment) else {
            return None;
        };
        let learned = key.and_then(|key| rule.learned_pin(key, second));
        Some((place, pin_view(rule.kind(kind), Some(&pool.servers[place].name), learned, second)))
    }

    fn passed(&self, passed: PassedOver, algorithm: Algorithm, refused: bool) -> PassedOverServer {
        let why = match (passed.reason, passed.full, passed.turns_until) {
            (None, Some(full), _) => full_words(full).to_owned(),
            (None, None, Some(1)) => "its turn comes with the request after the next".to_owned(),
            (None, None, Some(turns)) => format!("its turn comes {turns} requests after the next"),
            (None, None, None) => {
                let fact = passed.fact.map(|fact| format!(" ({})", server_fact(&fact))).unwrap_or_default();
                match refused {
                    true => "it is eligible".to_owned(),
                    false => format!("it is eligible; {}{fact}", why_not(algorithm)),
                }
            }
            (Some(reason), _, _) => {
                let order = self.servers.duties.get(&passed.server).filter(|_| {
                    matches!(
                        reason,
                        IneligibleReason::Withdrawn | IneligibleReason::Draining | IneligibleReason::Drained
                    )
                });
                let probe =
                    self.servers.health.get(&passed.server).and_then(|health| health.last_probe.as_ref());
                match (order, probe) {
                    (Some(order), _) => format!("{reason} ({}: {})", order.who, order.reason),
                    (None, Some(probe)) if !probe.passed() => format!("{reason} ({probe})"),
                    (None, _) => reason.to_string(),
                }
            }
        };
        let (server, reason) = (passed.server.to_string(), passed.reason);
        PassedOverServer { server, why, reason, turns_until: passed.turns_until }
    }
}

/// The place of the server that a connection goes on with. One that is relayed stays until it ends or its server is
/// withdrawn; one of which each request is decided stays while its server may go on.
fn of_connection(frontend: &Frontend, pool: &Pool, server: &PoolServer) -> Option<usize> {
    let place = pool.servers.iter().position(|candidate| candidate.name == *server)?;
    let server = &pool.servers[place];
    let stays = match frontend.balance_per {
        BalancePer::Request | BalancePer::Datagram => false,
        BalancePer::Connection if frontend.protocol == Protocol::Http => server.may_go_on(),
        BalancePer::Connection | BalancePer::Flow => {
            !matches!(server.standing.reason, Some(IneligibleReason::Withdrawn | IneligibleReason::Drained))
        }
    };
    stays.then_some(place)
}

/// Why what came before on the connection does not count.
fn why_not_before(frontend: &Frontend, before: &PoolServer) -> String {
    match frontend.balance_per {
        BalancePer::Request => "each request is distributed by itself".to_owned(),
        BalancePer::Datagram => "each datagram is distributed by itself".to_owned(),
        BalancePer::Connection | BalancePer::Flow => format!("its connection can't go on with {before}"),
    }
}

/// What ties a client to a server.
enum ClientTie {
    Pin(PinView),
    Connection,
}

impl ClientTie {
    fn of(&self) -> &'static str {
        match self {
            Self::Pin(_) => "a pin ties the client to",
            Self::Connection => "its connection was assigned to",
        }
    }
}

/// What is said of a client that is tied to a server.
fn explain_tie(
    frontend: &Frontend,
    pool: &Pool,
    place: usize,
    tie: ClientTie,
    revision: u64,
) -> ExplainResponse {
    let others = pool.servers.iter().enumerate().filter(|(other, _)| *other != place);
    let other = |(_, server): (usize, &Server)| PassedOverServer {
        server: server.name.to_string(),
        why: server
            .standing
            .reason
            .map_or_else(|| "it is not asked: the client is tied".to_owned(), |reason| reason.to_string()),
        reason: server.standing.reason,
        turns_until: None,
    };
    let (why, reason, pin) = match tie {
        ClientTie::Pin(view) => (pin_words(pool, &view), PoolChoiceReason::Pin, Some(view)),
        ClientTie::Connection => (
            "its connection has this server already, and stays with it".to_owned(),
            PoolChoiceReason::Connection,
            None,
        ),
    };
    let pool_reason = frontend.choice.is_some().then_some(WhyPool { reason, unusable: Vec::new() });
    ExplainResponse {
        frontend: frontend.name.to_string(),
        pool: pool.name.to_string(),
        why_pool: pool_reason.as_ref().map(pool_choice),
        pool_reason,
        algorithm: pool.algorithm.to_string(),
        unit: frontend.balance_per.to_string(),
        revision,
        key: None,
        server: Some(pool.servers[place].name.to_string()),
        why,
        others: others.map(other).collect(),
        pin,
        rules: None,
        limits: Vec::new(),
    }
}

/// What is known of a request that was not sent.
fn with_facts<T>(
    imagined: &HypotheticalRequest,
    label: Option<&str>,
    look: impl FnOnce(&RequestFacts<'_>) -> T,
) -> T {
    let fields = &imagined.fields;
    // Several fields are one (RFC 9113, 8.2.3).
    let cookies: Vec<&str> =
        fields.iter().filter(|(name, _)| name == "cookie").map(|(_, value)| value.as_str()).collect();
    let cookies = cookies.join("; ");
    let field = |name: &str| match name {
        "cookie" => (!cookies.is_empty()).then_some(cookies.as_bytes()),
        _ => fields.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_bytes()),
    };
    look(&RequestFacts {
        client: imagined.client,
        port: None,
        target: imagined.path.as_deref(),
        host: imagined.host.as_deref().map(str::as_bytes),
        sni: imagined.sni.as_deref(),
        label,
        first_bytes: imagined.first_bytes.as_ref().map(String::as_bytes),
        field: &field,
    })
}

/// Why a limit would not let a request pass, if one would not.
fn held_off(frontend: &Frontend, limits: &[LimitTrace]) -> Option<String> {
    let limit = limits.iter().find(|limit| !limit.passes)?;
    let gets = match frontend.protocol {
        Protocol::Http => "the client gets 429",
        Protocol::Tcp => "its connection is reset",
        Protocol::Udp => "its datagrams are dropped",
    };
    Some(format!("limit {} refuses it ({}): {gets}", limit.name, limit.says))
}

fn explain_refused(
    frontend: &Frontend,
    pool: &Pool,
    why: String,
    pin: Option<PinView>,
    revision: u64,
) -> ExplainResponse {
    let other = |server: &Server| PassedOverServer {
        server: server.name.to_string(),
        why: server
            .standing
            .reason
            .map_or_else(|| "the client is tied to another one".to_owned(), |reason| reason.to_string()),
        reason: server.standing.reason,
        turns_until: None,
    };
    ExplainResponse {
        frontend: frontend.name.to_string(),
        pool: pool.name.to_string(),
        why_pool: None,
        pool_reason: None,
        algorithm: pool.algorithm.to_string(),
        unit: frontend.balance_per.to_string(),
        revision,
        key: None,
        server: None,
        why,
        others: pool.servers.iter().map(other).collect(),
        pin,
        rules: None,
        limits: Vec::new(),
    }
}

/// Why a pin decides, and until when.
fn pin_words(pool: &Pool, view: &PinView) -> String {
    let cookie = pool.pin_rule.as_ref().and_then(|rule| rule.cookie.as_ref());
    match (view.until, cookie) {
        (None, Some(cookie)) => format!("the client's cookie {} ties it to this server", cookie.name),
        (None, None) => "the client is tied to this server".to_owned(),
        (Some(until), _) => {
            let left = humane(until.since(wall()));
            format!("its {} ties it to this server, for {left} if it does not come again", view.kind)
        }
    }
}

/// A pin as it is shown; `learned` is that of a kind that is kept here, with the second of its end.
pub(super) fn pin_view(
    kind: Option<&PersistenceKind>,
    server: Option<&PoolServer>,
    learned: Option<(LearnedPin, u32)>,
    second: u32,
) -> PinView {
    let now = wall();
    let at = |then: u32| Wall(now.0 + (i64::from(then) - i64::from(second)) * 1_000);
    PinView {
        kind: kind.map(ToString::to_string).unwrap_or_default(),
        server: server.map(ToString::to_string),
        client: learned.map(|(pin, _)| pin.client.to_string()),
        made: learned.map(|(pin, _)| at(pin.made)),
        used: learned.map(|(pin, _)| at(pin.used)),
        until: learned.map(|(_, end)| at(end)),
    }
}

/// What becomes of work when every eligible server is full.
fn when_full(explanation: &Explanation, without: &str) -> String {
    let pool = &explanation.pool;
    let waits = match pool.queue.limit {
        0 => String::new(),
        _ => format!("it waits for {} at most, and ", humane(pool.queue.timeout.get())),
    };
    let then = match &explanation.spills {
        Some(Spill::Standby(server)) => format!("then {server}, which stands by, gets it"),
        Some(Spill::Pool(next)) => format!("then pool {next} gets it"),
        None => format!("then {without}"),
    };
    format!("every eligible server of pool {} is full: {waits}{then}", pool.name)
}

/// Why the chosen server, or why none.
fn why_chosen(frontend: &Frontend, explanation: &Explanation) -> String {
    let pool = &explanation.pool;
    let without = match frontend.protocol {
        Protocol::Http => "the client gets 503",
        Protocol::Tcp => "the connection is reset",
        Protocol::Udp => "the datagram is lost",
    };
    let Some(chosen) = &explanation.chosen else {
        return if explanation.refused {
            format!("it has none of the keys that pool {} distributes by, and is refused", pool.name)
        } else if pool.servers.is_empty() {
            format!("pool {} has no servers: {without}", pool.name)
        } else if pool.eligible() == 0 {
            format!("no server of pool {} is eligible: {without}", pool.name)
        } else {
            when_full(explanation, without)
        };
    };
    let because = because(pool.algorithm, explanation.key.as_deref(), chosen.fact.as_ref(), Tense::Next);
    let share = chosen.share * 100.0;
    // Where more than weights decides, no share is to be expected.
    let expected =
        if pool.shares_go_by().is_none() { format!(", expected share {share:.1} %") } else { String::new() };
    format!("it is eligible, and {because} ({}{expected})", pool.algorithm)
}
