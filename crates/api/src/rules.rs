//! What rules make of requests.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What the rules of a frontend make of a request.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RulesView {
    /// The rule that decides; absent when the request meets none.
    pub met: Option<RuleTrace>,
    /// Rules that come before it, each with the tests for which it is not met, or for which it is met and lets the request go on; 20 at most.
    pub before: Vec<RuleTrace>,
    /// How many more rules come before it.
    pub more_before: u64,
    /// The status that the client gets from the frontend itself; absent when the request goes to a pool, or the connection is closed.
    pub status: Option<u16>,
    /// Where the client is redirected.
    pub location: Option<String>,
    /// The path that the server gets, where rules give it another one.
    pub path: Option<String>,
    /// The host that the server gets, where rules give it another one.
    pub host: Option<String>,
    /// What rules change about the fields of the request: `X-Tenant: blue`, `without x-debug`.
    pub request_fields: Vec<String>,
    /// What rules change about the fields of the response.
    pub response_fields: Vec<String>,
    /// What else rules decide about it: `label search`, `first byte within 5s`, `without persistence`.
    pub decides: Vec<String>,
}

/// A rule beside a request.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleTrace {
    /// Name of the rule.
    pub name: String,
    /// Whether the request meets it.
    pub is_met: bool,
    /// Its condition.
    pub when: String,
    /// What it does, in a few words.
    pub does: String,
    /// The tests that decided.
    pub tests: Vec<RuleTestView>,
}

/// A test of a condition beside a request.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleTestView {
    /// The test, as conditions are written.
    pub test: String,
    /// Whether it holds.
    pub holds: bool,
    /// What the request has; absent where it has nothing of it.
    pub observed: Option<String>,
}

/// The rules of a frontend with what they counted, in order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleCounts {
    /// Name of the frontend.
    pub frontend: String,
    /// How many requests came to it since its counts began.
    pub requests: u64,
    /// The rules that it goes by.
    pub rules: Vec<RuleCount>,
}

/// What one rule of a frontend counted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleCount {
    /// Name of the rule.
    pub name: String,
    /// Its condition.
    pub when: String,
    /// What it does, in a few words.
    pub does: String,
    /// How many requests met it first, since the node started or the rule was listed here.
    pub matches: u64,
    /// When the last of them came, also before the node started and at other nodes that share its database; absent when none did.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last: Option<Wall>,
    /// Whether requests that meet it go on to the rules behind it, and may meet another.
    pub goes_on: bool,
    /// For how many days no request has met it, or since when it is listed and none ever did, where that is 30 or more: it may be of no use.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub unmet_days: Option<u64>,
}

/// The rules that lead from a frontend to a pool.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RuledPool {
    /// Name of the pool.
    pub pool: String,
    /// Names of the rules, eight at most.
    pub rules: Vec<String>,
    /// How many more rules lead to it.
    pub more: u64,
    /// Whether one of its servers is eligible.
    pub usable: bool,
}
