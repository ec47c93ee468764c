//! Certificates for people.

use comfy_table::Cell;
use merismos_api::{CertificateView, Handshakes};

use super::table::table;
use super::{bad, good, strong, text};

/// Prints what clients are shown.
pub(crate) fn status(certificates: &[CertificateView]) {
    if certificates.is_empty() {
        text("There is no certificate: `merismos certificate create` makes one.\n");
        return;
    }
    let mut rows =
        table(&["certificate", "for", "ends", "made by", "renewed", "frontends and pools", "problem"]);
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
        let problems = [&certificate.problem, &certificate.order_failure];
        let problems: Vec<&str> = problems.into_iter().filter_map(Option::as_deref).collect();
        rows.add_row(vec![
            Cell::new(&certificate.name),
            Cell::new(certificate.names.join(", ")),
            Cell::new(ends),
            Cell::new(maker),
            Cell::new(renewed(certificate)),
            Cell::new(
                certificate
                    .frontends
                    .iter()
                    .chain(&certificate.pools)
                    .map(String::as_str)
                    .collect::<Vec<_>>()
                    .join(", "),
            ),
            Cell::new(problems.join("; ")),
        ]);
    }
    text(&format!("{rows}\n"));
}

/// When a certificate is ordered next, by whom.
fn renewed(certificate: &CertificateView) -> String {
    match (&certificate.authority, certificate.next_order) {
        (None, _) => String::new(),
        (Some(_), _) if certificate.is_being_ordered => "being ordered now".to_owned(),
        (Some(authority), Some(next)) => {
            format!("{} by {authority}", &next.to_string()[..16].replace('T', " "))
        }
        (Some(authority), None) => format!("at once by {authority}"),
    }
}

/// Prints what became of an order.
pub(crate) fn ordered(certificate: &CertificateView) {
    let name = &certificate.name;
    match (&certificate.order_failure, certificate.not_after) {
        (Some(why), _) => text(&format!("{} certificate {name} could not be ordered: {why}\n", bad("✕"))),
        (None, Some(end)) => text(&format!(
            "{} certificate {name} was issued: for {}, until {end}; it is renewed by itself at {}\n",
            good("●"),
            certificate.names.join(", "),
            certificate.next_order.map(|next| next.to_string()).unwrap_or_default()
        )),
        (None, None) => text(&format!("certificate {name} is not there yet\n")),
    }
}

/// Prints what clients are shown that ask for a host, and why they would warn.
pub(crate) fn handshakes(found: &Handshakes) {
    let leads_to = if found.leads_to.is_empty() {
        "leads nowhere, as this machine's resolver says".to_owned()
    } else {
        format!("leads to {}", found.leads_to.join(", "))
    };
    text(&format!("{} {leads_to}\n", found.host));
    if found.handshakes.is_empty() {
        text(
            "No frontend speaks TLS: `merismos certificate create`, and certificates of a frontend, make one do so.\n",
        );
    }
    for handshake in &found.handshakes {
        let mut facts = vec![handshake.address.clone()];
        facts.extend(
            [&handshake.version, &handshake.cipher, &handshake.protocol].into_iter().flatten().cloned(),
        );
        if let Some(certificate) = &handshake.certificate {
            facts.push(format!("certificate {certificate}"));
        }
        text(&format!("\n{}\n", strong(&format!("frontend {}", handshake.frontend))));
        text(&format!("  {}\n", facts.join(" · ")));
        for (place, link) in handshake.chain.iter().enumerate() {
            let names = if link.names.is_empty() { link.subject.clone() } else { link.names.join(", ") };
            text(&format!(
                "  {}. {names} · {} · by {} · until {}\n",
                place + 1,
                link.key,
                if link.issuer == link.subject { "itself" } else { &link.issuer },
                &link.not_after.to_string()[..10]
            ));
        }
        for reason in &handshake.reasons {
            text(&format!("  {} {reason}\n", bad("✕")));
        }
        if handshake.reasons.is_empty() {
            text(&format!(
                "  {} a client that trusts whom this machine trusts takes it without a warning\n",
                good("●")
            ));
        }
    }
}
