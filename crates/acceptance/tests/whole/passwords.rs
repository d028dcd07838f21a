//! Password policies, what folders demand, and findings.

use jexlin_acceptance::{Service, Session, cluster, until};
use serde_json::{Value, json};

fn rules(change: Value) -> Value {
    let mut rules = json!({"length": 20, "min_length": 14, "min_lower": 1, "min_upper": 1, "min_digits": 1, "min_symbols": 1, "symbols": "-_.+=#@%", "no_look_alikes": true});
    for (name, value) in change.as_object().unwrap() {
        rules[name] = value.clone();
    }
    rules
}

fn policy(ines: &Session<'_>, name: &str, change: Value) -> String {
    ines.make(
        "/api/v1/password-policies",
        &json!({"name": name, "rules": rules(change)}),
    )
}

fn demand(
    ines: &Session<'_>,
    folder: &str,
    mode: &str,
    policies: &[&str],
) -> jexlin_acceptance::Answer {
    let body = json!({"mode": mode, "policies": policies});
    ines.call(
        "PUT",
        &format!("/api/v1/folders/{folder}/password-rule"),
        Some(&body),
        Some(0),
    )
}

fn add(ines: &Session<'_>, folder: &str, name: &str, more: Value) -> jexlin_acceptance::Answer {
    let mut body = json!({"folder": folder, "kind": "login", "name": name});
    for (field, value) in more.as_object().unwrap() {
        body[field] = value.clone();
    }
    ines.post("/api/v1/credentials", &body)
}

fn findings(session: &Session<'_>, id: &str) -> Vec<String> {
    let shown = session.get(&format!("/api/v1/credentials/{id}")).good();
    shown["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|finding| finding["name"].as_str().unwrap().to_owned())
        .collect()
}

#[test]
fn a_folder_enforces_advises_or_lets_people_choose() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (pumps, below) = (ines.folder("Pumping"), ines.folder("Office"));
    let ridge = ines.make(
        "/api/v1/folders",
        &json!({"parent": pumps, "name": "North ridge"}),
    );
    let plain = policy(
        &ines,
        "Pump controllers",
        json!({"length": 16, "min_length": 12, "symbols": "", "min_symbols": 0, "only_these": true, "first": "letter", "not_user_name": true, "not_last": 2}),
    );
    let phrases = policy(
        &ines,
        "Phrases",
        json!({"words": 6, "min_length": 20, "min_symbols": 0, "min_upper": 0, "min_digits": 0, "min_lower": 0}),
    );
    demand(&ines, &pumps, "sometimes", &[&plain]).refused(422, "bad-input");
    demand(&ines, &pumps, "enforce", &[&plain, &phrases]).refused(422, "bad-input");
    let _ = demand(&ines, &pumps, "enforce", &[&plain]).good();
    // It counts below as well; what is refused names what is lacking and not the password.
    let refused = add(
        &ines,
        &ridge,
        "duty",
        json!({"password": "Winter-tide-41", "fields": {"user_name": "marek"}}),
    );
    let said = refused.body.to_string();
    refused.refused(422, "bad-input");
    assert!(
        said.contains("Pump controllers")
            && said.contains("not among the allowed")
            && !said.contains("Winter"),
        "{said}"
    );
    add(
        &ines,
        &ridge,
        "duty",
        json!({"password": "xxMarekxx4141", "fields": {"user_name": "marek"}}),
    )
    .refused(422, "bad-input");
    let made = add(
        &ines,
        &ridge,
        "duty",
        json!({"fields": {"user_name": "marek"}}),
    )
    .good();
    let value = ines.reveal(made["id"].as_str().unwrap()).text("value");
    assert!(
        value.len() == 16
            && value.chars().all(|c| c.is_ascii_alphanumeric())
            && value.starts_with(|c: char| c.is_ascii_alphabetic()),
        "{value}"
    );
    // One of the last two is refused, the one before them is not.
    let path = format!("/api/v1/credentials/{}", made["id"].as_str().unwrap());
    for (version, password, status) in [
        (1, "Abcdefgh1234".to_owned(), 200),
        (2, value.clone(), 422),
        (2, "Bcdefghi2345".into(), 200),
        (3, value.clone(), 200),
    ] {
        assert_eq!(
            ines.patch(&path, version, &json!({"password": password}))
                .status,
            status,
            "version {version}"
        );
    }
    // Somebody may choose among the named ones, and no other.
    let _ = demand(&ines, &below, "choose", &[&plain, &phrases]).good();
    let chosen = add(&ines, &below, "a", json!({"policy": phrases})).good();
    assert_eq!(
        ines.reveal(chosen["id"].as_str().unwrap())
            .text("value")
            .split('-')
            .count(),
        6
    );
    add(
        &ines,
        &below,
        "b",
        json!({"policy": phrases, "password": "too-short"}),
    )
    .refused(422, "bad-input");
    add(&ines, &ridge, "b", json!({"policy": phrases})).refused(422, "bad-input");
    // What is in use is not removed.
    ines.delete(&format!("/api/v1/password-policies/{phrases}"), Some(1))
        .refused(409, "in-use");
    let _ = ines
        .delete(&format!("/api/v1/folders/{below}/password-rule"), None)
        .good();
    let _ = ines
        .delete(&format!("/api/v1/password-policies/{phrases}"), Some(1))
        .good();
    let seen = ines.events("folder.password-rule");
    assert!(
        seen.iter()
            .any(|event| event["detail"]["policies"] == "Pump controllers"),
        "{seen:?}"
    );
}

