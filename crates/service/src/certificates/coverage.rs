//! Which hosts the certificates of frontends are for.

use std::collections::{BTreeMap, BTreeSet};

use merismos_core::certificate_choice::CertificateChoice;
use merismos_core::config::document::{Document, UnknownName};
use merismos_core::config::{Warning, WarningLevel, WarningReason};
use merismos_core::name::Name;

/// Hosts that rules name and that no certificate of their frontend is for. A frontend with a certificate whose names are not known is not judged.
pub(super) fn uncovered_hosts(document: &Document, names: &BTreeMap<&Name, Vec<String>>) -> Vec<Warning> {
    let uncovered = document.frontends.iter().filter_map(|(name, spec)| {
        let certificates: Vec<&Vec<String>> =
            spec.certificates.iter().filter_map(|certificate| names.get(certificate)).collect();
        if certificates.is_empty() || certificates.iter().any(|names| names.is_empty()) {
            return None;
        }
        let choice = CertificateChoice::new(certificates.iter().copied(), UnknownName::Refuse);
        let is_covered = |host: &str| match host.strip_prefix("*.") {
            Some(_) => {
                certificates.iter().any(|names| names.iter().any(|name| name.eq_ignore_ascii_case(host)))
            }
            None => choice.choose(Some(host)).is_some(),
        };
        let named: BTreeSet<&String> =
            document.rules_of(spec).flat_map(|(_, rule)| rule.when.hosts()).collect();
        let hosts: Vec<String> = named.into_iter().filter(|host| !is_covered(host)).cloned().collect();
        let reason = WarningReason::UncoveredHost { frontend: name.clone(), hosts: hosts.clone() };
        let path = format!("frontends.{name}.rules");
        (!hosts.is_empty()).then(|| Warning::new(&reason, WarningLevel::Notice, &path))
    });
    uncovered.collect()
}

#[cfg(test)]
mod tests {
    use merismos_core::config::{DocumentFormat, load};

    use super::*;

    #[test]
    fn hosts_of_rules_that_no_certificate_is_for_are_named() {
        let text = r#"format = 3
            [pools.p]
            [certificates.site]
            self_signed = ["booking.skerry.example", "*.fleet.skerry.example"]
            [frontends.secure]
            protocol = "http"
            listen = "192.0.2.1:443"
            pool = "p"
            certificates = ["site"]
            rules = ["all"]
            [frontends.plain]
            protocol = "http"
            listen = "192.0.2.1:80"
            pool = "p"
            rules = ["all"]
            [rules.all]
            when = "host is Booking.skerry.example, a.fleet.skerry.example, *.fleet.skerry.example, quay.skerry.example, *.skerry.example"
            action = "pool"
            pool = "p"
        "#;
        let checked = load(text, DocumentFormat::Toml).unwrap();
        let document = checked.document();
        let certificates = document.certificates.iter();
        let mut names: BTreeMap<&Name, Vec<String>> =
            certificates.map(|(name, spec)| (name, spec.self_signed.clone())).collect();
        let warnings = uncovered_hosts(document, &names);
        assert_eq!(warnings.len(), 1, "{warnings:#?}");
        assert_eq!(warnings[0].path, "frontends.secure.rules");
        assert!(
            warnings[0].message.contains("is for *.skerry.example, quay.skerry.example:"),
            "{warnings:#?}"
        );
        // What a certificate in a file is for is not known before it is read.
        names.values_mut().for_each(Vec::clear);
        assert!(uncovered_hosts(document, &names).is_empty());
    }
}
