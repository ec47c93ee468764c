//! Which of a frontend's certificates a client is shown: by the name that it asks for (SNI, RFC 6066, 3).

use std::collections::BTreeMap;

use crate::config::document::UnknownName;

/// The names of several certificates, by which one of them is chosen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CertificateChoice {
    /// By whole names, in lower case.
    exact: BTreeMap<Box<str>, usize>,
    /// By what follows the first label of a name with `*` there.
    wildcard: BTreeMap<Box<str>, usize>,
    unknown: UnknownName,
    count: usize,
}

/// How a certificate came to be chosen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CertificateReason {
    /// It is for exactly the name.
    Exact,
    /// It is for a name with `*` in place of the first label (RFC 9525, 6.3).
    Wildcard,
    /// It is the first, and there is none for the name, or the client named none.
    First,
}

impl CertificateChoice {
    /// Chooses between certificates that are for these names each. Of two for one name the earlier is chosen.
    pub fn new<N: AsRef<str>>(
        certificates: impl IntoIterator<Item = impl IntoIterator<Item = N>>,
        unknown: UnknownName,
    ) -> Self {
        let mut choice = Self { unknown, ..Self::default() };
        for (place, names) in certificates.into_iter().enumerate() {
            choice.count = place + 1;
            for name in names {
                let name = plain(name.as_ref());
                let (map, key) = match name.strip_prefix("*.") {
                    Some(rest) => (&mut choice.wildcard, rest),
                    None => (&mut choice.exact, name.as_str()),
                };
                map.entry(key.into()).or_insert(place);
            }
        }
        choice
    }

    /// The place of the certificate for a client that asks for this name, or for none; `None` when it is refused.
    #[must_use]
    pub fn choose(&self, name: Option<&str>) -> Option<(usize, CertificateReason)> {
        if let Some(name) = name {
            let name = plain(name);
            if let Some(place) = self.exact.get(name.as_str()) {
                return Some((*place, CertificateReason::Exact));
            }
            let rest = name.split_once('.').map(|(_, rest)| rest);
            if let Some(place) = rest.and_then(|rest| self.wildcard.get(rest)) {
                return Some((*place, CertificateReason::Wildcard));
            }
        }
        let is_first = self.count > 0 && self.unknown == UnknownName::First;
        is_first.then_some((0, CertificateReason::First))
    }
}

/// A name as it is compared: in lower case, and without the dot that ends it.
fn plain(name: &str) -> String {
    name.strip_suffix('.').unwrap_or(name).to_ascii_lowercase()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::exact(Some("booking.skerry.example"), Some((1, CertificateReason::Exact)))]
    #[case::whatever_the_case(Some("Booking.Skerry.Example."), Some((1, CertificateReason::Exact)))]
    #[case::exact_before_wildcard(Some("quay.skerry.example"), Some((2, CertificateReason::Exact)))]
    #[case::one_label(Some("pier.skerry.example"), Some((0, CertificateReason::Wildcard)))]
    #[case::not_two_labels(Some("a.pier.skerry.example"), None)]
    #[case::not_the_domain_itself(Some("skerry.example"), None)]
    #[case::another(Some("elsewhere.example"), None)]
    #[case::no_name(None, None)]
    fn a_certificate_is_chosen_by_name(
        #[case] name: Option<&str>,
        #[case] chosen: Option<(usize, CertificateReason)>,
    ) {
        let certificates = [
            vec!["*.skerry.example"],
            vec!["booking.skerry.example"],
            vec!["QUAY.skerry.example", "booking.skerry.example"],
        ];
        let refusing = CertificateChoice::new(certificates.clone(), UnknownName::Refuse);
        assert_eq!(refusing.choose(name), chosen);
        let first = CertificateChoice::new(certificates, UnknownName::First);
        assert_eq!(first.choose(name), chosen.or(Some((0, CertificateReason::First))));
    }

    #[test]
    fn without_certificates_everyone_is_refused() {
        let none = CertificateChoice::new(Vec::<Vec<&str>>::new(), UnknownName::First);
        assert_eq!(none.choose(Some("booking.skerry.example")), None);
    }
}