#[test]
fn passwords_moved_copied_or_restored_to_an_enforcing_folder_must_comply() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (pumps, office) = (ines.folder("Pumping"), ines.folder("Office"));
    let plain = policy(
        &ines,
        "Pump controllers",
        json!({"length": 16, "min_length": 12, "symbols": "", "min_symbols": 0, "only_these": true}),
    );
    let strict = policy(&ines, "Strict", json!({"length": 30, "min_length": 30}));
    let weak = ines.login(&office, "Portal", "tide-41");
    let shelf = ines.make(
        "/api/v1/folders",
        &json!({"parent": office, "name": "Shelf"}),
    );
    let deep = ines.login(&shelf, "Old portal", "tide-42");
    let there = ines.login(&pumps, "Ridge", "tide-43");
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{there}"),
            1,
            &json!({"password": "Abcdefgh1234"}),
        )
        .good();
    let _ = demand(&ines, &pumps, "enforce", &[&plain]).good();
    let before = service.sql("SELECT count(*) FROM secret_version");
    let said = |answer: jexlin_acceptance::Answer| {
        let words = answer.body.to_string();
        answer.refused(422, "bad-input");
        assert!(
            words.contains("Pump controllers") && !words.contains("tide-4"),
            "{words}"
        );
    };
    // Restore, moved, moved with its folder, copied.
    said(ines.post(
        &format!("/api/v1/credentials/{there}/restore"),
        &json!({"version": 1}),
    ));
    said(ines.patch(
        &format!("/api/v1/credentials/{weak}"),
        1,
        &json!({"folder": pumps}),
    ));
    said(ines.patch(
        &format!("/api/v1/folders/{shelf}"),
        1,
        &json!({"parent": pumps}),
    ));
    said(ines.post(
        &format!("/api/v1/credentials/{weak}/copy"),
        &json!({"folder": pumps}),
    ));
    assert_eq!(service.sql("SELECT count(*) FROM secret_version"), before);
    assert_eq!(
        ines.get(&format!("/api/v1/credentials/{deep}")).good()["place"],
        "/Office/Shelf"
    );
    assert_eq!(ines.reveal(&there).text("value"), "Abcdefgh1234");
    // A new password on the way is what counts; a folder with a rule of its own keeps it.
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{weak}"),
            1,
            &json!({"folder": pumps, "password": "Bcdefghi2345"}),
        )
        .good();
    let _ = demand(&ines, &shelf, "advise", &[&strict]).good();
    let _ = ines
        .patch(
            &format!("/api/v1/folders/{shelf}"),
            1,
            &json!({"parent": pumps}),
        )
        .good();
    // Where people choose, any of the named ones will do.
    let own = ines.login(&office, "Own", "Cdefghij3456");
    let _ = demand(&ines, &pumps, "choose", &[&strict, &plain]).good();
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{own}"),
            1,
            &json!({"folder": pumps}),
        )
        .good();
    assert_eq!(
        findings(&ines, &own)
            .iter()
            .find(|found| *found == "breaks-policy"),
        None
    );
    assert!(
        ines.events("credential.copy")
            .iter()
            .all(|event| event["outcome"] != "done")
    );
}

