//! Older formats, and the schema for editors.

use rstest::rstest;
use serde_json::{Value, json};

use super::super::{DocumentFormat, json_schema, load, read_value};
use super::GOOD;

#[test]
fn a_document_of_format_1_is_migrated() {
    let old = GOOD
        .replace("format = 3", "format = 1")
        .replace("check = \"answers\"", "check = \"answers\"\nanswer_timeout = \"7s\"");
    let checked = load(&old, DocumentFormat::Toml).unwrap();
    let pool = checked.document().pools.values().next().unwrap();
    assert_eq!(pool.first_byte_timeout.to_string(), "7s");
    let written = checked.document().to_toml();
    assert!(
        written.starts_with("format = 3\n") && written.contains("first_byte_timeout = \"7s\""),
        "{written}"
    );
    let json = checked.document().to_json();
    assert_eq!(load(&json, DocumentFormat::Json).unwrap().document(), checked.document());
    // The old key is no key of the new format.
    let mixed = old.replace("format = 1", "format = 3");
    assert!(load(&mixed, DocumentFormat::Toml).unwrap_err()[0].path.ends_with("answer_timeout"));
}

/// Every key that format 3 gave another name, as format 2 wrote it and as it is now.
#[test]
fn a_document_of_format_2_is_migrated() {
    let old = json!({
        "format": 2,
        "ranges": { "public": { "addresses": "192.0.2.16/28", "taken": { "web": "192.0.2.17" } } },
        "messages": { "watch": {
            "webhook": "https://a.example/hook", "after": "30s", "gather": "2s", "at_most_every": "5m",
            "mail_to": ["a@b.example"], "mail_from": "m@b.example", "mail_server": "mail.b.example:587", "mail_tls": "whole"
        } },
        "checks": {
            "deep": { "kind": "http", "body_lacks": "c", "json_pointer": "/state", "json_wanted": "!= down", "wishes": true },
            "lag": { "kind": "sql", "user": "probe", "query": "SHOW REPLICA STATUS", "wanted": "< 30" }
        },
        "pools": { "booking": {
            "check": "deep", "algorithm": "hash", "hash_bound": 125, "usable_from": 2, "tier_minimum": 3,
            "keep_limit": 4, "keep_idle": "5s", "keep_age": "6m", "connect_ahead": 7, "whole_answer_timeout": "8m",
            "evidence_failures": 9, "evidence_within": "10s", "evidence_errors": true, "evidence_verdict": "down",
            "evidence_even_if_last": true,
            "servers": { "gull": { "address": "192.0.2.21:80", "whole_answer_timeout": "11s" } },
            "lookups": { "dns": { "name": "a.example", "records": "address", "port": 80, "together": true, "least_interval": "12s" } }
        } },
        "frontends": { "web": {
            "protocol": "http", "listen": "public/web:80", "pool": "booking", "stream_limit": 13, "head_limit": "14KiB",
            "field_limit": 15, "head_timeout": "16s", "unit": "connection"
        }, "feed": {
            "protocol": "tcp", "listen": "192.0.2.1:3306", "pool": "booking", "life_limit": "17h", "greeting_timeout": "18s"
        } }
    });
    let now = json!({
        "format": 3,
        "ranges": { "public": { "addresses": "192.0.2.16/28", "reserved": { "web": "192.0.2.17" } } },
        "notifications": { "watch": {
            "webhook": "https://a.example/hook", "min_duration": "30s", "batch_window": "2s", "min_interval": "5m",
            "mail_to": ["a@b.example"], "mail_from": "m@b.example", "mail_server": "mail.b.example:587", "mail_tls": "tls"
        } },
        "checks": {
            "deep": {
                "kind": "http", "body_not_contains": "c", "json_pointer": "/state", "json_expect": "!= down",
                "server_feedback": true
            },
            "lag": { "kind": "sql", "user": "probe", "query": "SHOW REPLICA STATUS", "expect": "< 30" }
        },
        "pools": { "booking": {
            "check": "deep", "algorithm": "hash", "bounded_load": 125, "min_eligible": 2, "tier_min_eligible": 3,
            "idle_connections": 4, "idle_connection_timeout": "5s", "idle_connection_age": "6m", "preconnect": 7,
            "response_timeout": "8m",
            "passive_check": { "failures": 9, "within": "10s", "count_5xx": true, "action": "down", "allow_last": true },
            "servers": { "gull": { "address": "192.0.2.21:80", "response_timeout": "11s" } },
            "lookups": { "dns": { "name": "a.example", "records": "address", "port": 80, "merge_addresses": true, "min_interval": "12s" } }
        } },
        "frontends": { "web": {
            "protocol": "http", "listen": "public/web:80", "pool": "booking", "max_concurrent_streams": 13,
            "header_size_limit": "14KiB", "header_count_limit": 15, "header_timeout": "16s", "balance_per": "connection"
        }, "feed": {
            "protocol": "tcp", "listen": "192.0.2.1:3306", "pool": "booking", "max_connection_age": "17h",
            "client_hello_timeout": "18s"
        } }
    });
    let migrated = read_value(old.clone()).unwrap();
    assert_eq!(migrated, read_value(now).unwrap());
    // The old keys are no keys of the new format: each table has one at least.
    let mut mixed = old;
    mixed["format"] = json!(3);
    let problems = read_value(mixed).unwrap_err();
    let unknown = |path: &str| problems.iter().any(|problem| problem.path == path);
    for path in [
        "messages",
        "ranges.public.taken",
        "checks.deep.wishes",
        "checks.lag.wanted",
        "pools.booking.evidence_failures",
        "pools.booking.servers.gull.whole_answer_timeout",
        "pools.booking.lookups.dns.together",
        "frontends.web.unit",
        "frontends.feed.life_limit",
    ] {
        assert!(unknown(path), "{path}: {problems:#?}");
    }
}

