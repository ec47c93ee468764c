//! The rules of a frontend, as traffic goes by them.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

use super::choose_pool::{PoolChoice, PoolReason};
use super::compile::listed;
use super::snapshot::{Frontend, Pool};
use crate::config::document::{AmbiguousPaths, BalancePer, Document, FrontendSpec, RuleAction, RuleSpec};
use crate::limits::ClientLimit;
use crate::name::Name;
use crate::rules::{NetworkSet, RequestEdits, RuleEdits, RuleFacts, RuleSet};
use crate::runtime::{RuleRuntime, RuntimeRegistry};

/// The rules of a frontend, in order.
#[derive(Clone, Debug)]
pub struct FrontendRules {
    set: Arc<RuleSet>,
    /// Whether each client has to be looked for in the access list: those that a trusted proxy names come over its connection.
    pub checks_access: bool,
    /// What clients get instead of the application, while it is worked on.
    maintenance: Option<Arc<Maintenance>>,
    /// Whether a request is refused whose path servers read in several ways.
    pub refuses_ambiguous: bool,
    rules: Arc<[CompiledRule]>,
    /// The frontend as those see it whom a rule sends to other pools; rules with the same pools share one.
    ways: Box<[Arc<Frontend>]>,
}

/// What clients get while a frontend is in maintenance.
#[derive(Clone, Debug)]
pub struct Maintenance {
    /// Why it is.
    pub reason: String,
    /// Those who get the application all the same.
    except: NetworkSet,
    /// The page; `None` for a sentence that names the frontend.
    pub page: Option<String>,
    /// When clients may come again, in seconds.
    pub retry_after: u64,
}

/// A rule of a frontend.
#[derive(Clone, Debug)]
pub struct CompiledRule {
    /// Name of the rule.
    pub name: Name,
    /// What becomes of requests that meet it.
    way: CompiledAction,
    /// What it changes on the way; most rules change nothing.
    edits: Option<Arc<RuleEdits>>,
    /// What clients that meet it may ask for, besides the limits of the frontend.
    pub limits: Arc<[Arc<ClientLimit>]>,
    /// Its counts at this frontend.
    pub cell: Arc<RuleRuntime>,
}

#[derive(Clone, Debug)]
enum CompiledAction {
    /// They go on at the way of this number.
    Pools(usize),
    Redirect(Arc<RuleSpec>),
    Respond(Arc<RuleSpec>),
    Close,
    /// The rules behind it are asked.
    Continue,
}