#[test]
fn rules_are_tried_before_they_are_stored_and_impossible_ones_say_why() {
    let service = Service::ready();
    let client = service.client("ines");
    let samples = client.good(&[
        "policy",
        "try",
        "--by-rules",
        "--words",
        "5",
        "--min-symbols",
        "0",
        "--min-digits",
        "0",
        "--min-upper",
        "0",
    ]);
    let lines: Vec<&str> = samples.lines().collect();
    assert_eq!(lines.len(), 6);
    assert!(
        lines[..5].iter().all(|line| line.split('-').count() == 5)
            && lines[5].starts_with("Each has 55 bits"),
        "{samples}"
    );
    let said = client.good_with(&["policy", "try", "--password-file", "-"], "summer2019");
    assert!(
        said.contains("at least 14 are needed")
            && said.contains("of 4")
            && !said.contains("summer"),
        "{said}"
    );
    for (arguments, words) in [
        (&["--length", "6", "--min-length", "6"][..], "bits"),
        (
            &["--forbidden", "abcdefghijklmnopqrstuvwxyz"],
            "lower-case letters are required",
        ),
        (
            &["--length", "300"],
            "between the minimum and the maximum length",
        ),
        (&["--first", "vowel"], "unknown variant"),
    ] {
        let (code, said) = client.bad(&[&["policy", "try", "--by-rules"], arguments].concat());
        assert!(code == 7 && said.contains(words), "{said}");
    }
    assert_eq!(
        client
            .good(&["policy", "list", "--output", "csv"])
            .lines()
            .count(),
        2,
        "nothing was stored"
    );
    let _ = client.good(&[
        "policy",
        "add",
        "Phrases",
        "--words",
        "6",
        "--min-symbols",
        "0",
    ]);
    let _ = client.good(&["policy", "make-default", "Phrases"]);
    assert!(
        client
            .bad(&["policy", "remove", "Phrases"])
            .1
            .contains("default")
    );
    assert_eq!(client.good(&["generate"]).split('-').count(), 6);
}

#[test]
fn findings_follow_every_change_and_tell_what_to_do() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Office");
    let weak = ines.login(&folder, "Franking", "summer2019");
    assert_eq!(findings(&ines, &weak), ["weak", "breaks-policy"]);
    let shown = ines.get(&format!("/api/v1/credentials/{weak}")).good();
    assert!(
        shown["findings"][1]["detail"]
            .as_str()
            .unwrap()
            .contains("at least 14"),
        "{shown}"
    );
    assert!(
        shown["findings"][0]["advice"]
            .as_str()
            .unwrap()
            .contains("Generate")
    );
    let twin = ines.login(&folder, "Rainfall", "Tx9-mmQ4-vWb7-Lp2d");
    assert!(findings(&ines, &twin).is_empty());
    let other = ines.login(&folder, "Portal", "Tx9-mmQ4-vWb7-Lp2d");
    assert_eq!(
        (findings(&ines, &twin), findings(&ines, &other)),
        (vec!["reused".to_owned()], vec!["reused".to_owned()])
    );
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{other}"),
            1,
            &json!({"generate": true}),
        )
        .good();
    assert!(findings(&ines, &twin).is_empty() && findings(&ines, &other).is_empty());
    let token = ines.make(
        "/api/v1/credentials",
        &json!({"folder": folder, "kind": "api-token", "name": "Feed", "fields": {"expires": "2020-01-31"}, "password": "wf-7c1e-22aa-91b0-77de"}),
    );
    assert!(findings(&ines, &token).contains(&"expired".to_owned()));
    // A stricter policy is found out about without anybody touching a password.
    let standard = ines.get("/api/v1/password-policies").good()["items"][0].clone();
    let body = json!({"name": "Standard", "rules": rules(json!({"length": 40, "min_length": 30}))});
    let _ = ines
        .call(
            "PUT",
            &format!(
                "/api/v1/password-policies/{}",
                standard["id"].as_str().unwrap()
            ),
            Some(&body),
            Some(1),
        )
        .good();
    until("the assessment anew", || {
        (findings(&ines, &twin) == ["breaks-policy"]).then_some(())
    });
    let listed = ines.get("/api/v1/credentials?finding=weak").good();
    let names: Vec<_> = listed["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| item["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["Franking"]);
    ines.get("/api/v1/credentials?finding=ugly")
        .refused(422, "bad-input");
    assert!(!ines.events("vault.assess").is_empty());
}

