//! Windows: planned times of maintenance, also as a calendar.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::StatusCode;
use axum::http::header::CONTENT_TYPE;
use axum::response::IntoResponse;
use axum::{Extension, Json};
use icalendar::{Calendar, Component, DatePerhapsTime, Event, EventLike};
use merismos_api::{WindowQuery, WindowResponse, WindowView, Windows};
use merismos_core::name::Name;
use merismos_core::text::printable;
use merismos_core::window::{Window, WindowError, WindowPlan, clashes};
use tokio::sync::Mutex;

use super::ApiState;
use super::auth::CallerName;
use super::changes::{LONGEST_NOTE, check_note};
use super::problem::{ApiError, Changing, Finding, JsonBody, Looking, PathParams, QueryParams};
use crate::clock::wall;
use crate::controller::{TIMES, WindowBookError, WindowGround};

/// Over how many days the times of windows are given where the call does not say.
const USUAL_DAYS: u16 = 30;
/// The largest number of days.
const MOST_DAYS: u16 = 400;
/// How far ahead clashes with the guard are looked for.
const WEIGHED_DAYS: u64 = 90;
const DAY: Duration = Duration::from_secs(86_400);

/// Lets one plan at a time be weighed and made: of two that clash, the second is refused.
#[derive(Debug, Default)]
pub(crate) struct WindowDesk(Mutex<()>);

/// Over how long a time the times of windows are asked for.
fn span(query: &WindowQuery) -> Result<Duration, ApiError> {
    let days = query.days.unwrap_or(USUAL_DAYS);
    if !(1..=MOST_DAYS).contains(&days) {
        return Err(ApiError::bad_request(format!("{days} days are out of range: 1 to {MOST_DAYS}.")));
    }
    Ok(DAY * u32::from(days))
}

/// Windows, with their times in the days that come.
#[utoipa::path(
    get, path = "/windows", operation_id = "list_windows", tag = "look", params(WindowQuery),
    responses((status = 200, body = Windows), Looking)
)]
pub(super) async fn list(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<WindowQuery>,
) -> Result<Json<Windows>, ApiError> {
    Ok(Json(app.controller.windows(span(&query)?).await?))
}

/// Plan a window, or plan it anew. A plan that the guard would not follow is refused, unless it says `anyway`. Given again it changes
/// nothing.
#[utoipa::path(
    put, path = "/windows/{name}", operation_id = "put_window", tag = "change", request_body = WindowPlan,
    params(("name" = String, Path, description = "The window", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = WindowResponse), Changing)
)]
pub(super) async fn put(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(name): PathParams<String>,
    JsonBody(mut plan): JsonBody<WindowPlan>,
) -> Result<Json<WindowResponse>, ApiError> {
    let name: Name = name.parse().map_err(ApiError::bad_request)?;
    plan.reason = plan.reason.trim().to_owned();
    if plan.reason.is_empty() || plan.reason.chars().count() > LONGEST_NOTE {
        let detail = format!("A reason is needed, of 1 to {LONGEST_NOTE} characters.");
        return Err(refused(detail));
    }
    check_note(&plan.reason)?;
    let one_at_a_time = app.windows.0.lock().await;
    let ground = app.controller.window_ground(name.clone()).await?;
    // A rule that seldom has a time takes a while to go through.
    let weighed = tokio::task::spawn_blocking(move || weigh(plan, &ground)).await;
    let (plan, overridden) = weighed.map_err(|_| ApiError::broken())?.map_err(|error| match error {
        WindowError::Servers(error) => ApiError::unknown(error),
        error => refused(error),
    })?;
    let window = Window { plan, who, at: wall(), begun: None };
    let changed = app.controller.put_window(name.clone(), window).await?.map_err(not_put)?;
    drop(one_at_a_time);
    if changed {
        app.keeper.is_saved().await;
    }
    let windows = app.controller.windows(DAY * u32::from(USUAL_DAYS)).await?;
    let window = windows.windows.into_iter().find(|window| window.name == name.as_str());
    let window = window.ok_or_else(|| ApiError::unknown(format!("there is no window {name}")))?;
    let overridden = overridden.iter().map(ToString::to_string).collect();
    Ok(Json(WindowResponse { window, changed, overridden, recorded: app.journal.outbox().is_flowing() }))
}

/// Remove a window. Servers that it holds out of service stay out until the end of its time.
#[utoipa::path(
    delete, path = "/windows/{name}", operation_id = "remove_window", tag = "change",
    params(("name" = String, Path, description = "The window", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 204, description = "The window is removed"), Changing)
)]
pub(super) async fn remove(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(name): PathParams<String>,
) -> Result<StatusCode, ApiError> {
    let name: Name = name.parse().map_err(ApiError::bad_request)?;
    app.controller.remove_window(name, who).await?.map_err(not_put)?;
    app.keeper.is_saved().await;
    Ok(StatusCode::NO_CONTENT)
}

/// One window, with its times in the days that come.
#[utoipa::path(
    get, path = "/windows/{name}", operation_id = "show_window", tag = "look",
    params(WindowQuery, ("name" = String, Path, description = "The window", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = WindowView), Finding)
)]
pub(super) async fn show(
    State(app): State<Arc<ApiState>>,
    PathParams(name): PathParams<String>,
    QueryParams(query): QueryParams<WindowQuery>,
) -> Result<Json<WindowView>, ApiError> {
    let name: Name = name.parse().map_err(ApiError::bad_request)?;
    let windows = app.controller.windows(span(&query)?).await?;
    let window = windows.windows.into_iter().find(|window| window.name == name.as_str());
    window.map(Json).ok_or_else(|| ApiError::unknown(format!("there is no window {name}")))
}

