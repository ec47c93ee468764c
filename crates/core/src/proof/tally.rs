//! The count of a trial: where the requests went, against where they should have gone.

use std::collections::BTreeMap;

use hdrhistogram::Histogram;
use serde::{Deserialize, Serialize};

use super::{ChiSquare, chi_square};
use crate::name::PoolServer;

/// Below this p-value a distribution counts as uneven.
const SIGNIFICANCE: f64 = 0.01;

/// The longest latency that is distinguished from longer ones, in microseconds: an hour.
const LONGEST_US: u64 = 3_600_000_000;

/// How one request of a trial ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TrialOutcome {
    /// An answer came, with this status.
    Answered(u16),
    /// All came that was to come, of a protocol without statuses.
    Done,
    /// No whole answer came.
    Broken,
}

impl TrialOutcome {
    fn failed(self) -> bool {
        match self {
            Self::Answered(status) => status >= 500,
            Self::Done => false,
            Self::Broken => true,
        }
    }
}

/// What a trial sends.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RequestResults {
    /// HTTP requests.
    #[default]
    Requests,
    /// TCP connections.
    Connections,
    /// Datagrams that are answered.
    Datagrams,
    /// Datagrams without answers.
    OneWay,
}

impl RequestResults {
    /// The noun for a single one: `request`.
    #[must_use]
    pub fn one(self) -> &'static str {
        match self {
            Self::Requests => "request",
            Self::Connections => "connection",
            Self::Datagrams | Self::OneWay => "datagram",
        }
    }

    /// The noun for several of them: `requests`.
    #[must_use]
    pub fn many(self) -> &'static str {
        match self {
            Self::Requests => "requests",
            Self::Connections => "connections",
            Self::Datagrams | Self::OneWay => "datagrams",
        }
    }

    /// What has happened to one that ended well.
    #[must_use]
    pub fn done(self) -> &'static str {
        match self {
            Self::Requests | Self::Connections | Self::Datagrams => "answered",
            Self::OneWay => "sent on",
        }
    }
}

/// Where one request should have gone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Expectation {
    /// To any server, by the shares that held in this version of the snapshot.
    Shares(u64),
    /// To this one: its key, its pin or its connection says so.
    Server(PoolServer),
}

/// One request of a trial.
#[derive(Clone, Debug)]
pub struct TallySample {
    /// The server that took it in the end; `None` when none did.
    pub server: Option<PoolServer>,
    /// The servers that failed it before.
    pub failed_at: Vec<PoolServer>,
    /// How the request ended for its client.
    pub outcome: TrialOutcome,
    /// From sending the request to the end of its answer, in microseconds.
    pub latency_us: u64,
    /// Where it should have gone.
    pub expectation: Expectation,
    /// Its client was tied to another server before, and why it went here.
    pub moved: Option<ClientMove>,
}

/// A client that was tied to a server and went to another one.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct ClientMove {
    /// The server that it was tied to.
    pub from: PoolServer,
    /// Why it could not stay, such as `withdrawn`; `None` when nothing kept it from staying.
    pub reason: Option<String>,
}

/// Clients that were tied to a server and went to others, for one reason.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TallyMove {
    /// The server that they were tied to.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub from: PoolServer,
    /// Why they could not stay, such as `withdrawn`; absent when nothing kept them from staying.
    pub reason: Option<String>,
    /// How many.
    pub clients: u64,
}

/// What one server got in a trial, beside what was expected.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TallyRow {
    /// The server that this row is about.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub server: PoolServer,
    /// The share that it should have got, 0 to 1.
    pub expected: f64,
    /// The share that it got, 0 to 1.
    pub observed: f64,
    /// The requests that it got.
    pub requests: u64,
    /// The requests that it should have got.
    pub expected_requests: f64,
    /// Requests that ended badly here: no whole answer, or a status of 500 and above.
    pub failed: u64,
    /// Requests that failed here and were given to another server.
    pub retried: u64,
    /// Half of its answers came within this time, in microseconds.
    pub median_us: Option<u64>,
    /// 99 of 100 of its answers came within this time, in microseconds.
    pub p99_us: Option<u64>,
}

