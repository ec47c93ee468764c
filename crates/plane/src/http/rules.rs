//! What the rules of a frontend make of a request, before any pool is chosen.

use std::hint::cold_path;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use merismos_core::config::document::{RuleAction, RulePersistence, RuleSpec};
use merismos_core::config::replay::SampledRequest;
use merismos_core::cookie::cookie_values;
use merismos_core::limits::{BodyPace, ClientLimit, LimitVerdict, LimitedWork, RefusalReason};
use merismos_core::routing::{Frontend, FrontendRules, Maintenance, RequestFacts, RuleDecision, kept_number};
use merismos_core::rules::{RequestEdits, RequestVersion, RuleFacts, location, request_path};
use merismos_core::time::Tick;

use super::error_response::{self, RequestError};
use super::forward::{RequestForwarder, RequestOutcome};
use super::head::{self, RuleEffects};
use super::request_body::RequestBody;
use crate::deadline::TICK;
use crate::io::Transport;
use crate::request_samples;

/// The length of a tick of the wheel.
const TICK_NANOS: u64 = TICK.as_nanos() as u64;

/// What a rule does with a request instead of sending it to a pool.
#[derive(Clone, Copy)]
pub(super) enum RuleResponse<'a> {
    /// The path is refused before any rule is asked.
    Ambiguous(&'static str),
    /// The client is not let in.
    Denied,
    /// The client asks for more than it may; it may come again in so many seconds.
    Limited(u64),
    /// It asks faster than it may, and goes on in so many nanoseconds.
    Delayed(u64),
    /// The application is worked on.
    Maintenance(&'a Maintenance),
    Redirect(&'a RuleSpec),
    Respond(&'a RuleSpec),
    Close,
}

/// What rules said of a request so far.
#[derive(Default)]
struct RuleFindings {
    edits: Option<Box<RequestEdits>>,
    /// The number that means its pool, where a cookie keeps it.
    draw: Option<u64>,
    /// The field that gives its client the cookie, as a line.
    cookie: Option<String>,
    limits: AskedLimits,
}

/// What limits said of a request so far.
#[derive(Default)]
struct AskedLimits {
    /// What it is counted as.
    held: Vec<LimitedWork>,
    /// How long it has to wait, in nanoseconds.
    wait: u64,
    /// How fast its bodies may pass.
    paces: Vec<BodyPace>,
}

impl<'a> RequestForwarder<'a> {
    /// Lets the rules of the frontend decide: the request goes on to the pools of the rule that it meets, or gets what is given back. What rules change
    /// about it is changed in its head.
    #[inline]
    pub(super) fn follow_rules(&mut self, head: &mut Vec<u8>) -> Option<RuleResponse<'a>> {
        let next_sample = &self.frontend.cell.lane(self.worker.index).next_sample;
        if self.worker.request_sampler.is_due(next_sample, self.worker.wheel.now()) {
            self.sample(head);
        }
        let rules = self.frontend.rules.as_deref()?;
        cold_path();
        // What is redirected whole, and what an authority asks, is answered before.
        let is_challenge =
            self.worker.challenges.has_any() && self.worker.challenges.of_request(head).is_some();
        if self.frontend.redirect.is_some() || is_challenge {
            return None;
        }
        if rules.checks_access
            && let Some(access) = &self.frontend.access
            && !access.admits(self.client_address())
        {
            return Some(RuleResponse::Denied);
        }
        let mut found = RuleFindings::default();
        let of_frontend = self.frontend.limits.as_deref().unwrap_or_default();
        if let Some(retry_after) = self.ask_limits(of_frontend, None, head, &mut found.limits) {
            return Some(RuleResponse::Limited(retry_after));
        }
        if let Some(maintenance) = rules.maintenance_for(self.client_address()) {
            return Some(RuleResponse::Maintenance(maintenance));
        }
        let response =
            if rules.rules().is_empty() { None } else { self.decide_by_rules(rules, head, &mut found) };
        let RuleFindings { edits, draw, cookie, limits } = found;
        if !limits.held.is_empty() {
            // It is set once for each request.
            let _ = self.request.held.set(limits.held);
        }
        let has_own = matches!(response, Some(RuleResponse::Redirect(_) | RuleResponse::Respond(_)));
        let is_changed = edits.is_some() || draw.is_some() || !limits.paces.is_empty();
        if is_changed && (response.is_none() || has_own) {
            if let Some(edits) = edits.as_ref().filter(|_| !has_own) {
                head::edit_request(head, edits);
            }
            let effects = rule_effects(edits.map(|edits| *edits).unwrap_or_default(), draw, cookie);
            let effects = RuleEffects { paces: limits.paces, ..effects };
            if !effects.is_empty() {
                // It is set once for each request.
                let _ = self.request.rule_effects.set(Box::new(effects));
            }
        }
        response.or((limits.wait > 0).then_some(RuleResponse::Delayed(limits.wait)))
    }

    /// The number by which a cookie keeps the client with its pool, and the field that gives it the cookie where it has none that makes sense.
    fn kept_draw(&self, cookie: &str, head: &[u8]) -> (u64, Option<String>) {
        let fields = head::fields_of(head, "cookie");
        if let Some(number) = fields.flat_map(|field| cookie_values(field, cookie)).find_map(kept_number) {
            return (number, None);
        }
        let number = self.worker.draw() >> 32;
        let secure = if self.who.is_secure { "; Secure" } else { "" };
        let field = format!("Set-Cookie: {cookie}={number:08x}; Path=/; HttpOnly; SameSite=Lax{secure}\r\n");
        (number, Some(field))
    }

    /// Keeps what rules look at, without header fields.
    #[cold]
    fn sample(&self, head: &[u8]) {
        let host = head::fields_of(head, "host").next();
        let target = head::target_of(head).unwrap_or_default();
        // They are shown as they are.
        let is_plain =
            |text: &[u8]| text.len() <= request_samples::LONGEST && text.iter().all(u8::is_ascii_graphic);
        if !is_plain(target.as_bytes()) || !host.is_none_or(is_plain) {
            return;
        }
        self.worker.request_sampler.record(SampledRequest {
            frontend: self.frontend.name.clone(),
            method: head::method_of(head).to_owned(),
            host: host.map(|host| String::from_utf8_lossy(host).into_owned()),
            target: target.to_owned(),
            client: self.client_address(),
            server_name: self.fields.server_name().map(str::to_owned),
            has_certificate: self.fields.has_certificate(),
            version: self.version_of_request(),
            local: self.who.meant_for,
        });
    }

    fn version_of_request(&self) -> RequestVersion {
        if self.request.is_http_10 { RequestVersion::OneZero } else { self.fields.version() }
    }

    /// Asks limits for the request; gives in how many seconds its client may come again where it is too much.
    fn ask_limits(
        &self,
        limits: &[Arc<ClientLimit>],
        label: Option<&str>,
        head: &[u8],
        asked: &mut AskedLimits,
    ) -> Option<u64> {
        if limits.is_empty() {
            return None;
        }
        let (now, worker, client) = (self.worker.now().0, self.worker.index, self.client_address());
        let mut ask = |facts: &RequestFacts<'_>| {
            limits.iter().find_map(|limit| match limit.ask_request(facts, now, worker, &mut asked.held) {
                LimitVerdict::Pass(wait) => {
                    asked.wait = asked.wait.max(wait);
                    asked.paces.extend(limit.pace(facts));
                    None
                }
                LimitVerdict::Refuse { retry_after, .. } => Some(retry_after),
            })
        };
        // Most limits go by the address alone, and then nothing of the head has to be looked for.
        if limits.iter().all(|limit| limit.spec().per.is_known_early()) {
            ask(&RequestFacts::of_client(client))
        } else {
            head::with_labelled_facts(head, client, label, ask)
        }
    }

    fn decide_by_rules(
        &mut self,
        rules: &'a FrontendRules,
        head: &[u8],
        found: &mut RuleFindings,
    ) -> Option<RuleResponse<'a>> {
        let target = head::target_of(head).unwrap_or_default();
        let path = request_path::read(target);
        if rules.refuses_ambiguous
            && let Some(why) = path.ambiguity
        {
            cold_path();
            return Some(RuleResponse::Ambiguous(why));
        }
        let any_field =
            |name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool| head::fields_of(head, name).any(is_wanted);
        let facts = RuleFacts {
            client: self.client_address(),
            method: head::method_of(head),
            target,
            path: Some(&path),
            host: head::fields_of(head, "host").next(),
            server_name: self.fields.server_name(),
            has_certificate: self.fields.has_certificate(),
            certificate_subject: &|| self.fields.certificate_subject(),
            version: self.version_of_request(),
            local: self.who.meant_for,
            any_field: &any_field,
        };
        let ticks = self.worker.wheel.now() + 1;
        let mut limited: Vec<&[Arc<ClientLimit>]> = Vec::new();
        let decided = rules.follow(&facts, &mut found.edits, |_, rule| {
            rule.cell.count(self.worker.index, Tick(ticks.saturating_mul(TICK_NANOS)));
            if !rule.limits.is_empty() {
                limited.push(&rule.limits);
            }
        });
        let label = found.edits.as_ref().and_then(|edits| edits.label.as_deref());
        for of_rule in limited {
            if let Some(retry_after) = self.ask_limits(of_rule, label, head, &mut found.limits) {
                return Some(RuleResponse::Limited(retry_after));
            }
        }
        let (_, rule) = decided?;
        match rules.decision(rule) {
            RuleDecision::Pools(frontend) => {
                (self.frontend, self.rule) = (frontend, Some(&rule.name));
                if let Some(cookie) = frontend.choice.as_ref().and_then(|choice| choice.kept_by.as_deref()) {
                    let (draw, cookie) = self.kept_draw(cookie, head);
                    (found.draw, found.cookie) = (Some(draw), cookie);
                }
                None
            }
            RuleDecision::Redirect(rule) => Some(RuleResponse::Redirect(rule)),
            RuleDecision::Respond(rule) => Some(RuleResponse::Respond(rule)),
            RuleDecision::Close => Some(RuleResponse::Close),
        }
    }

    /// The frontend of now, with the pools of the rule that the request met when it came; as it was then where the rule leads to none any more.
    pub(super) fn still_by_rule<'f>(&'f self, current: &'f Frontend) -> &'f Frontend {
        let Some(name) = self.rule else { return current };
        let rule = current.rules.as_deref().and_then(|rules| Some(rules.decision(rules.named(name)?)));
        match rule {
            Some(RuleDecision::Pools(frontend)) => frontend,
            None | Some(RuleDecision::Redirect(_) | RuleDecision::Respond(_) | RuleDecision::Close) => {
                self.frontend
            }
        }
    }

    /// Sees the request through when its time has come, unless its client is gone by then or its connection is to end.
    async fn forward_later(
        &self,
        nanos: u64,
        stream: &mut impl Transport,
        sending: &mut RequestBody<'_>,
    ) -> RequestOutcome {
        let until = self.worker.now().plus(Duration::from_nanos(nanos));
        while self.worker.now() < until {
            let is_gone = std::future::poll_fn(|context| Poll::Ready(stream.is_gone(context)));
            if is_gone.await || self.client.alarm.fired().is_some() {
                return RequestOutcome::ClientGone;
            }
            self.worker.next_tick().await;
        }
        self.forward(stream, sending).await
    }

    /// A response of a rule with the header fields that rules give it.
    fn with_fields(&self, text: Vec<u8>) -> Vec<u8> {
        let Some(effects) = self.request.rule_effects.get() else { return text };
        let Some(end) = memchr::memmem::find(&text, b"\r\n\r\n") else { return text };
        let (head, body) = text.split_at(end + 2);
        let mut changed = Vec::with_capacity(text.len() + effects.added.len());
        for line in head.split_inclusive(|byte| *byte == b'\n') {
            let name = &line[..memchr::memchr(b':', line).unwrap_or(0)];
            if !effects.removed.iter().any(|removed| name.eq_ignore_ascii_case(removed.as_bytes())) {
                changed.extend_from_slice(line);
            }
        }
        changed.extend_from_slice(&effects.added);
        changed.extend_from_slice(body);
        changed
    }

    fn note_refusal(&self, reason: RefusalReason) {
        self.worker.note_refusal(self.frontend, reason, self.client_address());
    }

    /// Gives a request what a rule has for it.
    pub(super) async fn respond_by_rule(
        &self,
        response: RuleResponse<'_>,
        stream: &mut impl Transport,
        sending: &mut RequestBody<'_>,
    ) -> RequestOutcome {
        let keep = self.keeps_client(sending);
        let with_body = !self.request.is_head;
        let accept = head::accept_of(sending.start);
        let text = match response {
            // The client gets no word, and its connection a reset.
            RuleResponse::Close => {
                self.note_refusal(RefusalReason::Rule);
                return RequestOutcome::ClientGone;
            }
            RuleResponse::Ambiguous(why) => {
                return RequestOutcome::Refused(RequestError::AmbiguousPath(why));
            }
            RuleResponse::Redirect(rule) => {
                let host = head::fields_of(sending.start, "host").next();
                let target = head::target_of(sending.start).unwrap_or_default();
                let to = location(rule, host, target).unwrap_or_default();
                let status = rule.own_status().unwrap_or(307);
                self.with_fields(error_response::rule_redirect(status, &to, self.frontend, !keep, with_body))
            }
            RuleResponse::Denied => {
                self.frontend.cell.lane(self.worker.index).denied.increment();
                self.note_refusal(RefusalReason::NotLetIn);
                let says = "clients of this address are not let in";
                error_response::frontend_error(403, &says, self.frontend, accept, !keep, with_body)
            }
            RuleResponse::Limited(retry_after) => {
                self.frontend.cell.lane(self.worker.index).limited.increment();
                self.note_refusal(RefusalReason::Limit);
                error_response::limited(retry_after, self.frontend, accept, !keep, with_body)
            }
            RuleResponse::Delayed(nanos) => return self.forward_later(nanos, stream, sending).await,
            RuleResponse::Maintenance(maintenance) => {
                self.frontend.cell.lane(self.worker.index).unavailable.increment();
                error_response::maintenance(maintenance, self.frontend, accept, !keep, with_body)
            }
            RuleResponse::Respond(rule) => {
                if rule.action == RuleAction::Refuse {
                    self.note_refusal(RefusalReason::Rule);
                }
                let text = error_response::rule_response(rule, self.frontend, accept, !keep, with_body);
                self.with_fields(text)
            }
        };
        self.own_response(stream, &text, keep, sending).await
    }
}

/// What is left of the edits once the request is changed.
fn rule_effects(edits: RequestEdits, draw: Option<u64>, cookie: Option<String>) -> RuleEffects {
    let lines = edits.response.added.iter().map(|(name, value)| format!("{name}: {value}\r\n"));
    RuleEffects {
        removed: edits.response.removed,
        added: lines.chain(cookie).collect::<String>().into_bytes(),
        draw,
        first_byte: edits.first_byte,
        whole_answer: edits.whole_response,
        without_pins: edits.persistence == Some(RulePersistence::None),
        label: edits.label,
        paces: Vec::new(),
    }
}