/// Windows as a calendar (iCalendar, RFC 5545), with their times in the days that come.
#[utoipa::path(
    get, path = "/windows.ics", operation_id = "windows_calendar", tag = "look", params(WindowQuery),
    responses((status = 200, content_type = "text/calendar", body = String), Looking)
)]
pub(super) async fn calendar(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<WindowQuery>,
) -> Result<impl IntoResponse, ApiError> {
    let windows = app.controller.windows(span(&query)?).await?;
    Ok(([(CONTENT_TYPE, "text/calendar; charset=utf-8")], in_calendar(&windows)))
}

fn in_calendar(windows: &Windows) -> String {
    let mut calendar = Calendar::empty();
    for (property, value) in
        [("VERSION", "2.0"), ("PRODID", "-//Merismos//Windows//EN"), ("CALSCALE", "GREGORIAN")]
    {
        calendar.append_property((property, value));
    }
    calendar.name("Maintenance windows");
    for window in &windows.windows {
        for time in &window.times {
            let reason = printable(&window.plan.reason).into_owned();
            let mut event = Event::new();
            event
                .uid(&format!("{}-{}@merismos", window.name, time.start.0))
                .summary(&format!("{}: {reason}", window.name))
                .description(&format!("{}; planned by {}", window.servers.join(", "), window.who));
            if let (Some(at), Some(start), Some(end)) = (utc(windows.from), utc(time.start), utc(time.end)) {
                event.timestamp(at).starts(DatePerhapsTime::from(start)).ends(DatePerhapsTime::from(end));
                calendar.push(event.done());
            }
        }
    }
    calendar.to_string()
}

fn utc(at: merismos_core::time::Wall) -> Option<chrono::DateTime<chrono::Utc>> {
    chrono::DateTime::from_timestamp_millis(at.0)
}

/// Checks a plan and looks for clashes with the guard in the days that come.
fn weigh(
    plan: WindowPlan,
    ground: &WindowGround,
) -> Result<(WindowPlan, Vec<merismos_core::window::Clash>), WindowError> {
    let now = wall();
    plan.check(now)?;
    let servers = plan.selector()?.select(&ground.document)?;
    let until = now.plus(DAY * u32::try_from(WEIGHED_DAYS).unwrap_or(u32::MAX));
    let mut times = plan.schedule.occurrences(now, until, TIMES);
    times.extend(plan.schedule.next(now).filter(|_| times.is_empty()));
    let end = times.last().map_or(now, |last| last.end);
    let others: Vec<_> = ground
        .others
        .iter()
        .filter(|(.., theirs)| theirs.iter().any(|their| servers.iter().any(|own| own.pool == their.pool)))
        .map(|(name, window, theirs)| {
            (name, window.plan.schedule.occurrences(now, end, u16::MAX - 1), theirs.clone())
        })
        .collect();
    let found = clashes((&times, &servers), &others, |servers| {
        let pools: std::collections::BTreeSet<&Name> = servers.iter().map(|server| &server.pool).collect();
        pools.into_iter().filter_map(|pool| ground.stocks.get(pool).cloned()).collect()
    });
    if !found.is_empty() && !plan.anyway {
        return Err(WindowError::Clashes(found));
    }
    Ok((plan, found))
}

fn refused(why: impl ToString) -> ApiError {
    ApiError::new(
        StatusCode::UNPROCESSABLE_ENTITY,
        "refused-window",
        "The window can't be planned",
        why.to_string(),
    )
}

fn not_put(error: WindowBookError) -> ApiError {
    match error {
        WindowBookError::Unknown(_) => ApiError::unknown(error),
        WindowBookError::Full => refused(error),
    }
}

#[cfg(test)]
mod tests {
    use merismos_api::WindowState;
    use merismos_core::time::Wall;
    use merismos_core::window::Occurrence;

    use super::*;

    #[test]
    fn a_calendar_holds_each_time_and_no_line_of_a_reason() {
        let at = |text: &str| Wall::try_from(text.to_owned()).unwrap();
        let plan: WindowPlan = serde_json::from_value(serde_json::json!({
            "host": "gull", "start": "2026-12-01T22:00:00", "zone": "Europe/Oslo", "length": "2h",
            "reason": "new disk, again\r\nEND:VCALENDAR",
        }))
        .unwrap();
        let window = WindowView {
            name: "night".to_owned(),
            plan,
            who: "kittiwake".to_owned(),
            at: Wall(0),
            state: WindowState::Ahead,
            servers: vec!["booking/gull".to_owned()],
            holds: Vec::new(),
            drains_at: None,
            times: vec![Occurrence { start: at("2026-12-01T21:00:00Z"), end: at("2026-12-01T23:00:00Z") }],
            kept_in: None,
        };
        let text =
            in_calendar(&Windows { from: at("2026-11-29T00:00:00Z"), to: Wall(0), windows: vec![window] });
        for line in ["DTSTART:20261201T210000Z", "DTEND:20261201T230000Z", "DTSTAMP:20261129T000000Z"] {
            assert!(text.contains(&format!("\r\n{line}\r\n")), "{text}");
        }
        assert_eq!(text.matches("PRODID:").count(), 1, "{text}");
        assert_eq!(text.lines().filter(|line| *line == "END:VCALENDAR").count(), 1, "{text}");
        assert!(text.starts_with("BEGIN:VCALENDAR\r\nVERSION:2.0\r\n"), "{text}");
    }
}
