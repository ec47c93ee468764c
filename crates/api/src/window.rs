//! Windows: planned times of maintenance.

use merismos_core::time::Wall;
use merismos_core::window::{Occurrence, WindowPlan};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Every window, with its times within a span.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Windows {
    /// Begin of the span: now.
    #[schema(value_type = String, format = DateTime)]
    pub from: Wall,
    /// End of the span.
    #[schema(value_type = String, format = DateTime)]
    pub to: Wall,
    /// Windows in the order of their names.
    pub windows: Vec<WindowView>,
}

/// A window and what is known of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WindowView {
    /// Name of the window, unique among windows.
    pub name: String,
    /// What was planned.
    pub plan: WindowPlan,
    /// Name of the token that planned it.
    pub who: String,
    /// When it was planned.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// What it is doing now.
    pub state: WindowState,
    /// The servers that it is for by the running configuration, each as `pool/server`.
    pub servers: Vec<String>,
    /// The servers that it holds out of service now.
    pub holds: Vec<String>,
    /// When the servers begin to drain for its next time; absent when none lies ahead.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub drains_at: Option<Wall>,
    /// Its times within the span, at most 60: one that is open comes first.
    pub times: Vec<Occurrence>,
    /// Why its servers are not taken out although it is time: what the guard says, or that there are none.
    pub kept_in: Option<String>,
}

/// What a window is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WindowState {
    /// Its next time lies ahead.
    Ahead,
    /// Its servers drain for a time that comes.
    Draining,
    /// It is open.
    Open,
    /// It has no time any more.
    Over,
}

/// A window that was planned.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WindowResponse {
    /// The window.
    pub window: WindowView,
    /// Whether the call changed anything: the same plan given again does not.
    pub changed: bool,
    /// What the guard will say against it, where that was overridden.
    pub overridden: Vec<String>,
    /// Whether the database has it already; if not, it follows when the database is back.
    pub recorded: bool,
}

/// Over which span the times of windows are given.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct WindowQuery {
    /// How many days from now on; 30 when absent.
    #[param(minimum = 1, maximum = 400, example = 14)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u16>,
}