fn schema_takes(document: &Value) -> Result<(), String> {
    let schema: Value = serde_json::from_str(json_schema::text()).expect("the schema is JSON");
    let validator = jsonschema::draft202012::new(&schema).expect("the schema is a schema");
    validator.validate(document).map_err(|error| error.to_string())
}

/// Authorities and certificates with every key that they have.
fn certificates() -> Value {
    json!({
        "authorities": {
            "public": { "note": "for a reason", "labels": { "site": "north" },
                "directory": "https://ca.example/directory", "directory_authorities": "/etc/merismos/ca.pem", "terms_agreed": true,
                "contacts": ["a@b.example"], "external_account": "17", "external_account_key": "environment:ACCOUNT", "challenge": "http-01"
            },
            "dns": {
                "directory": "https://ca.example/directory", "challenge": "dns-01", "name_server": "192.0.2.53:53", "zone": "b.example",
                "tsig_key": "merismos.b.example", "tsig_algorithm": "hmac-sha512", "tsig_secret": "environment:TSIG"
            }
        },
        "certificates": {
            "read": { "note": "for a reason", "labels": { "site": "north" }, "chain": "file:/etc/merismos/a.pem", "key": "file:/etc/merismos/a.key" },
            "ordered": { "authority": "dns", "names": ["b.example", "*.b.example"] },
            "lab": { "self_signed": ["lab.b.example", "192.0.2.1"], "remind_before": ["60d", "7d"] }
        }
    })
}

