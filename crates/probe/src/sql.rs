//! `sql`: one query of a server that speaks the protocol of MariaDB and MySQL, so that a replica that lags, a node that
//! is read-only or a member of a cluster that is not in step can be distinguished from one that works.

use merismos_core::config::document::{SqlProbe, TlsVerify};
use merismos_core::health::ProbeStep;
use sqlx::mysql::{MySqlConnectOptions, MySqlConnection, MySqlRow, MySqlSslMode};
use sqlx::{AssertSqlSafe, Column, ConnectOptions, Connection, Executor, Row};

use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace};

pub(super) async fn ask(asking: &ProbeRun<'_>, asked: &SqlProbe, trace: &mut Trace) -> ProbeOutcome {
    // A closed port and silence are reported in the words of every other check.
    drop(asking.connect(trace).await?);
    trace.begin(ProbeStep::Answer, "connected, but the login did not end");
    let mut options = MySqlConnectOptions::new()
        .host(&asking.address.ip().to_string())
        .port(asking.address.port())
        .username(&asked.user)
        .ssl_mode(match (asked.tls, &asked.authorities) {
            (Some(TlsVerify::Unverified), _) => MySqlSslMode::Required,
            (Some(TlsVerify::Verified), _) | (None, Some(_)) => MySqlSslMode::VerifyIdentity,
            (None, None) => MySqlSslMode::Disabled,
        })
        // Nothing is set when it connects: a member that was cut off would refuse it.
        .pipes_as_concat(false)
        .no_engine_substitution(false)
        .timezone(None)
        .set_names(false)
        .disable_statement_logging();
    if let Some(secret) = &asked.password {
        let password = asking.surroundings.secrets.read(secret);
        options = options.password(&password.map_err(|wrong| ProbeFailure::at(ProbeStep::Connect, wrong))?);
    }
    if let Some(authorities) = &asked.authorities {
        options = options.ssl_ca(authorities);
    }
    if let Some(database) = &asked.database {
        options = options.database(database);
    }
    let refused = |error: sqlx::Error| {
        ProbeFailure::at(ProbeStep::Answer, format!("connected, but could not log in: {}", in_words(&error)))
    };
    let mut connection = MySqlConnection::connect_with(&options).await.map_err(refused)?;
    trace.done(ProbeStep::Answer, "logged in");
    trace.begin(ProbeStep::Status, "logged in, but the query did not end");
    let row = query(&mut connection, &asked.query).await;
    // How it takes the goodbye is of no interest.
    let _ = connection.close().await;
    let row = row.map_err(|error| {
        ProbeFailure::at(ProbeStep::Status, format!("the query failed: {}", in_words(&error)))
    })?;
    let Some(row) = row else {
        return Err(ProbeFailure::at(ProbeStep::Status, "the query gave no row".to_owned()));
    };
    trace.done(ProbeStep::Status, "a row");
    judge(asked, &row)
}

async fn query(connection: &mut MySqlConnection, query: &str) -> Result<Option<MySqlRow>, sqlx::Error> {
    let is_show = query.trim_start().get(..4).is_some_and(|word| word.eq_ignore_ascii_case("show"));
    if !is_show {
        // A member that was cut off refuses this, and every SELECT; what it still answers is SHOW.
        connection.execute("START TRANSACTION READ ONLY").await?;
    }
    // The document's own words, checked to be one statement that reads.
    sqlx::raw_sql(AssertSqlSafe(query.to_owned())).fetch_optional(connection).await
}

fn judge(asked: &SqlProbe, row: &MySqlRow) -> ProbeOutcome {
    let (name, value): (String, Result<Option<String>, _>) = match &asked.column {
        Some(column) => (column.clone(), row.try_get_unchecked(column.as_str())),
        None => (
            row.columns().first().map_or_else(String::new, |column| column.name().to_owned()),
            row.try_get_unchecked(0),
        ),
    };
    let value = value.map_err(|_| {
        let columns: Vec<_> = row.columns().iter().map(|column| column.name()).collect();
        ProbeFailure::at(
            ProbeStep::Body,
            format!("the row has no column {name}; it has {}", columns.join(", ")),
        )
    })?;
    let value = value.unwrap_or_else(|| "NULL".to_owned());
    match &asked.expect {
        Some(wanted) if !wanted.is_met(&value) => {
            Err(ProbeFailure::at(ProbeStep::Body, format!("{name} is {value}; expected {wanted}")))
        }
        _ => Ok(format!("{name} is {value}")),
    }
}

fn in_words(error: &sqlx::Error) -> String {
    match error {
        sqlx::Error::Database(error) => error.message().to_owned(),
        other => other.to_string(),
    }
}
