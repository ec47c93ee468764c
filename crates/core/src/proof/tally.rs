//! The count of a trial: where the requests went, against where they should have gone.

use std::collections::BTreeMap;

use hdrhistogram::Histogram;
use serde::{Deserialize, Serialize};

use super::{ChiSquare, chi_square};
use crate::name::PoolServer;

/// Below this p-value a distribution counts as uneven.
const SIGNIFICANCE: f64 = 0.01;

/// How one request of a trial ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// An answer came, with this status.
    Answered(u16),
    /// No whole answer came.
    Broken,
}

impl Outcome {
    fn failed(self) -> bool {
        match self {
            Self::Answered(status) => status >= 500,
            Self::Broken => true,
        }
    }
}

/// One request of a trial.
#[derive(Clone, Debug)]
pub struct Sample {
    /// The server that took it in the end; `None` when none did.
    pub server: Option<PoolServer>,
    /// The servers that failed it before.
    pub failed_at: Vec<PoolServer>,
    /// How it ended.
    pub outcome: Outcome,
    /// From sending the request to the end of its answer, in microseconds.
    pub latency_us: u64,
    /// Which of the expectations held when it was decided.
    pub expectation: Option<u64>,
}

/// One server's line.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Row {
    /// The server.
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
pub enum Verdict {
    /// Every request was answered and each server got its share.
    AsExpected,
    /// Requests failed, or the shares are not what they should be.
    NotAsExpected,
    /// Nothing failed, but there were too few requests to judge the shares.
    TooFew,
}

/// The whole count.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tally {
    /// A line for each server that expected or got anything, in the order of the names.
    pub rows: Vec<Row>,
    /// Requests sent.
    pub requests: u64,
    /// Requests that ended badly, with or without a server.
    pub failed: u64,
    /// Requests that no server took.
    pub without_server: u64,
    /// Requests that were given to another server after one failed.
    pub retried: u64,
    /// The test of the observed counts against the expected ones; `None` when it can't say anything.
    pub test: Option<ChiSquare>,
    /// What it shows.
    pub verdict: Verdict,
    /// Why, a sentence each.
    pub because: Vec<String>,
}

/// Counts a trial. `expectations` are the expected shares of each server, by the version of the snapshot in which
/// they held; a server that goes down half way therefore expects its share of the requests until then. Where work is
/// dealt out by something else than the weights, `unjudged` says so, and shares are shown but not judged.
#[must_use]
pub fn tally(
    samples: &[Sample],
    expectations: &BTreeMap<u64, Vec<(PoolServer, f64)>>,
    unjudged: Option<&str>,
) -> Tally {
    let mut lines: BTreeMap<PoolServer, Line> = BTreeMap::new();
    let mut totals = (0, 0, 0);
    for (server, _) in expectations.values().flatten() {
        lines.entry(server.clone()).or_default();
    }
    for sample in samples {
        for (server, share) in
            sample.expectation.and_then(|version| expectations.get(&version)).into_iter().flatten()
        {
            lines.entry(server.clone()).or_default().expected += share;
        }
        for server in &sample.failed_at {
            lines.entry(server.clone()).or_default().retried += 1;
        }
        totals.0 += u64::from(sample.outcome.failed());
        totals.1 += u64::from(sample.server.is_none());
        totals.2 += u64::from(sample.server.is_some() && !sample.failed_at.is_empty());
        if let Some(server) = &sample.server {
            lines.entry(server.clone()).or_default().take(sample);
        }
    }
    let total = samples.len() as f64;
    let rows: Vec<Row> = lines.into_iter().map(|(server, line)| line.row(server, total)).collect();
    let observed: Vec<u64> = rows.iter().map(|row| row.requests).collect();
    let expected: Vec<f64> = rows.iter().map(|row| row.expected_requests).collect();
    let test = chi_square(&observed, &expected).filter(|_| unjudged.is_none());
    let (failed, without_server, retried) = totals;
    let (verdict, because) = judge(&rows, failed, test, unjudged);
    Tally { rows, requests: samples.len() as u64, failed, without_server, retried, test, verdict, because }
}

#[derive(Default)]
struct Line {
    expected: f64,
    requests: u64,
    failed: u64,
    retried: u64,
    latencies: Option<Histogram<u64>>,
}

impl Line {
    fn take(&mut self, sample: &Sample) {
        self.requests += 1;
        self.failed += u64::from(sample.outcome.failed());
        if let Outcome::Answered(_) = sample.outcome {
            let new = || Histogram::new(3).expect("three digits are in range");
            self.latencies.get_or_insert_with(new).saturating_record(sample.latency_us);
        }
    }

    fn row(self, server: PoolServer, total: f64) -> Row {
        let quantile = |q| self.latencies.as_ref().map(|histogram| histogram.value_at_quantile(q));
        let share = |count: f64| if total > 0.0 { count / total } else { 0.0 };
        Row {
            expected: share(self.expected),
            observed: share(self.requests as f64),
            requests: self.requests,
            expected_requests: self.expected,
            failed: self.failed,
            retried: self.retried,
            median_us: quantile(0.5),
            p99_us: quantile(0.99),
            server,
        }
    }
}