/// A document that uses every key there is.
fn everything() -> Value {
    let about = |mut object: Value| {
        object["note"] = json!("for a reason");
        object["labels"] = json!({ "site": "north" });
        object
    };
    let times = json!({
        "connect_timeout": "1s", "first_byte_timeout": "2s", "response_timeout": "3m", "idle_timeout": "4s"
    });
    let with_times = |mut object: Value| {
        for (key, value) in times.as_object().unwrap() {
            object[key] = value.clone();
        }
        about(object)
    };
    let limits = |mut object: Value| {
        for (key, value) in [("connection_limit", 100), ("in_flight_limit", 50), ("rate_limit", 1000)] {
            object[key] = value.into();
        }
        with_times(object)
    };
    let pins = json!({
        "persistence": ["cookie", "client-address"], "pin_when_gone": "refuse", "pin_idle": "5m", "pin_limit": 500,
        "pin_prefix_ipv4": 24, "pin_prefix_ipv6": 56, "pin_cookie": "visit-pin", "pin_lifetime": "8h", "pin_domain": "skerry.example",
        "pin_path": "/booking", "pin_same_site": "strict", "pin_group": "site"
    });
    let failing = json!({
        "suspect_share": 20, "retry_after": "2s", "retry_budget": 5, "on_down": "keep", "on_failback": "break"
    });
    let hashing = json!({
        "algorithm": "hash",
        "hash_keys": ["cookie:visit", "header:x-account", "query:day", "path", "path-with-query", "host", "sni",
                      "client-address"],
        "hash_prefix_ipv4": 24, "hash_prefix_ipv6": 56, "hash_when_absent": "refuse", "bounded_load": 125
    });
    let hashing = |mut object: Value| {
        object.as_object_mut().unwrap().extend(hashing.as_object().unwrap().clone());
        object.as_object_mut().unwrap().extend(failing.as_object().unwrap().clone());
        object.as_object_mut().unwrap().extend(pins.as_object().unwrap().clone());
        object
    };
    let checking = |mut pool: Value| {
        for (key, value) in [("check", "well"), ("checks_needed", "any"), ("when_none", "all")] {
            pool[key] = json!(value);
        }
        pool["more_checks"] = json!(["open", "lag"]);
        pool["passive_check"] = json!({
            "failures": 5, "within": "20s", "count_5xx": true, "action": "down", "allow_last": true
        });
        pool
    };
    let mut all = json!({
        "format": 3,
        "hosts": { "gull": about(json!({ "address": "192.0.2.21" })) },
        "ranges": { "public": about(json!({ "addresses": "192.0.2.16/28", "reserved": { "web": "192.0.2.17" } })) },
        "notifications": { "watch": about(json!({
            "pools": ["booking"], "changes": ["down", "empty"], "min_duration": "30s", "batch_window": "2s", "min_interval": "5m",
            "webhook": "https://a.example/hook", "webhook_secret": "environment:HOOK", "mail_to": ["a@b.example"],
            "mail_from": "m@b.example", "mail_server": "mail.b.example:587", "mail_tls": "tls", "mail_user": "m",
            "mail_password": "file:/etc/merismos/mail"
        })) },
        "networks": { "inland": ["192.0.2.0/24", "2001:db8::/32"] },
        "checks": {
            "open": about(json!({ "kind": "tcp", "interval": "1s", "timeout": "500ms", "down_after": 2, "up_after": 1 })),
            "well": { "kind": "http", "path": "/health?x=1", "accept": ["200-299", "304"] },
            "deep": {
                "kind": "http", "method": "POST", "host": "a.example:8080", "headers": { "X-Probe": "yes" },
                "http_version": "2", "tls": "verified", "tls_name": "a.example", "tls_authorities": "/etc/ssl/own.pem",
                "tls_pin": "00".repeat(32), "body_contains": "a", "body_matches": "b+", "body_not_contains": "c",
                "json_pointer": "/state", "json_expect": "!= down", "body_limit": "1MiB", "redirects": 2, "server_feedback": true, "keep_alive": true,
                "flapping_after": 4, "flapping_within": "1h", "hold_down": "30s", "hold_down_most": "5m",
                "port": 9000, "address": "192.0.2.9", "source_address": "192.0.2.5", "interval_down": "10s"
            },
            "says": { "kind": "tcp", "send": "PING\r\n", "expect": "PONG", "expect_pattern": "^.PONG", "port": 1 },
            "host": { "kind": "icmp", "address": "192.0.2.9", "source_address": "192.0.2.5" },
            "feed": { "kind": "udp", "send": "here", "expect": "here", "expect_pattern": "h", "port": 1 },
            "names": { "kind": "dns", "name": "a.example", "record": "AAAA", "expect": "2001:db8::1", "port": 53 },
            "cert": { "kind": "tls", "tls": "unverified", "tls_name": "a.example", "warn_days": 30, "port": 443 },
            "lag": {
                "kind": "sql", "user": "probe", "password": "file:/etc/merismos/probe", "database": "shop",
                "query": "SHOW REPLICA STATUS", "column": "Seconds_Behind_Master", "expect": "< 30", "port": 3306,
                "tls": "verified", "tls_authorities": "/etc/ssl/own.pem"
            },
            "serves": { "kind": "grpc", "service": "booking", "port": 50051 },
            "own": { "kind": "command", "program": "lag.sh", "arguments": ["--most", "30"] }
        },
        "pools": { "booking": checking(hashing(limits(json!({
            "attempts": 2,
            "min_eligible": 2,
            "tier_min_eligible": 2, "failback": "after 5m", "ramp": "30s", "capacity": 80,
            "adaptive_limit": true, "queue_limit": 10, "queue_timeout": "500ms", "proxy_protocol": "v2",
            "http_version": "1.1", "source_addresses": ["192.0.2.5", "2001:db8::5"], "idle_connections": 8,
            "idle_connection_timeout": "30s", "idle_connection_age": "10m", "preconnect": 2,
            "tls": "verified", "tls_name": "a.example", "tls_authorities": "/etc/ssl/own.pem",
            "tls_pin": "0000000000000000000000000000000000000000000000000000000000000000",
            "servers": { "gull": limits(json!({ "address": "gull:8080", "weight": 0, "tier": 7, "capacity": 50 })) },
            "lookups": {
                "a": { "name": "booking.skerry.example", "records": "address", "port": 80, "weight": 2,
                       "resolver": "192.0.2.53:53", "when_empty": "remove", "min_interval": "1s", "note": "all" },
                "s": { "name": "_http._tcp.skerry.example", "records": "service" }
            }
        })))), "second": { "tls": "unverified", "tls_certificate": "lab", "tls_name_of": "request" }, "sorry": {} },
        "frontends": { "web": about(json!({
            "protocol": "http", "listen": "public/web:80", "pool": "booking", "connection_limit": 5,
            "min_rate": "64B", "min_rate_grace": "10s", "dropped_fields": ["X-Real-IP"],
            "header_size_limit": "8KiB", "header_count_limit": 50, "header_timeout": "5s", "idle_timeout": "5s", "balance_per": "connection",
            "max_concurrent_streams": 20, "body_size_limit": "10MiB", "requests_per_connection": 1000,
            "rules": ["admin", "old", "one"], "ambiguous_paths": "allow", "redirect_to_https": 443, "redirect_status": "307", "hsts_age": "5m", "hsts_subdomains": true,
            "next_pools": ["second"], "choose_pool": "by-network", "pool_weights": { "second": 3 },
            "pool_networks": { "second": ["inland"] }, "last_resort": "sorry",
            "tunnel_timeout": "2h", "trusted": ["192.0.2.0/24", "2001:db8::7"], "proxy_protocol": true
        })),
        "lines": { "protocol": "tcp", "listen": "192.0.2.1:3306", "pool": "booking", "max_connection_age": "8h", "client_hello_timeout": "3s",
            "passthrough": { "sorry": ["tickets.skerry.example", "*.fleet.skerry.example"] }, "certificates": ["lab"], "tls_policy": "modern", "tls_ciphers": ["TLS_AES_128_GCM_SHA256"], "unknown_name": "refuse",
            "client_certificates": "optional", "client_authorities": "/etc/merismos/clients.pem", "client_revocations": "/etc/merismos/revoked.pem", "handshake_timeout": "5s",
            "handshake_limit": 500, "client_handshake_limit": 50 },
        "feed": { "protocol": "udp", "listen": "192.0.2.1:3306", "pool": "booking", "balance_per": "datagram" } }
    });
    let maintenance = json!({
        "allow": ["inland"], "deny": ["inland"], "limits": ["visitor"], "error_html": "<h1>{status}</h1>", "error_json": "{\"title\": \"{reason}\"}", "error_text": "{why}", "maintenance": "new engine", "maintenance_except": ["inland"], "maintenance_page": "<p>soon</p>", "maintenance_retry_after": "1h"
    });
    for (key, value) in maintenance.as_object().unwrap() {
        all["frontends"]["web"][key] = value.clone();
    }
    all["limits"] = json!({
        "visitor": about(json!({
            "per": "header:x-key", "prefix_ipv4": 24, "prefix_ipv6": 48, "rate": 100, "within": "1m", "burst": 20, "in_flight": 10,
            "action": "delay", "max_delay": "2s", "clients": 5000
        })),
        "lines": { "per": "all", "within": "1s", "connections": 5, "action": "observe" }
    });
    all["rules"] = json!({
        "canary": about(json!({ "when": "host is booking.skerry.example", "action": "pool", "pool_weights": { "booking": 95, "second": 5 } })),
        "admin": { "when": "path under /admin and client not in inland", "action": "refuse", "status": 404, "body": "no\n", "content_type": "text/plain" },
        "old": { "when": "path under /old", "action": "redirect", "location": "https://www.skerry.example{rest}{query}", "redirect_status": "308" },
        "one": { "when": "always", "action": "pool", "pool": "second" },
        "tenant": {
            "when": "path matches \"^/t/(?P<tenant>[a-z]+)/\"", "action": "continue", "rewrite_path": "/app{path}", "rewrite_host": "inside.example",
            "set_request_fields": { "X-Tenant": "{capture.tenant}" }, "remove_request_fields": ["X-Debug"],
            "set_response_fields": { "X-Frame-Options": "DENY" }, "remove_response_fields": ["Server"]
        },
        "shut": { "when": "method is TRACE", "action": "close", "limits": ["visitor"] }
    });
    all["addresses"] = json!({
        "front": about(json!({
            "addresses": ["192.0.2.10", "2001:db8::10"], "interface": "eth0", "router_id": 10, "nodes": { "north": 200, "south": 100 },
            "advertisement_interval": "200ms", "peers": ["192.0.2.2", "192.0.2.3"], "checksum": "rfc-5798", "preemption": "after-delay",
            "preemption_delay": "1m", "pools": ["booking"], "pool_loss": 60, "pool_loss_delay": "10s"
        })),
        "back": { "addresses": ["192.0.2.11"], "interface": "eth1", "router_id": 11, "nodes": { "north": 2 } }
    });
    let announced = |keys: Value| {
        let mut all = json!({
            "addresses": ["198.51.100.10", "2001:db8:51::10"], "as_number": 4_200_000_001_u32, "peers": ["192.0.2.254", "2001:db8::254"],
            "peer_as": 64_501, "pools": ["booking"]
        });
        all.as_object_mut().unwrap().extend(keys.as_object().unwrap().clone());
        all
    };
    let lone = |address: &str, keys: Value| {
        let mut all = announced(keys);
        all["addresses"] = json!([address]);
        (all["peers"], all["peer_as"]) = (json!(["192.0.2.253"]), json!(64_502));
        all
    };
    all["announce"] = json!({
        "edge": about(announced(json!({
            "nodes": ["north", "south"], "hold_time": "3s", "hops": 2, "password": "environment:MERISMOS_SECRET_SESSIONS", "restart_time": "20s",
            "med": 10, "communities": ["64500:120"], "leave_time": "5s", "when_pools_fail": "prepend", "loss_prepend": 4, "pool_loss_delay": "1s"
        }))),
        "farther": lone("198.51.100.11", json!({ "when_pools_fail": "med", "loss_med": 400 })),
        "marked": lone("198.51.100.12", json!({ "when_pools_fail": "community", "loss_communities": ["64500:66"] })),
        "plain": lone("198.51.100.13", json!({ "when_pools_fail": "withdraw" }))
    });
    all["examples"] = json!({ "old-page": about(json!({
        "frontend": "web", "host": "a.example", "path": "/old/x?y", "method": "POST", "client": "192.0.2.7", "headers": { "X-Tenant": "blue" },
        "expect_rule": "old", "expect_pool": "second", "expect_status": 308, "expect_location": "https://www.skerry.example/x?y", "expect_path": "/x", "expect_fields": { "X-Tenant": "blue" }
    })) });
    for (home, objects) in certificates().as_object().unwrap() {
        all[home] = objects.clone();
    }
    all
}