/// What becomes of a request.
#[derive(Clone, Copy, Debug)]
pub enum RuleDecision<'a> {
    /// It goes to the pools of this frontend, which is the frontend itself with other pools.
    Pools(&'a Arc<Frontend>),
    /// It is redirected.
    Redirect(&'a RuleSpec),
    /// It gets a response of the rule's own.
    Respond(&'a RuleSpec),
    /// Its connection is closed.
    Close,
}

impl FrontendRules {
    /// The first rule that a request meets and that decides, with its place. Each rule that it meets on the way there is given to `on_met`, and adds what
    /// it changes to `edits`.
    #[must_use]
    pub fn follow<'a>(
        &'a self,
        facts: &RuleFacts<'_>,
        edits: &mut Option<Box<RequestEdits>>,
        mut on_met: impl FnMut(usize, &'a CompiledRule),
    ) -> Option<(usize, &'a CompiledRule)> {
        let mut from = 0;
        loop {
            let place = self.set.next(facts, from)?;
            let rule = self.rules.get(place)?;
            on_met(place, rule);
            if let Some(own) = &rule.edits {
                own.apply(facts, edits.get_or_insert_default());
            }
            if !matches!(rule.way, CompiledAction::Continue) {
                return Some((place, rule));
            }
            from = place + 1;
        }
    }

    /// What a client gets instead of the application; `None` where it gets the application.
    #[must_use]
    pub fn maintenance_for(&self, client: IpAddr) -> Option<&Maintenance> {
        self.maintenance.as_deref().filter(|maintenance| !maintenance.except.contains(client))
    }

    /// What clients get instead of the application, if they do.
    #[must_use]
    pub fn maintenance(&self) -> Option<&Maintenance> {
        self.maintenance.as_deref()
    }

    /// The rule of a name.
    #[must_use]
    pub fn named(&self, name: &Name) -> Option<&CompiledRule> {
        self.rules.iter().find(|rule| rule.name == *name)
    }

    /// What becomes of requests that meet a rule.
    #[must_use]
    pub fn decision<'a>(&'a self, rule: &'a CompiledRule) -> RuleDecision<'a> {
        match &rule.way {
            CompiledAction::Pools(number) => RuleDecision::Pools(&self.ways[*number]),
            CompiledAction::Redirect(spec) => RuleDecision::Redirect(spec),
            CompiledAction::Respond(spec) => RuleDecision::Respond(spec),
            // A rule that does not decide is never the one that did.
            CompiledAction::Close | CompiledAction::Continue => RuleDecision::Close,
        }
    }

    /// All rules, in order.
    #[must_use]
    pub fn rules(&self) -> &[CompiledRule] {
        &self.rules
    }

    /// The conditions of the rules, in the same order.
    #[must_use]
    pub fn set(&self) -> &RuleSet {
        &self.set
    }

    /// The pools that rules send requests to. One may come several times.
    pub fn pools(&self) -> impl Iterator<Item = &Arc<Pool>> {
        self.ways.iter().flat_map(|way| way.pools())
    }

    /// The same with other ways.
    pub(super) fn with_ways(&self, way: impl Fn(&Frontend) -> Frontend) -> Self {
        Self { ways: self.ways.iter().map(|seen| Arc::new(way(seen))).collect(), ..self.clone() }
    }
}

/// Compiles the rules of a frontend; `None` when it has none, is not in maintenance, lets everybody in, and has no limits.
pub(super) fn compile(
    document: &Document,
    (name, spec): (&Name, &FrontendSpec),
    made: &Frontend,
    find: impl Fn(&Name) -> Arc<Pool>,
    limits: &BTreeMap<&Name, Arc<ClientLimit>>,
    cells: &mut RuntimeRegistry,
) -> Option<Box<FrontendRules>> {
    if spec.http.is_none() && spec.rules.is_empty() {
        return None;
    }
    let http = spec.http.as_ref();
    let under_work = http.and_then(|http| Some((&http.maintenance, http.maintenance.maintenance.as_ref()?)));
    let maintenance = under_work.map(|(keys, reason)| {
        let except = keys.maintenance_except.iter().filter_map(|list| document.networks.get(list));
        Arc::new(Maintenance {
            reason: reason.clone(),
            except: NetworkSet::new(except.flatten().copied()),
            page: keys.maintenance_page.clone(),
            retry_after: keys.maintenance_retry_after.map_or(300, |after| after.get().as_secs().max(1)),
        })
    });
    let checks_access = made.access.is_some();
    if spec.rules.is_empty() && maintenance.is_none() && !checks_access && made.limits.is_none() {
        return None;
    }
    let set = RuleSet::new(document.rules_of(spec).map(|(_, rule)| &rule.when), &document.networks);
    let mut numbers: BTreeMap<GoesTo<'_>, usize> = BTreeMap::new();
    let mut ways = Vec::new();
    let mut rules = Vec::with_capacity(set.len());
    for (rule_name, rule) in document.rules_of(spec) {
        let own = || Arc::new(rule.clone());
        let way = match rule.action {
            RuleAction::Pool => {
                let goes_to = (rule.choice_cookie.as_deref(), rule.pools().collect());
                CompiledAction::Pools(*numbers.entry(goes_to).or_insert_with_key(|(cookie, pools)| {
                    ways.push(Arc::new(way(made, (*cookie, pools), document, &find)));
                    ways.len() - 1
                }))
            }
            RuleAction::Redirect => CompiledAction::Redirect(own()),
            RuleAction::Respond | RuleAction::Refuse => CompiledAction::Respond(own()),
            RuleAction::Close => CompiledAction::Close,
            RuleAction::Continue => CompiledAction::Continue,
        };
        let edits = RuleEdits::of(rule).map(Arc::new);
        rules.push(CompiledRule {
            name: rule_name.clone(),
            way,
            edits,
            limits: listed(&rule.limits, limits),
            cell: cells.rule(name, rule_name),
        });
    }
    Some(Box::new(FrontendRules {
        set: Arc::new(set),
        checks_access,
        maintenance,
        refuses_ambiguous: !spec.rules.is_empty()
            && http.is_some_and(|http| http.ambiguous_paths != Some(AmbiguousPaths::Allow)),
        rules: rules.into(),
        ways: ways.into(),
    }))
}

/// The cookie that keeps the choice among the pools of a rule, and the pools with their weights.
type GoesTo<'d> = (Option<&'d str>, Vec<(&'d Name, u16)>);

/// The frontend with the pools of a rule.
fn way(
    made: &Frontend,
    (cookie, pools): (Option<&str>, &[(&Name, u16)]),
    document: &Document,
    find: impl Fn(&Name) -> Arc<Pool>,
) -> Frontend {
    let found: Vec<Arc<Pool>> = pools.iter().map(|(pool, _)| find(pool)).collect();
    let weight =
        |(pool, weight): &(&Name, u16)| u32::from(*weight) * u32::from(document.pools[*pool].capacity);
    let choice = (found.len() > 1).then(|| {
        let by = PoolReason::Weight(pools.iter().map(weight).collect());
        Box::new(PoolChoice { pools: found.clone(), by, last_resort: None, kept_by: cookie.map(Box::from) })
    });
    let ties_clients =
        made.balance_per == BalancePer::Connection || found.iter().any(|pool| pool.pin_rule.is_some());
    let pool = Arc::clone(&found[0]);
    Frontend { pool, choice, ties_clients, rules: None, passthrough: None, ..made.clone() }
}
