//! Rules: which requests go elsewhere than to the pools of their frontend; and examples, which say what has to become of a request.

use std::collections::BTreeMap;
use std::net::IpAddr;

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::{Labels, RedirectStatus};
use crate::name::Name;
use crate::rules::{Condition, LocationTemplate};
use crate::units::Span;

/// A condition on requests, and what becomes of those that meet it. Frontends list the rules that they go by, in order; a request gets the first
/// that it meets, and the pools of the frontend where it meets none.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct RuleSpec {
    /// Which requests it is for: `host is booking.skerry.example and path under /admin and client not in office`.
    ///
    /// Tests are joined by `and`, `or`, `not` and parentheses. What is looked at: `host`, `path`, `method`, `client`, `server-name`, `certificate`, `version`, `local-address`,
    /// `port`, `content-type`, `header NAME`, `query NAME`, `cookie NAME`. How: `is`, `is not` (one or several, with commas between), `under` (a path and what
    /// lies below it), `contains`, `matches` (a regular expression), `in`, `not in` (networks), `present`, `absent`. `always` is every request.
    #[key(basic, example = "path under /admin")]
    pub when: Condition,
    /// What becomes of those requests.
    #[key(basic, example = "pool")]
    pub action: RuleAction,
    /// Pool that gets them.
    #[key(basic, refers = Pool, without = "those of pool_weights", when(action = "pool"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pool: Option<Name>,
    /// Several pools instead of one, each with its weight: for a new release that gets a small part first.
    ///
    /// A pool that is not usable gets nothing. Clients with a pin stay with the pool of their server.
    #[key(range = 0..=1000, when(action = "pool"), example = "booking=95")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pool_weights: BTreeMap<Name, u16>,
    /// Name of a cookie that keeps clients with the pool that they got by weight.
    ///
    /// It holds a number that was drawn once for the client, and the weights decide what each number means: when a pool gets a larger part, clients move to
    /// it alone, and back when it gets a smaller one. It lasts as long as the browser runs. A client can draw again by leaving it out.
    #[key(format = COOKIE_NAME, without = "each request is drawn", when(action = "pool"), example = "booking-release")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub choice_cookie: Option<String>,
    /// Where they are redirected, with `{host}`, `{path}`, `{rest}` (what follows the path of `under`), `{query}` and `{capture.NAME}` (a named group of the
    /// regular expression of `path matches`) of the request.
    #[key(
        basic,
        when(action = "redirect"),
        example = "https://www.skerry.example{path}{query}",
        without = ""
    )]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub location: Option<LocationTemplate>,
    /// Status of the redirect.
    #[key(without = "307", when(action = "redirect"), example = "308")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub redirect_status: Option<RedirectStatus>,
    /// Status of the response; of a refusal, 400 or more.
    #[key(basic, range = 200..=599, without = "200 of a response, 403 of a refusal", when(action = "respond refuse"), example = "404")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
    /// Body of the response.
    #[key(basic, format = PAGE, without = "a sentence that names the frontend", when(action = "respond refuse"), escapes)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub body: Option<String>,
    /// Media type of that body.
    #[key(format = FIELD_VALUE, without = "text/plain; charset=utf-8", when(action = "respond refuse"), example = "text/html; charset=utf-8")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub content_type: Option<String>,
    /// Limits that clients whose requests meet it are under, besides those of the frontend.
    #[key(refers = Limit, count = 0..=16, distinct, without = "none", group = "Limits")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Name>,
    /// What is changed on the way.
    #[serde(flatten)]
    pub changes: RuleChanges,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// What a rule changes about requests on their way to servers, and about responses on theirs to clients.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct RuleChanges {
    /// Path that servers get, with `{path}`, `{rest}` (what follows the path of `under`), `{query}` and `{capture.NAME}` of the request.
    ///
    /// The query is kept where it says nothing of one.
    #[key(
        without = "the one of the request",
        when(action = "pool continue"),
        example = "/booking{rest}",
        group = "On the way"
    )]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rewrite_path: Option<LocationTemplate>,
    /// Host that servers get, with the same values as header fields.
    ///
    /// Where what is filled in makes it no host, servers get that of the request.
    #[key(format = HOST_TEMPLATE, without = "the one of the request", when(action = "pool continue"), example = "{capture.tenant}.inside.example")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rewrite_host: Option<String>,
    /// Header fields that requests get, in place of those of the same name, with `{client}`, `{host}`, `{method}`, `{path}`, `{query.NAME}`, `{header.NAME}`,
    /// `{cookie.NAME}`, `{capture.NAME}` (a named group of the regular expression of `path matches`), `{certificate.subject}` (of the client's
    /// certificate that passed) and `{request-id}` (what servers get as `X-Request-Id`) of the request.
    ///
    /// A field whose value is empty is left out.
    #[key(format = FIELD_VALUE, count = 0..=32, when(action = "pool continue"), example = "X-Tenant=blue")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub set_request_fields: BTreeMap<String, String>,
    /// Header fields that requests get beside those of the same name, with the same values.
    #[key(format = FIELD_VALUE, count = 0..=32, when(action = "pool continue"), example = "X-Way=harbour")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub add_request_fields: BTreeMap<String, String>,
    /// Header fields that are taken out of requests.
    #[key(format = FIELD_NAME, count = 0..=32, when(action = "pool continue"))]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub remove_request_fields: Vec<String>,
    /// Header fields that responses get, in place of those of the same name, with the same values of the request; also redirects and fixed responses.
    #[key(format = FIELD_VALUE, count = 0..=32, when(action = "pool continue respond refuse redirect"), example = "X-Frame-Options=DENY")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub set_response_fields: BTreeMap<String, String>,
    /// Header fields that responses get beside those of the same name, with the same values of the request.
    #[key(format = FIELD_VALUE, count = 0..=32, when(action = "pool continue respond refuse redirect"), example = "Link=</style.css>; rel=preload")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub add_response_fields: BTreeMap<String, String>,
    /// Header fields that are taken out of responses.
    #[key(format = FIELD_NAME, count = 0..=32, when(action = "pool continue"))]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub remove_response_fields: Vec<String>,
    /// Longest time until a server begins its response to such a request, in place of that of its pool or server.
    #[key(range = "10ms".."1h", without = "that of the server", when(action = "pool continue"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_byte_timeout: Option<Span>,
    /// Longest time from the first byte of such a response to its last, in place of that of the pool or server.
    #[key(range = "100ms".."24h", without = "that of the server", when(action = "pool continue"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub response_timeout: Option<Span>,
    /// Whether the session persistence of the pools counts for such requests.
    #[key(without = "pool", when(action = "pool continue"))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub persistence: Option<RulePersistence>,
    /// What such requests are called by limits that count by `label`, and in the decision log; with the same values as header fields.
    ///
    /// The last rule that gives one counts.
    #[key(format = FIELD_VALUE, without = "", when(action = "pool continue"), example = "search")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub request_label: Option<String>,
}

