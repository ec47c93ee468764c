//! Edits, renames, merges, parts.

use rstest::rstest;
use serde_json::json;

use super::super::diff::{DocumentChange, diff};
use super::super::edit::{self, Edit, EditError, edit};
use super::super::hosts::HostsFormat;
use super::super::merge::{MergeError, merge, take_parts};
use super::super::object::ObjectPath;
use super::super::references::users;
use super::super::renames::Renames;
use super::super::{Document, DocumentFormat, check, load, read_text};
use super::GOOD;

const RICH: &str = r#"format = 3

[hosts.gull]
address = "192.0.2.21"

[hosts.tern]
address = "192.0.2.22"
labels.site = "north"

[ranges.public]
addresses = "192.0.2.16-192.0.2.18"
reserved.web = "192.0.2.16"

[checks.answers]
kind = "tcp"

[pools.booking]
check = "answers"
servers.gull = { address = "gull:8080", weight = 3 }
servers.tern = { address = "tern:8080" }

[frontends.web]
protocol = "http"
listen = "public/web:80"
pool = "booking"
"#;

fn document(text: &str) -> Document {
    load(text, DocumentFormat::Toml).unwrap_or_else(|problems| panic!("{problems:#?}")).document().clone()
}

fn object(path: &str) -> ObjectPath {
    path.parse().unwrap()
}

fn keys(value: serde_json::Value) -> serde_json::Map<String, serde_json::Value> {
    value.as_object().unwrap().clone()
}

/// Edits a document and gives the changes in words.
fn edited(text: &str, edits: &[Edit]) -> Vec<String> {
    let old = document(text);
    let new = edit(&old, edits).unwrap_or_else(|error| panic!("{error}"));
    let new = check::check(new).unwrap_or_else(|problems| panic!("{problems:#?}"));
    diff(&old, new.document()).iter().map(DocumentChange::words).collect()
}

fn refused(text: &str, edits: &[Edit]) -> String {
    edit(&document(text), edits).unwrap_err().to_string()
}

#[test]
fn what_is_added_shows_every_key_that_is_not_its_default() {
    let add = |path: &str, value| Edit::Add { object: object(path), keys: keys(value) };
    let words = edited(
        RICH,
        &[
            add(
                "pools.second",
                serde_json::json!({ "algorithm": "hash", "hash_keys": ["host"], "min_eligible": 2 }),
            ),
            add(
                "pools.second.servers.knot",
                serde_json::json!({ "address": "192.0.2.31:80", "tier": 2, "weight": 1 }),
            ),
            add(
                "frontends.maps",
                serde_json::json!({ "protocol": "http", "listen": "192.0.2.17:80", "pool": "booking",
                    "next_pools": ["second"], "choose_pool": "by-weight", "idle_timeout": "60s", "header_size_limit": "8KiB" }),
            ),
        ],
    );
    assert_eq!(
        words,
        [
            "add frontend maps (protocol http, listen 192.0.2.17:80, pool booking, choose_pool by-weight, \
             header_size_limit 8KiB, next_pools second)",
            "add pool second (algorithm hash, hash_keys host, min_eligible 2)",
            "add server second/knot (address 192.0.2.31:80, weight 1, tier 2)",
        ]
    );
}

#[test]
fn a_default_is_shown_with_its_value() {
    let change = |path: &str, value| [Edit::Change { object: object(path), keys: keys(value) }];
    let set = change(
        "pools.booking",
        serde_json::json!({ "min_eligible": 2, "capacity": 50, "idle_timeout": "60s" }),
    );
    assert_eq!(
        edited(RICH, &set),
        ["capacity of pool booking: 100 (default) to 50", "min_eligible of pool booking: 1 (default) to 2"]
    );
    let back = change("pools.booking.servers.gull", serde_json::json!({ "weight": null }));
    assert_eq!(edited(RICH, &back), ["weight of server booking/gull: 3 to 1 (default)"]);
}

#[test]
fn hosts_and_taken_addresses_are_settled() {
    let document = document(RICH);
    let addresses: Vec<_> = document
        .pools
        .values()
        .flat_map(|pool| pool.servers.values())
        .map(|server| server.address.get().to_string())
        .collect();
    assert_eq!(addresses, ["192.0.2.21:8080", "192.0.2.22:8080"]);
    assert_eq!(document.frontends.values().next().unwrap().listen.get().to_string(), "192.0.2.16:80");
    let again = load(&document.to_toml(), DocumentFormat::Toml).unwrap();
    assert_eq!(again.document(), &document, "what is written is what was read");
}

