//! The API under `/api/v1`, with the OpenAPI document that is made from it, and the console beside it.

mod addresses;
mod announcements;
mod auth;
mod certificates;
mod changes;
mod checks;
mod decisions;
mod drafts;
mod duties;
mod health;
mod machine;
mod nodes;
mod notifications;
mod objects;
mod openapi;
mod pins;
mod problem;
mod read;
mod repeats;
mod rolls;
mod server;
mod stream;
mod tokens;
mod trials;
mod windows;

use std::path::PathBuf;
use std::sync::Arc;

use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::http::header::{CONTENT_TYPE, HeaderName, HeaderValue};
use axum::middleware::{self, Next};
use axum::response::Response;
use axum::routing::get;
use merismos_plane::decisions::DecisionLog;
use merismos_probe::ProbeEnvironment;
use merismos_store::Store;
use tokio::net::TcpListener;
use tokio::sync::watch;
use utoipa::OpenApi;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::access::{Access, FailedLogins};
use crate::addresses::AddressWatch;
use crate::announcements::AnnouncementWatch;
use crate::certificates::CertificateKeeper;
use crate::console;
use crate::controller::Controller;
use crate::deploy::Deployer;
use crate::drafts::DraftDesk;
use crate::journal::Journal;
use crate::machine::MachineWatch;
use crate::nodes::{NodeWatch, PinKeyKeeper};
use crate::notifications::NotificationSender;
use crate::rule_uses::RuleUses;
use crate::state_file::StateFile;
use crate::trials::TrialRunner;
use crate::troubles::Troubles;

pub(crate) use repeats::RepeatedCalls;
pub(crate) use server::{ApiLimits, ApiUsage};
pub(crate) use stream::StatusFrames;
pub(crate) use windows::WindowDesk;

/// The largest body of a call that takes a document or edits: a document of ten thousand servers has about 1 MiB.
const DOCUMENT_LIMIT: usize = 16 << 20;
/// The largest body of any other call.
const BODY_LIMIT: usize = 64 << 10;
/// The largest body of the log-in, which needs no token.
const SESSION_LIMIT: usize = 1 << 10;

/// Everything that the handlers need.
pub(crate) struct ApiState {
    pub(crate) controller: Controller,
    pub(crate) deployer: Arc<Deployer>,
    pub(crate) drafts: DraftDesk,
    pub(crate) journal: Journal,
    pub(crate) store: Store,
    pub(crate) keeper: StateFile,
    pub(crate) access: Access,
    pub(crate) guesses: FailedLogins,
    pub(crate) trials: TrialRunner,
    pub(crate) messages: NotificationSender,
    pub(crate) decisions: DecisionLog,
    pub(crate) surroundings: ProbeEnvironment,
    pub(crate) usage: Arc<ApiUsage>,
    pub(crate) frames: StatusFrames,
    pub(crate) windows: WindowDesk,
    pub(crate) repeats: RepeatedCalls,
    pub(crate) pin_key: PinKeyKeeper,
    pub(crate) nodes: NodeWatch,
    pub(crate) addresses: AddressWatch,
    pub(crate) announcements: AnnouncementWatch,
    pub(crate) machine: MachineWatch,
    pub(crate) rule_uses: RuleUses,
    pub(crate) certificates: CertificateKeeper,
    pub(crate) state_folder: PathBuf,
    pub(crate) troubles: Troubles,
}

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Merismos",
        description = "The API of Merismos, a load-balancing service. Every call but the log-in needs a token. \
                       Errors are problem documents (RFC 9457) whose `detail` says what to do."
    ),
    modifiers(&BearerToken),
    security(("token" = []))
)]
struct OpenApiDocument;

struct BearerToken;

impl utoipa::Modify for BearerToken {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        let scheme = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build();
        let components = document.components.get_or_insert_default();
        components.add_security_scheme("token", SecurityScheme::Http(scheme));
    }
}