/// Whether the session persistence of the pools counts for requests that meet a rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RulePersistence {
    /// Clients with a pin get their server, and others get a pin.
    Pool,
    /// Any server may get the request, and no pin is made: for files that every server has.
    None,
}

/// What becomes of requests that meet a rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RuleAction {
    /// They go to a pool, or to several by weight.
    Pool,
    /// The client is sent to another address.
    Redirect,
    /// They get a fixed response.
    Respond,
    /// They are refused with a status.
    Refuse,
    /// The connection is closed without a word; of HTTP/2 the stream is reset.
    Close,
    /// They go on to the rules behind it, changed on the way.
    Continue,
}

impl RuleSpec {
    /// The pools that it may send work to, each with its weight.
    pub fn pools(&self) -> impl Iterator<Item = (&Name, u16)> {
        self.pool
            .iter()
            .map(|pool| (pool, 1))
            .chain(self.pool_weights.iter().map(|(pool, weight)| (pool, *weight)))
    }

    /// The status of its response; `None` where it gives none of its own.
    #[must_use]
    pub fn own_status(&self) -> Option<u16> {
        match self.action {
            RuleAction::Pool | RuleAction::Close | RuleAction::Continue => None,
            RuleAction::Redirect => Some(self.redirect_status.unwrap_or(RedirectStatus::Temporary).number()),
            RuleAction::Respond => Some(self.status.unwrap_or(200)),
            RuleAction::Refuse => Some(self.status.unwrap_or(403)),
        }
    }

    /// Whether a request that meets it goes on to the rules behind it.
    #[must_use]
    pub fn goes_on(&self) -> bool {
        self.action == RuleAction::Continue
    }