/// The paths of all tables in a value.
fn tables(value: &Value, pointer: &str, found: &mut Vec<String>) {
    if let Value::Object(entries) = value {
        found.push(pointer.to_owned());
        for (key, inner) in entries {
            tables(inner, &format!("{pointer}/{key}"), found);
        }
    }
}

#[test]
fn the_schema_and_the_reader_know_the_same_keys() {
    let everything = everything();
    assert_eq!(schema_takes(&everything), Ok(()));
    let document = read_value(everything.clone()).unwrap_or_else(|problems| panic!("{problems:#?}"));
    // What the reader writes holds all its keys: the schema has to take each of them.
    let written: Value = serde_json::from_str(&document.to_json()).unwrap();
    assert_eq!(schema_takes(&written), Ok(()));
    // And a key that neither knows is refused by both, wherever it stands.
    let mut all = Vec::new();
    tables(&everything, "", &mut all);
    for pointer in all.iter().filter(|pointer| {
        ![
            "labels",
            "reserved",
            "networks",
            "passive_check",
            "headers",
            "nodes",
            "pool_weights",
            "pool_networks",
            "passthrough",
            "set_request_fields",
            "set_response_fields",
            "expect_fields",
        ]
        .iter()
        .any(|suffix| pointer.ends_with(suffix))
    }) {
        let mut wrong = everything.clone();
        wrong.pointer_mut(pointer).unwrap()["no_such_key"] = json!("x");
        assert!(schema_takes(&wrong).is_err(), "the schema takes no_such_key at {pointer:?}");
        assert!(read_value(wrong).is_err(), "the reader takes no_such_key at {pointer:?}");
    }
}

