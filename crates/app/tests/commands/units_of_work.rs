//! Units of work: what is committed together, what is undone, what is demanded first.

use jexlin_api::TransferStewardship;
use jexlin_api::words::{Action, Level, TargetType};
use jexlin_app::commands::{access_issues, auth, grants, groups};
use jexlin_app::error::ErrorKind;
use jexlin_app::unit_of_work::{Authority, PendingAudit, UnitOfWork};
use jexlin_core::access::mark;
use uuid::Uuid;

use crate::osmere::{Osmere, PASSWORD, grant};

#[tokio::test(flavor = "multi_thread")]
async fn a_grant_and_its_event_are_committed_together() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let marek = osmere.person(&ines, "marek").await;
    let folder = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let (mut unit, _) = osmere.unit(&ines).await;
    let added = grants::add(&mut unit, grant(folder, marek, Level::Reveal))
        .await
        .expect("a grant");
    assert_eq!((added.1.level, added.1.subject), (Level::Reveal, marek));
    let events = osmere.events(&ines).await;
    let wanted = ("grant.add".into(), "done".into(), "/Pumping".into());
    assert!(events.contains(&wanted), "{events:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_undone_leaves_neither_a_change_nor_an_event() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let marek = osmere.person(&ines, "marek").await;
    let folder = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let (mut unit, _) = osmere.unit(&ines).await;
    grants::give(&mut unit, grant(folder, marek, Level::Edit))
        .await
        .expect("a grant");
    unit.undo();
    drop(unit);
    let (mut unit, _) = osmere.unit(&ines).await;
    let there = grants::list(&mut unit, Some(folder), None)
        .await
        .expect("a list");
    assert!(there.items.iter().all(|grant| grant.subject != marek));
    let events = osmere.events(&ines).await;
    assert!(
        events.iter().all(|event| event.0 != "grant.add"),
        "{events:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_changes_nothing_and_is_in_the_log() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    osmere.person(&ines, "marek").await;
    let marek = osmere.token("marek", PASSWORD).await.expect("a session");
    let refused = osmere.folder(&marek, "Mine alone").await;
    assert_eq!(
        refused.map_err(|error| error.kind),
        Err(ErrorKind::Forbidden)
    );
    let events = osmere.events(&ines).await;
    let wanted = ("folder.add".into(), "refused".into(), "Mine alone".into());
    assert!(events.contains(&wanted), "{events:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_duty_of_an_action_is_demanded_before_anything_is_looked_at() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    osmere.person(&ines, "marek").await;
    let marek = osmere.token("marek", PASSWORD).await.expect("a session");
    // There is no such group; whoever lacks the duty does not learn that.
    let (mut unit, _) = osmere.unit(&marek).await;
    let refused = groups::remove_group(&mut unit, Uuid::now_v7(), 1).await;
    assert_eq!(
        refused.map_err(|error| error.kind),
        Err(ErrorKind::Forbidden)
    );
    let (mut unit, _) = osmere.unit(&ines).await;
    let unknown = groups::remove_group(&mut unit, Uuid::now_v7(), 1).await;
    assert_eq!(unknown.map_err(|error| error.kind), Err(ErrorKind::Unknown));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_that_has_ended_begins_no_unit_of_work() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let (mut unit, _) = osmere.unit(&ines).await;
    auth::sign_out(&mut unit).await.expect("a sign-out");
    let again = UnitOfWork::of_token(&osmere.app, &ines, "the test", PendingAudit::default());
    assert_eq!(
        again.await.map(|_| ()).map_err(|error| error.kind),
        Err(ErrorKind::SignedOut)
    );
    assert_eq!(
        osmere
            .token("ines", "another password")
            .await
            .map_err(|error| error.kind),
        Err(ErrorKind::SignedOut)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_action_that_takes_a_level_is_not_done_where_none_was_demanded() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let folder = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let (mut unit, _) = osmere.unit(&ines).await;
    let target = (TargetType::Folder, Some(folder));
    unit.begin_audit(Action::FolderRemove, target.0, target.1, "/Pumping");
    let forgotten = unit.commit_audited().await.map(|_| ());
    assert_eq!(
        forgotten.map_err(|error| error.kind),
        Err(ErrorKind::Internal)
    );
    let (mut unit, _) = osmere.unit(&ines).await;
    unit.begin_audit(Action::FolderRemove, target.0, target.1, "/Pumping");
    jexlin_app::guards::allow_folder::<mark::Edit>(&mut unit, folder)
        .await
        .expect("a level");
    assert!(unit.commit_audited().await.is_err(), "a lower one");
    let (mut unit, _) = osmere.unit(&ines).await;
    unit.begin_audit(Action::FolderRemove, target.0, target.1, "/Pumping");
    jexlin_app::guards::allow_folder::<mark::Steward>(&mut unit, folder)
        .await
        .expect("a level");
    assert!(unit.commit_audited().await.is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn stewardship_is_changed_only_on_the_evidence_of_it() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let pumping = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let works = osmere.folder(&ines, "Works").await.expect("a folder");
    let marek = osmere.person(&ines, "marek").await;
    let pim = osmere.person(&ines, "pim").await;
    for (folder, person, level) in [
        (pumping, marek, Level::Steward),
        (works, marek, Level::Edit),
        (works, pim, Level::Steward),
    ] {
        let (mut unit, _) = osmere.unit(&ines).await;
        let added = grants::add(&mut unit, grant(folder, person, level)).await;
        assert!(added.is_ok(), "a grant");
    }
    let token = osmere.token("marek", PASSWORD).await.expect("a session");
    let (mut unit, _) = osmere.unit(&token).await;
    let (seen, stewardship) = unit.stewardship().await.expect("the folders");
    assert_eq!(seen.len(), 2, "both are seen, with their levels");
    assert!(unit.demand_stewardship(&stewardship, pumping).is_ok());
    assert!(unit.demand_stewardship(&stewardship, works).is_err());
    assert!(unit.act_by(Authority::AccessDuty).is_err());
    let tx = unit.tx().expect("a transaction");
    let own = tx.grants_naming(marek).await.expect("grants");
    let theirs = tx.grants_naming(pim).await.expect("grants");
    let held = |level: Level| own.iter().find(|row| row.held == level.number());
    let steward = held(Level::Steward).expect("a grant");
    assert!(unit.act_by(Authority::OwnGrant(steward)).is_ok());
    let lower = held(Level::Edit).expect("a grant");
    assert!(unit.act_by(Authority::OwnGrant(lower)).is_err());
    assert!(unit.act_by(Authority::OwnGrant(&theirs[0])).is_err());
    let mut expired = steward.clone();
    expired.ends_at = Some(unit.now);
    assert!(unit.act_by(Authority::OwnGrant(&expired)).is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_steward_transfers_their_own_stewardship_and_no_more() {
    let osmere = Osmere::begin().await;
    let ines = osmere.token("ines", PASSWORD).await.expect("a session");
    let pumping = osmere.folder(&ines, "Pumping").await.expect("a folder");
    let works = osmere.folder(&ines, "Works").await.expect("a folder");
    let marek = osmere.person(&ines, "marek").await;
    let pim = osmere.person(&ines, "pim").await;
    for (folder, person) in [(pumping, marek), (works, pim)] {
        let (mut unit, _) = osmere.unit(&ines).await;
        let added = grants::add(&mut unit, grant(folder, person, Level::Steward)).await;
        assert!(added.is_ok(), "a grant");
    }
    let token = osmere.token("marek", PASSWORD).await.expect("a session");
    let transfer = |from, to| TransferStewardship {
        from,
        to,
        below: None,
        keep: false,
    };
    let (mut unit, _) = osmere.unit(&token).await;
    let refused = access_issues::transfer_stewardship(&mut unit, transfer(pim, marek)).await;
    assert_eq!(
        refused.map_err(|error| error.kind).map(|_| ()),
        Err(ErrorKind::Conflict),
        "nothing of pim's is marek's to give"
    );
    // What it held is let go.
    drop(unit);
    let (mut unit, _) = osmere.unit(&token).await;
    let done = access_issues::transfer_stewardship(&mut unit, transfer(marek, pim)).await;
    assert_eq!(done.expect("a transfer").places, ["/Pumping"]);
    let (mut unit, _) = osmere.unit(&token).await;
    let (seen, _) = unit.stewardship().await.expect("the folders");
    assert!(seen.is_empty(), "nothing is left");
}
