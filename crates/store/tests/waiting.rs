//! Locks: who waits for whom, and that there is no deadlock. And that a lookup reads no more than it needs.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::time::Duration;

use jexlin_core::access::Level;
use jexlin_core::vault::{ValueOrigin, VersionState};
use jexlin_store::{AssessmentRow, GrantRow, NewVersion, Store, StoreError, Tx};
use uuid::Uuid;

use rig::{at, credential, folder, organisation, removal, world};

/// One test at a time, so that whoever waits is of this one.
static ALONE: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());

fn store() -> Store {
    Store::open(&world().1.service, 6).expect("a store")
}

/// Waits until a transaction of the organisation's database waits for a lock.
async fn somebody_waits() {
    let (cluster, database) = world();
    let waiting = "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND datname = current_database()";
    for _ in 0..1000 {
        if cluster.psql(&database.name, waiting).unwrap().trim() != "0" {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("nobody waits");
}

fn assessment(organisation: Uuid, credential_id: Uuid) -> AssessmentRow {
    AssessmentRow {
        credential_id,
        organisation,
        number: 1,
        score: 4,
        fingerprint: credential_id.as_bytes().to_vec(),
        lacks: vec![],
        leaked: 0,
        made_at: at(0),
        stale: false,
    }
}

fn grant(organisation: Uuid, folder: Uuid, person: Uuid) -> GrantRow {
    GrantRow {
        only_kind: None,
        only_tag: None,
        history: true,
        id: Uuid::now_v7(),
        organisation,
        folder_id: Some(folder),
        credential_id: None,
        person_id: Some(person),
        group_id: None,
        held: Level::Steward.number(),
        ends_at: None,
        note: String::new(),
        created_at: at(0),
        created_by: None,
    }
}

async fn add_login(tx: &mut Tx, place: Uuid, name: &str) -> Uuid {
    let row = credential(tx.organisation(), place, name);
    tx.add_credential(&row).await.unwrap();
    tx.add_version(&NewVersion {
        credential: row.id,
        field: "password",
        number: 1,
        state: VersionState::Current,
        sealed: b"sealed",
        now: at(0),
        by: None,
        how: ValueOrigin::Typed,
        reason: "",
        facts: serde_json::json!({}),
    })
    .await
    .unwrap();
    tx.reassess(row.id).await.unwrap();
    row.id
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_of_rules_and_the_worker_that_assesses_do_not_wait_for_each_other() {
    let _alone = ALONE.lock().await;
    let store = store();
    // Whichever of two is kept first.
    for first in [0, 1] {
        let (entry, _) = organisation(&store).await;
        let place = Uuid::now_v7();
        let mut tx = store.begin(entry).await.unwrap();
        tx.add_folder(&folder(entry, place, None, false))
            .await
            .unwrap();
        let _ = add_login(&mut tx, place, "one").await;
        let _ = add_login(&mut tx, place, "two").await;
        tx.commit().await.unwrap();

        let mut worker = store.begin(entry).await.unwrap();
        let waiting = worker.to_assess("password", 10).await.unwrap();
        assert_eq!(waiting.len(), 2);
        let keep = |index: usize| assessment(entry, waiting[index].credential);
        worker
            .keep_assessment(&keep(first), "password")
            .await
            .unwrap();
        let other = store.clone();
        let change = tokio::spawn(async move {
            let mut tx = other.begin(entry).await.unwrap();
            tx.reassess_all(None).await?;
            tx.commit().await
        });
        somebody_waits().await;
        worker
            .keep_assessment(&keep(1 - first), "password")
            .await
            .unwrap();
        worker.commit().await.unwrap();
        change.await.unwrap().unwrap();
        // What the worker found by the former rules does not count.
        let mut tx = store.begin(entry).await.unwrap();
        assert_eq!(tx.to_assess("password", 10).await.unwrap().len(), 2);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_are_added_side_by_side_and_moves_wait_for_them() {
    let _alone = ALONE.lock().await;
    let store = store();
    let (entry, person) = organisation(&store).await;
    let (top, other) = (Uuid::now_v7(), Uuid::now_v7());
    let mut tx = store.begin(entry).await.unwrap();
    for id in [top, other] {
        tx.add_folder(&folder(entry, id, None, false))
            .await
            .unwrap();
    }
    tx.commit().await.unwrap();
    let mut one = store.begin(entry).await.unwrap();
    let mut two = store.begin(entry).await.unwrap();
    let within = |parent| folder(entry, Uuid::now_v7(), Some(parent), false);
    one.add_folder(&within(top)).await.unwrap();
    two.add_folder(&within(top)).await.unwrap();
    two.commit().await.unwrap();
    let moving = store.clone();
    let moved = tokio::spawn(async move {
        let mut tx = moving.begin(entry).await.unwrap();
        let mut row = tx.folder(top).await.unwrap();
        row.parent_id = Some(other);
        tx.edit_folder(&row).await
    });
    somebody_waits().await;
    one.commit().await.unwrap();
    moved.await.unwrap().unwrap();
    // Nothing is added to what somebody has removed meanwhile.
    let mut tx = store.begin(entry).await.unwrap();
    let act = removal(entry, other, person);
    tx.add_removal(&act).await.unwrap();
    let _ = tx.remove_folder_tree(&act).await.unwrap();
    tx.commit().await.unwrap();
    let mut tx = store.begin(entry).await.unwrap();
    let late = tx.add_folder(&within(other)).await;
    assert!(matches!(late, Err(StoreError::NotFound)), "{late:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_who_wait_for_each_other_are_told_that_the_records_are_busy() {
    let _alone = ALONE.lock().await;
    let store = store();
    let (entry, _) = organisation(&store).await;
    let (one, two) = (Uuid::now_v7(), Uuid::now_v7());
    let mut tx = store.begin(entry).await.unwrap();
    for id in [one, two] {
        tx.add_folder(&folder(entry, id, None, false))
            .await
            .unwrap();
    }
    let (first, second) = (
        add_login(&mut tx, one, "one").await,
        add_login(&mut tx, two, "two").await,
    );
    tx.commit().await.unwrap();
    let mut tx = store.begin(entry).await.unwrap();
    let _ = tx.credential_locked(first).await.unwrap();
    let other = store.clone();
    let waiting = tokio::spawn(async move {
        let mut tx = other.begin(entry).await.unwrap();
        let _ = tx.credential_locked(second).await.unwrap();
        tx.credential_locked(first).await.map(|_| ())
    });
    somebody_waits().await;
    let here = tx.credential_locked(second).await.map(|_| ());
    drop(tx);
    let there = waiting.await.unwrap();
    let busy = |result: &Result<(), StoreError>| matches!(result, Err(StoreError::Busy(_)));
    assert!(busy(&here) != busy(&there), "{here:?} {there:?}");
}

#[tokio::test]
async fn who_may_see_a_password_is_looked_up_for_the_same_passwords_alone() {
    let _alone = ALONE.lock().await;
    let store = store();
    let (entry, person) = organisation(&store).await;
    let place = Uuid::now_v7();
    let mut tx = store.begin(entry).await.unwrap();
    tx.add_folder(&folder(entry, place, None, false))
        .await
        .unwrap();
    tx.add_grant(&grant(entry, place, person)).await.unwrap();
    let mut logins = vec![];
    for number in 0..40 {
        logins.push(add_login(&mut tx, place, &format!("pump {number}")).await);
    }
    for login in &logins {
        let mut row = assessment(entry, *login);
        // The first two are the same.
        if *login == logins[1] {
            row.fingerprint = logins[0].as_bytes().to_vec();
        }
        tx.keep_assessment(&row, "password").await.unwrap();
    }
    tx.commit().await.unwrap();
    let (cluster, database) = world();
    let looked_up = |login: Uuid| {
        // The plan that the planner takes for tables that it takes for empty.
        let sql = format!(
            "SET track_functions = 'all'; SET enable_nestloop = off; SET enable_indexscan = off; SET enable_bitmapscan = off;
             BEGIN; SET LOCAL jexlin.organisation = '{entry}';
             SELECT 'reused' = ANY (findings_of('{login}', '{person}', '2026-11-30', 3, 0, 0));
             SELECT calls FROM pg_stat_xact_user_functions WHERE funcname = 'sees_value'; COMMIT"
        );
        cluster.psql(&database.name, &sql).unwrap()
    };
    // Once for the credential itself, and once for each that has the same password.
    assert_eq!(looked_up(logins[0]).trim(), "t\n2");
    assert_eq!(looked_up(logins[2]).trim(), "f\n1");
}
