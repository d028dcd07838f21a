//! What is found about a value (reused, weak, against the policy, used before) tells what it is to
//! somebody who may not see it.

use jexlin_acceptance::until;
use serde_json::json;

use super::{grant, login, revision, strict};

fn gate(of: &jexlin_acceptance::Session<'_>, credential: &str) {
    let me = of.get("/api/v1/me").text("id");
    let _ = of.make("/api/v1/gates", &json!({"credential": credential, "needs_reason": true, "approver_people": [me], "max_minutes": 30, "one_holder": false, "rotate_on_return": false}));
}

#[test]
fn reuse_of_a_gated_password_is_not_told_to_whoever_cannot_see_it() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let (safe, own) = (ines.folder("Safe"), ines.folder("Own"));
    let target = login(&ines, &safe, "root", "root", "pump");
    gate(&ines, &target);
    let marek = ines.person("marek", &[]);
    grant(&ines, "folder", &safe, &marek, "edit");
    grant(&ines, "folder", &own, &marek, "edit");
    let marek = service.sign_in("marek");
    let guess = login(&marek, &own, "guess", "x", "pump");
    // The same password twice, both assessed; the finding is nowhere for him, and gone for her as
    // well.
    until("assessed", || {
        (service.sql("SELECT count(*) FROM assessment WHERE stale") == "0").then_some(())
    });
    for (who, of) in [(&marek, &guess), (&marek, &target)] {
        let found = who.get(&format!("/api/v1/credentials/{of}")).good()["findings"].to_string();
        assert!(!found.contains("reused"), "{found}");
    }
    let found = marek.get(&format!("/api/v1/credentials/{target}")).good()["findings"].to_string();
    assert!(!found.contains("weak"), "{found}");
    for address in [
        "/api/v1/credentials?finding=reused",
        "/api/v1/credentials?finding=any",
        "/api/v1/credentials",
    ] {
        let rows = marek.get(address).good();
        let text = rows["items"]
            .as_array()
            .unwrap()
            .iter()
            .map(|row| row["findings"].to_string())
            .collect::<String>();
        assert!(!text.contains("reused"), "{address}: {rows}");
    }
    // What he could see himself is told as before.
    let twin = login(&marek, &own, "twin", "x", "pump");
    until("assessed", || {
        (service.sql("SELECT count(*) FROM assessment WHERE stale") == "0").then_some(())
    });
    assert!(
        marek.get(&format!("/api/v1/credentials/{twin}")).good()["findings"]
            .to_string()
            .contains("reused")
    );
}

#[test]
fn former_values_are_not_guessed_against_the_policy_or_seen_by_ones_own_grant() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let target = login(&ines, &safe, "root", "root", "Former-value-1");
    let _ = ines
        .patch(
            &format!("/api/v1/credentials/{target}"),
            1,
            &json!({"password": "Present-value-2"}),
        )
        .good();
    let policies = ines.get("/api/v1/password-policies").good();
    let standard = &policies["items"][0];
    let mut rules = standard["rules"].clone();
    rules["not_last"] = json!(5);
    let body = json!({"name": standard["name"], "rules": rules});
    let _ = ines.call(
        "PUT",
        &format!(
            "/api/v1/password-policies/{}",
            standard["id"].as_str().unwrap()
        ),
        Some(&body),
        standard["revision"].as_i64(),
    );
    let marek = ines.person("marek", &[]);
    let given = ines.make(
        "/api/v1/grants",
        &json!({"folder": safe, "person": marek, "level": "steward", "without_history": true}),
    );
    let marek = service.sign_in("marek");
    let path = format!("/api/v1/credentials/{target}");
    for guess in ["Former-value-1", "Another-guess-9"] {
        let answer = marek.patch(&path, revision(&ines, &path), &json!({"password": guess}));
        assert!(
            answer.status == 403 || !answer.body.to_string().contains("used before"),
            "{}",
            answer.body
        );
    }
    // A steward without the history does not grant it, to himself or to others.
    let mine = ines.get(&format!("/api/v1/grants?folder={safe}")).good();
    let row = mine["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|row| row["id"] == json!(given))
        .unwrap()
        .clone();
    marek
        .patch(
            &format!("/api/v1/grants/{given}"),
            row["revision"].as_i64().unwrap(),
            &json!({"history": true}),
        )
        .refused(403, "not-allowed");
    let pim = ines.person("pim", &[]);
    marek
        .post(
            "/api/v1/grants",
            &json!({"folder": safe, "person": pim, "level": "reveal"}),
        )
        .refused(403, "not-allowed");
    let _ = marek.make(
        "/api/v1/grants",
        &json!({"folder": safe, "person": pim, "level": "reveal", "without_history": true}),
    );
}

#[test]
fn answers_that_depend_on_a_value_come_slower_and_slower() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let (own, strictly) = (ines.folder("Own"), ines.folder("Strictly"));
    let inner = ines.make("/api/v1/folders", &json!({"parent": own, "name": "Inner"}));
    let _ = login(&ines, &inner, "root", "root", "short");
    let standard = ines.get("/api/v1/password-policies").good()["items"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let rule = format!("/api/v1/folders/{strictly}/password-rule");
    let seen = ines.get(&rule).good();
    let _ = ines
        .call(
            "PUT",
            &rule,
            Some(&json!({"mode": "enforce", "policies": [standard]})),
            seen["revision"].as_i64(),
        )
        .good();
    let path = format!("/api/v1/folders/{inner}");
    let try_it = || ines.patch(&path, revision(&ines, &path), &json!({"parent": strictly}));
    let mut refused = 0;
    let slowed = loop {
        let answer = try_it();
        if answer.status == 429 {
            break answer;
        }
        assert!(
            answer.body.to_string().contains("does not comply"),
            "{}",
            answer.body
        );
        answer.refused(422, "bad-input");
        refused += 1;
        assert!(refused < 10, "never slowed down");
    };
    assert!(
        slowed.code() == "asked-too-often" && refused >= 3,
        "{refused} before {}",
        slowed.body
    );
    // Each is in the log, and others are not kept waiting by it.
    assert!(
        ines.events("folder")
            .iter()
            .filter(|event| event["outcome"] == "refused")
            .count()
            > refused
    );
    let made = ines.login(&own, "unhindered", "Root-1");
    assert_eq!(ines.reveal(&made).text("value"), "Root-1");
    // Nothing that does not depend on a value waits.
    let _ = ines
        .patch(&path, revision(&ines, &path), &json!({"name": "Renamed"}))
        .good();
}