#[rstest]
#[case::unknown_host("gull:8080", "gul:8080", "there is no host named gul")]
#[case::unknown_range("public/web:80", "publik/web:80", "there is no range named publik")]
#[case::not_taken(
    "public/web:80",
    "public/shop:80",
    "no address of range public was taken under the name shop"
)]
#[case::outside(
    "reserved.web = \"192.0.2.16\"",
    "reserved.web = \"192.0.2.99\"",
    "does not lie in 192.0.2.16-192.0.2.18"
)]
#[case::taken_twice(
    "reserved.web = \"192.0.2.16\"",
    "reserved.web = \"192.0.2.16\"\nreserved.shop = \"192.0.2.16\"",
    "192.0.2.16 is taken already, as public/shop"
)]
#[case::one_host_twice("tern:8080", "gull:8080", "192.0.2.21:8080 is already the address of booking/gull")]
#[case::server_on_a_taken_address("gull:8080", "public/web:8080", "found the text")]
fn references_have_to_lead_somewhere(#[case] from: &str, #[case] to: &str, #[case] says: &str) {
    assert!(RICH.contains(from));
    let problems = load(&RICH.replace(from, to), DocumentFormat::Toml).unwrap_err();
    assert!(
        problems.iter().any(|problem| problem.found.contains(says) && problem.line.is_some()),
        "{problems:#?}"
    );
}

#[test]
fn objects_are_added_changed_copied_and_removed() {
    let add =
        Edit::Add { object: object("checks.open"), keys: keys(json!({ "kind": "tcp", "interval": "1s" })) };
    assert_eq!(edited(RICH, &[add]), ["add check open (kind tcp, interval 1s)"]);

    let change = Edit::Change {
        object: object("pools.booking.servers.gull"),
        keys: keys(json!({ "weight": 5, "labels": { "rack": "r7" }, "note": "the large one" })),
    };
    assert_eq!(
        edited(RICH, &[change]),
        [
            "label rack of server booking/gull: r7, nothing before",
            "note of server booking/gull: the large one, nothing before",
            "weight of server booking/gull: 3 to 5",
        ]
    );
    let reset = Edit::Change {
        object: object("hosts.tern"),
        keys: keys(json!({ "labels": { "site": null, "rack": null } })),
    };
    assert_eq!(edited(RICH, &[reset]), ["label site of host tern: north to nothing"]);
    let back =
        Edit::Change { object: object("pools.booking.servers.gull"), keys: keys(json!({ "weight": null })) };
    assert_eq!(edited(RICH, &[back]), ["weight of server booking/gull: 3 to 1 (default)"]);

    let copy = Edit::Copy {
        object: object("pools.booking"),
        to: "spare".parse().unwrap(),
        keys: keys(json!({ "attempts": 1 })),
    };
    let words = edited(RICH, &[copy]);
    assert!(words.contains(&"add server spare/gull (address gull:8080, weight 3)".to_owned()), "{words:?}");

    let gone =
        [Edit::Remove { object: object("frontends.web") }, Edit::Remove { object: object("pools.booking") }];
    let words = edited(RICH, &gone);
    assert!(words.contains(&"remove pool booking".to_owned()), "{words:?}");
}

#[test]
fn a_copy_of_a_server_that_keeps_its_address_is_refused() {
    let copy =
        |keys| Edit::Copy { object: object("pools.booking.servers.gull"), to: "auk".parse().unwrap(), keys };
    let old = document(RICH);
    let same = edit(&old, &[copy(keys(json!({})))]).unwrap();
    let problems = check::check(same).unwrap_err();
    assert!(
        problems[0].found.contains("192.0.2.21:8080 is already the address of booking/auk"),
        "{problems:?}"
    );
    assert_eq!(
        edited(RICH, &[copy(keys(json!({ "address": "192.0.2.23:8080" })))]),
        ["add server booking/auk (address 192.0.2.23:8080, weight 3)"]
    );
}

#[rstest]
#[case::check("checks.answers", "used by pool booking", "frontend web, pool booking, check answers")]
#[case::pool("pools.booking", "used by frontend web", "frontend web, pool booking")]
#[case::host("hosts.gull", "used by server booking/gull", "server booking/gull, host gull")]
#[case::address("ranges.public.reserved.web", "used by frontend web", "frontend web, address public/web")]
#[case::range("ranges.public", "used by frontend web", "frontend web, range public")]
fn what_is_used_is_not_removed(#[case] path: &str, #[case] by: &str, #[case] order: &str) {
    let says = refused(RICH, &[Edit::Remove { object: object(path) }]);
    assert!(says.contains(by) && says.ends_with(order), "{says}");
    // The order that it names can be done.
    let EditError::InUse { order, .. } =
        edit(&document(RICH), &[Edit::Remove { object: object(path) }]).unwrap_err()
    else {
        panic!("in use")
    };
    let all: Vec<_> = order.into_iter().map(|object| Edit::Remove { object }).collect();
    assert!(edit(&document(RICH), &all).is_ok_and(|edited| check::check(edited).is_ok()));
}

