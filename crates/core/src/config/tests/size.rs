//! Very large documents.

use std::fmt::Write;

use super::super::{DocumentFormat, diff::diff, load};

/// A document with this many pools of ten servers each, and a frontend for every fifth pool.
fn large(pools: usize) -> String {
    let mut text = "format = 3\n[checks.open]\nkind = \"tcp\"\ninterval = \"5s\"\n".to_owned();
    for pool in 0..pools {
        write!(text, "[pools.p{pool}]\ncheck = \"open\"\n").unwrap();
        for server in 0..10 {
            let (high, low) = (pool / 250, pool % 250);
            writeln!(
                text,
                "servers.s{server} = {{ address = \"10.{high}.{low}.{server}:8080\", weight = 2 }}"
            )
            .unwrap();
        }
        if pool % 5 == 0 {
            let port = 10_000 + pool;
            write!(text, "[frontends.f{pool}]\nprotocol = \"http\"\nlisten = \"127.0.0.1:{port}\"\npool = \"p{pool}\"\n")
                .unwrap();
        }
    }
    text
}

#[test]
fn ten_thousand_servers_are_checked_and_compared() {
    let text = large(1_000);
    let old = load(&text, DocumentFormat::Toml).unwrap();
    assert_eq!(old.document().pools.values().map(|pool| pool.servers.len()).sum::<usize>(), 10_000);
    assert_eq!(old.document().frontends.len(), 200);
    let new = load(&text.replacen("weight = 2", "weight = 3", 1), DocumentFormat::Toml).unwrap();
    let changes = diff(old.document(), new.document());
    assert_eq!(changes.len(), 1);
    let again = load(&old.document().to_json(), DocumentFormat::Json).unwrap();
    assert_eq!(again.document(), old.document());
}
