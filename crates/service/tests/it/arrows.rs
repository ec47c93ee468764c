//! Who may depend on whom, as ARCHITECTURE.md says.

use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;

use serde_json::Value;

/// The crates of ours that each crate may depend on.
fn allowed() -> BTreeMap<&'static str, &'static [&'static str]> {
    BTreeMap::from([
        ("merismos-derive", &[][..]),
        ("merismos-core", &["merismos-derive"]),
        ("merismos-connector", &["merismos-core"]),
        ("merismos-addresses", &["merismos-core"]),
        ("merismos-plane", &["merismos-core", "merismos-connector"]),
        ("merismos-probe", &["merismos-core", "merismos-connector"]),
        ("merismos-store", &["merismos-core"]),
        ("merismos-load", &["merismos-core"]),
        ("merismos-api", &["merismos-core"]),
        ("merismos-client", &["merismos-api", "merismos-core"]),
        (
            "merismosd",
            &[
                "merismos-core",
                "merismos-addresses",
                "merismos-api",
                "merismos-connector",
                "merismos-plane",
                "merismos-probe",
                "merismos-store",
                "merismos-load",
            ],
        ),
        ("merismos", &["merismos-client", "merismos-api", "merismos-core", "merismos-load"]),
        ("merismos-lab", &["merismos-client", "merismos-api", "merismos-load"]),
    ])
}

/// What tests of a crate may depend on beside that.
fn allowed_in_tests() -> BTreeMap<&'static str, &'static [&'static str]> {
    BTreeMap::from([
        ("merismosd", &["merismos-lab", "merismos-client"][..]),
        ("merismos-addresses", &["merismos-lab"]),
        ("merismos-plane", &["merismos-lab"]),
        ("merismos-probe", &["merismos-lab"]),
    ])
}

/// What the core must never depend on, whatever for.
const NOT_IN_CORE: [&str; 9] =
    ["tokio", "sqlx", "axum", "hyper", "reqwest", "socket2", "mio", "rand", "async-std"];

fn metadata() -> Value {
    let version = Command::new("rustc").arg("-vV").output().unwrap();
    let version = String::from_utf8(version.stdout).unwrap();
    let host = version.lines().find_map(|line| line.strip_prefix("host: ")).expect("rustc names its host");
    let output = Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--locked", "--offline", "--filter-platform", host])
        .current_dir(env!("CARGO_MANIFEST_DIR"))
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

#[test]
fn no_arrow_points_the_wrong_way() {
    let metadata = metadata();
    let (normal, tests) = (allowed(), allowed_in_tests());
    let members: BTreeSet<&str> =
        metadata["workspace_members"].as_array().unwrap().iter().map(|id| id.as_str().unwrap()).collect();
    let packages = metadata["packages"].as_array().unwrap();
    let ours: Vec<&Value> =
        packages.iter().filter(|package| members.contains(package["id"].as_str().unwrap())).collect();
    let names: BTreeSet<&str> = ours.iter().map(|package| package["name"].as_str().unwrap()).collect();
    assert_eq!(
        names,
        normal.keys().copied().collect(),
        "a crate came or went: say here what it may depend on"
    );
    let mut wrong = Vec::new();
    for package in ours {
        let name = package["name"].as_str().unwrap();
        for dependency in package["dependencies"].as_array().unwrap() {
            let on = dependency["name"].as_str().unwrap();
            let is_test = dependency["kind"] == "dev";
            let fine = normal[name].contains(&on)
                || (is_test && tests.get(name).is_some_and(|more| more.contains(&on)));
            if names.contains(on) && !fine {
                wrong.push(format!("{name} depends on {on}{}", if is_test { " in its tests" } else { "" }));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn the_core_gains_no_io() {
    let output = Command::new(env!("CARGO"))
        .args([
            "tree",
            "--package",
            "merismos-core",
            "--edges",
            "normal",
            "--prefix",
            "none",
            "--locked",
            "--offline",
        ])
        .current_dir(env!("CARGO_MANIFEST_DIR"))
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let tree = String::from_utf8(output.stdout).unwrap();
    let reached: BTreeSet<&str> = tree.lines().filter_map(|line| line.split(' ').next()).collect();
    assert!(reached.contains("serde") && reached.len() > 10, "the walk finds what core depends on: {tree}");
    let found: Vec<_> = NOT_IN_CORE.iter().filter(|name| reached.contains(*name)).collect();
    assert!(found.is_empty(), "core depends on {found:?}");
}