#[test]
fn what_names_a_renamed_object_follows_it() {
    let rename = |path: &str, to: &str| Edit::Rename { object: object(path), to: to.parse().unwrap() };
    for (path, to) in [
        ("checks.answers", "well"),
        ("pools.booking", "tickets"),
        ("hosts.gull", "kittiwake"),
        ("ranges.public", "outside"),
        ("ranges.public.reserved.web", "site"),
        ("frontends.web", "site"),
        ("pools.booking.servers.gull", "kittiwake"),
    ] {
        let old = document(RICH);
        let new = edit(&old, &[rename(path, to)]).unwrap();
        let new = check::check(new).unwrap_or_else(|problems| panic!("{path}: {problems:?}"));
        let users_of = |document: &Document, object: &ObjectPath| users(document, object).len();
        let renamed = object(path).renamed(to.parse().unwrap());
        assert_eq!(users_of(new.document(), &renamed), users_of(&old, &object(path)), "{path}");
        let back =
            edit(new.document(), &[rename(&renamed.to_string(), path.rsplit('.').next().unwrap())]).unwrap();
        assert_eq!(check::check(back).unwrap().document(), &old, "{path} and back");
    }
    assert_eq!(
        edited(RICH, &[rename("pools.booking.servers.gull", "kittiwake")]),
        ["rename server booking/gull to kittiwake"]
    );
    assert_eq!(
        edited(RICH, &[rename("pools.booking", "tickets")]),
        ["pool of frontend web: booking to tickets", "rename pool booking to tickets",]
    );
}

#[rstest]
#[case::not_there(Edit::Remove { object: object("pools.booknig") }, "there is no pool booknig; there are booking")]
#[case::no_pool_around(
    Edit::Remove { object: object("pools.none.servers.gull") },
    "there is no pool none; there are booking"
)]
#[case::there_already(
    Edit::Add { object: object("hosts.gull"), keys: keys(json!({ "address": "192.0.2.9" })) },
    "there is a host gull already"
)]
#[case::wrong_key(
    Edit::Change { object: object("pools.booking.servers.gull"), keys: keys(json!({ "wieght": 2 })) },
    "pools.booking.servers.gull.wieght: there is no key \"wieght\" here. Right would be: the key weight"
)]
#[case::wrong_value(
    Edit::Change { object: object("pools.booking.servers.gull"), keys: keys(json!({ "weight": 2000 })) },
    "a whole number from 0 to 1000"
)]
#[case::missing_key(Edit::Add { object: object("checks.open"), keys: keys(json!({})) }, "the key kind is missing")]
fn edits_that_cannot_be_made(#[case] wrong: Edit, #[case] says: &str) {
    let problems = refused(RICH, &[wrong]);
    assert!(problems.contains(says), "{problems}");
}

#[test]
fn the_next_free_address_is_taken_until_none_is_left() {
    let take = |name: &str, address: Option<&str>| Edit::Reserve {
        range: "public".parse().unwrap(),
        name: name.parse().unwrap(),
        address: address.map(|address| address.parse().unwrap()),
    };
    assert_eq!(edited(RICH, &[take("shop", None)]), ["add address public/shop (192.0.2.17)"]);
    assert_eq!(
        edited(RICH, &[take("a", Some("192.0.2.18")), take("b", None)]),
        ["add address public/a (192.0.2.18)", "add address public/b (192.0.2.17)",]
    );
    let problems = refused(RICH, &[take("a", None), take("b", None), take("c", None)]);
    assert!(problems.starts_with("no address of range public is free"), "{problems}");
    // An address stays taken when its frontend goes away, until it is released.
    let gone = edit(&document(RICH), &[Edit::Remove { object: object("frontends.web") }]).unwrap();
    assert!(gone.ranges.values().all(|range| range.reserved.len() == 1));
    let released = edit(&gone, &[Edit::Remove { object: object("ranges.public.reserved.web") }]).unwrap();
    assert!(released.ranges.values().all(|range| range.reserved.is_empty()));
}

fn add_servers(lines: &str) -> Edit {
    Edit::AddServers {
        pool: "booking".parse().unwrap(),
        lines: lines.to_owned(),
        weight: Some(2),
        tier: Some(1),
    }
}

#[test]
fn servers_are_added_from_lines() {
    let added = edited(
        RICH,
        &[add_servers("192.0.2.40:80 7  # the new one\n\n192.0.2.50-192.0.2.51:80\ntern:81\n192.0.2.21:90")],
    );
    assert_eq!(
        added,
        [
            "add server booking/at-192-0-2-40 (address 192.0.2.40:80, weight 7, tier 1)",
            "add server booking/at-192-0-2-50 (address 192.0.2.50:80, weight 2, tier 1)",
            "add server booking/at-192-0-2-51 (address 192.0.2.51:80, weight 2, tier 1)",
            "add server booking/gull-90 (address gull:90, weight 2, tier 1)",
            "add server booking/tern-81 (address tern:81, weight 2, tier 1)",
        ]
    );
}