fn judge(
    rows: &[Row],
    failed: u64,
    test: Option<ChiSquare>,
    unjudged: Option<&str>,
) -> (Verdict, Vec<String>) {
    let mut because = Vec::new();
    if failed > 0 {
        because.push(format!("{failed} requests were not answered properly"));
    }
    for row in rows.iter().filter(|row| row.retried > 0) {
        because.push(format!(
            "{} requests failed at {} and were given to another server",
            row.retried, row.server
        ));
    }
    for row in rows.iter().filter(|row| row.requests > 0 && row.expected_requests == 0.0) {
        because.push(format!("{} got {} requests and should have got none", row.server, row.requests));
    }
    if let Some(test) = test.filter(|test| test.p_value < SIGNIFICANCE) {
        because.push(format!("the shares differ from the expected ones ({})", test.p_words()));
    }
    if !because.is_empty() {
        return (Verdict::NotAsExpected, because);
    }
    if let Some(unjudged) = unjudged.filter(|_| rows.iter().any(|row| row.requests > 0)) {
        because.push(format!(
            "every request was answered, by servers that may have work; shares are not judged, for {unjudged}"
        ));
        return (Verdict::AsExpected, because);
    }
    let choices = rows.iter().filter(|row| row.expected_requests > 0.0).count();
    if test.is_none() && choices != 1 {
        let says = if choices == 0 {
            "no server was expected to get anything".to_owned()
        } else {
            "too few requests to judge the shares: each server should expect at least 5".to_owned()
        };
        return (Verdict::TooFew, vec![says]);
    }
    because.push("every request was answered, and each server got its share".to_owned());
    (Verdict::AsExpected, because)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn server(name: &str) -> PoolServer {
        format!("booking/{name}").parse().unwrap()
    }

    fn answered(name: &str) -> Sample {
        Sample {
            server: Some(server(name)),
            failed_at: Vec::new(),
            outcome: Outcome::Answered(200),
            latency_us: 1_000,
            expectation: Some(1),
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
        let tally = tally(&samples, &expectations(), None);
        assert_eq!(tally.verdict, Verdict::AsExpected);
        assert_eq!(tally.rows[0].expected_requests, 50.0);
        assert_eq!((tally.rows[0].observed, tally.rows[1].observed), (0.5, 0.5));
        assert_eq!(tally.rows[0].median_us, Some(1_000));
    }

    #[test]
    fn expectations_follow_a_server_that_goes_down_half_way() {
        let mut samples: Vec<_> =
            (0..100).map(|i| answered(if i % 2 == 0 { "gull" } else { "tern" })).collect();
        samples.extend((0..100).map(|_| Sample { expectation: Some(2), ..answered("tern") }));
        let tally = tally(&samples, &expectations(), None);
        assert_eq!(tally.verdict, Verdict::AsExpected, "{:?}", tally.because);
        assert_eq!(tally.rows[0].expected, 0.25);
    }

    #[test]
    fn one_failure_is_not_as_expected() {
        let mut samples: Vec<_> =
            (0..100).map(|i| answered(if i % 2 == 0 { "gull" } else { "tern" })).collect();
        samples[3].outcome = Outcome::Answered(503);
        let tally = tally(&samples, &expectations(), None);
        assert_eq!(tally.verdict, Verdict::NotAsExpected);
        assert_eq!((tally.failed, tally.rows[1].failed), (1, 1));
    }

    #[test]
    fn retries_are_charged_to_the_server_that_failed() {
        let moved = Sample { failed_at: vec![server("gull")], ..answered("tern") };
        let tally = tally(&vec![moved; 40], &expectations(), None);
        assert_eq!((tally.rows[0].retried, tally.rows[1].retried, tally.retried), (40, 0, 40));
        assert_eq!(tally.verdict, Verdict::NotAsExpected, "gull got nothing and should have got half");
        assert_eq!(tally.because[0], "40 requests failed at booking/gull and were given to another server");
    }

    #[test]
    fn a_server_that_should_get_nothing_is_named() {
        let mut samples: Vec<_> =
            (0..40).map(|_| Sample { expectation: Some(2), ..answered("tern") }).collect();
        samples.push(Sample { expectation: Some(2), ..answered("gull") });
        let tally = tally(&samples, &expectations(), None);
        assert_eq!(tally.verdict, Verdict::NotAsExpected);
        assert!(tally.because[0].contains("booking/gull got 1 requests and should have got none"));
    }

    #[test]
    fn three_requests_prove_nothing() {
        assert_eq!(tally(&vec![answered("gull"); 3], &expectations(), None).verdict, Verdict::TooFew);
        assert_eq!(tally(&[], &BTreeMap::new(), None).verdict, Verdict::TooFew);
    }

    #[test]
    fn shares_that_do_not_follow_the_weights_are_not_judged_and_failures_are() {
        let mut samples = vec![answered("gull"); 100];
        let by_keys = tally(&samples, &expectations(), Some("the clients' keys decide"));
        assert_eq!((by_keys.verdict, by_keys.test), (Verdict::AsExpected, None));
        assert!(by_keys.because[0].contains("the clients' keys decide"));
        assert_eq!(tally(&samples, &expectations(), None).verdict, Verdict::NotAsExpected);
        samples[3].outcome = Outcome::Broken;
        assert_eq!(tally(&samples, &expectations(), Some("so")).verdict, Verdict::NotAsExpected);
    }
}
