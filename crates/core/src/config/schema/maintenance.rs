//! Maintenance of a frontend: what clients get while its application is worked on.

use merismos_derive::Keys;
use serde::Serialize;

use crate::name::Name;
use crate::units::Span;

/// What clients get while a frontend is in maintenance.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct MaintenanceKeys {
    /// Why clients get a page instead of the application; the frontend is in maintenance as long as the key is there.
    ///
    /// Every request gets 503 with `Retry-After`, before any rule is asked. `merismos maintenance on` sets it, `merismos maintenance off` takes it away.
    #[key(format = LABEL, without = "no maintenance", example = "new booking engine", group = "Maintenance")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub maintenance: Option<String>,
    /// Lists of networks whose clients get the application all the same.
    #[key(refers = Network, count = 0..=100, distinct)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub maintenance_except: Vec<Name>,
    /// Page that clients get; one that begins with `<` is sent as HTML.
    #[key(format = PAGE, without = "a sentence that names the frontend", escapes, example = "<h1>Back at noon.</h1>")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub maintenance_page: Option<String>,
    /// When clients may come again (`Retry-After`, RFC 9110, 10.2.3).
    #[key(range = "1s".."720h", without = "5m", example = "1h")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub maintenance_retry_after: Option<Span>,
}
