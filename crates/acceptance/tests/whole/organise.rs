//! Keeping ten thousand things in order: tags, favourites, views, searches, moves in bulk, copies.

use jexlin_acceptance::{Service, Session};
use serde_json::{Value, json};

fn names(session: &Session<'_>, filter: &str) -> Vec<String> {
    let page = session.get(&format!("/api/v1/credentials?{filter}")).good();
    page["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| item["name"].as_str().unwrap().to_owned())
        .collect()
}

/// Two folders, a device and five credentials.
fn world(service: &Service) -> (String, String) {
    let ines = service.sign_in("ines");
    let (pumps, office) = (ines.folder("Pumping"), ines.folder("Office"));
    let device = ines.make(
        "/api/v1/devices",
        &json!({"folder": pumps, "name": "telemetry", "address": "192.0.2.9"}),
    );
    for (folder, name, fields, tags) in [
        (
            &pumps,
            "Ridge duty",
            json!({"user_name": "duty", "note": "Third drawer"}),
            json!(["Storm", "night"]),
        ),
        (
            &pumps,
            "Ridge feed",
            json!({"user_name": "feed"}),
            json!([]),
        ),
        (
            &office,
            "Ordering portal",
            json!({"user_name": "office", "url": "https://orders.example/\nhttps://sign-in.example/"}),
            json!(["storm"]),
        ),
        (
            &office,
            "Franking",
            json!({"user_name": "franking"}),
            json!([]),
        ),
    ] {
        let _ = ines.make("/api/v1/credentials", &json!({"folder": folder, "kind": "login", "name": name, "fields": fields, "tags": tags}));
    }
    let _ =
        ines.make("/api/v1/credentials", &json!({"folder": pumps, "kind": "device-admin", "name": "root", "fields": {"user_name": "root"}, "device": device}));
    (pumps, office)
}

#[test]
fn everything_that_is_not_secret_is_found_word_by_word_with_typing_errors() {
    let service = Service::ready();
    let (pumps, _) = world(&service);
    let ines = service.sign_in("ines");
    for (text, wanted) in [
        ("drawer", &["Ridge duty"][..]),
        ("sign-in.example", &["Ordering portal"]),
        ("night", &["Ridge duty"]),
        ("192.0.2", &["root"]),
        ("pumping", &["Ridge duty", "Ridge feed", "root"]),
        ("pumping feed", &["Ridge feed"]),
        ("feed pumping", &["Ridge feed"]),
        ("office ri", &["Ordering portal"]),
        ("50%", &[]),
    ] {
        assert_eq!(
            names(
                &ines,
                &format!("find={}", text.replace('%', "%25").replace(' ', "%20"))
            ),
            wanted,
            "{text}"
        );
    }
    let near = ines.get("/api/v1/credentials?find=ordring").good();
    assert_eq!(
        (
            near["items"][0]["name"].as_str(),
            near["items"][0]["near"].as_bool()
        ),
        (Some("Ordering portal"), Some(true))
    );
    // Letters that changed places; the nearest comes first.
    let near = ines.get("/api/v1/credentials?find=rigde%20fede").good();
    assert_eq!(
        (
            near["items"][0]["name"].as_str(),
            near["items"][0]["near"].as_bool()
        ),
        (Some("Ridge feed"), Some(true))
    );
    // What somebody may not know of is not found, not even nearly.
    let marek = ines.person("marek", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumps, "person": marek, "level": "list"}),
    );
    let other = service.sign_in("marek");
    assert!(names(&other, "find=ordring").is_empty() && names(&other, "find=portal").is_empty());
    assert_eq!(names(&other, "find=feed"), ["Ridge feed"]);
    let client = service.client("ines");
    assert!(
        client
            .good(&["find", "ridge", "feed"])
            .contains("Ridge feed")
    );
}