#[test]
fn leaked_and_old_passwords_are_found_when_the_file_or_the_date_changes() {
    let folder = std::env::temp_dir().join(format!("jexlin-leaked-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let file = folder.join("sorted.txt");
    let others =
        "0000000A0E3B9F25FF41DE4B5AC238C2D545C7A8:2\nFFFFFFBFAD0B653BDAC698485C6D105F3C3682B2:1\n";
    std::fs::write(&file, others).unwrap();
    let mut service = Service::on(cluster(), &[("JEXLIN_LEAKED", file.to_str().unwrap())]);
    service.set_up();
    let ines = service.sign_in("ines");
    let office = ines.folder("Office");
    let id = ines.login(&office, "Portal", "Tx9-mmQ4-vWb7-Lp2d");
    assert!(findings(&ines, &id).is_empty());
    // SHA-1 of that password, as the file of a new leak would have it.
    std::fs::write(
        &file,
        others.replace(
            "FFFFFF",
            &format!("{}:7\nFFFFFF", sha1("Tx9-mmQ4-vWb7-Lp2d")),
        ),
    )
    .unwrap();
    until("the new file", || {
        (findings(&ines, &id) == ["leaked"]).then_some(())
    });
    service.kill();
    let shift = folder.join("shift");
    std::fs::write(&shift, (366 * 24 * 3600).to_string()).unwrap();
    service.start(&[("JEXLIN_CLOCK_SHIFT", shift.to_str().unwrap())]);
    service.unlock();
    let ines = service.sign_in("ines");
    assert_eq!(findings(&ines, &id), ["leaked", "old"]);
    let _ = std::fs::remove_dir_all(folder);
}

fn sha1(text: &str) -> String {
    let hash = jexlin_core::policy::sha1_of(&jexlin_core::secret::Secret::from_text(text.into()));
    hash.iter().map(|byte| format!("{byte:02X}")).collect()
}

#[test]
fn settings_are_changed_by_those_who_may_and_checked() {
    let service = Service::ready();
    let (ines, client) = (service.sign_in("ines"), service.client("ines"));
    let _ = ines.person("marek", &[]);
    assert!(client.good(&["settings", "show"]).contains("bin_days"));
    let _ = client.good(&["settings", "edit", "bin_days=60", "only_own_kinds=true"]);
    let (code, words) = client.bad(&["settings", "edit", "bin_dyas=60"]);
    assert!(code == 7 && words.contains("bin_dyas"), "{words}");
    assert_eq!(client.bad(&["settings", "edit", "weak_below=9"]).0, 7);
    assert_eq!(
        service
            .client("marek")
            .bad(&["settings", "edit", "bin_days=1"])
            .0,
        4
    );
    let events = ines.events("settings.edit");
    let done = events
        .iter()
        .find(|event| event["outcome"] == "done")
        .unwrap();
    assert_eq!(
        (
            done["detail"]["bin_days"].as_str(),
            done["detail"]["old_days"].as_str()
        ),
        (Some("60"), None),
        "what did not change is not told"
    );
    let folder = ines.folder("Office");
    add(&ines, &folder, "Portal", json!({})).refused(422, "bad-input");
}