    /// What it does, in a few words: `pool booking`, `status 403`.
    #[must_use]
    pub fn does(&self) -> String {
        let action = self.does_in_the_end();
        let changes = &self.changes;
        let path = changes.rewrite_path.as_ref().map(|path| format!("path {path}"));
        let host = changes.rewrite_host.as_ref().map(|host| format!("host {host}"));
        let fields = [
            changes.set_request_fields.len()
                + changes.add_request_fields.len()
                + changes.remove_request_fields.len(),
            changes.set_response_fields.len()
                + changes.add_response_fields.len()
                + changes.remove_response_fields.len(),
        ];
        let of = |count: usize, what: &str| {
            (count > 0).then(|| format!("{count} field{} of {what}", if count == 1 { "" } else { "s" }))
        };
        let all = [
            Some(action),
            self.limits_in_words(),
            path,
            host,
            of(fields[0], "requests"),
            of(fields[1], "responses"),
            changes.first_byte_timeout.map(|time| format!("first byte within {time}")),
            changes.response_timeout.map(|time| format!("response within {time}")),
            (changes.persistence == Some(RulePersistence::None)).then(|| "without persistence".to_owned()),
            changes.request_label.as_ref().map(|label| format!("label {label}")),
        ];
        all.into_iter().flatten().collect::<Vec<_>>().join("; ")
    }

    /// The limits of it, in a few words.
    fn limits_in_words(&self) -> Option<String> {
        let names: Vec<&str> = self.limits.iter().map(Name::as_str).collect();
        (!names.is_empty()).then(|| format!("limits {}", names.join(", ")))
    }

    fn does_in_the_end(&self) -> String {
        let pools: Vec<String> = match &self.pool {
            Some(pool) => vec![pool.to_string()],
            None => self.pool_weights.iter().map(|(pool, weight)| format!("{pool} {weight}")).collect(),
        };
        match (self.action, self.own_status()) {
            (RuleAction::Close, _) => "close".to_owned(),
            (RuleAction::Continue, _) => "continue".to_owned(),
            (RuleAction::Redirect, Some(status)) => {
                let to = self.location.as_ref().map(ToString::to_string).unwrap_or_default();
                format!("redirect to {to} ({status})")
            }
            (_, Some(status)) => format!("status {status}"),
            (_, None) => {
                let kept = self.choice_cookie.as_ref().map(|cookie| format!(", kept by cookie {cookie}"));
                format!("pool {}{}", pools.join(", "), kept.unwrap_or_default())
            }
        }
    }
}

/// A request, or a connection of a `tcp` frontend, and what has to become of it. A change with which something else becomes of it is refused.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct ExampleSpec {
    /// Frontend that the request comes to; of a `tcp` frontend an example is a connection, with `client` and `server_name` alone.
    #[key(basic, refers = Frontend)]
    pub frontend: Name,
    /// Host of the request.
    #[key(basic, format = HOST, without = "", group = "Request")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// Path of the request, with its query.
    #[key(basic, format = PATH, default = "/", example = "/ferry?day=3")]
    pub path: String,
    /// Method of the request.
    #[key(basic, format = METHOD, default = "GET")]
    pub method: String,
    /// Server name that the client asks for in its TLS handshake (SNI).
    #[key(format = SERVER_NAME, without = "none", example = "tickets.skerry.example")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub server_name: Option<String>,
    /// Address of the client.
    #[key(basic, without = "an address of no network")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client: Option<IpAddr>,
    /// Header fields of the request.
    #[key(count = 0..=64, format = FIELD_VALUE, example = "X-Tenant=blue")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, String>,
    /// Rule that it has to meet.
    #[key(basic, refers = Rule, without = "any, or none", group = "Expected")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect_rule: Option<Name>,
    /// Pool that it has to go to; of several by weight, one of them.
    #[key(basic, refers = Pool, without = "any, or none")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect_pool: Option<Name>,
    /// Status that it has to get from a rule; `400` also where its path is refused.
    #[key(basic, range = 200..=599, without = "any, or that of a server")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect_status: Option<u16>,
    /// Path that servers have to get, with its query.
    #[key(format = PATH, without = "any", example = "/booking/ferry")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect_path: Option<String>,
    /// Header fields that rules have to give the request, each with its value.
    #[key(format = FIELD_VALUE, count = 0..=32, example = "X-Tenant=blue")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub expect_fields: BTreeMap<String, String>,
    /// Address that it has to be redirected to.
    #[key(basic, format = TEXT, without = "any, or none", example = "https://www.skerry.example/ferry")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect_location: Option<String>,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// What becomes of a request whose path servers read in several ways.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum AmbiguousPaths {
    /// It is refused with 400, so that no rule is passed by a path that a server reads otherwise.
    #[default]
    Refuse,
    /// It is compared as it is read here, and goes on as it came.
    Allow,
}
