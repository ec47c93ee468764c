//! Keys of TLS that contradict each other, or would mean nothing.

use rstest::rstest;

use super::*;

fn with(pool: &str, frontend: &str, more: &str) -> String {
    let text = GOOD.replace("[pools.booking]\n", &format!("[pools.booking]\n{pool}\n"));
    text.replace("[frontends.booking]\n", &format!("[frontends.booking]\n{frontend}\n")) + more
}

const FEED: &str = "[frontends.feed]\nprotocol = \"udp\"\nlisten = \"192.0.2.10:90\"\npool = \"booking\"\n";
const LAB: &str = "[certificates.lab]\nself_signed = [\"lab.example\"]\n";

#[rstest]
#[case::datagrams("tls = \"verified\"", "", FEED, "pools.booking.tls")]
#[case::two_names("tls_name = \"a.example\"\ntls_name_of = \"request\"", "", "", "pools.booking.tls_name")]
#[case::nobody_is_asked("tls_name_of = \"request\"", "", "", "pools.booking.tls_name_of")]
#[case::many_hosts(
    "tls = \"verified\"\ntls_name_of = \"request\"\nhttp_version = \"2\"",
    "",
    "",
    "pools.booking.tls_name_of"
)]
#[case::a_circle(
    "",
    "redirect_to_https = 443\ncertificates = [\"lab\"]",
    LAB,
    "frontends.booking.redirect_to_https"
)]
#[case::nothing_is_redirected("", "redirect_status = \"307\"", "", "frontends.booking.redirect_status")]
#[case::nobody_believes_it("", "hsts_age = \"5m\"", "", "frontends.booking.hsts_age")]
#[case::part_of_nothing(
    "",
    "hsts_subdomains = true\ncertificates = [\"lab\"]",
    LAB,
    "frontends.booking.hsts_subdomains"
)]
fn contradictions_stand_at_their_key(
    #[case] pool: &str,
    #[case] frontend: &str,
    #[case] more: &str,
    #[case] path: &str,
) {
    let found = problems(&with(pool, frontend, more));
    assert_eq!(found.iter().map(|(_, path)| path.as_str()).collect::<Vec<_>>(), [path]);
}

#[rstest]
#[case::anybody("tls = \"unverified\"", "", &["unverified-servers:pools.booking.tls"])]
#[case::one_alone("tls = \"unverified\"\ntls_pin = \"00000000000000000000000000000000000000000000000000000000000000ff\"", "", &[])]
#[case::verified("tls_name = \"a.example\"", "", &[])]
#[case::a_short_time("", "hsts_age = \"5m\"\ncertificates = [\"lab\"]", &[])]
#[case::a_long_time("", "hsts_age = \"24h\"\ncertificates = [\"lab\"]", &["long-hsts:frontends.booking.hsts_age"])]
fn what_is_hard_to_take_back_is_a_warning(#[case] pool: &str, #[case] frontend: &str, #[case] keys: &[&str]) {
    let checked = load(&with(pool, frontend, LAB), DocumentFormat::Toml).unwrap();
    let found: Vec<&str> = checked.warnings().iter().map(|warning| warning.key.as_str()).collect();
    assert_eq!(found, keys);
}
