//! Tests that try to break the promises kept by the records themselves.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use jexlin_core::audit::{Event, Signer};
use jexlin_store::{Conflict, Sealer, Store, StoreError};
use strum::VariantArray as _;
use uuid::Uuid;

use rig::{at, folder, mac_key, organisation, world};

fn store() -> Store {
    Store::open(&world().1.service, 4).expect("a store")
}

fn event(organisation: Uuid, n: i64) -> Event {
    Event::new(
        Uuid::now_v7(),
        organisation,
        at(n),
        jexlin_core::audit::Action::CredentialReveal,
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn another_organisations_rows_do_not_exist() {
    let store = store();
    let (entry, person) = organisation(&store).await;
    let (two, _) = organisation(&store).await;
    let id = Uuid::now_v7();
    let mut tx = store.begin(entry).await.unwrap();
    tx.add_folder(&folder(entry, id, None, false))
        .await
        .unwrap();
    tx.commit().await.unwrap();
    let mut tx = store.begin(two).await.unwrap();
    assert!(matches!(tx.folder(id).await, Err(StoreError::NotFound)));
    assert!(matches!(tx.person(person).await, Err(StoreError::NotFound)));
    let row = folder(entry, Uuid::now_v7(), None, false);
    assert!(
        tx.add_folder(&row).await.is_err(),
        "a row for another organisation is refused"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_query_that_forgets_its_organisation_sees_nothing() {
    let store = store();
    organisation(&store).await;
    let (_, database) = world();
    let tables = [
        "person",
        "organisation",
        "folder",
        "credential",
        "secret_version",
        "audit_event",
        "session",
        "job",
    ];
    let (client, connection) = tokio_postgres::connect(&database.service, tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    for table in tables {
        let count: i64 = client
            .query_one(&format!("SELECT count(*) FROM {table}"), &[])
            .await
            .unwrap()
            .get(0);
        assert_eq!(count, 0, "{table}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_finds_by_words_finds_in_one_organisation_and_the_owner_changes_nothing_outside_of_one()
 {
    let store = store();
    let (entry, _) = organisation(&store).await;
    let (two, _) = organisation(&store).await;
    let word = format!("weir{}", entry.simple());
    for org in [entry, two] {
        let mut tx = store.begin(org).await.unwrap();
        let place = Uuid::now_v7();
        tx.add_folder(&folder(org, place, None, false))
            .await
            .unwrap();
        tx.add_credential(&rig::credential(org, place, &word))
            .await
            .unwrap();
        tx.record(&event(org, 1), &mac_key()).await.unwrap();
        tx.commit_recorded().await.unwrap();
    }
    let (_, database) = world();
    let count = async |url: &str, scope: &str, sql: String| -> i64 {
        let (client, connection) = tokio_postgres::connect(url, tokio_postgres::NoTls)
            .await
            .unwrap();
        tokio::spawn(connection);
        client
            .batch_execute(&format!("SET jexlin.organisation = '{scope}'"))
            .await
            .unwrap();
        client.query_one(&sql, &[]).await.unwrap().get(0)
    };
    let found = format!("SELECT count(*) FROM resembling('{word}')");
    let nobody = Uuid::nil().to_string();
    for (scope, expected) in [
        (entry.to_string(), 1),
        (two.to_string(), 1),
        (nobody.clone(), 0),
    ] {
        assert_eq!(
            count(&database.service, &scope, found.clone()).await,
            expected,
            "{scope}"
        );
    }
    for table in ["person", "secret_version", "session", "audit_event"] {
        assert_eq!(
            count(
                &database.owner,
                &nobody,
                format!("SELECT count(*) FROM {table}")
            )
            .await,
            0,
            "{table}"
        );
    }
    // Row-level security lets the owner read these; a trigger binds what it writes.
    let (owner, connection) = tokio_postgres::connect(&database.owner, tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    owner
        .batch_execute(&format!("SET jexlin.organisation = '{nobody}'"))
        .await
        .unwrap();
    for table in ["credential", "folder"] {
        let refused = owner
            .execute(&format!("UPDATE {table} SET name = 'x'"), &[])
            .await
            .unwrap_err();
        let words = refused.as_db_error().unwrap().message().to_owned();
        assert_eq!(words, "this belongs to another organisation", "{table}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_table_with_an_organisation_is_behind_row_level_security() {
    let (cluster, database) = world();
    let open = cluster
        .psql(&database.name, "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace AND NOT relrowsecurity AND relname NOT LIKE '__diesel%'")
        .unwrap();
    assert_eq!(
        open, "service_seen",
        "which services run belongs to no organisation, and tells nothing of one"
    );
    let owned = cluster
        .psql(
            &database.name,
            "SELECT count(*) FROM pg_class WHERE relowner = 'jexlin_service'::regrole",
        )
        .unwrap();
    assert_eq!(owned, "0");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_audit_log_takes_no_update_delete_or_truncate_from_anybody() {
    let store = store();
    let (org, _) = organisation(&store).await;
    let mut tx = store.begin(org).await.unwrap();
    tx.record(&event(org, 0), &mac_key()).await.unwrap();
    tx.commit_recorded().await.unwrap();
    let (cluster, database) = world();
    for table in ["audit_event", "audit_leaf", "audit_checkpoint"] {
        for sql in [
            format!("UPDATE {table} SET organisation = organisation"),
            format!("DELETE FROM {table}"),
            format!("TRUNCATE {table}"),
        ] {
            let error = cluster.psql(&database.name, &sql).unwrap_err().to_string();
            assert!(error.contains("insert-only"), "{sql}: {error}");
            let (client, connection) =
                tokio_postgres::connect(&database.service, tokio_postgres::NoTls)
                    .await
                    .unwrap();
            tokio::spawn(connection);
            let error = client.batch_execute(&sql).await.unwrap_err();
            assert!(
                error
                    .as_db_error()
                    .is_some_and(|error| error.message().contains("permission denied")),
                "{sql}"
            );
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_version_is_never_overwritten_or_deleted() {
    let (cluster, database) = world();
    let store = store();
    let (org, _) = organisation(&store).await;
    let (folder_id, id) = (Uuid::now_v7(), Uuid::now_v7());
    let mut tx = store.begin(org).await.unwrap();
    tx.add_folder(&folder(org, folder_id, None, false))
        .await
        .unwrap();
    tx.commit().await.unwrap();
    cluster
        .psql(&database.name, &format!(
            "SET jexlin.organisation = '{org}';
             INSERT INTO credential (id, organisation, folder_id, kind, name, fields, data_key, created_at, changed_at) VALUES ('{id}', '{org}', '{folder_id}', 'login', 'x', '{{}}', '', now(), now());
             INSERT INTO secret_version (organisation, credential_id, field, number, state, sealed, made_at, made_how) VALUES ('{org}', '{id}', 'password', 1, 'current', '\\x01', now(), 'typed')"
        ))
        .unwrap();
    for sql in [
        format!("DELETE FROM secret_version WHERE credential_id = '{id}'"),
        format!("UPDATE secret_version SET sealed = '\\x02' WHERE credential_id = '{id}'"),
    ] {
        assert!(
            cluster
                .psql(&database.name, &sql)
                .unwrap_err()
                .to_string()
                .contains("never"),
            "{sql}"
        );
    }
    cluster
        .psql(
            &database.name,
            &format!("UPDATE secret_version SET state = 'previous' WHERE credential_id = '{id}'"),
        )
        .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_commits_as_recorded_without_an_event_and_no_receipt_serves_another_transaction() {
    let store = store();
    let (org, _) = organisation(&store).await;
    let tx = store.begin(org).await.unwrap();
    assert!(matches!(
        tx.commit_recorded().await,
        Err(StoreError::Broken(_))
    ));
    let mut tx = store.begin(org).await.unwrap();
    tx.record(&event(org, 0), &mac_key()).await.unwrap();
    drop(tx);
    let mut tx = store.begin(org).await.unwrap();
    let events = tx
        .events(&jexlin_store::EventFilter {
            limit: 10,
            ..Default::default()
        })
        .await
        .unwrap();
    assert!(
        events.is_empty(),
        "a transaction that was dropped leaves no event"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn events_that_commit_out_of_order_are_all_sealed_once() {
    let store = store();
    let (org, _) = organisation(&store).await;
    let signer = Signer::new("osmere.example/test", &[1; 32]);
    let mut sealer = Sealer::default();
    let mut early = store.begin(org).await.unwrap();
    early.record(&event(org, 1), &mac_key()).await.unwrap();
    let mut late = store.begin(org).await.unwrap();
    late.record(&event(org, 2), &mac_key()).await.unwrap();
    late.commit_recorded().await.unwrap();
    let first = sealer
        .seal(store.begin(org).await.unwrap(), &mac_key(), &signer, at(3))
        .await
        .unwrap();
    assert_eq!(first.sealed, 1);
    early.commit_recorded().await.unwrap();
    let second = sealer
        .seal(store.begin(org).await.unwrap(), &mac_key(), &signer, at(4))
        .await
        .unwrap();
    assert_eq!(second.sealed, 1, "the gap was looked into");
    let mut other = Sealer::default();
    assert_eq!(
        other
            .seal(store.begin(org).await.unwrap(), &mac_key(), &signer, at(5))
            .await
            .unwrap()
            .sealed,
        0,
        "another service seals nothing twice"
    );
    let mut tx = store.begin(org).await.unwrap();
    assert_eq!(tx.leaf_hashes(10).await.unwrap().len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_sealers_at_once_make_one_log() {
    let store = store();
    let (org, _) = organisation(&store).await;
    let mut tasks = vec![];
    for writer in 0..3 {
        let store = store.clone();
        tasks.push(tokio::spawn(async move {
            for n in 0..20 {
                let mut tx = store.begin(org).await.unwrap();
                tx.record(&event(org, writer * 100 + n), &mac_key())
                    .await
                    .unwrap();
                tx.commit_recorded().await.unwrap();
            }
        }));
    }
    for _ in 0..2 {
        let store = store.clone();
        tasks.push(tokio::spawn(async move {
            let mut sealer = Sealer::default();
            let signer = Signer::new("osmere.example/test", &[1; 32]);
            for n in 0..30 {
                sealer
                    .seal(store.begin(org).await.unwrap(), &mac_key(), &signer, at(n))
                    .await
                    .unwrap();
            }
        }));
    }
    for task in tasks {
        task.await.unwrap();
    }
    let signer = Signer::new("osmere.example/test", &[1; 32]);
    Sealer::default()
        .seal(store.begin(org).await.unwrap(), &mac_key(), &signer, at(99))
        .await
        .unwrap();
    let mut tx = store.begin(org).await.unwrap();
    let hashes = tx.leaf_hashes(1000).await.unwrap();
    assert_eq!(hashes.len(), 60);
    let last = tx.last_checkpoint().await.unwrap().unwrap();
    let opened = signer.verifier().open(&last).unwrap();
    assert_eq!(
        (opened.size, opened.root),
        (60, jexlin_core::audit::root_of(&hashes))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_put_in_past_the_service_gets_no_place() {
    let store = store();
    let (org, _) = organisation(&store).await;
    let (cluster, database) = world();
    cluster
        .psql(
            &database.name,
            &format!(
                "INSERT INTO audit_event (id, organisation, at, action, actor_name, target_type, target_name, origin, outcome, detail, mac)
             VALUES (gen_random_uuid(), '{org}', now(), 'credential.reveal', 'Nobody', '', '', '', 'done', '{{}}', '\\x00')"
            ),
        )
        .unwrap();
    let signer = Signer::new("osmere.example/test", &[1; 32]);
    let mut sealer = Sealer::default();
    let outcome = sealer
        .seal(store.begin(org).await.unwrap(), &mac_key(), &signer, at(1))
        .await
        .unwrap();
    assert_eq!((outcome.sealed, outcome.strays.len()), (0, 1));
    let mut tx = store.begin(org).await.unwrap();
    assert_eq!(tx.stray_events(&mac_key()).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_commit_that_travels_with_its_event_keeps_both_or_neither() {
    let store = Store::open(&world().1.service, 1).expect("a store");
    let (org, _) = organisation(&store).await;
    // One connection: from the second time on the event and the commit go out together.
    for n in 0..3 {
        let id = Uuid::now_v7();
        let mut tx = store.begin(org).await.unwrap();
        tx.add_folder(&folder(org, id, None, false)).await.unwrap();
        tx.commit_with(&event(org, n), &mac_key()).await.unwrap();
        let mut tx = store.begin(org).await.unwrap();
        assert_eq!(tx.folder(id).await.unwrap().id, id);
        let events = tx
            .events(&jexlin_store::EventFilter {
                limit: 10,
                ..Default::default()
            })
            .await
            .unwrap();
        assert_eq!(events.len(), usize::try_from(n).unwrap() + 1);
    }
    // The same event once more breaks a key of its table: nothing of the transaction stays.
    let twice = event(org, 9);
    store
        .begin(org)
        .await
        .unwrap()
        .commit_with(&twice, &mac_key())
        .await
        .unwrap();
    let id = Uuid::now_v7();
    let mut tx = store.begin(org).await.unwrap();
    tx.add_folder(&folder(org, id, None, false)).await.unwrap();
    assert!(tx.commit_with(&twice, &mac_key()).await.is_err());
    let mut tx = store.begin(org).await.unwrap();
    assert!(matches!(tx.folder(id).await, Err(StoreError::NotFound)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_that_somebody_swallowed_does_not_commit() {
    let store = store();
    let (org, _) = organisation(&store).await;
    let id = Uuid::now_v7();
    let mut tx = store.begin(org).await.unwrap();
    tx.add_folder(&folder(org, id, None, false)).await.unwrap();
    assert!(
        tx.add_folder(&folder(org, id, None, false)).await.is_err(),
        "the same folder twice"
    );
    assert!(
        tx.commit().await.is_err(),
        "a broken transaction says that it committed nothing"
    );
    let mut tx = store.begin(org).await.unwrap();
    assert!(matches!(tx.folder(id).await, Err(StoreError::NotFound)));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_database_itself_refuses_a_recorded_commit_without_an_event() {
    let (_, database) = world();
    let (client, connection) = tokio_postgres::connect(&database.service, tokio_postgres::NoTls)
        .await
        .unwrap();
    tokio::spawn(connection);
    let error = client
        .batch_execute("BEGIN; SELECT must_be_recorded(NULL, 1); COMMIT")
        .await
        .unwrap_err();
    assert!(
        error
            .as_db_error()
            .is_some_and(|error| error.message().contains("no audit event"))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_search_finds_by_words_and_devices_and_only_what_grants_reach_in_one_organisation() {
    use jexlin_store::{CredentialRow, DeviceRow, GrantRow, ListQuery};
    let store = store();
    let mut sides = vec![];
    for _ in 0..2 {
        let (org, person) = organisation(&store).await;
        let (open, shut, device) = (Uuid::now_v7(), Uuid::now_v7(), Uuid::now_v7());
        let mut tx = store.begin(org).await.unwrap();
        for (id, name) in [(open, "Weir lane"), (shut, "Weir house")] {
            tx.add_folder(&jexlin_store::FolderRow {
                name: name.into(),
                ..folder(org, id, None, false)
            })
            .await
            .unwrap();
        }
        let unit = DeviceRow {
            dialogue_id: None,
            dialogue_digest: String::new(),
            platform: String::new(),
            description: String::new(),
            id: device,
            organisation: org,
            folder_id: open,
            name: "Telemetry 100%".into(),
            connector: jexlin_core::upkeep::ConnectorKind::Ssh.into(),
            address: "192.0.2.77".into(),
            port: 22,
            identity: String::new(),
            created_at: at(0),
            removed_at: None,
            revision: 1,
            paused_at: None,
            paused_why: String::new(),
            family_of: None,
            import_id: None,
            jump_host_id: None,
        };
        tx.add_device(&unit).await.unwrap();
        for (name, place, on) in [
            ("North ridge pump", open, None),
            ("duty", open, Some(device)),
            ("North ridge spare", shut, None),
        ] {
            let row: CredentialRow = rig::credential(org, place, name);
            tx.add_credential(&row).await.unwrap();
            if on.is_some() {
                let account = tx
                    .ensure_account(&unit, unit.connector.0.family(), name, at(0))
                    .await
                    .unwrap();
                tx.enroll(&account, &unit, row.id, person, at(0))
                    .await
                    .unwrap();
            }
        }
        let grant = GrantRow {
            id: Uuid::now_v7(),
            organisation: org,
            folder_id: Some(open),
            credential_id: None,
            person_id: Some(person),
            group_id: None,
            held: 1,
            ends_at: None,
            note: String::new(),
            created_at: at(0),
            created_by: None,
            only_kind: None,
            only_tag: None,
            history: true,
        };
        tx.add_grant(&grant).await.unwrap();
        tx.commit().await.unwrap();
        sides.push((org, person));
    }
    let (org, person) = sides[0];
    let mut tx = store.begin(org).await.unwrap();
    // Short texts go through the names, longer ones through the index: both find the same way.
    for (text, wanted) in [
        ("ri", vec!["North ridge pump"]),
        ("ridge", vec!["North ridge pump"]),
        ("OPERATOR", vec!["duty", "North ridge pump"]),
        ("0.2.77", vec!["duty"]),
        ("100%", vec!["duty"]),
        ("r%p", vec![]),
        ("n_rth", vec![]),
        ("spare", vec![]),
        ("we", vec!["duty", "North ridge pump"]),
        ("weir", vec!["duty", "North ridge pump"]),
        ("", vec!["duty", "North ridge pump"]),
    ] {
        let query = ListQuery {
            find: text.split_whitespace().map(str::to_owned).collect(),
            limit: 10,
            ..Default::default()
        };
        let found: Vec<String> = tx
            .list_credentials(person, at(1), &query)
            .await
            .unwrap()
            .into_iter()
            .map(|row| row.name)
            .collect();
        assert_eq!(found, wanted, "{text}");
    }
    assert!(
        tx.list_credentials(
            sides[1].1,
            at(1),
            &ListQuery {
                find: vec!["ridge".into()],
                limit: 10,
                ..Default::default()
            }
        )
        .await
        .unwrap()
        .is_empty()
    );
}

#[test]
fn a_database_that_stopped_at_any_version_can_be_brought_up_to_date() {
    let database = world().0.database("earlier").unwrap();
    let top = std::path::Path::new(env!("CARGO_MANIFEST_DIR"));
    let sorted = |folder: &str| {
        let entries = std::fs::read_dir(top.join(folder)).unwrap();
        let mut paths: Vec<_> = entries.map(|entry| entry.unwrap().path()).collect();
        paths.sort();
        paths
    };
    let folders = sorted("migrations");
    let (views, mut functions): (Vec<_>, Vec<_>) = sorted("sql").into_iter().partition(|file| {
        let text = std::fs::read_to_string(file).unwrap();
        text.contains("CREATE OR REPLACE VIEW")
    });
    functions.extend(views);
    // Each in a session of its own, as if it came on another day.
    let apply = |files: &[std::path::PathBuf]| {
        let mut psql = std::process::Command::new("psql");
        psql.args(["-X", "-q", "-1", "-v", "ON_ERROR_STOP=1"]);
        psql.args(["-d", &database.owner]);
        psql.args(["-c", "SET LOCAL check_function_bodies = off"]);
        for file in files {
            psql.arg("-f").arg(file);
        }
        let output = psql.output().unwrap();
        assert!(
            output.status.success(),
            "{files:?}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
    };
    // What tables need before they are made.
    apply(&[top.join("sql/scope.sql"), top.join("sql/searchable.sql")]);
    for folder in &folders {
        apply(&[folder.join("up.sql")]);
    }
    apply(&functions);
    // A later migration that changes one applies them all again.
    apply(&functions);
    let versions = world()
        .0
        .psql(
            &world().1.name,
            "SELECT count(*) FROM __diesel_schema_migrations",
        )
        .unwrap();
    // What tables need, then all functions, and all of them again with the imported folders.
    assert_eq!(versions, (folders.len() + 12).to_string());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_of_a_later_version_is_left_alone() {
    let database = world().0.database("later").unwrap();
    let applied = jexlin_store::migrate(&database.owner).await.unwrap();
    assert!(!applied.is_empty());
    let psql = |sql: &str| world().0.psql(&database.name, sql).unwrap();
    psql("INSERT INTO __diesel_schema_migrations (version) VALUES ('29991231000000')");
    let refusal = jexlin_store::migrate(&database.owner).await.unwrap_err();
    assert!(refusal.to_string().contains("29991231000000"), "{refusal}");
    psql("DELETE FROM __diesel_schema_migrations WHERE version = '29991231000000'");
    let applied = jexlin_store::migrate(&database.owner).await.unwrap();
    assert_eq!(applied, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_belongs_to_a_credential_cannot_name_another_organisation() {
    let store = store();
    let (entry, _) = organisation(&store).await;
    let (two, _) = organisation(&store).await;
    let place = Uuid::now_v7();
    let mut tx = store.begin(entry).await.unwrap();
    tx.add_folder(&folder(entry, place, None, false))
        .await
        .unwrap();
    let credential = rig::credential(entry, place, "duty");
    tx.add_credential(&credential).await.unwrap();
    tx.commit().await.unwrap();
    // Even the superuser, whom no row-level security holds back, cannot tie the two together.
    let psql = |sql: String| {
        world()
            .0
            .psql(&world().1.name, &sql)
            .map_err(|error| error.to_string())
    };
    let id = credential.id;
    for (sql, why) in [
        (
            format!(
                "INSERT INTO assessment (credential_id, organisation, number, score, fingerprint, lacks, leaked, made_at) VALUES ('{id}', '{two}', 1, 4, '', '{{}}', 0, now())"
            ),
            "assessment_credential",
        ),
        (
            format!(
                "INSERT INTO secret_version (organisation, credential_id, field, number, state, sealed, made_at, made_how) VALUES ('{two}', '{id}', 'password', 9, 'previous', '', now(), 'typed')"
            ),
            "secret_version_credential",
        ),
        (
            format!("UPDATE credential SET organisation = '{two}' WHERE id = '{id}'"),
            "credential",
        ),
    ] {
        let refused = psql(sql).unwrap_err();
        assert!(
            refused.contains("foreign key") && refused.contains(why),
            "{refused}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sealer_goes_on_where_another_was_with_the_gaps_that_it_left() {
    let store = store();
    let (org, _) = organisation(&store).await;
    let signer = Signer::new("osmere.example/test", &[1; 32]);
    let (mut one, mut other) = (Sealer::default(), Sealer::default());
    let seal = async |sealer: &mut Sealer, n| {
        sealer
            .seal(store.begin(org).await.unwrap(), &mac_key(), &signer, at(n))
            .await
            .unwrap()
            .sealed
    };
    assert_eq!(seal(&mut other, 1).await, 0);
    let mut early = store.begin(org).await.unwrap();
    early.record(&event(org, 1), &mac_key()).await.unwrap();
    let mut late = store.begin(org).await.unwrap();
    late.record(&event(org, 2), &mac_key()).await.unwrap();
    late.commit_recorded().await.unwrap();
    assert_eq!(seal(&mut one, 3).await, 1);
    early.commit_recorded().await.unwrap();
    // The other has seen neither: it learns from the frontier up to where all was looked at, and
    // which number was missing there.
    assert_eq!(seal(&mut other, 4).await, 1);
    assert_eq!((seal(&mut one, 5).await, seal(&mut other, 6).await), (0, 0));
    let mut tx = store.begin(org).await.unwrap();
    assert_eq!(tx.leaf_hashes(10).await.unwrap().len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn who_does_not_know_of_the_newest_key_commits_nothing() {
    let store = store();
    let (org, _) = organisation(&store).await;
    let mut under_way = store.begin(org).await.unwrap();
    under_way
        .add_folder(&folder(org, Uuid::now_v7(), None, false))
        .await
        .unwrap();
    let mut change = store.begin(org).await.unwrap();
    change
        .change_organisation_key(1, b"new", b"former", b"seed")
        .await
        .unwrap();
    change.commit().await.unwrap();
    let refused = under_way.commit_with(&event(org, 1), &mac_key()).await;
    assert!(
        matches!(refused, Err(StoreError::KeysChanged)),
        "{refused:?}"
    );
    let mut tx = store.begin(org).await.unwrap();
    assert!(
        tx.all_folders().await.unwrap().is_empty(),
        "nothing was kept"
    );
    assert!(matches!(
        tx.change_organisation_key(1, b"x", b"x", b"x").await,
        Err(StoreError::Stale)
    ));
    let row = tx.organisation_row().await.unwrap();
    assert_eq!(
        (row.key_number, row.former_key.as_deref()),
        (2, Some(b"former".as_slice()))
    );
}

#[test]
fn every_unique_index_that_people_can_meet_has_its_conflict() {
    let found = world()
        .0
        .psql(
            &world().1.name,
            "SELECT string_agg(c.relname, ' ') FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE i.indisunique AND n.nspname = 'public'",
        )
        .unwrap();
    let indexes: Vec<&str> = found.split(' ').collect();
    let own = Conflict::VARIANTS
        .iter()
        .take_while(|conflict| **conflict != Conflict::OtherIndex);
    for conflict in own {
        let name = conflict.to_string();
        assert!(indexes.contains(&name.as_str()), "{name} is no index");
        assert_eq!(conflict.is_name_taken(), name.ends_with("_name"), "{name}");
    }
    // A name that is taken is always told as such.
    for name in indexes.iter().filter(|name| name.ends_with("_name")) {
        assert!(name.parse::<Conflict>().is_ok(), "{name} has no conflict");
    }
}
