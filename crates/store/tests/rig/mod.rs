//! One cluster per test program, one database for all of its tests, one organisation per test.

use std::sync::OnceLock;

use chrono::{DateTime, Utc};
use jexlin_core::vault::{EventKey, OrganisationKey, RootKey};
use jexlin_standins::cluster::{Care, Cluster, Database};
use jexlin_store::{
    CredentialRow, FolderRow, GateRow, OrganisationRow, PersonRow, RemovalRow, Store, Tx,
};
use uuid::Uuid;

static CLUSTER: OnceLock<(Cluster, Database)> = OnceLock::new();

/// The cluster and the migrated database.
pub fn world() -> &'static (Cluster, Database) {
    CLUSTER.get_or_init(|| {
        let cluster = Cluster::temporary(Care::Fast).expect("a cluster");
        let database = cluster.database("records").expect("a database");
        let owner = database.owner.clone();
        // A runtime of its own, since tests call this from inside theirs.
        let migrated = std::thread::spawn(move || {
            tokio::runtime::Runtime::new()
                .expect("a runtime")
                .block_on(jexlin_store::migrate(&owner))
        });
        migrated.join().expect("a thread").expect("migrations");
        (cluster, database)
    })
}

/// The moment at which the tests live.
pub fn at(seconds: i64) -> DateTime<Utc> {
    DateTime::from_timestamp(1_770_000_000 + seconds, 0).expect("a time")
}

/// A new organisation with one person in it.
pub async fn organisation(store: &Store) -> (Uuid, Uuid) {
    let (id, person) = (Uuid::now_v7(), Uuid::now_v7());
    let mut rng = rand::rng();
    let root = RootKey::generate(&mut rng);
    let (_, wrapped) = OrganisationKey::generate(&mut rng, &root, id).expect("a key");
    let mut tx = store.begin(id).await.expect("a transaction");
    let row = OrganisationRow {
        id,
        name: format!("Osmere {id}"),
        wrapped_key: wrapped.0,
        log_origin: format!("osmere.example/{id}"),
        log_key_sealed: vec![],
        log_verifier: String::new(),
        created_at: at(0),
        locked_at: None,
        root_key: root.name(),
        next_wrapped_key: None,
        next_root_key: None,
        key_number: 1,
        former_key: None,
    };
    tx.add_organisation(&row).await.expect("an organisation");
    add_person(&mut tx, person).await;
    tx.commit().await.expect("a commit");
    (id, person)
}

/// Adds a person to the transaction's organisation.
pub async fn add_person(tx: &mut Tx, id: Uuid) {
    let row = PersonRow {
        id,
        organisation: tx.organisation(),
        sign_in_name: id.to_string(),
        display_name: "Ines Calder".into(),
        password_phc: None,
        state: jexlin_core::people::PersonState::Active.into(),
        duties: vec![],
        created_at: at(0),
        revision: 1,
        person_type: jexlin_core::people::PersonType::Person.into(),
        secret_hash: None,
        sign_in_by: None,
    };
    tx.add_person(&row).await.expect("a person");
}

/// A folder row.
pub fn folder(organisation: Uuid, id: Uuid, parent: Option<Uuid>, closed: bool) -> FolderRow {
    FolderRow {
        id,
        organisation,
        parent_id: parent,
        name: id.to_string(),
        closed,
        created_at: at(0),
        created_by: None,
        removed_at: None,
        revision: 1,
    }
}

/// A credential row without a device.
#[allow(dead_code, reason = "not every test program keeps credentials")]
pub fn credential(organisation: Uuid, folder_id: Uuid, name: &str) -> CredentialRow {
    CredentialRow {
        id: Uuid::now_v7(),
        organisation,
        folder_id,
        kind: "login".into(),
        name: name.into(),
        fields: serde_json::json!({"user_name": "Operator"}),
        device_id: None,
        data_key: vec![],
        created_at: at(0),
        created_by: None,
        changed_at: at(0),
        changed_by: None,
        removed_at: None,
        revision: 1,
        removal_id: None,
        extra: serde_json::json!([]),
        tags: vec![],
    }
}

/// The removal of a folder with all that is in it.
#[allow(dead_code, reason = "not every test program removes things")]
pub fn removal(organisation: Uuid, folder: Uuid, by: Uuid) -> RemovalRow {
    RemovalRow {
        id: Uuid::now_v7(),
        organisation,
        target_type: jexlin_core::vault::RemovedType::Folder.into(),
        target: folder,
        path: "/somewhere".into(),
        folder_id: folder,
        credentials: 0,
        removed_at: at(0),
        removed_by: Some(by),
        restored_at: None,
        purged_at: None,
    }
}

/// A gate on a folder or a credential.
#[allow(dead_code, reason = "not every test program sets gates")]
pub fn gate(organisation: Uuid, on_folder: bool, place: Uuid) -> GateRow {
    GateRow {
        id: Uuid::now_v7(),
        organisation,
        folder_id: on_folder.then_some(place),
        credential_id: (!on_folder).then_some(place),
        needs_reason: true,
        needs_approval: false,
        max_minutes: 60,
        one_holder: false,
        rotate_on_return: false,
        revision: 1,
        device_id: None,
    }
}

/// A key for the MACs of tests.
#[allow(dead_code, reason = "not every test program records events")]
pub fn mac_key() -> EventKey {
    static KEY: OnceLock<EventKey> = OnceLock::new();
    let make = || {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        OrganisationKey::generate(&mut rng, &root, Uuid::nil())
            .expect("a key")
            .0
            .event_key()
    };
    KEY.get_or_init(make).clone()
}
