//! `Cookie` fields of requests (RFC 6265, 4.2.1), read in one way wherever one is looked at.

/// The pairs of a `Cookie` field, without the white space around them.
pub fn cookie_pairs(field: &[u8]) -> impl Iterator<Item = &[u8]> {
    field.split(|byte| *byte == b';').map(<[u8]>::trim_ascii).filter(|pair| !pair.is_empty())
}

/// The values of all cookies of a name, in the order in which they stand; mostly there is one. Names differ in case (RFC 6265, 5.4).
pub fn cookie_values<'f>(field: &'f [u8], name: &str) -> impl Iterator<Item = &'f [u8]> {
    cookie_pairs(field).filter_map(move |pair| {
        let at = pair.iter().position(|byte| *byte == b'=')?;
        (&pair[..at] == name.as_bytes()).then(|| &pair[at + 1..])
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::alone("visit=7", &["7"])]
    #[case::among_others("a=b;visit=7 ; c=d", &["7"])]
    #[case::twice("visit=7; visit=8", &["7", "8"])]
    #[case::of_nothing("visit=", &[""])]
    #[case::with_signs_in_it("visit=a=b", &["a=b"])]
    #[case::without_a_value("visit; a=b", &[])]
    #[case::of_another_case("Visit=7", &[])]
    #[case::a_longer_name("visits=7; revisit=8", &[])]
    #[case::nothing(" ; ", &[])]
    fn values_are_found_by_their_names(#[case] field: &str, #[case] values: &[&str]) {
        let found: Vec<_> = cookie_values(field.as_bytes(), "visit").collect();
        assert_eq!(found, values.iter().map(|value| value.as_bytes()).collect::<Vec<_>>());
    }
}
