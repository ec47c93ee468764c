//! Keys of TLS that contradict each other, or would mean nothing.

use rstest::rstest;

use super::super::edit::Edit;
use super::super::references::users;
use super::*;
use crate::name::Name;

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
#[case::no_certificate_in_plain_text(
    "",
    "client_certificates = \"required\"\nclient_authorities = \"/a.pem\"",
    "",
    "frontends.booking.client_certificates"
)]
#[case::nobody_passes(
    "",
    "client_certificates = \"required\"\ncertificates = [\"lab\"]",
    LAB,
    "frontends.booking.client_authorities"
)]
#[case::nobody_is_asked_for_one(
    "",
    "client_revocations = \"/a.pem\"\ncertificates = [\"lab\"]",
    LAB,
    "frontends.booking.client_revocations"
)]
#[case::no_name_in_plain_text(
    "",
    "passthrough.booking = [\"a.example\"]",
    "",
    "frontends.booking.passthrough.booking"
)]
#[case::wrapped_twice(
    "tls = \"verified\"",
    "certificates = [\"lab\"]\npassthrough.booking = [\"a.example\"]",
    LAB,
    "frontends.booking.passthrough.booking"
)]
#[case::to_nowhere(
    "",
    "certificates = [\"lab\"]\npassthrough.tickets = [\"a.example\"]",
    LAB,
    "frontends.booking.passthrough.tickets"
)]
#[case::to_two_pools(
    "",
    "certificates = [\"lab\"]\npassthrough.booking = [\"a.example\"]\npassthrough.tickets = [\"A.example\"]",
    "[certificates.lab]\nself_signed = [\"lab.example\"]\n[pools.tickets]\n",
    "frontends.booking.passthrough.tickets"
)]
#[case::no_name_of_a_server(
    "",
    "certificates = [\"lab\"]\npassthrough.booking = [\"192.0.2.7\"]",
    LAB,
    "frontends.booking.passthrough.booking"
)]
#[case::no_cipher_is_left(
    "",
    "tls_policy = \"modern\"\ntls_ciphers = [\"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256\"]\ncertificates = [\"lab\"]",
    LAB,
    "frontends.booking.tls_ciphers"
)]
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

const AUTHORITIES: &str = "[authorities.web]\ndirectory = \"https://ca.example/directory\"\n\
    [authorities.dns]\ndirectory = \"https://ca.example/directory\"\nchallenge = \"dns-01\"\nname_server = \"192.0.2.53:53\"\nzone = \"skerry.example\"\n";

#[rstest]
#[case::from_nowhere("note = \"x\"", "certificates.own.chain")]
#[case::no_key("chain = \"file:/a\"", "certificates.own.key")]
#[case::no_chain("key = \"file:/a\"", "certificates.own.chain")]
#[case::no_names("authority = \"web\"", "certificates.own.names")]
#[case::no_authority("names = [\"a.example\"]", "certificates.own.authority")]
#[case::two_sources(
    "authority = \"web\"\nnames = [\"a.example\"]\nself_signed = [\"a.example\"]",
    "certificates.own.self_signed"
)]
#[case::an_authority_that_is_not_there(
    "authority = \"wed\"\nnames = [\"a.example\"]",
    "certificates.own.authority"
)]
#[case::a_star_by_a_request("authority = \"web\"\nnames = [\"*.a.example\"]", "certificates.own.names")]
#[case::an_address_by_a_record("authority = \"dns\"\nnames = [\"192.0.2.7\"]", "certificates.own.names")]
fn certificates_come_from_one_place_that_can_give_them(#[case] keys: &str, #[case] path: &str) {
    let text = with("", "", &format!("{AUTHORITIES}[certificates.own]\n{keys}\n"));
    let found = problems(&text);
    assert_eq!(found.iter().map(|(_, path)| path.as_str()).collect::<Vec<_>>(), [path]);
}

#[rstest]
#[case::plain_text("directory = \"http://ca.example/directory\"", "authorities.own.directory")]
#[case::half_an_account(
    "directory = \"https://ca.example/\"\nexternal_account = \"7\"",
    "authorities.own.external_account_key"
)]
#[case::no_name_server(
    "directory = \"https://ca.example/\"\nchallenge = \"dns-01\"\nzone = \"a.example\"",
    "authorities.own.name_server"
)]
#[case::half_a_key(
    "directory = \"https://ca.example/\"\nchallenge = \"dns-01\"\nzone = \"a.example\"\nname_server = \"192.0.2.53:53\"\ntsig_secret = \"environment:A\"",
    "authorities.own.tsig_key"
)]
fn authorities_have_all_of_their_parts(#[case] keys: &str, #[case] path: &str) {
    let found = problems(&with("", "", &format!("[authorities.own]\n{keys}\n")));
    assert_eq!(found.iter().map(|(_, path)| path.as_str()).collect::<Vec<_>>(), [path]);
}

#[test]
fn certificates_follow_their_authority_to_another_name() {
    let text = with(
        "",
        "",
        &format!("{AUTHORITIES}[certificates.own]\nauthority = \"web\"\nnames = [\"a.example\"]\n"),
    );
    let checked = load(&text, DocumentFormat::Toml).unwrap();
    let object = "authorities.web".parse().unwrap();
    assert_eq!(users(checked.document(), &object).len(), 1);
    let edit = Edit::Rename { object, to: "public".parse().unwrap() };
    let renamed = super::super::edit::edit(checked.document(), &[edit]).unwrap();
    let certificate = &renamed.certificates[&"own".parse().unwrap()];
    assert_eq!(certificate.authority.as_ref().map(Name::as_str), Some("public"));
}
