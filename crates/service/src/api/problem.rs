//! Errors as problem documents (RFC 9457), and extractors that answer with them.

use std::collections::BTreeMap;
use std::time::Duration;

use axum::Json;
use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, Path, Query, Request};
use axum::http::header::{CONTENT_TYPE, WWW_AUTHENTICATE};
use axum::http::request::Parts;
use axum::http::{HeaderValue, StatusCode, Uri};
use axum::response::IntoResponse;
use merismos_api::{AcceptedWarning, Between, ProblemDocument};
use merismos_core::config::Problem;
use merismos_core::config::edit::EditError;
use merismos_store::StoreError;
use serde::de::DeserializeOwned;
use serde_json::value::RawValue;
use serde_json::{Number, Value};
use utoipa::IntoResponses;
use utoipa::openapi::{ContentBuilder, Ref, RefOr, Response, ResponseBuilder};

use super::ApiUsage;
use crate::access::SecretError;
use crate::controller::{DutyError, FailbackError, Stopping, UnknownFrontend};
use crate::deploy::ApplyError;
use crate::drafts::DraftError;
use crate::trials::TrialError;

/// How long a client may take to send the body of a call.
const BODY_TIMEOUT: Duration = Duration::from_secs(20);

/// An error on its way to the caller.
#[derive(Debug)]
pub(crate) struct ApiError {
    status: StatusCode,
    kind: &'static str,
    title: &'static str,
    detail: String,
    problems: Vec<Problem>,
    between: Option<Box<Between>>,
    warnings: Vec<AcceptedWarning>,
}

impl ApiError {
    pub(super) fn new(
        status: StatusCode,
        kind: &'static str,
        title: &'static str,
        detail: impl ToString,
    ) -> Self {
        let detail = detail.to_string();
        Self { status, kind, title, detail, problems: Vec::new(), between: None, warnings: Vec::new() }
    }

    /// The database is needed and not there.
    pub(super) fn away(error: StoreError) -> Self {
        let detail = format!("This is read from the database, and {error}. Traffic goes on.");
        Self::new(StatusCode::SERVICE_UNAVAILABLE, "database-away", "The database is away", detail)
    }

    pub(super) fn unauthorised() -> Self {
        let detail = "Send the token as `Authorization: Bearer ...`, or log in to the console. The first token is in \
                      the file first-token in the service's state folder.";
        Self::new(StatusCode::UNAUTHORIZED, "token", "A token is needed", detail)
    }

    pub(super) fn too_many_streams(usage: &ApiUsage) -> Self {
        let detail = format!(
            "{} event streams are open, as many as api_streams allows. Close some, or raise it and restart.",
            usage.streams()
        );
        Self::new(StatusCode::TOO_MANY_REQUESTS, "too-many-streams", "Too many event streams", detail)
    }

    pub(super) fn unknown(detail: impl ToString) -> Self {
        Self::new(StatusCode::NOT_FOUND, "unknown", "There is no such object", detail)
    }

