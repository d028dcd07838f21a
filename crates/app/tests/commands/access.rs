//! Grants, folders and people.

use chrono::DateTime;
use jexlin_api::words::{Level, PersonState};
use jexlin_api::{EditFolder, EditPerson, ErrorCode, NewFolder, NewGrant};
use jexlin_app::commands::{folders, grants, people};
use jexlin_app::error::ErrorKind;
use jexlin_app::paging::Paging;
use jexlin_app::unit_of_work::{PendingAudit, UnitOfWork};
use uuid::Uuid;

use crate::osmere::{Osmere, PASSWORD, grant};

#[tokio::test(flavor = "multi_thread")]
async fn grants_that_make_no_sense_are_refused() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let folder = osmere.folder(&ines, "Office").await.expect("a folder");
    let marek = osmere.person(&ines, "marek").await;
    let ended = NewGrant {
        ends_at: Some(DateTime::UNIX_EPOCH),
        ..grant(folder, marek, Level::Use)
    };
    let for_nobody = NewGrant {
        person: None,
        ..grant(folder, marek, Level::Use)
    };
    for wrong in [ended, for_nobody] {
        let (mut unit, _) = osmere.unit(&ines).await;
        let refused = grants::add(&mut unit, wrong).await;
        assert_eq!(
            refused.map(|_| ()).map_err(|error| error.kind),
            Err(ErrorKind::BadInput)
        );
    }
    let (mut unit, _) = osmere.unit(&ines).await;
    grants::add(&mut unit, grant(folder, marek, Level::Use))
        .await
        .expect("a grant");
    let (mut unit, _) = osmere.unit(&ines).await;
    let second = grants::add(&mut unit, grant(folder, marek, Level::Edit)).await;
    assert_eq!(
        second.map(|_| ()).map_err(|error| error.code),
        Err(ErrorCode::AlreadyGranted)
    );
    drop(unit);
    let (mut unit, _) = osmere.unit(&ines).await;
    let there = grants::list(&mut unit, Some(folder), None).await;
    let own = there.expect("a list").items;
    let own = own.iter().find(|grant| grant.level == Level::Steward);
    let own = own.expect("the steward's").id;
    let (mut unit, _) = osmere.unit(&ines).await;
    let last = grants::remove(&mut unit, own).await;
    assert_eq!(
        last.map_err(|error| error.code),
        Err(ErrorCode::LastSteward)
    );
    drop(unit);
    let marek_signed_in = osmere.token("marek", PASSWORD).await.expect("a session");
    let (mut unit, _) = osmere.unit(&marek_signed_in).await;
    let himself = grants::add(&mut unit, grant(folder, marek, Level::Steward)).await;
    assert_eq!(
        himself.map(|_| ()).map_err(|error| error.kind),
        Err(ErrorKind::Forbidden)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_keep_their_shape() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let top = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let add = async |parent: Uuid, name: &str| {
        let (mut unit, _) = osmere.unit(&ines).await;
        let body = NewFolder {
            parent: Some(parent),
            name: name.into(),
            closed: false,
        };
        let added = folders::add(&mut unit, body).await;
        added.map(|folder| folder.1.id).map_err(|error| error.code)
    };
    let below = add(top, "North ridge").await.expect("a folder");
    for parent in [below, top] {
        let (mut unit, _) = osmere.unit(&ines).await;
        let body = EditFolder {
            parent: Some(parent),
            ..EditFolder::default()
        };
        let ring = folders::edit(&mut unit, top, 1, body).await;
        assert_eq!(
            ring.map(|_| ()).map_err(|error| error.kind),
            Err(ErrorKind::BadInput)
        );
    }
    assert_eq!(add(top, "north RIDGE").await, Err(ErrorCode::NameTaken));
    let (mut unit, _) = osmere.unit(&ines).await;
    let full = folders::remove(&mut unit, top, 1, None).await;
    assert_eq!(
        full.map(|_| ()).map_err(|error| error.code),
        Err(ErrorCode::NotEmpty)
    );
    drop(unit);
    let mut deepest = below;
    for number in 0..48 {
        deepest = add(deepest, &number.to_string()).await.expect("a folder");
    }
    assert_eq!(add(deepest, "too deep").await, Err(ErrorCode::BadInput));
    let (mut unit, _) = osmere.unit(&ines).await;
    let all = folders::list(&mut unit).await.expect("the tree");
    assert_eq!(all.items.len(), 50);
}

#[tokio::test(flavor = "multi_thread")]
async fn people_come_in_pages_that_leave_nobody_out() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    for number in 0..7 {
        osmere.person(&ines, &format!("hand{number}")).await;
    }
    let (mut after, mut seen) = (None, vec![]);
    loop {
        let (mut unit, _) = osmere.unit(&ines).await;
        let paging = Paging { after, limit: 3 };
        let page = people::list(&mut unit, None, paging).await.expect("a page");
        seen.extend(page.items.into_iter().map(|person| person.sign_in_name));
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    let once: std::collections::BTreeSet<_> = seen.iter().collect();
    assert_eq!((seen.len(), once.len()), (8, 8), "{seen:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_suspended_person_is_out_at_once() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let marek = osmere.person(&ines, "marek").await;
    let token = osmere.token("marek", PASSWORD).await.expect("a session");
    let (mut unit, _) = osmere.unit(&ines).await;
    let body = EditPerson {
        state: Some(PersonState::Suspended),
        ..EditPerson::default()
    };
    people::edit(&mut unit, marek, 1, body)
        .await
        .expect("a state");
    let begun = UnitOfWork::of_token(&osmere.app, &token, "the test", PendingAudit::default());
    let begun = begun.await;
    assert_eq!(
        begun.map(|_| ()).map_err(|error| error.kind),
        Err(ErrorKind::SignedOut)
    );
}