/// What a trial shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum TrialVerdict {
    /// Every request was answered and each server got its share.
    AsExpected,
    /// Requests failed, or the shares are not what they should be.
    NotAsExpected,
    /// Nothing failed, but there were too few requests to judge the shares.
    TooFew,
}

/// What a limit answers (RFC 6585, 4).
const TOO_MANY: u16 = 429;

/// The result of a trial: one row a server, the outcomes, and the verdict.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tally {
    /// A line for each server that expected or got anything, in the order of the names.
    pub rows: Vec<TallyRow>,
    /// How many requests were sent.
    pub requests: u64,
    /// Requests that ended badly, with or without a server.
    pub failed: u64,
    /// Requests that no server took, without those that a limit refused.
    pub without_server: u64,
    /// Requests that a limit of clients refused (429); no server is expected to get them.
    #[serde(default)]
    pub limited: u64,
    /// Requests that were given to another server after one failed.
    pub retried: u64,
    /// Requests that one server alone should have got, for their key, pin or connection says so.
    #[serde(default)]
    pub tied: u64,
    /// Those of them that went to another one, without the right one having failed them.
    #[serde(default)]
    pub strayed: u64,
    /// Clients that were tied to a server and were moved to another one, by the server and the reason.
    #[serde(default)]
    pub moves: Vec<TallyMove>,
    /// The test of the observed counts against the expected ones, of the requests that are not tied; `None` when it can't
    /// say anything.
    pub test: Option<ChiSquare>,
    /// Whether what was observed fits what was expected.
    pub verdict: TrialVerdict,
    /// Why, a sentence each.
    pub because: Vec<String>,
}

/// Counts a trial. `shares` are the expected shares of each server, by the version of the snapshot in which they held;
/// a server that goes down half way therefore expects its share of the requests until then. Where work is distributed by
/// something else than the weights, `unjudged` says so, and shares are shown but not judged.
#[must_use]
pub fn tally(
    samples: &[TallySample],
    shares: &BTreeMap<u64, Vec<(PoolServer, f64)>>,
    what: RequestResults,
    unjudged: Option<&str>,
) -> Tally {
    let mut lines: BTreeMap<PoolServer, TallyEntry> = BTreeMap::new();
    let (mut failed, mut without_server, mut retried, mut tied, mut strayed, mut limited) =
        (0, 0, 0, 0, 0, 0);
    for (server, _) in shares.values().flatten() {
        lines.entry(server.clone()).or_default();
    }
    let mut moves: BTreeMap<&ClientMove, u64> = BTreeMap::new();
    for sample in samples {
        if let Some(moved) = &sample.moved {
            *moves.entry(moved).or_default() += 1;
        }
        if sample.server.is_none() && sample.outcome == TrialOutcome::Answered(TOO_MANY) {
            limited += 1;
            continue;
        }
        match &sample.expectation {
            Expectation::Shares(version) => {
                for (server, share) in shares.get(version).into_iter().flatten() {
                    lines.entry(server.clone()).or_default().free_expected += share;
                }
            }
            Expectation::Server(wanted) => {
                lines.entry(wanted.clone()).or_default().tied_expected += 1;
                tied += 1;
                let elsewhere = sample.server.as_ref().is_some_and(|server| server != wanted);
                strayed += u64::from(elsewhere && !sample.failed_at.contains(wanted));
            }
        }
        for server in &sample.failed_at {
            lines.entry(server.clone()).or_default().retried += 1;
        }
        failed += u64::from(sample.outcome.failed());
        without_server += u64::from(sample.server.is_none());
        retried += u64::from(sample.server.is_some() && !sample.failed_at.is_empty());
        if let Some(server) = &sample.server {
            lines.entry(server.clone()).or_default().take(sample);
        }
    }
    let observed: Vec<u64> = lines.values().map(|line| line.free).collect();
    let expected: Vec<f64> = lines.values().map(|line| line.free_expected).collect();
    let test = chi_square(&observed, &expected).filter(|_| unjudged.is_none());
    let requests = samples.len() as u64;
    let because = what_is_wrong(&lines, what, (failed, strayed, limited), test);
    let (verdict, because) = match because.is_empty() {
        true => what_is_right(&lines, what, tied, requests, test, unjudged),
        false => (TrialVerdict::NotAsExpected, because),
    };
    let rows =
        lines.into_iter().map(|(server, line)| line.row(server, (requests - limited) as f64)).collect();
    let moves = moves.into_iter().map(|(moved, clients)| TallyMove {
        from: moved.from.clone(),
        reason: moved.reason.clone(),
        clients,
    });
    let moves = moves.collect();
    Tally {
        rows,
        requests,
        failed,
        without_server,
        limited,
        retried,
        tied,
        strayed,
        moves,
        test,
        verdict,
        because,
    }
}

