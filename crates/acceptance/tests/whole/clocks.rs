//! Clocks that jump, on a whole service: nothing is lost, and nothing stays shut or open for ever.

use std::path::PathBuf;

use jexlin_acceptance::{PASSWORD, Service, cluster, until};
use serde_json::{Value, json};

/// A service whose clock is the machine's and as many hours more as was set last.
struct Shifted {
    service: Service,
    file: PathBuf,
}

impl Shifted {
    fn ready() -> Self {
        let file = std::env::temp_dir().join(format!(
            "jexlin-clock-{}-{:?}",
            std::process::id(),
            std::thread::current().id()
        ));
        std::fs::write(&file, "0").unwrap();
        let service = Service::on(cluster(), &[("JEXLIN_CLOCK_SHIFT", file.to_str().unwrap())]);
        service.set_up();
        Self { service, file }
    }

    fn hours(&self, hours: i64) {
        std::fs::write(&self.file, (hours * 3600).to_string()).unwrap();
    }
}

impl Drop for Shifted {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.file);
    }
}

#[test]
fn a_session_outlives_a_jump_back_and_ends_by_a_jump_ahead() {
    let shifted = Shifted::ready();
    let ines = shifted.service.sign_in("ines");
    shifted.hours(-5);
    assert_eq!(ines.get("/api/v1/me").good()["sign_in_name"], "ines");
    shifted.hours(13);
    ines.get("/api/v1/me").refused(401, "signed-out");
    assert_eq!(
        shifted.service.sign_in("ines").get("/api/v1/me").good()["sign_in_name"],
        "ines"
    );
}

#[test]
fn a_throttle_set_in_the_future_locks_nobody_out_after_the_clock_jumps_back() {
    let shifted = Shifted::ready();
    shifted.hours(24 * 365);
    let sign_in = |password: &str| {
        let body = json!({"sign_in_name": "ines", "password": password, "channel": "client"});
        shifted
            .service
            .call("POST", "/api/v1/sign-in", None, Some(&body), None)
    };
    let mut throttled = false;
    for _ in 0..12 {
        throttled |= sign_in("not her password").status == 429;
    }
    assert!(throttled, "guessing is slowed down");
    shifted.hours(0);
    until("somebody with the right password who gets in", || {
        (sign_in(PASSWORD).status == 200).then_some(())
    });
}

#[test]
fn a_checkout_ends_when_the_clock_jumps_past_it_and_stays_ended_when_it_jumps_back() {
    let shifted = Shifted::ready();
    let ines = shifted.service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let credential = ines.login(&folder, "duty", "Winter-tide-41");
    let gate = json!({"credential": credential, "needs_reason": true, "approver_people": [], "approver_groups": [], "max_minutes": 60, "one_holder": true, "rotate_on_return": false});
    let _ = ines.make("/api/v1/gates", &gate);
    let held = ines.make(
        "/api/v1/checkouts",
        &json!({"credential": credential, "reason": "pump 3 stopped", "minutes": 60}),
    );
    assert_eq!(ines.reveal(&credential).text("value"), "Winter-tide-41");
    shifted.hours(2);
    let again = shifted.service.sign_in("ines");
    again.reveal(&credential).refused(403, "gate");
    let ended = |who: &jexlin_acceptance::Session<'_>| -> Option<Value> {
        let list = who.get("/api/v1/checkouts").good();
        list["items"]
            .as_array()
            .unwrap()
            .iter()
            .find(|row| row["id"] == held.as_str() && row["ended_how"].is_string())
            .cloned()
    };
    until("a checkout that its time has ended", || ended(&again));
    shifted.hours(0);
    let after = shifted.service.sign_in("ines");
    after.reveal(&credential).refused(403, "gate");
    assert_eq!(ended(&after).unwrap()["ended_how"], "time");
}

#[test]
fn the_log_stays_complete_and_in_order_when_the_clock_runs_backwards() {
    let shifted = Shifted::ready();
    let ines = shifted.service.sign_in("ines");
    for hours in [0, -3, 7, -9] {
        shifted.hours(hours);
        let who = shifted.service.sign_in("ines");
        let _ = who.folder(&format!("Station {}", hours + 10));
    }
    shifted.hours(0);
    drop(ines);
    let client = shifted.service.client("ines");
    let whole = || {
        shifted
            .service
            .sql("SELECT (SELECT count(*) FROM audit_event) = (SELECT count(*) FROM audit_leaf)")
            == "t"
    };
    until("a sealed log", || whole().then_some(()));
    std::fs::write(client.folder.join("key"), client.good(&["audit", "key"])).unwrap();
    let _ = client.good(&["audit", "export", "log.jsonl"]);
    assert!(
        client
            .good(&["audit", "verify", "log.jsonl", "--key-file", "key"])
            .contains("The log is complete")
    );
}
