//! What the rules of a frontend make of a request, before any pool is chosen.

use std::hint::cold_path;

use merismos_core::config::document::RuleSpec;
use merismos_core::name::Name;
use merismos_core::routing::{Frontend, FrontendRules, RuleDecision};
use merismos_core::rules::{RequestVersion, RuleFacts, location, request_path};

use super::error_response::{self, RequestError};
use super::forward::{RequestForwarder, RequestOutcome};
use super::head;
use super::request_body::RequestBody;
use crate::deadline::TICK;
use crate::io::Transport;

/// What a rule does with a request instead of sending it to a pool.
#[derive(Clone, Copy)]
pub(super) enum RuleResponse<'a> {
    /// The path is refused before any rule is asked.
    Ambiguous(&'static str),
    Redirect(&'a RuleSpec),
    Respond(&'a RuleSpec),
    Close,
}

impl<'a> RequestForwarder<'a> {
    /// Lets the rules of the frontend decide: the request goes on to the pools of the rule that it meets, or gets what is given back.
    #[inline]
    pub(super) fn follow_rules(&mut self, head: &[u8]) -> Option<RuleResponse<'a>> {
        let rules = self.frontend.rules.as_deref()?;
        cold_path();
        // What is redirected whole, and what an authority asks, is answered before.
        let is_challenge =
            self.worker.challenges.has_any() && self.worker.challenges.of_request(head).is_some();
        if self.frontend.redirect.is_some() || is_challenge {
            return None;
        }
        match self.decide_by_rules(rules, head, true)? {
            Ok((frontend, rule)) => {
                (self.frontend, self.rule) = (frontend, Some(rule));
                None
            }
            Err(response) => Some(response),
        }
    }

    /// The frontend with the pools that a request of before goes to by the rules of now; the one that it had where they would not send it to a pool.
    pub(super) fn still_by_rules<'f>(&'f self, current: &'f Frontend, head: &[u8]) -> &'f Frontend {
        let Some(rules) = current.rules.as_deref() else { return current };
        match self.decide_by_rules(rules, head, false) {
            None => current,
            Some(Ok((frontend, _))) => frontend,
            Some(Err(_)) => self.frontend,
        }
    }

    fn decide_by_rules<'r>(
        &self,
        rules: &'r FrontendRules,
        head: &[u8],
        counts: bool,
    ) -> Option<Result<(&'r Frontend, &'r Name), RuleResponse<'r>>> {
        let target = head::target_of(head).unwrap_or_default();
        if rules.refuses_ambiguous
            && let Some(why) = request_path::read(target).ambiguity
        {
            cold_path();
            return Some(Err(RuleResponse::Ambiguous(why)));
        }
        let any_field =
            |name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool| head::fields_of(head, name).any(is_wanted);
        let version = if self.request.is_http_10 { RequestVersion::OneZero } else { self.fields.version() };
        let facts = RuleFacts {
            client: self.client_address(),
            method: head::method_of(head),
            target,
            host: head::fields_of(head, "host").next(),
            server_name: self.fields.server_name(),
            has_certificate: self.fields.has_certificate(),
            version,
            port: self.who.meant_for.port(),
            any_field: &any_field,
        };
        let (_, rule) = rules.first(&facts)?;
        if counts {
            let lane = rule.cell.lane(self.worker.index);
            lane.matches.increment();
            let ticks = self.worker.wheel.now() + 1;
            lane.last.set(ticks.saturating_mul(u64::try_from(TICK.as_nanos()).unwrap_or(0)));
        }
        Some(match rules.decision(rule) {
            RuleDecision::Pools(frontend) => Ok((frontend, &rule.name)),
            RuleDecision::Redirect(rule) => Err(RuleResponse::Redirect(rule)),
            RuleDecision::Respond(rule) => Err(RuleResponse::Respond(rule)),
            RuleDecision::Close => Err(RuleResponse::Close),
        })
    }

    /// Gives a request what a rule has for it.
    pub(super) async fn respond_by_rule(
        &self,
        response: RuleResponse<'_>,
        stream: &mut impl Transport,
        sending: &RequestBody<'_>,
    ) -> RequestOutcome {
        let keep = self.keeps_client(sending);
        let with_body = !self.request.is_head;
        let text = match response {
            // The client gets no word, and its connection a reset.
            RuleResponse::Close => return RequestOutcome::ClientGone,
            RuleResponse::Ambiguous(why) => {
                return RequestOutcome::Refused(RequestError::AmbiguousPath(why));
            }
            RuleResponse::Redirect(rule) => {
                let host = head::fields_of(sending.start, "host").next();
                let target = head::target_of(sending.start).unwrap_or_default();
                let to = location(rule, host, target).unwrap_or_default();
                let status = rule.own_status().unwrap_or(307);
                error_response::rule_redirect(status, &to, self.frontend, !keep, with_body)
            }
            RuleResponse::Respond(rule) => {
                error_response::rule_response(rule, self.frontend, !keep, with_body)
            }
        };
        self.own_response(stream, &text, keep, sending).await
    }
}
