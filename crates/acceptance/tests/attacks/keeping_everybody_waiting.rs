//! Passwords that are hard to assess, sent by many at once, keep everybody else waiting.

use std::sync::atomic::{AtomicUsize, Ordering};

use serde_json::json;

use super::strict;

/// Looks like words with letters exchanged everywhere, so that there are very many ways to read it.
const HARD: &str = "4@8({[</369&#!1/|0$5+7%2z";

#[test]
fn passwords_that_are_hard_to_assess_keep_nobody_waiting() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let hard = HARD.repeat(4);
    let (begun, assessed) = (AtomicUsize::new(0), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        // As many as the service has connections to its database, twice.
        for n in 0..24 {
            let (service, token, safe, hard, begun, assessed) =
                (&service, &ines.token, &safe, &hard, &begun, &assessed);
            scope.spawn(move || {
                for m in 0..3 {
                    let body = json!({"folder": safe, "kind": "login", "name": format!("hard {n} {m}"), "fields": {"user_name": "duty"}, "password": format!("{hard}{n}{m}")});
                    begun.fetch_add(1, Ordering::SeqCst);
                    let _ = service.call("POST", "/api/v1/credentials", Some(token), Some(&body), None).good();
                    assessed.fetch_add(1, Ordering::SeqCst);
                }
            });
        }
        while begun.load(Ordering::SeqCst) < 24 {
            std::thread::yield_now();
        }
        for _ in 0..5 {
            assert_eq!(ines.get("/api/v1/folders").status, 200);
        }
        let waiting = 72 - assessed.load(Ordering::SeqCst);
        assert!(waiting > 0, "the list of folders waited for all of them");
    });
    assert_eq!(
        service.sql("SELECT count(*) FROM assessment WHERE score IS NOT NULL"),
        "72"
    );
}

#[test]
fn rules_that_are_hard_to_count_out_keep_nobody_waiting() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    // Every second of every year, which would fill the memory before the first is looked at.
    let list = |count: u32| {
        let numbers: Vec<String> = (0..count).map(|number| number.to_string()).collect();
        numbers.join(",")
    };
    let rules = |check: &str| json!({"check": check, "out_of_sync": "report", "time_zone": "Europe/London"});
    let endless = format!(
        "FREQ=YEARLY;BYDAY=MO,TU,WE,TH,FR,SA,SU;BYHOUR={};BYMINUTE={};BYSECOND={}",
        list(24),
        list(60),
        list(60)
    );
    ines.post("/api/v1/plans/next-times", &rules(&endless))
        .refused(422, "bad-input");
    let mut plan = rules(&endless);
    plan["folder"] = json!(safe);
    ines.post("/api/v1/plans", &plan).refused(422, "bad-input");
    // A day that never comes is looked for through a hundred years, by more people than the service
    // has connections to its database.
    let never = rules("FREQ=MONTHLY;BYMONTH=2;BYMONTHDAY=30");
    let (begun, counted) = (AtomicUsize::new(0), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        for _ in 0..24 {
            scope.spawn(|| {
                begun.fetch_add(1, Ordering::SeqCst);
                ines.post("/api/v1/plans/next-times", &never)
                    .refused(422, "bad-input");
                counted.fetch_add(1, Ordering::SeqCst);
            });
        }
        while begun.load(Ordering::SeqCst) < 24 {
            std::thread::yield_now();
        }
        for _ in 0..5 {
            assert_eq!(ines.get("/api/v1/folders").status, 200);
        }
        let waiting = 24 - counted.load(Ordering::SeqCst);
        assert!(waiting > 0, "the list of folders waited for all of them");
    });
}