/// What is counted of one server.
#[derive(Default)]
struct TallyEntry {
    /// What it should have got of the requests that any server might get, and of the others.
    free_expected: f64,
    tied_expected: u64,
    /// What it got of the former, and of all.
    free: u64,
    requests: u64,
    failed: u64,
    retried: u64,
    latencies: Option<Histogram<u64>>,
}

impl TallyEntry {
    fn take(&mut self, sample: &TallySample) {
        self.requests += 1;
        self.free += u64::from(matches!(sample.expectation, Expectation::Shares(_)));
        self.failed += u64::from(sample.outcome.failed());
        if sample.outcome != TrialOutcome::Broken {
            let new = || Histogram::new(3).expect("three digits are in range");
            let latencies = self.latencies.get_or_insert_with(new);
            latencies.record(sample.latency_us.min(LONGEST_US)).expect("it grows as far as an hour");
        }
    }

    fn expected(&self) -> f64 {
        self.free_expected + self.tied_expected as f64
    }

    fn row(self, server: PoolServer, total: f64) -> TallyRow {
        let quantile = |q| self.latencies.as_ref().map(|histogram| histogram.value_at_quantile(q));
        let share = |count: f64| if total > 0.0 { count / total } else { 0.0 };
        TallyRow {
            expected: share(self.expected()),
            observed: share(self.requests as f64),
            requests: self.requests,
            expected_requests: self.expected(),
            failed: self.failed,
            retried: self.retried,
            median_us: quantile(0.5),
            p99_us: quantile(0.99),
            server,
        }
    }
}

fn what_is_wrong(
    lines: &BTreeMap<PoolServer, TallyEntry>,
    what: RequestResults,
    (failed, strayed, limited): (u64, u64, u64),
    test: Option<ChiSquare>,
) -> Vec<String> {
    let count = |count: u64| format!("{count} {}", if count == 1 { what.one() } else { what.many() });
    let was = |count: u64| if count == 1 { "was" } else { "were" };
    let mut because = Vec::new();
    if failed > 0 {
        because.push(format!("{} {} not {} properly", count(failed), was(failed), what.done()));
    }
    if limited > 0 {
        because.push(format!(
            "{} {} refused by a limit of clients (429), and expected at no server: more clients or fewer requests stay below it",
            count(limited),
            was(limited)
        ));
    }
    if strayed > 0 {
        because
            .push(format!("{} went to another server than the key, pin or connection says", count(strayed)));
    }
    for (server, line) in lines.iter().filter(|(_, line)| line.retried > 0) {
        let (retried, was) = (count(line.retried), was(line.retried));
        because.push(format!("{retried} failed at {server} and {was} given to another server"));
    }
    for (server, line) in lines.iter().filter(|(_, line)| line.free > 0 && line.free_expected == 0.0) {
        because.push(format!("{server} got {} and should have got none", count(line.free)));
    }
    if let Some(test) = test.filter(|test| test.p_value < SIGNIFICANCE) {
        because.push(format!("the shares differ from the expected ones ({})", test.p_words()));
    }
    because
}

