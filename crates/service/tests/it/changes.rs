//! Documents: applied, previewed, refused, kept.

use merismos_api::{DutyRequest, Review};
use merismos_client::ClientError;
use merismos_core::config::DocumentFormat;
use merismos_core::duty::Duty;
use merismos_lab::free::free_address;

use crate::harness::{Database, Service, until};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_document_is_previewed_applied_once_and_exported() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let text = service.document();
    let mut preview = Service::request(&text);
    preview.going.preview = true;
    let seen = service.client().apply(&preview).await.unwrap();
    assert!(!seen.made && seen.revision == 0 && seen.changes.len() == 5, "{seen:?}");
    assert!(service.get().await.is_err(), "a preview starts nothing");

    let made = service.apply(&text).await.unwrap();
    assert!(made.made && made.revision == 1);
    assert_eq!(
        made.impact.moves.iter().map(|share_change| share_change.after).collect::<Vec<_>>(),
        [Some(0.5), Some(0.5)]
    );
    let again = service.apply(&text).await.unwrap();
    assert!(
        !again.made && again.revision == 1 && again.changes.is_empty(),
        "the same content makes no revision"
    );

    let client = service.client();
    let export = client.document(DocumentFormat::Toml).await.unwrap();
    assert!(!service.apply(&export).await.unwrap().made, "what is exported is what runs");
    assert_eq!(client.document(DocumentFormat::Toml).await.unwrap(), export);
    let json = merismos_api::ApplyRequest {
        format: DocumentFormat::Json,
        ..Service::request(&client.document(DocumentFormat::Json).await.unwrap())
    };
    assert!(!client.apply(&json).await.unwrap().made);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_mistake_is_told_at_once_and_changes_nothing() {
    let service = Service::with(&["gull"]).await;
    let text = service
        .document()
        .replace("interval = \"200ms\"", "interval = 200")
        .replace("pool = \"quay\"", "pool = \"key\"")
        .replace("address = ", "adress = ");
    let Err(ClientError::Refused(problem)) = service.apply(&text).await else { panic!("it is refused") };
    assert_eq!(problem.status, 422);
    let paths: Vec<_> =
        problem.problems.iter().map(|problem| (problem.line.is_some(), problem.path.as_str())).collect();
    for path in ["checks.well.interval", "frontends.harbour.pool", "pools.quay.servers.gull.adress"] {
        assert!(paths.contains(&(true, path)), "{path} in {paths:?}");
    }
    assert_eq!(service.status().await.revision.number, 1);
    assert_eq!(service.get().await.unwrap().0, 200);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_frontend_whose_port_is_taken_is_refused_and_the_rest_runs_on() {
    let service = Service::with(&["gull"]).await;
    let taken = std::net::TcpListener::bind(free_address()).unwrap();
    let address = taken.local_addr().unwrap();
    let more = format!(
        "{}\n[frontends.second]\nprotocol = \"http\"\nlisten = \"{address}\"\npool = \"quay\"\n",
        service.document()
    );
    let Err(ClientError::Refused(problem)) = service.apply(&more).await else { panic!("it is refused") };
    assert_eq!(problem.status, 409);
    let who = format!("{address} is taken by ");
    assert!(problem.detail.contains(&who), "{}", problem.detail);
    let us = format!("(process {})", std::process::id());
    assert!(problem.detail.contains(&us), "the process is named: {}", problem.detail);
    assert_eq!(service.get().await.unwrap().0, 200);
    drop(taken);
    // A program that another test starts holds it for a moment, until it has its own text.
    until("once the port is free it is taken", async || service.apply(&more).await.is_ok()).await;
    assert_eq!(service.status().await.revision.number, 2);
    assert_eq!(service.get().await.unwrap().0, 200);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pool_without_servers_has_to_be_accepted_and_answers_503_with_the_frontends_name() {
    let service = Service::bare(Database::shared(), &[]).await;
    let Err(ClientError::Refused(problem)) = service.apply(&service.document()).await else {
        panic!("it is refused")
    };
    let keys: Vec<_> = problem.warnings.iter().map(|warning| warning.warning.key.as_str()).collect();
    assert_eq!(
        (problem.status, keys.as_slice()),
        (409, &["empty-pool:pools.quay"][..]),
        "{}",
        problem.detail
    );
    assert!(problem.detail.contains("pool quay has no servers"), "{}", problem.detail);
    assert_eq!(service.status().await.revision.number, 0);

    let mut request = Service::request(&service.document());
    request.going.accept.push("empty-pool:pools.quay".to_owned());
    assert!(service.client().apply(&request).await.unwrap().made);
    let accepted = service.client().revision(1).await.unwrap().revision.accepted;
    let accepted: Vec<_> =
        accepted.iter().map(|accepted| (accepted.key.as_str(), accepted.who.as_str())).collect();
    assert_eq!(accepted, [("empty-pool:pools.quay", "admin"), ("slow-timeout:checks.well.timeout", "admin")]);
    let noted = service.document().replace("[pools.quay]\n", "[pools.quay]\nnote = \"still empty\"\n");
    assert!(service.apply(&noted).await.unwrap().made, "what runs already needs no word again");
    let (status, text) = service.get().await.unwrap();
    assert_eq!(status, 503);
    assert!(text.contains("frontend harbour: no server is available"), "{text}");
    let trouble = service.status().await.frontends[0].trouble.clone().unwrap();
    assert!(trouble.contains("pool quay has no servers"), "{trouble}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_write_that_is_based_on_an_older_revision_is_refused() {
    let service = Service::with(&["gull"]).await;
    let based = |based_on, text: String| {
        let mut request = Service::request(&text);
        request.going.based_on = Some(based_on);
        request
    };
    let heavier = service.document() + "weight = 7\n";
    assert!(service.client().apply(&based(1, heavier)).await.unwrap().made);
    let Err(ClientError::Refused(problem)) = service.client().apply(&based(1, service.document())).await
    else {
        panic!("it is refused")
    };
    assert_eq!(problem.status, 409);
    assert!(problem.detail.contains("revision 2 runs by now"), "{}", problem.detail);
    let between = problem.between.expect("what changed in between is listed");
    let words: Vec<_> = between.changes.iter().map(|change| change.description.as_str()).collect();
    assert_eq!(
        (between.from, between.to, words.as_slice()),
        (1, 2, &["weight of server quay/gull: 1 (default) to 7"][..])
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn changes_hurt_no_request() {
    let service = Service::with(&["gull", "tern"]).await;
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let (flag, frontend) = (std::sync::Arc::clone(&stop), service.frontend);
    let traffic = tokio::spawn(async move {
        let client = crate::harness::http_client();
        let mut count = 0;
        while !flag.load(std::sync::atomic::Ordering::Relaxed) {
            let response = client.get(format!("http://{frontend}/")).send().await.expect("an answer");
            assert_eq!(response.status().as_u16(), 200);
            count += 1;
        }
        count
    });
    for weight in 2..22 {
        // The last server's table is the last object in the document.
        let text = format!("{}weight = {weight}\n", service.document());
        assert!(service.apply(&text).await.unwrap().made);
    }
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    assert!(traffic.await.unwrap() > 20, "there was traffic all the while");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_removed_frontend_stops_listening_and_another_begins() {
    let service = Service::with(&["gull"]).await;
    let other = free_address();
    let moved = service.document().replace(&service.frontend.to_string(), &other.to_string());
    service.apply(&moved).await.unwrap();
    until("the old address is let go", async || service.get().await.is_err()).await;
    let answer = crate::harness::http_client().get(format!("http://{other}/")).send().await;
    assert_eq!(answer.unwrap().status().as_u16(), 200);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn those_who_look_at_a_new_frontend_are_not_in_the_way_of_the_one_who_makes_it() {
    let service = Service::with(&["gull"]).await;
    let address = free_address();
    let more = format!(
        "{}\n[frontends.second]\nprotocol = \"http\"\nlisten = \"{address}\"\npool = \"quay\"\n",
        service.document()
    );
    let lookers = (0..8).map(|_| {
        let (client, mut preview) = (service.client(), Service::request(&more));
        preview.going.preview = true;
        tokio::spawn(async move {
            for _ in 0..10 {
                client.apply(&preview).await.unwrap();
            }
        })
    });
    let lookers: Vec<_> = lookers.collect();
    assert!(service.apply(&more).await.unwrap().made);
    for looker in lookers {
        looker.await.expect("no look fails");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_accepted_warning_is_told_again_only_where_a_change_touches_it() {
    let service = Service::with(&["gull"]).await;
    let change = |args: &[&str]| {
        let output = service.merismos(args);
        assert_eq!(output.status.code(), Some(0), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    let listen = free_address().to_string();
    change(&["pool", "create", "pier"]);
    let key = "empty-pool:pools.pier";
    change(&[
        "frontend",
        "create",
        "landing",
        "--listen",
        &listen,
        "--pool",
        "pier",
        "--accept-warning",
        key,
    ]);
    let elsewhere = change(&["server", "change", "quay/gull", "--weight", "7"]);
    assert!(elsewhere.contains("2 accepted warnings stand."), "{elsewhere}");
    assert!(!elsewhere.contains("pools.pier"), "{elsewhere}");
    let there = change(&["pool", "change", "pier", "--attempts", "2"]);
    assert!(there.contains("warning pools.pier: "), "{there}");
    assert!(there.contains("1 accepted warning stands."), "{there}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_takes_the_last_eligible_server_at_this_moment_has_to_be_accepted() {
    let service = Service::with(&["gull", "tern"]).await;
    let keys = |answer: Result<Review, ClientError>| {
        let Err(ClientError::Refused(problem)) = answer else { panic!("it is refused: {answer:?}") };
        problem
            .warnings
            .iter()
            .filter(|warning| warning.needs_word())
            .map(|warning| warning.warning.key.clone())
            .collect::<Vec<_>>()
    };
    // A check that no server passes: the service asks them before it takes it.
    let typo =
        service.document().replace("path = \"/health\"", "path = \"/health\"\nbody_contains = \"gannet\"");
    assert_eq!(keys(service.apply(&typo).await), ["no-server-left:frontends.harbour"]);
    let mut preview = Service::request(&typo);
    preview.going.preview = true;
    let review = service.client().apply(&preview).await.unwrap();
    let shares: Vec<_> =
        review.impact.moves.iter().map(|share_change| (share_change.before, share_change.after)).collect();
    assert_eq!(shares, [(Some(0.5), Some(0.0)), (Some(0.5), Some(0.0))], "{:#?}", review.impact);
    let says = &review.warnings[0].warning.message;
    assert!(says.contains("every client would get 503") && says.contains("quay: 0 of 2"), "{says}");

    // The document alone would do; at this moment tern is the last one.
    let client = service.client();
    let order = DutyRequest::new(Duty::Withdrawn, "new disk");
    client.duty(&"quay/gull".parse().unwrap(), &order).await.unwrap();
    let tern = service.stand_ins[1].address;
    let gone =
        service.document().replace(&format!("\n[pools.quay.servers.tern]\naddress = \"{tern}\"\n"), "");
    assert_eq!(keys(service.apply(&gone).await), ["no-server-left:frontends.harbour"]);
    let weight = service.document().replace(&format!("\"{tern}\"\n"), &format!("\"{tern}\"\nweight = 0\n"));
    assert_eq!(keys(service.apply(&weight).await), ["no-server-left:frontends.harbour"]);
    assert_eq!(service.get().await.unwrap().0, 200);
    assert_eq!(service.status().await.revision.number, 1);
    let mut accepted = Service::request(&gone);
    accepted.going.accept.push("no-server-left:frontends.harbour".to_owned());
    assert!(client.apply(&accepted).await.unwrap().made);
    assert_eq!(service.get().await.unwrap().0, 503);
}
