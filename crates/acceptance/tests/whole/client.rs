//! What the client prints, for people and for programs, and how it keeps its session.

use jexlin_acceptance::{Client, PASSWORD, Service, program};
use serde_json::Value;

/// A service with one of each thing, all made with the client.
fn world() -> (Service, Client) {
    let service = Service::ready();
    let ines = service.client("ines");
    for arguments in [
        &["folder", "add", "/Pumping"][..],
        &["group", "add", "Duty engineers"],
        &[
            "device",
            "add",
            "/Pumping/telemetry",
            "--address",
            "127.0.0.9",
        ],
        &[
            "credential",
            "add",
            "/Pumping/duty",
            "--kind",
            "device-admin",
            "--user",
            "duty, by day",
            "--device",
            "/Pumping/telemetry",
        ],
        &[
            "grant",
            "add",
            "reveal",
            "--folder",
            "/Pumping",
            "--group",
            "Duty engineers",
            "--note",
            "says \"always\"",
        ],
        &[
            "plan",
            "add",
            "--folder",
            "/Pumping",
            "--check",
            "FREQ=WEEKLY;BYDAY=MO;BYHOUR=3;BYMINUTE=0;BYSECOND=0",
            "--time-zone",
            "Europe/London",
        ],
        &[
            "gate",
            "add",
            "--credential",
            "/Pumping/duty",
            "--needs-reason",
            "--minutes",
            "60",
        ],
        &[
            "checkout",
            "take",
            "/Pumping/duty",
            "--reason",
            "pump 3 stopped",
            "--minutes",
            "30",
        ],
    ] {
        let _ = ines.good(arguments);
    }
    (service, ines)
}

#[test]
fn every_list_says_the_same_to_people_and_to_programs() {
    let (_service, ines) = world();
    for list in [
        &["people", "list"][..],
        &["group", "list"],
        &["folder", "list"],
        &["device", "list"],
        &["credential", "list"],
        &["credential", "history", "/Pumping/duty"],
        &["kind", "list"],
        &["grant", "list", "--folder", "/Pumping"],
        &["plan", "list"],
        &["gate", "list"],
        &["checkout", "list"],
        &["policy", "list"],
        &["upkeep", "list"],
        &["audit", "list"],
        &["find", "duty"],
    ] {
        let of = |format: &str| ines.good(&[list, &["--output", format]].concat());
        let rows: Vec<Value> =
            serde_json::from_str(&of("json")).unwrap_or_else(|error| panic!("{list:?}: {error}"));
        assert!(!rows.is_empty(), "{list:?} is empty");
        let table = of("table");
        assert!(
            table
                .lines()
                .next()
                .is_some_and(|head| head.chars().any(char::is_uppercase)
                    && !head.chars().any(char::is_lowercase)),
            "{list:?}: {table}"
        );
        let written = of("csv");
        let mut reader = csv::Reader::from_reader(written.as_bytes());
        let columns = reader.headers().unwrap().len();
        let records: Vec<_> = reader
            .records()
            .collect::<Result<_, _>>()
            .unwrap_or_else(|error| panic!("{list:?}: {error}"));
        // The log grows by what is looked at in between.
        assert!(
            records.len() == rows.len() || list[0] == "audit",
            "{list:?}"
        );
        assert!(
            records.iter().all(|record| record.len() == columns),
            "{list:?}"
        );
    }
    let grants = ines.good(&["grant", "list", "--folder", "/Pumping", "--output", "csv"]);
    assert!(
        grants.contains("says \"\"always\"\""),
        "quotes are kept: {grants}"
    );
}