/// What can be said of a trial in which nothing is wrong.
fn what_is_right(
    lines: &BTreeMap<PoolServer, TallyEntry>,
    what: RequestResults,
    tied: u64,
    requests: u64,
    test: Option<ChiSquare>,
    unjudged: Option<&str>,
) -> (TrialVerdict, Vec<String>) {
    let (one, many, done) = (what.one(), what.many(), what.done());
    let at_place = (tied > 0).then(|| {
        let which =
            if tied == requests { format!("every {one}") } else { format!("{tied} of {requests} {many}") };
        format!("{which} went to the one server that its key, pin or connection says")
    });
    if tied == requests && tied > 0 {
        return (TrialVerdict::AsExpected, at_place.into_iter().collect());
    }
    let others = if tied > 0 { format!("the others were {done}") } else { format!("every {one} was {done}") };
    let says = |says: String| at_place.iter().cloned().chain([says]).collect();
    if let Some(unjudged) = unjudged.filter(|_| lines.values().any(|line| line.free > 0)) {
        let all = format!("{others}, by servers that may have work; shares are not judged, for {unjudged}");
        return (TrialVerdict::AsExpected, says(all));
    }
    let choices = lines.values().filter(|line| line.free_expected > 0.0).count();
    if choices == 0 {
        return (TrialVerdict::TooFew, says("no server was expected to get anything".to_owned()));
    }
    if test.is_none() && choices != 1 {
        let few = format!("too few {many} to judge the shares: each server should expect at least 5");
        return (TrialVerdict::TooFew, says(few));
    }
    (TrialVerdict::AsExpected, says(format!("{others}, and each server got its share")))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn server(name: &str) -> PoolServer {
        format!("booking/{name}").parse().unwrap()
    }

    fn answered(name: &str) -> TallySample {
        TallySample {
            server: Some(server(name)),
            failed_at: Vec::new(),
            outcome: TrialOutcome::Answered(200),
            latency_us: 1_000,
            expectation: Expectation::Shares(1),
            moved: None,
        }
    }

    fn expectations() -> BTreeMap<u64, Vec<(PoolServer, f64)>> {
        BTreeMap::from([
            (1, vec![(server("gull"), 0.5), (server("tern"), 0.5)]),
            (2, vec![(server("gull"), 0.0), (server("tern"), 1.0)]),
        ])
    }

    #[test]
    fn even_traffic_is_as_expected() {
        let samples: Vec<_> = (0..100).map(|i| answered(if i % 2 == 0 { "gull" } else { "tern" })).collect();
        let tally = tally(&samples, &expectations(), RequestResults::Requests, None);
        assert_eq!(tally.verdict, TrialVerdict::AsExpected);
        assert_eq!(tally.rows[0].expected_requests, 50.0);
        assert_eq!((tally.rows[0].observed, tally.rows[1].observed), (0.5, 0.5));
        assert_eq!(tally.rows[0].median_us, Some(1_000));
    }

    #[rstest]
    #[case::short(40)]
    #[case::usual(2_500)]
    #[case::long(59_000_000)]
    #[case::for_ever(u64::MAX)]
    fn latencies_of_any_length_are_told_to_three_digits(#[case] latency_us: u64) {
        let tally = tally(
            &[TallySample { latency_us, ..answered("gull") }],
            &expectations(),
            RequestResults::Requests,
            None,
        );
        let median = tally.rows[0].median_us.unwrap() as f64;
        let wanted = latency_us.min(LONGEST_US) as f64;
        assert!((median / wanted - 1.0).abs() < 0.001, "{median} for {wanted}");
    }

    #[test]
    fn expectations_follow_a_server_that_goes_down_half_way() {
        let mut samples: Vec<_> =
            (0..100).map(|i| answered(if i % 2 == 0 { "gull" } else { "tern" })).collect();
        samples.extend(
            (0..100).map(|_| TallySample { expectation: Expectation::Shares(2), ..answered("tern") }),
        );
        let tally = tally(&samples, &expectations(), RequestResults::Requests, None);
        assert_eq!(tally.verdict, TrialVerdict::AsExpected, "{:?}", tally.because);
        assert_eq!(tally.rows[0].expected, 0.25);
    }

    #[test]
    fn one_failure_is_not_as_expected() {
        let mut samples: Vec<_> =
            (0..100).map(|i| answered(if i % 2 == 0 { "gull" } else { "tern" })).collect();
        samples[3].outcome = TrialOutcome::Answered(503);
        let tally = tally(&samples, &expectations(), RequestResults::Requests, None);
        assert_eq!(tally.verdict, TrialVerdict::NotAsExpected);
        assert_eq!((tally.failed, tally.rows[1].failed), (1, 1));
    }

    #[test]
    fn retries_are_charged_to_the_server_that_failed() {
        let moved = TallySample { failed_at: vec![server("gull")], ..answered("tern") };
        let tally = tally(&vec![moved; 40], &expectations(), RequestResults::Requests, None);
        assert_eq!((tally.rows[0].retried, tally.rows[1].retried, tally.retried), (40, 0, 40));
        assert_eq!(tally.verdict, TrialVerdict::NotAsExpected, "gull got nothing and should have got half");
        assert_eq!(tally.because[0], "40 requests failed at booking/gull and were given to another server");
    }

    #[test]
    fn a_server_that_should_get_nothing_is_named() {
        let mut samples: Vec<_> = (0..40)
            .map(|_| TallySample { expectation: Expectation::Shares(2), ..answered("tern") })
            .collect();
        samples.push(TallySample { expectation: Expectation::Shares(2), ..answered("gull") });
        let tally = tally(&samples, &expectations(), RequestResults::Requests, None);
        assert_eq!(tally.verdict, TrialVerdict::NotAsExpected);
        assert!(tally.because[0].contains("booking/gull got 1 request and should have got none"));
    }

    #[test]
    fn three_requests_prove_nothing() {
        assert_eq!(
            tally(&vec![answered("gull"); 3], &expectations(), RequestResults::Requests, None).verdict,
            TrialVerdict::TooFew
        );
        assert_eq!(
            tally(&[], &BTreeMap::new(), RequestResults::Requests, None).verdict,
            TrialVerdict::TooFew
        );
    }

    #[test]
    fn shares_that_do_not_follow_the_weights_are_not_judged_and_failures_are() {
        let mut samples = vec![answered("gull"); 100];
        let by_keys =
            tally(&samples, &expectations(), RequestResults::Requests, Some("the clients' keys decide"));
        assert_eq!((by_keys.verdict, by_keys.test), (TrialVerdict::AsExpected, None));
        assert!(by_keys.because[0].contains("the clients' keys decide"));
        assert_eq!(
            tally(&samples, &expectations(), RequestResults::Requests, None).verdict,
            TrialVerdict::NotAsExpected
        );
        samples[3].outcome = TrialOutcome::Broken;
        assert_eq!(
            tally(&samples, &expectations(), RequestResults::Requests, Some("so")).verdict,
            TrialVerdict::NotAsExpected
        );
    }

    #[test]
    fn what_a_limit_refuses_is_expected_at_no_server_and_said() {
        let refused =
            || TallySample { server: None, outcome: TrialOutcome::Answered(429), ..answered("gull") };
        let mut samples: Vec<TallySample> =
            (0..50).flat_map(|_| [answered("gull"), answered("tern")]).collect();
        samples.extend((0..300).map(|_| refused()));
        let tally = tally(&samples, &expectations(), RequestResults::Requests, None);
        assert_eq!((tally.limited, tally.without_server, tally.failed), (300, 0, 0));
        assert_eq!(
            (tally.rows[0].expected, tally.rows[0].observed),
            (0.5, 0.5),
            "the others are as expected"
        );
        assert_eq!(tally.verdict, TrialVerdict::NotAsExpected);
        assert!(tally.because[0].starts_with("300 requests were refused by a limit"), "{:?}", tally.because);
        // One that a server gave is the server's.
        let own = TallySample { outcome: TrialOutcome::Answered(429), ..answered("gull") };
        let tally = super::tally(&[own], &expectations(), RequestResults::Requests, None);
        assert_eq!((tally.limited, tally.rows[0].requests), (0, 1));
    }

    #[test]
    fn clients_that_were_moved_are_counted_by_server_and_reason() {
        let moved = |from: &str, reason: Option<&str>| {
            let moved = ClientMove { from: server(from), reason: reason.map(str::to_owned) };
            TallySample { moved: Some(moved), ..answered("tern") }
        };
        let samples = [
            answered("tern"),
            moved("gull", Some("withdrawn")),
            moved("gull", Some("withdrawn")),
            moved("gull", None),
            moved("auk", Some("down")),
        ];
        let moves = tally(&samples, &BTreeMap::new(), RequestResults::Requests, None).moves;
        let shown: Vec<_> =
            moves.iter().map(|it| (it.from.server.as_str(), it.reason.as_deref(), it.clients)).collect();
        assert_eq!(shown, [("auk", Some("down"), 1), ("gull", None, 1), ("gull", Some("withdrawn"), 2)]);
    }

    fn tied(to: &str, went: &str) -> TallySample {
        TallySample { expectation: Expectation::Server(server(to)), ..answered(went) }
    }

    #[test]
    fn requests_that_one_server_should_get_are_held_against_it_alone() {
        let mut samples = vec![tied("gull", "gull"); 30];
        let all =
            tally(&samples, &expectations(), RequestResults::Requests, Some("the clients' keys decide"));
        assert_eq!((all.verdict, all.tied, all.strayed, all.test), (TrialVerdict::AsExpected, 30, 0, None));
        assert_eq!(
            all.because,
            ["every request went to the one server that its key, pin or connection says"]
        );
        assert_eq!((all.rows[0].expected, all.rows[1].expected), (1.0, 0.0));
        samples.push(tied("gull", "tern"));
        let strayed =
            tally(&samples, &expectations(), RequestResults::Requests, Some("the clients' keys decide"));
        assert_eq!((strayed.verdict, strayed.strayed), (TrialVerdict::NotAsExpected, 1));
        assert!(strayed.because[0].starts_with("1 request went to another server"), "{:?}", strayed.because);
    }

    #[test]
    fn one_that_its_server_failed_has_not_strayed_and_one_that_nobody_took_neither() {
        let failed = TallySample { failed_at: vec![server("gull")], ..tied("gull", "tern") };
        let unanswered = TallySample { server: None, outcome: TrialOutcome::Broken, ..tied("gull", "tern") };
        let tally = tally(&[failed, unanswered], &expectations(), RequestResults::Requests, None);
        assert_eq!((tally.strayed, tally.failed, tally.retried), (0, 1, 1));
    }

    /// Ties multiply what chance gave the first of them: only what any server might have got is tested.
    #[test]
    fn shares_are_judged_by_the_requests_that_are_not_tied() {
        let mut samples: Vec<_> =
            (0..12).map(|i| answered(if i % 2 == 0 { "gull" } else { "tern" })).collect();
        samples.extend(vec![tied("gull", "gull"); 600]);
        let tally = tally(&samples, &expectations(), RequestResults::Requests, None);
        assert_eq!(
            (tally.verdict, tally.test.map(|test| test.statistic)),
            (TrialVerdict::AsExpected, Some(0.0))
        );
        assert_eq!(tally.because.len(), 2, "{:?}", tally.because);
    }

    #[test]
    fn what_has_no_status_is_done_or_broken() {
        let done = TallySample { outcome: TrialOutcome::Done, ..tied("gull", "gull") };
        let well = tally(std::slice::from_ref(&done), &expectations(), RequestResults::OneWay, None);
        assert_eq!(
            well.because,
            ["every datagram went to the one server that its key, pin or connection says"]
        );
        let broken = TallySample { outcome: TrialOutcome::Broken, ..done };
        let ill = tally(&[broken], &expectations(), RequestResults::OneWay, None);
        assert_eq!(ill.because, ["1 datagram was not sent on properly"]);
    }
}