fn router(app: Arc<ApiState>) -> Router {
    let documents = OpenApiRouter::new()
        .routes(routes!(changes::apply))
        .routes(routes!(changes::change))
        .routes(routes!(drafts::edit))
        .layer(DefaultBodyLimit::max(DOCUMENT_LIMIT));
    let creating = OpenApiRouter::new()
        .routes(routes!(drafts::list, drafts::begin))
        .routes(routes!(trials::list, trials::begin))
        .routes(routes!(tokens::list, tokens::create))
        .layer(middleware::from_fn_with_state(Arc::clone(&app), repeats::once));
    let guarded = OpenApiRouter::new()
        .merge(creating)
        .routes(routes!(read::status))
        .routes(routes!(read::explain))
        .routes(routes!(read::limits))
        .routes(routes!(read::rule_counts))
        .routes(routes!(read::refusals))
        .routes(routes!(read::events))
        .routes(routes!(read::document))
        .routes(routes!(objects::schema))
        .routes(routes!(objects::list))
        .routes(routes!(objects::show))
        .routes(routes!(objects::machines))
        .routes(routes!(drafts::review, drafts::discard))
        .routes(routes!(drafts::deploy))
        .routes(routes!(drafts::rebase))
        .routes(routes!(drafts::revisions))
        .routes(routes!(drafts::revision))
        .routes(routes!(drafts::compare))
        .routes(routes!(drafts::revert))
        .routes(routes!(duties::many))
        .routes(routes!(duties::one))
        .routes(routes!(duties::server))
        .routes(routes!(duties::drains))
        .routes(routes!(pins::list, pins::remove))
        .routes(routes!(pins::key, pins::renew_key))
        .routes(routes!(machine::examine))
        .routes(routes!(nodes::list))
        .routes(routes!(nodes::remove))
        .routes(routes!(addresses::order_node))
        .routes(routes!(addresses::list))
        .routes(routes!(addresses::show))
        .routes(routes!(addresses::order))
        .routes(routes!(announcements::list))
        .routes(routes!(announcements::show))
        .routes(routes!(certificates::list))
        .routes(routes!(certificates::handshakes))
        .routes(routes!(certificates::order))
        .routes(routes!(rolls::list, rolls::begin))
        .routes(routes!(rolls::show))
        .routes(routes!(rolls::order))
        .routes(routes!(rolls::work))
        .routes(routes!(windows::list))
        .routes(routes!(windows::calendar))
        .routes(routes!(windows::show, windows::put, windows::remove))
        .routes(routes!(changes::failback))
        .routes(routes!(changes::reset_totals))
        .routes(routes!(trials::show))
        .routes(routes!(decisions::decisions))
        .routes(routes!(checks::try_check))
        .routes(routes!(checks::diagnosis))
        .routes(routes!(checks::frontend_diagnosis))
        .routes(routes!(checks::probes))
        .routes(routes!(notifications::sent))
        .routes(routes!(notifications::try_out))
        .routes(routes!(tokens::revoke))
        .routes(routes!(stream::stream))
        .layer(DefaultBodyLimit::max(BODY_LIMIT))
        .merge(documents)
        .layer(middleware::from_fn_with_state(Arc::clone(&app), auth::guard));
    let open = OpenApiRouter::new()
        .routes(routes!(auth::log_in, auth::log_out))
        .layer(DefaultBodyLimit::max(SESSION_LIMIT));
    let (api, document) = OpenApiRouter::with_openapi(OpenApiDocument::openapi())
        .nest("/api/v1", open)
        .nest("/api/v1", guarded)
        .split_for_parts();
    // Written once; every answer shares its bytes.
    let document = openapi::whole(&document);
    let answer = move || {
        let document = document.clone();
        async move { ([(CONTENT_TYPE, "application/json")], document) }
    };
    let with_document = Router::new()
        .route("/api/v1/openapi.json", get(answer))
        .layer(middleware::from_fn_with_state(Arc::clone(&app), auth::guard));
    api.merge(with_document)
        .route("/health/live", get(health::live))
        .route("/health/ready", get(health::ready))
        .route("/api/{*rest}", axum::routing::any(problem::no_such_call))
        .method_not_allowed_fallback(problem::wrong_method)
        .fallback(console::file)
        .layer(DefaultBodyLimit::max(BODY_LIMIT))
        .layer(middleware::from_fn(safe_fields))
        .with_state(app)
}

/// Fields that keep a browser from doing what the console never asks for.
async fn safe_fields(request: Request, next: Next) -> Response {
    let is_api = request.uri().path().starts_with("/api/");
    let mut response = next.run(request).await;
    let fields = response.headers_mut();
    for (name, value) in [
        (
            "content-security-policy",
            "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; \
             connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
        ),
        ("x-content-type-options", "nosniff"),
        ("referrer-policy", "no-referrer"),
    ] {
        fields.insert(HeaderName::from_static(name), HeaderValue::from_static(value));
    }
    if is_api {
        fields.insert(HeaderName::from_static("cache-control"), HeaderValue::from_static("no-store"));
    }
    response
}

/// Serves the API until `ends` says so.
pub(crate) async fn serve(listener: TcpListener, app: Arc<ApiState>, ends: watch::Receiver<bool>) {
    let usage = Arc::clone(&app.usage);
    server::serve(listener, router(app), usage, ends).await;
}