#[rstest]
#[case::no_port("192.0.2.40", "line 1", "and a port")]
#[case::unknown_host("auk:80", "line 1", "there is no host auk")]
#[case::no_weight("192.0.2.40:80 heavy", "line 1", "\"heavy\" is no weight")]
#[case::too_much("192.0.2.40:80 1 2", "line 1", "at most a weight behind it")]
#[case::second_line("192.0.2.40:80\nx y z", "line 2", "and a port")]
#[case::far_too_many("192.0.0.0-192.255.0.0:80", "line 1", "at most 4096 addresses")]
fn lines_that_make_no_servers(#[case] lines: &str, #[case] line: &str, #[case] why: &str) {
    let problems = refused(RICH, &[add_servers(lines)]);
    assert!(problems.starts_with(line) && problems.contains(why), "{problems}");
}

#[test]
fn hosts_are_imported_from_both_kinds_of_lists() {
    let import = |format, text: &str| Edit::ImportHosts { format, text: text.to_owned() };
    let list = "127.0.0.1 localhost\n# sea birds\n192.0.2.30 auk.skerry.example auk\n192.0.2.99 gull\n";
    assert_eq!(
        edited(RICH, &[import(HostsFormat::Hosts, list)]),
        ["add host auk (address 192.0.2.30)", "address of host gull: 192.0.2.21 to 192.0.2.99",]
    );
    let csv = "name,address,note,Site Name\nauk,192.0.2.30,\"new, small\",north\ntern,192.0.2.22,,\n";
    let new = edit(&document(RICH), &[import(HostsFormat::Csv, csv)]).unwrap();
    let auk = &new.hosts[&"auk".parse().unwrap()];
    assert_eq!((auk.note.as_str(), auk.labels.values().next().unwrap().as_str()), ("new, small", "north"));
    assert_eq!(new.hosts[&"tern".parse().unwrap()].labels.len(), 1, "labels stay when the list has none");
    for (format, text, says) in [
        (HostsFormat::Hosts, "192.0.2.30", "line 1 of the list of hosts: wanted a name"),
        (HostsFormat::Hosts, "gull 192.0.2.30", "wanted an IP address, found \"gull\""),
        (HostsFormat::Csv, "host,ip\n", "wanted the columns name and address"),
        (HostsFormat::Csv, "name,address\nauk,here\n", "line 2 of the list of hosts"),
    ] {
        assert!(refused(RICH, &[import(format, text)]).contains(says), "{text}");
    }
}

#[test]
fn renames_are_found_by_what_stays() {
    let old = document(GOOD);
    let text = GOOD
        .replace("[pools.booking", "[pools.tickets")
        .replace("pool = \"booking\"", "pool = \"tickets\"")
        .replace("servers.gull", "servers.kittiwake")
        .replace("[frontends.booking]", "[frontends.site]");
    let found = Renames::between(&old, &document(&text));
    let words =
        |map: &std::collections::BTreeMap<crate::name::PoolServer, crate::name::PoolServer>| -> Vec<String> {
            map.iter().map(|(from, to)| format!("{from} {to}")).collect()
        };
    assert_eq!(found.pools.len(), 1);
    assert_eq!(words(&found.servers), ["booking/gull tickets/kittiwake", "booking/tern tickets/tern"]);
    assert_eq!(found.frontends.len(), 1);
    // Another address is another server, and two that swap their addresses are no rename.
    let moved = GOOD.replace("servers.gull", "servers.auk").replace("192.0.2.21", "192.0.2.33");
    assert!(Renames::between(&old, &document(&moved)).is_empty());
    let swapped =
        GOOD.replace("192.0.2.21", "x").replace("192.0.2.22", "192.0.2.21").replace('x', "192.0.2.22");
    assert!(Renames::between(&old, &document(&swapped.replace("e192.0.2.22ample", "example"))).is_empty());
}

#[test]
fn two_peoples_changes_are_joined_when_they_do_not_touch_the_same() {
    let base = document(RICH);
    let changed = |from: &str, to: &str| document(&RICH.replace(from, to));
    let mine = changed("weight = 3", "weight = 5");
    let theirs = changed("labels.site = \"north\"", "labels.site = \"south\"");
    let joined = check::check(merge(&base, &mine, &theirs).unwrap()).unwrap();
    let words: Vec<_> = diff(&base, joined.document()).iter().map(DocumentChange::words).collect();
    assert_eq!(words, ["label site of host tern: north to south", "weight of server booking/gull: 3 to 5"]);
    // The same change on both sides is one change.
    let same = check::check(merge(&base, &mine, &mine).unwrap()).unwrap();
    assert_eq!(same.document(), check::check(mine.clone()).unwrap().document());
}

