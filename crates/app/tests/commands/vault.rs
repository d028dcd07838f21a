//! Values: former ones, behind gates, removed and restored, and what is told about them.

use jexlin_api::words::{Finding, Level, RequestState, ValueOrigin, VersionState};
use jexlin_api::{
    Decide, EditCredential, ErrorCode, NewCheckout, NewGate, NewGrant, NewRequest, SecretText,
};
use jexlin_app::commands::{checkouts, credentials, gates, grants, removal, requests, secrets};
use jexlin_app::error::ErrorKind;
use jexlin_app::paging::Paging;
use uuid::Uuid;

use crate::osmere::{Osmere, PASSWORD, credential, grant, revealed};

#[tokio::test(flavor = "multi_thread")]
async fn former_values_take_a_grant_with_the_history() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let folder = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let duty = credential(&osmere, &ines, folder, "Grebe-under-ice-41").await;
    let (mut unit, _) = osmere.unit(&ines).await;
    let body = EditCredential {
        password: Some(SecretText::new("Otter-at-the-gate-77".into())),
        ..EditCredential::default()
    };
    credentials::edit(&mut unit, duty, 1, body)
        .await
        .expect("another password");
    let marek = osmere.person(&ines, "marek").await;
    let without = NewGrant {
        without_history: true,
        ..grant(folder, marek, Level::Reveal)
    };
    let (mut unit, _) = osmere.unit(&ines).await;
    grants::add(&mut unit, without).await.expect("a grant");
    let marek_signed_in = osmere.token("marek", PASSWORD).await.expect("a session");
    assert_eq!(
        revealed(&osmere, &marek_signed_in, duty, None).await,
        Ok("Otter-at-the-gate-77".into())
    );
    assert_eq!(
        revealed(&osmere, &marek_signed_in, duty, Some(1)).await,
        Err(ErrorKind::Forbidden)
    );
    // A second grant, on the credential itself, with the history.
    let with = NewGrant {
        folder: None,
        credential: Some(duty),
        ..grant(folder, marek, Level::Reveal)
    };
    let (mut unit, _) = osmere.unit(&ines).await;
    grants::add(&mut unit, with).await.expect("a grant");
    assert_eq!(
        revealed(&osmere, &marek_signed_in, duty, Some(1)).await,
        Ok("Grebe-under-ice-41".into())
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gate_is_passed_by_who_asked_once_another_approved() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let folder = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let duty = credential(&osmere, &ines, folder, "Grebe-under-ice-41").await;
    let (marek, tomas) = (
        osmere.person(&ines, "marek").await,
        osmere.person(&ines, "tomas").await,
    );
    for person in [marek, tomas] {
        let (mut unit, _) = osmere.unit(&ines).await;
        grants::add(&mut unit, grant(folder, person, Level::Reveal))
            .await
            .expect("a grant");
    }
    let (mut unit, _) = osmere.unit(&ines).await;
    let gate = NewGate {
        folder: Some(folder),
        device: None,
        credential: None,
        needs_reason: true,
        approver_people: vec![marek, tomas],
        approver_groups: vec![],
        max_minutes: 60,
        one_holder: true,
        rotate_on_return: false,
    };
    gates::add(&mut unit, gate).await.expect("a gate");
    let (marek, tomas) = (
        osmere.token("marek", PASSWORD).await.expect("a session"),
        osmere.token("tomas", PASSWORD).await.expect("a session"),
    );
    let closed = revealed(&osmere, &marek, duty, None).await;
    assert!(closed.is_err(), "{closed:?}");
    let (mut unit, _) = osmere.unit(&marek).await;
    let asked = NewRequest {
        credential: duty,
        reason: "pump 3 has tripped".into(),
        minutes: 30,
    };
    let request = requests::ask(&mut unit, asked).await.expect("a request");
    assert!(!request.may_decide, "not one's own, approver or not");
    let decide = || Decide {
        comment: String::new(),
    };
    let (mut unit, _) = osmere.unit(&marek).await;
    let own = requests::approve(&mut unit, request.id, decide()).await;
    // Its transaction holds the request until it is over.
    drop(unit);
    assert_eq!(
        own.map(|request| request.state).map_err(|error| error.kind),
        Err(ErrorKind::Forbidden)
    );
    let (mut unit, _) = osmere.unit(&tomas).await;
    let seen = requests::read(&mut unit, request.id).await;
    assert!(seen.expect("the request").may_decide);
    let (mut unit, _) = osmere.unit(&tomas).await;
    let approved = requests::approve(&mut unit, request.id, decide()).await;
    assert_eq!(approved.expect("an approval").state, RequestState::Approved);
    let (mut unit, _) = osmere.unit(&marek).await;
    let taken = NewCheckout {
        request: Some(request.id),
        credential: None,
        reason: String::new(),
        minutes: None,
    };
    checkouts::take(&mut unit, taken).await.expect("a checkout");
    assert_eq!(
        revealed(&osmere, &marek, duty, None).await,
        Ok("Grebe-under-ice-41".into())
    );
    // The approver holds nothing by that.
    assert!(revealed(&osmere, &tomas, duty, None).await.is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn history_keeps_every_value_and_shows_each_on_a_recorded_look() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let folder = osmere.folder(&ines, "Office").await.expect("a folder");
    let portal = credential(&osmere, &ines, folder, "First-value-1").await;
    for (revision, password) in [(1, Some("Second-value-2")), (2, None)] {
        let (mut unit, _) = osmere.unit(&ines).await;
        let body = EditCredential {
            password: password.map(|password| SecretText::new(password.into())),
            generate: password.is_none(),
            ..EditCredential::default()
        };
        credentials::edit(&mut unit, portal, revision, body)
            .await
            .expect("another value");
    }
    let (mut unit, _) = osmere.unit(&ines).await;
    let history = secrets::history(&mut unit, portal)
        .await
        .expect("a history");
    let states: Vec<_> = history
        .items
        .iter()
        .map(|row| (row.number, row.state, row.made_how))
        .collect();
    assert_eq!(
        states,
        [
            (3, VersionState::Current, ValueOrigin::Generated),
            (2, VersionState::Previous, ValueOrigin::Typed),
            (1, VersionState::Previous, ValueOrigin::Typed)
        ]
    );
    assert_eq!(
        revealed(&osmere, &ines, portal, Some(1)).await,
        Ok("First-value-1".into())
    );
    let current = revealed(&osmere, &ines, portal, None).await;
    assert_eq!(current.map(|value| value.chars().count()), Ok(20));
    let events = osmere.events(&ines).await;
    let looks = events.iter().filter(|event| event.0 == "credential.reveal");
    assert_eq!(looks.count(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_removed_credential_is_restored_with_everything_it_had() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let folder = osmere.folder(&ines, "Office").await.expect("a folder");
    let duty = credential(&osmere, &ines, folder, "Winter-tide-41").await;
    let (mut unit, _) = osmere.unit(&ines).await;
    let body = EditCredential {
        password: Some(SecretText::new("Winter-tide-42".into())),
        tags: Some(vec!["storm".into()]),
        ..EditCredential::default()
    };
    credentials::edit(&mut unit, duty, 1, body)
        .await
        .expect("another value");
    let (mut unit, _) = osmere.unit(&ines).await;
    let removed = credentials::remove(&mut unit, duty, 2).await;
    let removed = removed.expect("an act of removing");
    let (mut unit, _) = osmere.unit(&ines).await;
    let gone = credentials::read(&mut unit, duty).await;
    assert_eq!(
        gone.map(|_| ()).map_err(|error| error.kind),
        Err(ErrorKind::Unknown)
    );
    // A person who is no steward there sees nothing of it.
    let marek = osmere.person(&ines, "marek").await;
    let (mut unit, _) = osmere.unit(&ines).await;
    grants::add(&mut unit, grant(folder, marek, Level::Edit))
        .await
        .expect("a grant");
    let marek = osmere.token("marek", PASSWORD).await.expect("a session");
    for (token, there) in [(&ines, 1), (&marek, 0)] {
        let (mut unit, _) = osmere.unit(token).await;
        let page = Paging {
            after: None,
            limit: 10,
        };
        let bin = removal::list(&mut unit, page).await.expect("the bin");
        assert_eq!(bin.items.len(), there);
    }
    let (mut unit, _) = osmere.unit(&marek).await;
    let refused = removal::restore(&mut unit, removed).await;
    assert_eq!(refused.map_err(|error| error.kind), Err(ErrorKind::Unknown));
    drop(unit);
    // Its name was taken meanwhile: nothing happens.
    let taker = credential(&osmere, &ines, folder, "Summer-tide-41").await;
    let (mut unit, _) = osmere.unit(&ines).await;
    let taken = removal::restore(&mut unit, removed).await;
    assert_eq!(taken.map_err(|error| error.code), Err(ErrorCode::NameTaken));
    drop(unit);
    let (mut unit, _) = osmere.unit(&ines).await;
    let body = EditCredential {
        name: Some("duty 2".into()),
        ..EditCredential::default()
    };
    credentials::edit(&mut unit, taker, 1, body)
        .await
        .expect("another name");
    let (mut unit, _) = osmere.unit(&ines).await;
    removal::restore(&mut unit, removed).await.expect("it back");
    assert_eq!(
        revealed(&osmere, &ines, duty, None).await,
        Ok("Winter-tide-42".into())
    );
    let (mut unit, _) = osmere.unit(&ines).await;
    let shown = credentials::read(&mut unit, duty).await.expect("it");
    assert_eq!(shown.1.tags, ["storm"]);
}

async fn findings(osmere: &Osmere, token: &str, credential: Uuid) -> Vec<Finding> {
    let (mut unit, _) = osmere.unit(token).await;
    let shown = credentials::read(&mut unit, credential).await.expect("it");
    shown
        .1
        .findings
        .iter()
        .map(|finding| finding.name)
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_guess_cannot_be_tested_by_storing_it_elsewhere() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let shut = osmere
        .folder(&ines, "Control room")
        .await
        .expect("a folder");
    let open = osmere.folder(&ines, "Office").await.expect("a folder");
    let root = credential(&osmere, &ines, shut, "Tx9-mmQ4-vWb7-Lp2d").await;
    let marek = osmere.person(&ines, "marek").await;
    for (folder, level) in [(shut, Level::Use), (open, Level::Edit)] {
        let (mut unit, _) = osmere.unit(&ines).await;
        grants::add(&mut unit, grant(folder, marek, level))
            .await
            .expect("a grant");
    }
    let marek = osmere.token("marek", PASSWORD).await.expect("a session");
    let guess = credential(&osmere, &marek, open, "Tx9-mmQ4-vWb7-Lp2d").await;
    // He may not see the other, so he is not told; and nothing about what he may only use.
    assert_eq!(findings(&osmere, &marek, guess).await, []);
    assert_eq!(findings(&osmere, &marek, root).await, []);
    assert_eq!(findings(&osmere, &ines, root).await, [Finding::Reused]);
}