#[test]
fn lists_are_filtered_by_every_column_and_searches_are_saved() {
    let service = Service::ready();
    let (pumps, office) = world(&service);
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    for (filter, wanted) in [
        ("tag=STORM", &["Ordering portal", "Ridge duty"][..]),
        ("user=fee", &["Ridge feed"]),
        ("kind=device-admin", &["root"]),
        ("device=telem", &["root"]),
        ("name=ridge&tag=night", &["Ridge duty"]),
        (&format!("below={office}"), &["Franking", "Ordering portal"]),
        (
            &format!("folder={pumps}&find=ridge"),
            &["Ridge duty", "Ridge feed"],
        ),
        ("check=in-sync", &[]),
    ] {
        assert_eq!(names(&ines, filter), wanted, "{filter}");
    }
    assert_eq!(
        ines.get("/api/v1/tags").good()["items"],
        json!([{"tag": "night", "times": 1}, {"tag": "storm", "times": 2}])
    );
    let _ = client.good(&[
        "search",
        "save",
        "Stormy pumps",
        "--below",
        "/Pumping",
        "--tag",
        "storm",
    ]);
    assert_eq!(
        client
            .good(&["search", "run", "stormy pumps", "--output", "csv"])
            .lines()
            .count(),
        2
    );
    assert_eq!(
        client
            .bad(&["search", "save", "STORMY pumps", "--tag", "x"])
            .0,
        6
    );
    assert_eq!(client.bad(&["search", "save", "Nothing"]).0, 7);
    let _ = ines.person("marek", &[]);
    assert_eq!(service.client("marek").good(&["search", "list"]), "");
    let _ = client.good(&["search", "remove", "Stormy pumps"]);
    assert_eq!(client.bad(&["search", "run", "Stormy pumps"]).0, 5);
}

#[test]
fn favourites_and_recent_use_belong_to_each_person() {
    let service = Service::ready();
    let (pumps, _) = world(&service);
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let marek = ines.person("marek", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumps, "person": marek, "level": "reveal"}),
    );
    let _ = client.good(&[
        "credential",
        "add-favourite",
        "/Pumping/Ridge feed",
        "/Office/Franking",
    ]);
    let _ = client.good(&["reveal", "/Pumping/Ridge duty", "--pipe"]);
    let _ = client.good(&["reveal", "/Pumping/Ridge duty", "--pipe"]);
    let _ = client.good(&["reveal", "/Office/Franking", "--pipe"]);
    assert_eq!(names(&ines, "view=favourites"), ["Franking", "Ridge feed"]);
    assert_eq!(names(&ines, "view=recent"), ["Franking", "Ridge duty"]);
    assert_eq!(names(&ines, "view=most-used"), ["Ridge duty", "Franking"]);
    let other = service.sign_in("marek");
    for view in ["favourites", "recent", "most-used"] {
        assert!(names(&other, &format!("view={view}")).is_empty(), "{view}");
    }
    // Whose is what, and who else has it.
    assert_eq!(names(&ines, "view=mine").len(), 5);
    assert_eq!(
        names(&ines, "view=shared-by-me"),
        ["Ridge duty", "Ridge feed", "root"]
    );
    assert_eq!(
        names(&ines, "view=with-nobody"),
        ["Franking", "Ordering portal"]
    );
    assert_eq!(names(&other, "view=shared-with-me").len(), 3);
    assert!(names(&other, "view=mine").is_empty());
    let _ = client.good(&["credential", "remove-favourite", "/Office/Franking"]);
    assert_eq!(names(&ines, "view=favourites"), ["Ridge feed"]);
    let uses = client.good(&[
        "credential",
        "uses",
        "/Pumping/Ridge duty",
        "--output",
        "csv",
    ]);
    assert!(
        uses.contains("Ines Calder") && uses.ends_with(",2"),
        "{uses}"
    );
    assert_eq!(
        service
            .client("marek")
            .bad(&["credential", "uses", "/Pumping/Ridge duty"])
            .0,
        4
    );
}