#[rstest]
#[case::the_same_key(&[("weight = 3", "weight = 7")], "pools.booking.servers.gull.weight")]
#[case::removed_meanwhile(
    &[("servers.gull = { address = \"gull:8080\", weight = 3 }", "")],
    "pools.booking.servers.gull.weight"
)]
fn changes_of_the_same_are_not_joined(#[case] replaced: &[(&str, &str)], #[case] path: &str) {
    let base = document(RICH);
    let mine = document(&RICH.replace("weight = 3", "weight = 5"));
    let theirs = document(&replaced.iter().fold(RICH.to_owned(), |text, (from, to)| text.replace(from, to)));
    for (a, b) in [(&mine, &theirs), (&theirs, &mine)] {
        let MergeError::Overlap(paths) = merge(&base, a, b).unwrap_err() else { panic!("an overlap") };
        assert!(paths.contains(&path.to_owned()), "{paths:?}");
    }
}

#[test]
fn parts_of_a_document_are_taken_over() {
    let into = document(RICH);
    let from = read_text(
        "format = 3\n[pools.booking]\nattempts = 1\nservers.auk = { address = \"192.0.2.44:1\" }\n[pools.other]\n",
        DocumentFormat::Toml,
    )
    .unwrap();
    let parts =
        |paths: &[&str]| take_parts(&into, &from, &paths.iter().map(ToString::to_string).collect::<Vec<_>>());
    let taken = parts(&["pools.booking"]).unwrap();
    assert_eq!(taken.pools.len(), 1);
    assert_eq!(taken.pools.values().next().unwrap().servers.len(), 1);
    let servers = parts(&["pools.booking.servers"]).unwrap();
    let pool = servers.pools.values().next().unwrap();
    assert_eq!((pool.servers.len(), pool.attempts), (1, 3));
    // What is only in the running document goes when its path is named.
    assert!(parts(&["frontends"]).unwrap().frontends.is_empty());
    assert!(parts(&["checks.none"]).unwrap_err()[0].found.contains("neither in the file nor"));
}

#[rstest]
#[case::a_check("checks.answers", "opens", &["rename check answers to opens", "check of pool booking: answers to opens"])]
#[case::a_host("hosts.tern", "knot", &["rename host tern to knot", "address of server booking/tern: tern:8080 to knot:8080"])]
#[case::a_range("ranges.public", "quays", &["listen of frontend web: public/web:80 to quays/web:80", "rename range public to quays"])]
#[case::a_taken_address("ranges.public.reserved.web", "site", &["listen of frontend web: public/web:80 to public/site:80", "rename address public/web to site"])]
#[case::an_empty_pool("pools.empty", "hollow", &["rename pool empty to hollow"])]
#[case::a_list("networks.islands", "isles", &["rename network islands to isles"])]
#[case::a_message("notifications.night", "dusk", &["rename notification night to dusk"])]
fn every_kind_of_object_is_renamed_and_not_removed_and_added(
    #[case] path: &str,
    #[case] to: &str,
    #[case] expected: &[&str],
) {
    let text = RICH.to_owned()
        + "[networks]\nislands = [\"192.0.2.0/25\"]\n[pools.empty]\n[notifications.night]\nwebhook = \"http://192.0.2.7/hook\"\n";
    let words = edited(&text, &[Edit::Rename { object: object(path), to: to.parse().unwrap() }]);
    assert_eq!(words, expected);
}

#[test]
fn of_a_range_the_next_address_is_taken_that_is_free_and_of_this_machine() {
    // 192.0.2.16 is taken, and a frontend of its own listens on 192.0.2.17.
    let text = RICH.to_owned()
        + "[frontends.own]\nprotocol = \"http\"\nlisten = \"192.0.2.17:80\"\npool = \"booking\"\n";
    let text = text.replace("192.0.2.16-192.0.2.18", "192.0.2.16-192.0.2.20");
    let take =
        [Edit::Reserve { range: "public".parse().unwrap(), name: "shop".parse().unwrap(), address: None }];
    let taken = |is_here: &dyn Fn(std::net::IpAddr) -> bool| {
        let edited = edit::edit_at(&document(&text), &take, is_here).map_err(|error| error.to_string())?;
        Ok::<_, String>(edited.ranges.values().next().unwrap().reserved[&"shop".parse().unwrap()].to_string())
    };
    assert_eq!(taken(&|_| true).unwrap(), "192.0.2.18");
    assert_eq!(taken(&|address| address.to_string() == "192.0.2.20").unwrap(), "192.0.2.20");
    let none = taken(&|_| false).unwrap_err();
    assert!(
        none.contains("this machine has none of the free addresses of range public")
            && none.contains("192.0.2.18"),
        "{none}"
    );
}

