//! Which hosts the certificates of frontends are for.

use std::collections::{BTreeMap, BTreeSet};

use merismos_core::certificate_choice::CertificateChoice;
use merismos_core::config::document::{Document, UnknownName};
use merismos_core::config::impact::CertificateChange;
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

/// The names that certificates are for, by their own names.
type NamesOf<'d> = BTreeMap<&'d Name, Vec<String>>;

/// The hosts whose clients would be shown another certificate, by frontend: those that rules name, and those that certificates are for. A
/// frontend with a certificate whose names are not known is left out.
pub(super) fn certificate_changes(
    old: (&Document, &NamesOf<'_>),
    new: (&Document, &NamesOf<'_>),
) -> Vec<CertificateChange> {
    let mut changes = Vec::new();
    let frontends: BTreeSet<&Name> = old.0.frontends.keys().chain(new.0.frontends.keys()).collect();
    for frontend in frontends {
        let sides = [old, new].map(|(document, names)| ShownByHost::of(document, names, frontend));
        let [Some(before), Some(after)] = sides else { continue };
        let hosts: BTreeSet<&String> = before.hosts.iter().chain(&after.hosts).collect();
        changes.extend(hosts.into_iter().filter_map(|host| {
            let (was, will) = (before.certificate(host), after.certificate(host));
            (was != will).then(|| CertificateChange {
                frontend: frontend.clone(),
                host: host.clone(),
                before: was.cloned(),
                after: will.cloned(),
            })
        }));
    }
    changes
}

/// Which certificate each host of a frontend gets.
struct ShownByHost<'d> {
    certificates: Vec<(&'d Name, &'d Vec<String>)>,
    choice: CertificateChoice,
    hosts: BTreeSet<String>,
}

impl<'d> ShownByHost<'d> {
    /// `None` where the names of one of its certificates are not known. A frontend that there is not shows nothing.
    fn of(document: &'d Document, names: &'d NamesOf<'d>, frontend: &Name) -> Option<Self> {
        let spec = document.frontends.get(frontend);
        let listed = spec.iter().flat_map(|spec| &spec.certificates);
        let certificates: Vec<_> =
            listed.filter_map(|name| names.get_key_value(name).map(|(name, names)| (*name, names))).collect();
        if certificates.iter().any(|(_, names)| names.is_empty()) {
            return None;
        }
        let choice =
            CertificateChoice::new(certificates.iter().map(|(_, names)| *names), UnknownName::Refuse);
        let of_rules =
            spec.into_iter().flat_map(|spec| document.rules_of(spec)).flat_map(|(_, rule)| rule.when.hosts());
        let own = certificates.iter().flat_map(|(_, names)| names.iter());
        let hosts = own.chain(of_rules.filter(|_| !certificates.is_empty()));
        Some(Self { hosts: hosts.map(|host| host.to_ascii_lowercase()).collect(), certificates, choice })
    }

    /// The certificate that clients of a host are shown, if one is for it. Of a host with `*` it is the one for all names like it.
    fn certificate(&self, host: &str) -> Option<&'d Name> {
        if host.starts_with("*.") {
            let is_for = |names: &Vec<String>| names.iter().any(|name| name.eq_ignore_ascii_case(host));
            return self.certificates.iter().find(|(_, names)| is_for(names)).map(|(name, _)| *name);
        }
        let (place, _) = self.choice.choose(Some(host))?;
        self.certificates.get(place).map(|(name, _)| *name)
    }
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

    #[test]
    fn hosts_that_would_be_shown_another_certificate_are_named() {
        let text = |certificates: &str, frontends: &str| {
            let text = format!("format = 3\n[pools.p]\n[certificates]\n{certificates}\n{frontends}");
            load(&text, DocumentFormat::Toml).unwrap()
        };
        let secure = |shown: &str| {
            format!(
                "[frontends.secure]\nprotocol = \"http\"\nlisten = \"192.0.2.1:443\"\npool = \"p\"\ncertificates = [{shown}]\n"
            )
        };
        let all = "site = { self_signed = [\"skerry.example\", \"*.skerry.example\"] }";
        let more = format!("{all}\nbooking = {{ self_signed = [\"Booking.skerry.example\"] }}");
        let names = |document: &'static Document| -> NamesOf<'static> {
            document.certificates.iter().map(|(name, spec)| (name, spec.self_signed.clone())).collect()
        };
        let documents =
            [text(all, ""), text(all, &secure("\"site\"")), text(&more, &secure("\"site\", \"booking\""))];
        let [none, site, both] = documents.map(|checked| &*Box::leak(Box::new(checked.document().clone())));
        let changes = |old, new| {
            let found = certificate_changes((old, &names(old)), (new, &names(new)));
            let text = |name: Option<Name>| name.map_or_else(|| "-".to_owned(), |name| name.to_string());
            let words =
                found.into_iter().map(|it| format!("{}: {} to {}", it.host, text(it.before), text(it.after)));
            words.collect::<Vec<_>>()
        };
        assert_eq!(changes(site, site), [""; 0]);
        assert_eq!(changes(none, site), ["*.skerry.example: - to site", "skerry.example: - to site"]);
        assert_eq!(changes(site, both), ["booking.skerry.example: site to booking"]);
        assert_eq!(changes(both, site), ["booking.skerry.example: booking to site"]);
    }
}
