//! Certificates for people.

use comfy_table::Cell;
use merismos_api::CertificateView;

use super::table::table;
use super::text;

/// Prints what clients are shown.
pub(crate) fn status(certificates: &[CertificateView]) {
    if certificates.is_empty() {
        text("There is no certificate: `merismos certificate create` makes one.\n");
        return;
    }
    let mut rows = table(&["certificate", "for", "ends", "made by", "frontends", "problem"]);
    for certificate in certificates {
        let ends = match (certificate.not_after, certificate.days_left) {
            (Some(end), Some(days)) if days >= 0 => format!("{} ({days} days)", &end.to_string()[..10]),
            (Some(end), _) => format!("{} (over)", &end.to_string()[..10]),
            (None, _) => String::new(),
        };
        let maker = if certificate.is_self_signed {
            "itself"
        } else {
            certificate.issuer.as_deref().unwrap_or_default()
        };
        rows.add_row(vec![
            Cell::new(&certificate.name),
            Cell::new(certificate.names.join(", ")),
            Cell::new(ends),
            Cell::new(maker),
            Cell::new(certificate.frontends.join(", ")),
            Cell::new(certificate.problem.as_deref().unwrap_or_default()),
        ]);
    }
    text(&format!("{rows}\n"));
}