    /// A change ended in a panic.
    pub(super) fn broken() -> Self {
        let detail =
            "The change ended badly; the service's log says where. Look at what runs before you try again.";
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "Something in Merismos broke", detail)
    }

    pub(super) fn bad_request(detail: impl ToString) -> Self {
        Self::new(StatusCode::BAD_REQUEST, "bad-request", "The call is wrong", detail)
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> axum::response::Response {
        let document = ProblemDocument {
            kind: format!("/problems/{}", self.kind),
            title: self.title.to_owned(),
            status: self.status.as_u16(),
            detail: self.detail,
            problems: self.problems,
            between: self.between,
            warnings: self.warnings,
        };
        let mut response = (self.status, Json(document)).into_response();
        let fields = response.headers_mut();
        fields.insert(CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        if self.status == StatusCode::UNAUTHORIZED {
            fields.insert(WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        response
    }
}

impl From<Stopping> for ApiError {
    fn from(stopping: Stopping) -> Self {
        Self::new(StatusCode::SERVICE_UNAVAILABLE, "stopping", "The service is stopping", stopping)
    }
}

impl From<SecretError> for ApiError {
    fn from(error: SecretError) -> Self {
        Self::new(StatusCode::SERVICE_UNAVAILABLE, "disk", "The state folder can't be used", error)
    }
}

impl From<UnknownFrontend> for ApiError {
    fn from(error: UnknownFrontend) -> Self {
        Self::unknown(error)
    }
}

impl From<DutyError> for ApiError {
    fn from(error: DutyError) -> Self {
        match error {
            DutyError::Unknown(_) => Self::unknown(error),
            DutyError::Refused(_) => {
                Self::new(StatusCode::CONFLICT, "guarded", "Too little would be left", error)
            }
        }
    }
}

impl From<FailbackError> for ApiError {
    fn from(error: FailbackError) -> Self {
        match error {
            FailbackError::NoPool(_) => Self::unknown(error),
            FailbackError::NoLower { .. } | FailbackError::NotHeld(_) => Self::new(
                StatusCode::CONFLICT,
                "nothing-to-send-back",
                "There is nothing to send back",
                error,
            ),
        }
    }
}

impl From<ApplyError> for ApiError {
    fn from(error: ApplyError) -> Self {
        let (status, kind, title) = match &error {
            ApplyError::Mistakes(_) => {
                (StatusCode::UNPROCESSABLE_ENTITY, "refused-document", "The document is refused")
            }
            ApplyError::Edit(edit) => of_edit(edit),
            ApplyError::Stale { .. } => (StatusCode::CONFLICT, "stale", "Another change was made first"),
            ApplyError::Unaccepted(_) => {
                (StatusCode::CONFLICT, "unaccepted-warnings", "Warnings have to be accepted first")
            }
            ApplyError::Bind(_) => (StatusCode::CONFLICT, "address-taken", "A frontend can't listen"),
            ApplyError::NotRecorded(_) => {
                (StatusCode::SERVICE_UNAVAILABLE, "not-recorded", "The database did not take the revision")
            }
            ApplyError::Stopping(_) => {
                (StatusCode::SERVICE_UNAVAILABLE, "stopping", "The service is stopping")
            }
        };
        let made = Self::new(status, kind, title, &error);
        match error {
            ApplyError::Mistakes(problems) => Self { problems, ..made },
            ApplyError::Edit(edit) => Self { problems: edit.problems(), ..made },
            ApplyError::Stale { between, .. } => Self { between, ..made },
            ApplyError::Unaccepted(warnings) => Self { warnings, ..made },
            ApplyError::Bind(_) | ApplyError::NotRecorded(_) | ApplyError::Stopping(_) => made,
        }
    }
}

fn of_edit(error: &EditError) -> (StatusCode, &'static str, &'static str) {
    match error {
        EditError::Unknown { .. } => (StatusCode::NOT_FOUND, "unknown", "There is no such object"),
        EditError::Exists(_) => (StatusCode::CONFLICT, "exists", "There is such an object already"),
        EditError::InUse { .. } => (StatusCode::CONFLICT, "in-use", "Others use it"),
        EditError::NoneFree(_) | EditError::NoneHere { .. } => {
            (StatusCode::CONFLICT, "none-free", "No address is free")
        }
        EditError::Line(_) | EditError::Hosts(_) | EditError::Keys(_) => {
            (StatusCode::UNPROCESSABLE_ENTITY, "refused-edit", "The edit is refused")
        }
    }
}

/// What a draft's error is, unless deploying it failed.
fn of_draft(error: &DraftError) -> Option<(StatusCode, &'static str, &'static str)> {
    Some(match error {
        DraftError::Apply(_) => return None,
        DraftError::Unknown(_) => (StatusCode::NOT_FOUND, "unknown", "There is no such object"),
        DraftError::NoWarning { .. } => (StatusCode::NOT_FOUND, "unknown", "There is no such warning"),
        DraftError::Exists(_) => (StatusCode::CONFLICT, "exists", "There is such an object already"),
        DraftError::Edit(edit) => of_edit(edit),
        DraftError::Overlap { .. } => (StatusCode::CONFLICT, "overlap", "Both changed the same"),
        DraftError::Merged(_) => (StatusCode::CONFLICT, "overlap", "The changes do not fit together"),
        DraftError::NoBase(_) | DraftError::Misnamed(_) | DraftError::Unreadable { .. } => {
            (StatusCode::CONFLICT, "unreadable-draft", "The draft can't be read")
        }
        DraftError::Busy(_) => (StatusCode::CONFLICT, "busy", "Others change it"),
        DraftError::Store(_) => (StatusCode::SERVICE_UNAVAILABLE, "database-away", "The database is away"),
    })
}

impl From<DraftError> for ApiError {
    fn from(error: DraftError) -> Self {
        let made = of_draft(&error).map(|(status, kind, title)| Self::new(status, kind, title, &error));
        match (made, error) {
            (_, DraftError::Apply(inner)) => inner.into(),
            (Some(made), DraftError::Merged(problems)) => Self { problems, ..made },
            (Some(made), DraftError::Edit(edit)) => Self { problems: edit.problems(), ..made },
            (Some(made), _) => made,
            (None, error) => Self::bad_request(error),
        }
    }
}

impl From<TrialError> for ApiError {
    fn from(error: TrialError) -> Self {
        match error {
            TrialError::NoFrontend(_) => Self::unknown(error),
            TrialError::Order(ref order) if order.is_about_what_runs() => {
                Self::new(StatusCode::CONFLICT, "no-such-trial", "This can't be tried here", error)
            }
            TrialError::Order(_) | TrialError::Name(_) => Self::bad_request(error),
            TrialError::TooMany => {
                Self::new(StatusCode::TOO_MANY_REQUESTS, "too-many-trials", "Too many trials", error)
            }
            TrialError::Stopping(stopping) => stopping.into(),
        }
    }
}

/// Declares the problem documents that a group of calls may answer with.
macro_rules! problems {
    ($(#[$about:meta])* $group:ident: $($status:literal $says:literal),+) => {
        $(#[$about])*
        pub(super) struct $group;

        impl IntoResponses for $group {
            fn responses() -> BTreeMap<String, RefOr<Response>> {
                BTreeMap::from([$((stringify!($status).to_owned(), problem_response($says))),+])
            }
        }
    };
}

problems! {
    /// Of calls that only look.
    Looking: 400 "The call is wrong", 401 "A token is needed", 429 "Too many event streams", 503 "The database is away, or the service is stopping"
}
problems! {
    /// Of calls that look for something by its name.
    Finding: 400 "The call is wrong", 401 "A token is needed", 404 "There is no such object",
        503 "The database is away, or the service is stopping"
}
problems! {
    /// Of streams about something that is named.
    Watching: 400 "The call is wrong", 401 "A token is needed", 404 "There is no such object", 429 "Too many event streams",
        503 "The service is stopping"
}
problems! {
    /// Of calls that change something.
    Changing: 400 "The call is wrong", 401 "A token is needed", 404 "There is no such object",
        409 "It does not go with what is so by now; the detail says why", 415 "The body is not declared as JSON",
        422 "The change holds mistakes, which are all listed", 429 "Too many at once",
        503 "The database did not take it, or the service is stopping"
}

fn problem_response(says: &str) -> RefOr<Response> {
    let content = ContentBuilder::new().schema(Some(Ref::from_schema_name("ProblemDocument"))).build();
    RefOr::T(ResponseBuilder::new().description(says).content("application/problem+json", content).build())
}

/// A JSON body whose rejection is a problem document.
pub(super) struct JsonBody<T>(pub(super) T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for JsonBody<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Self, ApiError> {
        let reading = Json::<Box<RawValue>>::from_request(request, state);
        let Ok(read) = tokio::time::timeout(BODY_TIMEOUT, reading).await else {
            return Err(ApiError::new(
                StatusCode::REQUEST_TIMEOUT,
                "slow-body",
                "The body took too long",
                format!("The body of a call has to be here within {} s.", BODY_TIMEOUT.as_secs()),
            ));
        };
        let refused = |rejection: JsonRejection| {
            ApiError::new(
                rejection.status(),
                "bad-request",
                "The call's body is wrong",
                rejection.body_text(),
            )
        };
        let Json(text) = read.map_err(refused)?;
        match Json::<T>::from_bytes(text.get().as_bytes()) {
            Ok(Json(body)) => Ok(Self(body)),
            Err(rejection) => with_whole_numbers(&text).ok_or_else(|| refused(rejection)).map(Self),
        }
    }
}

/// Reads a body again in which whole numbers are written as `3.0`, which is the same number (RFC 8259, 6).
fn with_whole_numbers<T: DeserializeOwned>(text: &RawValue) -> Option<T> {
    fn rewrite(value: &mut Value) {
        match value {
            Value::Number(number) => {
                let whole = number.as_f64().filter(|number| number.fract() == 0.0 && number.abs() < 9e15);
                if let Some(whole) = whole.filter(|_| number.is_f64()) {
                    *number = Number::from(whole as i64);
                }
            }
            Value::Array(values) => values.iter_mut().for_each(rewrite),
            Value::Object(values) => values.values_mut().for_each(rewrite),
            Value::Null | Value::Bool(_) | Value::String(_) => {}
        }
    }
    let mut value: Value = serde_json::from_str(text.get()).ok()?;
    rewrite(&mut value);
    serde_json::from_value(value).ok()
}

/// Parts of the path, whose rejection is a problem document.
pub(super) struct PathParams<T>(pub(super) T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for PathParams<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let read = Path::<T>::from_request_parts(parts, state).await;
        read.map(|Path(value)| Self(value))
            .map_err(|rejection: PathRejection| ApiError::bad_request(rejection.body_text()))
    }
}

/// The query, whose rejection is a problem document.
pub(super) struct QueryParams<T>(pub(super) T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for QueryParams<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let read = Query::<T>::from_request_parts(parts, state).await;
        read.map(|Query(value)| Self(value))
            .map_err(|rejection: QueryRejection| ApiError::bad_request(rejection.body_text()))
    }
}

/// For addresses under `/api` that are none.
pub(super) async fn no_such_call(uri: Uri) -> ApiError {
    ApiError::unknown(format!("There is no call {}; /api/v1/openapi.json lists them.", uri.path()))
}

/// For calls with the wrong method.
pub(super) async fn wrong_method(uri: Uri) -> ApiError {
    let detail = format!("{} is not called like this; /api/v1/openapi.json says how.", uri.path());
    ApiError::new(StatusCode::METHOD_NOT_ALLOWED, "wrong-method", "Wrong method", detail)
}