#[test]
fn servers_have_the_names_that_they_are_given_or_are_known_by() {
    let text = RICH.to_owned() + "[pools.second]\nservers.skua = { address = \"192.0.2.60:80\" }\n";
    let lines = |lines: &str| {
        let add = Edit::AddServers {
            pool: "booking".parse().unwrap(),
            lines: lines.to_owned(),
            weight: None,
            tier: None,
        };
        let old = document(&text);
        let new = edit(&old, &[add]).map_err(|error| error.to_string())?;
        Ok::<_, String>(diff(&old, &new).iter().map(DocumentChange::words).collect::<Vec<_>>())
    };
    assert_eq!(
        lines("oak=192.0.2.50:80 3\nelm=gull:81\n192.0.2.60:81\n192.0.2.61:81").unwrap(),
        [
            "add server booking/at-192-0-2-61 (address 192.0.2.61:81, weight 1)",
            "add server booking/elm (address gull:81, weight 1)",
            "add server booking/oak (address 192.0.2.50:80, weight 3)",
            "add server booking/skua (address 192.0.2.60:81, weight 1)",
        ]
    );
    assert!(
        lines("gull=192.0.2.50:80").unwrap_err().contains("there is a server gull in pool booking already")
    );
    assert!(lines("Oak=192.0.2.50:80").unwrap_err().contains("\"Oak\" is no name"));
    assert!(lines("oak=192.0.2.50-192.0.2.52:80").unwrap_err().contains("not a range"));
}

#[test]
fn a_rename_moves_no_share() {
    struct GullWithdrawn;
    impl crate::eligibility::ServerStates for GullWithdrawn {
        fn duty(&self, server: &crate::name::PoolServer) -> crate::duty::Duty {
            let is_gull = server.to_string() == "booking/gull";
            if is_gull { crate::duty::Duty::Withdrawn } else { crate::duty::Duty::InService }
        }
        fn health(&self, _: &crate::name::PoolServer) -> crate::health::HealthState {
            crate::health::HealthState::Up
        }
    }
    let rename = |path: &str, to: &str| Edit::Rename { object: object(path), to: to.parse().unwrap() };
    let old = document(RICH);
    let edits = [rename("pools.booking.servers.gull", "kittiwake"), rename("pools.booking", "tickets")];
    let new = check::check(edit(&old, &edits).unwrap()).unwrap();
    let found = super::super::impact::impact(
        &old,
        new.document(),
        &GullWithdrawn,
        &std::collections::BTreeSet::new(),
    );
    assert_eq!((found.moves.as_slice(), found.timings.as_slice()), (&[][..], &[][..]));
    assert_eq!(found.pools, ["tickets".parse().unwrap()]);
}

#[test]
fn lists_of_networks_are_objects_too() {
    let text = RICH.replace(
        "[hosts.gull]",
        "[networks]\nislands = [\"192.0.2.0/25\"]\ncoast = [\"192.0.2.128/25\"]\n\n[hosts.gull]",
    );
    let text = format!(
        "{text}next_pools = [\"standby\"]\nchoose_pool = \"by-network\"\npool_networks.standby = [\"islands\", \"coast\"]\n\n\
         [pools.standby]\nservers.auk = {{ address = \"192.0.2.30:8080\" }}\n"
    );
    let set = |prefixes| keys(json!({ "prefixes": prefixes }));
    let (islands, inland) = (object("networks.islands"), object("networks.inland"));
    assert_eq!(users(&document(&text), &islands), [object("frontends.web")]);
    let changes = edited(
        &text,
        &[
            Edit::Change { object: islands.clone(), keys: set(["192.0.2.0/26", "2001:db8::7"]) },
            Edit::Add { object: inland.clone(), keys: set(["198.51.100.0/24", "203.0.113.0/24"]) },
            Edit::Rename { object: islands.clone(), to: "isles".parse().unwrap() },
        ],
    );
    assert!(
        changes.iter().any(|change| change.contains("pool_networks") && change.contains("isles")),
        "{changes:#?}"
    );
    let used = refused(&text, &[Edit::Remove { object: islands.clone() }]);
    assert!(used.contains("frontend web"), "{used}");
    let wrong = keys(json!({ "prefixes": ["192.0.2.0/24"], "note": "a" }));
    let problems = refused(&text, &[Edit::Add { object: inland.clone(), keys: wrong }]);
    assert!(problems.contains("networks.inland.note"), "{problems}");
    let unknown = refused(&text, &[Edit::Remove { object: inland }]);
    assert!(unknown.contains("islands, coast"), "{unknown}");
    assert_eq!(
        edited(&text.replace(", \"coast\"", ""), &[Edit::Remove { object: object("networks.coast") }]).len(),
        1
    );
}