#[test]
fn many_are_moved_at_once_with_one_result_each_and_a_failure_stops_nothing() {
    let service = Service::ready();
    let _ = world(&service);
    let client = service.client("ines");
    let _ = client.good(&["folder", "add", "/Archive"]);
    let moved = client.run(
        &[
            "credential",
            "move",
            "/Office/Franking",
            "/Office/Nothing",
            "/Pumping/Ridge feed",
            "/Archive",
        ],
        "",
    );
    let said = String::from_utf8_lossy(&moved.stdout).into_owned();
    assert_eq!(moved.status.code(), Some(5), "{said}");
    assert!(
        said.contains("is now /Archive/Franking")
            && said.contains("There is no credential /Office/Nothing")
            && said.contains("is now /Archive/Ridge feed"),
        "{said}"
    );
    let _ = client.good(&[
        "credential",
        "tag",
        "/Archive/Franking",
        "/Archive/Ridge feed",
        "--add",
        "old",
    ]);
    assert_eq!(
        client
            .good(&["credential", "list", "--tag", "old", "--output", "csv"])
            .lines()
            .count(),
        3
    );
    let _ = client.good(&["credential", "tag", "/Archive/Franking", "--remove", "OLD"]);
    assert_eq!(
        client
            .good(&["credential", "list", "--tag", "old", "--output", "csv"])
            .lines()
            .count(),
        2
    );
    assert_eq!(
        client
            .bad(&["credential", "tag", "/Archive/Franking", "--add", "a,b"])
            .0,
        7
    );
    let _ = client.good(&[
        "credential",
        "remove",
        "/Archive/Franking",
        "/Archive/Ridge feed",
    ]);
    assert_eq!(
        client
            .good(&["bin", "list", "--output", "csv"])
            .lines()
            .count(),
        3
    );
}

#[test]
fn a_copy_has_the_same_values_under_its_own_key_and_needs_a_reveal() {
    let service = Service::ready();
    let (pumps, office) = world(&service);
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    std::fs::write(client.folder.join("plan"), b"the plan").unwrap();
    let _ = client.good(&[
        "credential",
        "attach",
        "/Pumping/Ridge duty",
        client.folder.join("plan").to_str().unwrap(),
    ]);
    let _ = client.good(&[
        "credential",
        "copy",
        "/Pumping/Ridge duty",
        "/Office",
        "--name",
        "Ridge duty, spare",
    ]);
    let back = client.folder.join("back");
    let _ = client.good(&[
        "credential",
        "download",
        "/Office/Ridge duty, spare",
        "plan",
        "--to",
        back.to_str().unwrap(),
    ]);
    assert_eq!(
        std::fs::read(&back).unwrap(),
        b"the plan",
        "so do attachments"
    );
    // A name that is taken leaves neither a copy nor a word of one.
    assert_eq!(
        client
            .bad(&[
                "credential",
                "copy",
                "/Pumping/Ridge duty",
                "/Office",
                "--name",
                "Ridge duty, spare"
            ])
            .0,
        6
    );
    let done = |events: Vec<Value>| {
        events
            .iter()
            .filter(|event| event["outcome"] == "done")
            .count()
    };
    assert_eq!(done(ines.events("credential.copy")), 1);
    let (entry, other) = (
        client.good(&["reveal", "/Pumping/Ridge duty", "--pipe"]),
        client.good(&["reveal", "/Office/Ridge duty, spare", "--pipe"]),
    );
    assert_eq!(entry, other);
    assert!(
        client
            .good(&["credential", "show", "/Office/Ridge duty, spare"])
            .contains("night"),
        "tags come along"
    );
    let keys = service.sql(
        "SELECT count(DISTINCT data_key) FROM credential WHERE lower(name) LIKE 'ridge duty%'",
    );
    assert_eq!(keys.trim(), "2");
    let marek = ines.person("marek", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": pumps, "person": marek, "level": "use"}),
    );
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": office, "person": marek, "level": "edit"}),
    );
    assert_eq!(
        service
            .client("marek")
            .bad(&[
                "credential",
                "copy",
                "/Pumping/Ridge duty",
                "/Office",
                "--name",
                "mine now"
            ])
            .0,
        4
    );
    let events: Vec<Value> = ines.events("credential.copy");
    assert_eq!(
        events
            .first()
            .map(|event| event["outcome"].as_str().unwrap()),
        Some("refused")
    );
    assert_eq!(done(events), 1);
}