#[test]
fn a_session_that_others_can_read_is_refused_and_signing_out_ends_it_everywhere() {
    let (service, ines) = world();
    assert_eq!(ines.session_mode(), 0o600);
    let file = ines.folder.join("session.json");
    let token =
        serde_json::from_str::<Value>(&std::fs::read_to_string(&file).unwrap()).unwrap()["token"]
            .as_str()
            .unwrap()
            .to_owned();
    std::fs::set_permissions(&file, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let (code, words) = ines.bad(&["me"]);
    assert!(code == 1 && words.contains("chmod 600"), "{words}");
    std::fs::set_permissions(&file, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let _ = ines.good(&["sign-out"]);
    service
        .call("GET", "/api/v1/me", Some(&token), None, None)
        .refused(401, "signed-out");
    assert_eq!(ines.bad(&["me"]).0, 3);
}

#[test]
fn a_changed_sign_in_password_works_at_once_and_the_old_one_does_not() {
    let (service, ines) = world();
    std::fs::write(ines.folder.join("old"), PASSWORD).unwrap();
    std::fs::write(ines.folder.join("new"), "osmere-water-tests-2").unwrap();
    std::fs::write(ines.folder.join("short"), "short").unwrap();
    assert_eq!(
        ines.bad(&[
            "password",
            "--password-file",
            "old",
            "--new-password-file",
            "short"
        ])
        .0,
        7
    );
    assert!(
        ines.bad(&[
            "password",
            "--password-file",
            "new",
            "--new-password-file",
            "new"
        ])
        .0 >= 3
    );
    let _ = ines.good(&[
        "password",
        "--password-file",
        "old",
        "--new-password-file",
        "new",
    ]);
    let (code, _) = ines.bad(&["sign-in", "ines", "--password-file", "old"]);
    assert_eq!(code, 3);
    let _ = ines.good(&["sign-in", "ines", "--password-file", "new"]);
    let _ = service;
}

#[test]
fn keys_are_changed_by_the_client() {
    let (service, ines) = world();
    for (name, text) in [
        ("present", jexlin_acceptance::PASSPHRASE),
        ("next", "eleven sluices and a lock"),
        ("short", "short"),
    ] {
        std::fs::write(ines.folder.join(name), text).unwrap();
    }
    let first = ines.good(&["keys", "show"]);
    assert!(
        first.contains("root key")
            && first.contains("organisation key")
            && !first.contains("next root key  "),
        "{first}"
    );
    let change = |new| {
        [
            "keys",
            "change-root",
            "--reason",
            "somebody left",
            "--passphrase-file",
            "present",
            "--new-passphrase-file",
            new,
        ]
    };
    let (code, words) = ines.bad(&change("short"));
    assert!(code == 7 && words.contains("at least 12"), "{words}");
    let prepared = ines.good(&change("next"));
    assert!(
        prepared.contains("root-key.next.json") && prepared.contains("HAS THE NEXT ROOT KEY"),
        "{prepared}"
    );
    let view: serde_json::Value =
        serde_json::from_str(&ines.good(&["--output", "json", "keys", "show"])).unwrap();
    let next = view["next_root_key"].as_str().unwrap().to_owned();
    let done = ines.good(&["keys", "finish-root"]);
    assert!(
        done.contains("root-key.previous.json") && done.contains(&next),
        "{done}"
    );
    let changed = ines.good(&["keys", "change-organisation", "--reason", "yearly change"]);
    assert!(changed.contains("Data keys move to it"), "{changed}");
    jexlin_acceptance::until("the former key is gone", || {
        (service.sql("SELECT former_key IS NULL FROM organisation") == "t").then_some(())
    });
    let log = ines.good(&["audit", "list"]);
    for action in [
        "root-key.change",
        "root-key.finish",
        "organisation-key.change",
        "organisation-key.moved",
    ] {
        assert!(log.contains(action), "{action}: {log}");
    }
    assert!(
        ines.bad(&["keys", "abandon-root"])
            .1
            .contains("not being changed")
    );
}

#[test]
fn completions_are_made_for_the_usual_shells() {
    let (_service, ines) = world();
    for shell in ["bash", "zsh", "fish"] {
        let script = ines.good(&["completions", shell]);
        assert!(
            script.contains("jexlin") && script.contains("JEXLIN_COMPLETE"),
            "{shell}"
        );
    }
}

#[test]
fn missing_or_mistyped_arguments_are_named_with_the_next_step() {
    let (_service, ines) = world();
    for (arguments, code, says) in [
        (
            &["reveal", "/Pumping/nobody", "--pipe"][..],
            5,
            "jexlin credential list",
        ),
        (&["reveal", "duty", "--pipe"], 7, "whole path"),
        (
            &["folder", "add", "/Nowhere/Below"],
            5,
            "jexlin folder list",
        ),
        (
            &["credential", "add", "/Pumping/x", "--kind", "no-such-kind"],
            7,
            "kind",
        ),
        (
            &["credential", "edit", "/Pumping/duty", "--set", "expires"],
            7,
            "FIELD=VALUE",
        ),
        (
            &[
                "credential",
                "edit",
                "/Pumping/duty",
                "--name",
                "late",
                "--if-revision",
                "7",
            ],
            6,
            "changed",
        ),
        (
            &["explain", "nobody", "/Pumping/duty"],
            5,
            "jexlin people list",
        ),
        (
            &[
                "checkout",
                "take",
                "/Pumping/duty",
                "--reason",
                "again",
                "--minutes",
                "6000",
            ],
            7,
            "minutes",
        ),
        (
            &["--service", "http://127.0.0.1:1", "status"],
            8,
            "Check that it runs",
        ),
    ] {
        let (exit, words) = ines.bad(arguments);
        assert!(
            exit == code && words.contains(says),
            "{arguments:?}: {exit} {words}"
        );
        assert_eq!(
            words
                .lines()
                .filter(|line| !line.contains("Request "))
                .count(),
            2,
            "two lines: {words}"
        );
    }
}

#[test]
fn an_edit_of_a_plan_or_a_gate_keeps_what_is_not_named() {
    let (service, client) = world();
    let _ = service.sign_in("ines").person("petra", &[]);
    let show = |noun: &str, place: [&str; 2]| {
        let shown = client.good(&[&[noun, "show"], &place[..], &["-o", "json"]].concat());
        serde_json::from_str::<serde_json::Value>(&shown).unwrap()
    };
    let folder = ["--folder", "/Pumping"];
    let times = client.good(
        &[
            &["plan", "edit"],
            &folder[..],
            &["--every-days", "60", "--preview"],
        ]
        .concat(),
    );
    assert!(
        times.contains("NEXT CHECKS")
            && times.contains("NEXT ROTATIONS")
            && times.contains("Nothing was changed"),
        "{times}"
    );
    assert_eq!(
        show("plan", folder)["plan"]["rotate_days"],
        serde_json::Value::Null
    );
    let _ = client.good(
        &[
            &["plan", "edit"],
            &folder[..],
            &["--every-days", "60", "--hours", "22:00-04:00"],
        ]
        .concat(),
    );
    let plan = show("plan", folder);
    assert_eq!(plan["plan"]["rotate_days"], 60);
    assert_eq!(plan["plan"]["time_zone"], "Europe/London");
    assert!(
        plan["plan"]["check"]
            .as_str()
            .unwrap()
            .starts_with("FREQ=WEEKLY"),
        "{plan}"
    );
    assert_eq!(plan["next"]["checks"].as_array().unwrap().len(), 10);
    let _ = client.good(
        &[
            &["plan", "edit"],
            &folder[..],
            &["--no-check", "--any-hour"],
        ]
        .concat(),
    );
    let plan = show("plan", folder);
    assert_eq!(
        (&plan["plan"]["check"], &plan["plan"]["hours_from"]),
        (&serde_json::Value::Null, &serde_json::Value::Null)
    );
    // What would leave nothing to do is refused, and stays as it was.
    assert_eq!(
        client
            .bad(&[&["plan", "edit"], &folder[..], &["--no-rotation"]].concat())
            .0,
        7
    );
    assert_eq!(
        client
            .bad(&[&["plan", "add"], &folder[..], &["--every-days", "9"]].concat())
            .0,
        6
    );
    assert_eq!(show("plan", folder)["plan"]["rotate_days"], 60);
    let on = ["--credential", "/Pumping/duty"];
    let _ = client.good(
        &[
            &["gate", "edit"],
            &on[..],
            &["--approver", "petra", "--one-holder"],
        ]
        .concat(),
    );
    let _ = client.good(&[&["gate", "edit"], &on[..], &["--minutes", "90"]].concat());
    let gate = show("gate", on);
    assert!(
        gate["needs_reason"] == true && gate["one_holder"] == true && gate["max_minutes"] == 90,
        "{gate}"
    );
    assert_eq!(gate["approvers"][0]["type"], "person", "{gate}");
    let _ = client.good(
        &[
            &["gate", "edit"],
            &on[..],
            &["--no-approval", "--one-holder=no"],
        ]
        .concat(),
    );
    let gate = show("gate", on);
    assert!(
        gate["one_holder"] == false && gate["approvers"] == serde_json::json!([]),
        "{gate}"
    );
}

fn refused_without_a_question(client: &Client, arguments: &[&str]) {
    let output = client.run_and_be_asked(arguments, "");
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(2), "{arguments:?}: {words}");
    assert!(
        words.contains("No terminal to ask on") && words.contains("--yes"),
        "{arguments:?}: {words}"
    );
}

#[test]
fn what_changes_access_or_cannot_be_undone_is_asked_about() {
    let (_service, ines) = world();
    let grants: Vec<Value> =
        serde_json::from_str(&ines.good(&["grant", "list", "--folder", "/Pumping", "-o", "json"]))
            .unwrap();
    let grant = grants
        .iter()
        .find(|grant| grant["level"] == "reveal")
        .and_then(|grant| grant["id"].as_str())
        .unwrap();
    let _ = ines.good(&["folder", "add", "/Works"]);
    let _ = ines.good(&["credential", "add", "/Works/Gate"]);
    let _ = ines.good(&["credential", "remove", "/Works/Gate"]);
    let state = || {
        let lists = [
            &["grant", "list", "--folder", "/Pumping"][..],
            &["group", "list"],
            &["folder", "list"],
            &["gate", "list"],
            &["people", "list"],
            &["bin", "list"],
        ];
        lists.map(|list| ines.good(&[list, &["-o", "json"]].concat()))
    };
    let before = state();
    for arguments in [
        &[
            "grant", "add", "use", "--folder", "/Pumping", "--person", "ines",
        ][..],
        &["grant", "edit", grant, "--level", "use"],
        &["grant", "remove", grant],
        &["group", "add-member", "Duty engineers", "--person", "ines"],
        &["group", "remove", "Duty engineers"],
        &["folder", "close", "/Pumping"],
        &["folder", "move", "/Pumping", "/Works"],
        &["credential", "move", "/Pumping/duty", "/Works"],
        &[
            "gate",
            "edit",
            "--credential",
            "/Pumping/duty",
            "--minutes",
            "20",
        ],
        &["gate", "remove", "--credential", "/Pumping/duty"],
        &["people", "edit", "ines", "--no-duties"],
        &["bin", "purge", "/Works/Gate"],
        // The device would keep its password.
        &["credential", "edit", "/Pumping/duty", "--generate"],
    ] {
        refused_without_a_question(&ines, arguments);
    }
    assert_eq!(state(), before, "nothing was changed");
    // A tag that no grant is limited to changes nobody's access, and nobody is asked.
    let output = ines.run_and_be_asked(&["credential", "tag", "/Pumping/duty", "--add", "x"], "");
    assert!(
        output.status.success(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
    let _ = ines.good(&["grant", "remove", grant]);
}

#[test]
fn many_things_at_once_each_have_a_result() {
    let (_service, ines) = world();
    for name in ["a", "b", "c"] {
        let _ = ines.good(&[
            "credential",
            "add",
            &format!("/Pumping/{name}"),
            "--tag",
            "spring",
        ]);
    }
    let rows = |arguments: &[&str], input: &str| -> Vec<Value> {
        let output = ines.run(&[arguments, &["-o", "json"]].concat(), input);
        serde_json::from_slice(&output.stdout).unwrap_or_else(|error| {
            panic!(
                "{arguments:?}: {error}: {}",
                String::from_utf8_lossy(&output.stderr)
            )
        })
    };
    let tagged = rows(
        &[
            "credential",
            "tag",
            "--below",
            "/Pumping",
            "--tag",
            "spring",
            "--add",
            "storm",
        ],
        "",
    );
    assert_eq!(tagged.len(), 3);
    assert!(tagged.iter().all(|row| row["done"] == true), "{tagged:?}");
    let mixed = rows(
        &["credential", "add-favourite", "--stdin"],
        "/Pumping/a\n\n/Pumping/none\n/Pumping/a\n",
    );
    assert_eq!(mixed.len(), 2, "none comes twice: {mixed:?}");
    assert_eq!(
        (&mixed[0]["done"], &mixed[1]["done"]),
        (&true.into(), &false.into())
    );
    assert_eq!(
        ines.bad(&["credential", "add-favourite", "/Pumping/b", "/Pumping/none"])
            .0,
        5
    );
    // A rule selects accounts on devices alone where nothing else has a password to check.
    let checks = rows(&["upkeep", "check", "--below", "/Pumping"], "");
    assert_eq!(checks.len(), 1, "{checks:?}");
    assert_eq!(checks[0]["path"], "/Pumping/duty");
    // Removing by a rule is asked about; by name it is not.
    refused_without_a_question(&ines, &["credential", "remove", "--tag", "storm"]);
    let gone = rows(&["credential", "remove", "--tag", "storm"], "");
    assert_eq!(gone.len(), 3);
    let back = rows(&["bin", "restore", "/Pumping/a", "/Pumping/b"], "");
    assert!(back.iter().all(|row| row["done"] == true), "{back:?}");
    assert_eq!(ines.bad(&["credential", "remove", "--tag", "nowhere"]).0, 5);
}

#[test]
fn a_secret_field_is_removed_and_an_edit_without_a_change_changes_nothing() {
    let (service, ines) = world();
    std::fs::write(ines.folder.join("seed"), "JBSWY3DPEHPK3PXP").unwrap();
    let _ = ines.good(&[
        "credential",
        "add",
        "/Pumping/portal",
        "--user",
        "osmere",
        "--secret-file",
        "one_time_seed=seed",
        "--type-password",
        "--password-file",
        "seed",
    ]);
    let shown = || -> Value {
        serde_json::from_str(&ines.good(&["credential", "show", "/Pumping/portal", "-o", "json"]))
            .unwrap()
    };
    let before = shown();
    let events =
        || service.sql("SELECT count(*) FROM audit_event WHERE action = 'credential.edit'");
    let counted = events();
    for same in [&["--user", "osmere"][..], &["--name", "portal"], &[]] {
        let _ = ines.good(&[&["credential", "edit", "/Pumping/portal"], same].concat());
    }
    assert_eq!((shown(), events()), (before, counted));
    let _ = ines.good(&[
        "credential",
        "edit",
        "/Pumping/portal",
        "--remove-field",
        "one_time_seed",
    ]);
    assert!(
        !shown()["secret_fields"]
            .as_array()
            .unwrap()
            .contains(&"one_time_seed".into()),
        "{}",
        shown()
    );
    assert_ne!(ines.bad(&["code", "/Pumping/portal", "--pipe"]).0, 0);
    let history = ines.good(&["credential", "history", "/Pumping/portal"]);
    assert!(history.contains("one_time_seed"), "{history}");
    // It can be brought back; what a credential is for is not removed.
    let _ = ines.good(&[
        "credential",
        "restore",
        "/Pumping/portal",
        "1",
        "--field",
        "one_time_seed",
    ]);
    let _ = ines.good(&["code", "/Pumping/portal", "--pipe"]);
    for wrong in ["password", "nothing"] {
        let (code, words) = ines.bad(&[
            "credential",
            "edit",
            "/Pumping/portal",
            "--remove-field",
            wrong,
        ]);
        assert!(code == 7 && words.contains("secret field"), "{words}");
    }
}

#[test]
fn a_preview_counts_empty_folders_too() {
    let (_service, ines) = world();
    let _ = ines.good(&["folder", "add", "/Works"]);
    let _ = ines.good(&["folder", "add", "/Works/Lower"]);
    let _ = ines.good(&["people", "add", "marek", "--display-name", "Marek Tull"]);
    let shifts: Vec<Value> = serde_json::from_str(&ines.good(&[
        "grant",
        "add",
        "edit",
        "--folder",
        "/Works",
        "--person",
        "marek",
        "--preview",
        "-o",
        "json",
    ]))
    .unwrap();
    assert_eq!(shifts.len(), 1, "{shifts:?}");
    assert_eq!(
        (&shifts[0]["folders"], &shifts[0]["credentials"]),
        (&2.into(), &0.into())
    );
}

#[test]
fn completions_come_from_the_service() {
    let (_service, ines) = world();
    let complete = |words: &[&str]| -> Vec<String> {
        let output = ines
            .command(&program("jexlin"))
            .env("JEXLIN_COMPLETE", "fish")
            .args(["--"])
            .args(words)
            .output()
            .unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        text.lines()
            .map(|line| line.split('\t').next().unwrap_or_default().to_owned())
            .collect()
    };
    assert_eq!(complete(&["jexlin", "reveal", "/Pu"]), ["/Pumping/"]);
    assert_eq!(
        complete(&["jexlin", "reveal", "/Pumping/d"]),
        ["/Pumping/duty"]
    );
    assert_eq!(
        complete(&["jexlin", "device", "show", "/Pumping/"]),
        ["/Pumping/telemetry"]
    );
    assert_eq!(
        complete(&["jexlin", "group", "show", "du"]),
        ["Duty engineers"]
    );
    assert_eq!(complete(&["jexlin", "grant", "add", "st"]), ["steward"]);
    assert!(
        complete(&["jexlin", "credential", "add", "x", "--kind", "device"])
            .contains(&"device-admin".to_owned())
    );
    // Nobody signed in: nothing is completed, and nothing is said.
    let _ = ines.good(&["sign-out"]);
    assert_eq!(complete(&["jexlin", "reveal", "/Pu"]), Vec::<String>::new());
}