/// Only gull is up; tern is down.
struct OnlyGull;

impl crate::eligibility::ServerStates for OnlyGull {
    fn duty(&self, _: &crate::name::PoolServer) -> crate::duty::Duty {
        crate::duty::Duty::InService
    }

    fn health(&self, server: &crate::name::PoolServer) -> crate::health::HealthState {
        if server.server.as_str() == "gull" {
            crate::health::HealthState::Up
        } else {
            crate::health::HealthState::Down
        }
    }
}

const TWO: &str = "format = 3\n[checks.well]\nkind = \"tcp\"\n[pools.quay]\ncheck = \"well\"\n\
                   servers.gull = { address = \"192.0.2.1:80\" }\nservers.tern = { address = \"192.0.2.2:80\" }\n\
                   [pools.pier]\ncheck = \"well\"\nservers.auk = { address = \"192.0.2.3:80\" }\n\
                   [frontends.web]\nprotocol = \"http\"\nlisten = \"192.0.2.9:80\"\npool = \"quay\"\n";

#[rstest]
#[case::nothing_changes("", "", &[])]
#[case::the_last_eligible_one_is_removed("servers.gull = { address = \"192.0.2.1:80\" }\n", "", &["no-server-left:frontends.web"])]
#[case::one_that_is_down_is_removed("servers.tern = { address = \"192.0.2.2:80\" }\n", "", &[])]
#[case::the_last_eligible_one_gets_no_weight("192.0.2.1:80\" }", "192.0.2.1:80\", weight = 0 }", &["no-server-left:frontends.web"])]
#[case::another_pool_has_no_server("pool = \"quay\"", "pool = \"pier\"", &["no-server-left:frontends.web"])]
#[case::a_new_server_is_taken_to_be_there("192.0.2.1:80", "192.0.2.7:80", &[])]
#[case::another_pool_stands_in("pool = \"quay\"", "pool = \"quay\"\nnext_pools = [\"pier\"]", &[])]
#[case::one_more_frontend_before_no_server("[frontends.web]", "[frontends.site]\nprotocol = \"http\"\nlisten = \"192.0.2.9:81\"\npool = \"pier\"\n[frontends.web]", &["no-server-left:frontends.site"])]
fn losing_the_last_eligible_server_is_said_whichever_key_does_it(
    #[case] from: &str,
    #[case] to: &str,
    #[case] expected: &[&str],
) {
    let (old, new) = (document(TWO), document(&TWO.replace(from, to)));
    let found =
        super::super::lost_capacity::losses(&old, &new, &OnlyGull, &std::collections::BTreeSet::new());
    assert_eq!(found.iter().map(|warning| warning.key.as_str()).collect::<Vec<_>>(), expected, "{found:#?}");
}

#[test]
fn servers_that_do_not_pass_what_is_asked_of_them_from_now_on_are_lost_too() {
    let (old, new) =
        (document(TWO), document(&TWO.replace("kind = \"tcp\"", "kind = \"http\"\npath = \"/typo\"")));
    let gull = std::collections::BTreeSet::from(["quay/gull".parse().unwrap(), "quay/tern".parse().unwrap()]);
    let found = super::super::lost_capacity::losses(&old, &new, &OnlyGull, &gull);
    assert_eq!(found.len(), 1, "{found:#?}");
    assert!(
        found[0].message.contains("every client would get 503") && found[0].message.contains("quay: 0 of 2")
    );
    let moves = super::super::impact::impact(&old, &new, &OnlyGull, &gull).moves;
    let gull = moves.iter().find(|change| change.server.to_string() == "quay/gull").unwrap();
    assert_eq!((gull.before, gull.after), (Some(1.0), Some(0.0)));
}

#[test]
fn a_pool_that_is_not_usable_any_more_is_said_where_others_would_get_its_work() {
    let with_next =
        TWO.replace("pool = \"quay\"", "pool = \"quay\"\nnext_pools = [\"pier\"]").replace("auk", "gull");
    let (old, new) = (
        document(&with_next),
        document(&with_next.replace("[pools.quay]", "[pools.quay]\nmin_eligible = 2")),
    );
    let found =
        super::super::lost_capacity::losses(&old, &new, &OnlyGull, &std::collections::BTreeSet::new());
    assert_eq!(
        found.iter().map(|warning| warning.key.as_str()).collect::<Vec<_>>(),
        ["pool-lost:frontends.web.quay"]
    );
    let never =
        check::check(document(&with_next.replace("[pools.quay]", "[pools.quay]\nmin_eligible = 3"))).unwrap();
    assert!(never.warnings().iter().any(|warning| warning.key == "never-usable:pools.quay.min_eligible"));
}