#[test]
fn a_secret_is_printed_only_to_a_terminal_unless_piping_is_allowed() {
    let service = Service::ready();
    let _ = world(&service);
    let client = service.client("ines");
    let (code, words) = client.bad(&["reveal", "/Pumping/Ridge duty"]);
    assert!(code == 7 && words.contains("--pipe"), "{words}");
    assert_eq!(
        service.sign_in("ines").events("credential.reveal").len(),
        0,
        "nothing was looked at"
    );
    // Without a display or a terminal there is no clipboard, and that is said.
    let (code, words) = client.bad(&["copy", "/Pumping/Ridge duty", "user"]);
    assert!(code == 1 && words.contains("no clipboard here"), "{words}");
    assert_eq!(client.bad(&["copy", "/Office/Franking", "line"]).0, 5);
}

#[test]
fn paths_are_looked_up_by_the_service_and_tell_nothing_that_one_may_not_know() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (top, other) = (ines.folder("Pumping"), ines.folder("Office"));
    let inner = ines.make(
        "/api/v1/folders",
        &json!({"parent": top, "name": "North ridge"}),
    );
    let duty = ines.login(&inner, "duty", "Winter-tide-41");
    let _ = ines.make(
        "/api/v1/devices",
        &json!({"folder": inner, "name": "telemetry", "address": "127.0.0.9", "port": 22}),
    );
    let pim = ines.person("pim", &[]);
    let _ = ines.person("olena", &["audit"]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": inner, "person": pim, "level": "list"}),
    );
    let look = |who: &jexlin_acceptance::Session<'_>, path: &str, of: &str| {
        let path: String = path.replace('/', "%2F").replace(' ', "%20");
        who.get(&format!("/api/v1/lookup?path={path}&type={of}"))
    };
    let pim = service.sign_in("pim");
    // Letters large or small, with or without the type.
    for (path, of, wanted) in [
        ("/pumping/North Ridge/DUTY", "", duty.as_str()),
        ("/Pumping/North ridge", "folder", inner.as_str()),
        ("/Pumping/North ridge", "", inner.as_str()),
        // On the way to what is granted.
        ("/Pumping", "folder", top.as_str()),
    ] {
        assert_eq!(look(&pim, path, of).good()["id"], wanted, "{path}");
    }
    assert_eq!(
        look(&pim, "/Pumping/North ridge/telemetry", "").good()["type"],
        "device"
    );
    // What is not granted answers as what is not there.
    let hidden = look(&pim, "/Office", "folder");
    let missing = look(&pim, "/Nowhere", "folder");
    hidden.refused(404, "unknown");
    assert_eq!(hidden.text("detail"), missing.text("detail"));
    look(&pim, "/Pumping/North ridge/duty", "folder").refused(404, "unknown");
    look(&pim, "/Pumping/..", "").refused(422, "bad-input");
    look(&pim, "/Pumping", "spoon").refused(422, "bad-input");
    // Whoever reads the whole log knows of everything, and asks by path.
    let olena = service.client("olena");
    assert_eq!(
        look(&service.sign_in("olena"), "/Office", "").good()["id"],
        *other
    );
    let seen = look(&service.sign_in("olena"), "/Pumping/North ridge/duty", "").good();
    assert_eq!(seen["id"], *duty);
    let told = olena.good(&["explain", "pim", "/Pumping/North ridge/duty"]);
    assert!(told.contains("list"), "{told}");
    let _ = olena.good(&["access", "who", "/Pumping/North ridge"]);
}