#[rstest]
#[case::a_bare_number("/checks/open/interval", json!(2))]
#[case::a_weight_too_large("/pools/booking/servers/gull/weight", json!(1001))]
#[case::a_tier_too_high("/pools/booking/servers/gull/tier", json!(8))]
#[case::another_protocol("/frontends/web/protocol", json!("gopher"))]
#[case::another_kind("/checks/open/kind", json!("smoke"))]
#[case::a_secret_in_the_document("/checks/lag/password", json!("hunter2"))]
#[case::a_query_that_writes("/checks/lag/query", json!("DELETE FROM bookings"))]
#[case::two_queries("/checks/lag/query", json!("SELECT 1; DROP TABLE bookings"))]
#[case::no_condition("/checks/lag/expect", json!("30"))]
#[case::a_program_elsewhere("/checks/own/program", json!("../../bin/sh"))]
#[case::a_pin_too_short("/checks/deep/tls_pin", json!("00"))]
#[case::too_many_redirections("/checks/deep/redirects", json!(6))]
#[case::a_change_of_nothing("/notifications/watch/changes", json!(["weather"]))]
#[case::a_hook_by_ftp("/notifications/watch/webhook", json!("ftp://a.example/"))]
#[case::no_mailbox("/notifications/watch/mail_to", json!(["no-at-sign"]))]
#[case::mail_to_nobody("/notifications/watch/mail_to", json!([]))]
#[case::no_mail_port("/notifications/watch/mail_server", json!("mail.b.example"))]
#[case::a_secret_of_the_hook("/notifications/watch/webhook_secret", json!("hunter2"))]
#[case::flapping_after_one("/checks/deep/flapping_after", json!(1))]
#[case::a_wish_of_words("/checks/deep/server_feedback", json!("yes"))]
#[case::another_record("/checks/names/record", json!("LOC"))]
#[case::another_verdict("/pools/booking/passive_check/action", json!("dead"))]
#[case::checks_that_some_pass("/pools/booking/checks_needed", json!("some"))]
#[case::a_path_without_slash("/checks/well/path", json!("health"))]
#[case::no_status("/checks/well/accept", json!(["2xx"]))]
#[case::no_days("/certificates/lab/remind_before", json!(["366d"]))]
#[case::too_many_attempts("/pools/booking/attempts", json!(17))]
#[case::other_records("/pools/booking/lookups/a/records", json!("mail"))]
#[case::an_empty_label("/hosts/gull/labels/site", json!(""))]
#[case::another_algorithm("/pools/booking/algorithm", json!("guess"))]
#[case::a_key_of_nothing("/pools/booking/hash_keys", json!(["method:GET"]))]
#[case::a_bound_below_the_share("/pools/booking/bounded_load", json!(100))]
#[case::a_failback_without_time("/pools/booking/failback", json!("after"))]
#[case::more_than_all_capacity("/pools/booking/capacity", json!(101))]
#[case::another_persistence("/pools/booking/persistence", json!("memory"))]
#[case::another_persistence_among_others("/pools/booking/persistence", json!(["cookie", "memory"]))]
#[case::a_header_without_a_name("/pools/booking/persistence", json!("header:"))]
#[case::no_persistence_at_all("/pools/booking/persistence", json!([]))]
#[case::a_pin_that_stays("/pools/booking/pin_when_gone", json!("stay"))]
#[case::no_pin_at_all("/pools/booking/pin_limit", json!(0))]
#[case::too_long_a_prefix("/pools/booking/pin_prefix_ipv4", json!(33))]
#[case::a_suspect_share_of_none("/pools/booking/suspect_share", json!(0))]
#[case::an_on_down_that_is_none("/pools/booking/on_down", json!("reset"))]
#[case::a_field_with_a_space("/frontends/web/dropped_fields", json!(["X Real"]))]
#[case::the_consoles_cookie("/pools/booking/pin_cookie", json!("merismos_session"))]
#[case::a_cookie_with_a_space("/pools/booking/pin_cookie", json!("a b"))]
#[case::a_domain_with_a_semicolon("/pools/booking/pin_domain", json!("skerry.example; Secure"))]
#[case::a_domain_with_a_dot_at_its_end("/pools/booking/pin_domain", json!("skerry.example."))]
#[case::a_path_with_a_semicolon("/pools/booking/pin_path", json!("/a;b"))]
#[case::a_path_of_nothing("/pools/booking/pin_path", json!("booking"))]
#[case::a_same_site_that_there_is_not("/pools/booking/pin_same_site", json!("some"))]
#[case::another_choice("/frontends/web/choose_pool", json!("guess"))]
#[case::a_weight_of_a_pool_too_large("/frontends/web/pool_weights/second", json!(1001))]
#[case::another_unit("/frontends/feed/balance_per", json!("packet"))]
#[case::rules_that_are_no_list("/frontends/web/rules", json!("admin"))]
#[case::an_action_that_there_is_not("/rules/one/action", json!("drop"))]
#[case::an_empty_condition("/rules/one/when", json!(""))]
#[case::a_location_of_another_scheme("/rules/old/location", json!("ftp://a.example/"))]
#[case::a_status_that_informs("/rules/admin/status", json!(103))]
#[case::an_example_of_no_path("/examples/old-page/path", json!("old"))]
#[case::a_size_without_unit("/frontends/web/header_size_limit", json!(8192))]
fn the_schema_and_the_reader_refuse_the_same_values(#[case] pointer: &str, #[case] value: Value) {
    let mut wrong = everything();
    *wrong.pointer_mut(pointer).expect("a key that is there") = value;
    assert!(schema_takes(&wrong).is_err(), "the schema takes it");
    assert!(read_value(wrong).is_err(), "the reader takes it");
}