#[rstest]
#[case::the_first_is_usable("", &[1.0, 0.0, 0.0])]
#[case::it_needs_more_than_there_are("min_eligible = 2", &[0.0, 1.0, 0.0])]
#[case::by_weight("choose_pool = \"by-weight\"\npool_weights.quay = 3", &[0.75, 0.25, 0.0])]
#[case::weights_and_capacity("capacity = 50\nchoose_pool = \"by-weight\"\npool_weights.quay = 3", &[0.6, 0.4, 0.0])]
#[case::the_last_resort("none", &[0.0, 0.0, 1.0])]
fn the_parts_of_pools_are_those_that_the_running_service_gives(#[case] keys: &str, #[case] expected: &[f64]) {
    let of_frontend: Vec<&str> =
        keys.lines().filter(|line| line.starts_with("choose") || line.starts_with("pool_")).collect();
    let of_pool: Vec<&str> = keys
        .lines()
        .filter(|line| line.starts_with("min_eligible") || line.starts_with("capacity"))
        .collect();
    let text = TWO
        .replace(
            "pool = \"quay\"",
            &format!(
                "pool = \"quay\"\nnext_pools = [\"pier\"]\nlast_resort = \"rest\"\n{}",
                of_frontend.join("\n")
            ),
        )
        .replace("[pools.quay]", &format!("[pools.quay]\n{}", of_pool.join("\n")))
        .replace("auk", if keys == "none" { "auk" } else { "gull" })
        .replace("servers.gull", if keys == "none" { "servers.knot" } else { "servers.gull" })
        + "[pools.rest]\nservers.skua = { address = \"192.0.2.4:80\" }\n";
    let checked = check::check(document(&text)).unwrap();
    let new = checked.document();
    let frontend = &new.frontends[&"web".parse().unwrap()];
    let parts = crate::config::pool_shares::parts(new, frontend, &OnlyGull).unwrap();
    let ours: Vec<f64> = frontend.pools().map(|pool| parts[pool]).collect();
    assert_eq!(ours, expected);
    let mut cells = crate::runtime::RuntimeRegistry::new(1);
    let now = crate::time::Tick(0);
    let snapshot = crate::routing::compile(&checked, &OnlyGull, &mut cells, 1, 1, now);
    let theirs = snapshot.frontends().next().unwrap().pool_shares("192.0.2.200".parse().unwrap(), now);
    assert_eq!(ours, theirs);
}

#[test]
fn what_moves_work_between_pools_and_what_leaves_less_room_is_shown() {
    let with_next =
        TWO.replace("pool = \"quay\"", "pool = \"quay\"\nnext_pools = [\"pier\"]").replace("auk", "gull");
    let with = |keys: &str| document(&with_next.replace("[pools.quay]", &format!("[pools.quay]\n{keys}")));
    let moves = |from: &str, to: &str| {
        super::super::impact::impact(&with(from), &with(to), &OnlyGull, &std::collections::BTreeSet::new())
    };
    let parts: Vec<_> = moves("", "min_eligible = 2")
        .pool_moves
        .into_iter()
        .map(|share_change| {
            (
                share_change.frontend.to_string(),
                share_change.pool.to_string(),
                share_change.before,
                share_change.after,
            )
        })
        .collect();
    let web = || "web".to_owned();
    assert_eq!(
        parts,
        [(web(), "pier".to_owned(), Some(0.0), Some(1.0)), (web(), "quay".to_owned(), Some(1.0), Some(0.0))]
    );
    // The only pool of a frontend gets its work, usable or not.
    let alone = document(&TWO.replace("[pools.quay]", "[pools.quay]\nmin_eligible = 2"));
    let none =
        super::super::impact::impact(&document(TWO), &alone, &OnlyGull, &std::collections::BTreeSet::new());
    assert_eq!(none.pool_moves, []);
    let rooms = |from: &str, to: &str| {
        let words = |change: &crate::config::pool_shares::CapacityChange| {
            format!("{} {}: {:?} to {:?}", change.pool, change.room.words(), change.before, change.after)
        };
        moves(from, to).rooms.iter().map(words).collect::<Vec<_>>()
    };
    // Of the two servers one is down.
    assert_eq!(
        rooms("in_flight_limit = 40", "in_flight_limit = 40\ncapacity = 50"),
        ["quay in flight: Some(40) to Some(20)"]
    );
    assert_eq!(rooms("", "rate_limit = 100"), ["quay a second: None to Some(100)"]);
    assert_eq!(rooms("connection_limit = 4", "connection_limit = 4\nattempts = 2"), [""; 0]);
}
