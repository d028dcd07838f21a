//! Previews: a change is made, looked at, and not kept.

use std::collections::BTreeSet;

use jexlin_api::{Change, ChangeFolder, Preview, Shift};
use jexlin_core::access::preview::{Scene, preview as compare};
use jexlin_core::access::{Level, mark};
use jexlin_store::{Differs, Region};
use rocket::{Route, post, routes};
use uuid::Uuid;

use super::access::{give, sort_of, target_of, withdraw};
use super::exchange::{Body, Sent};
use super::folders::{allow_folder, alter};
use super::people::{join, leave};
use super::repair::give_over;
use super::vault::allow_credential;
use crate::acting::Acting;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![preview]
}

/// The most shifts in an answer.
const MOST: usize = 500;
/// The most credentials that are moved at once.
const MOST_MOVED: usize = 1000;

/// Where a change can touch something, and whom; nobody named is everybody who is reached there.
struct Scope {
    region: Region,
    people: Option<Vec<Uuid>>,
    differs: Differs,
}

/// What a grant on a target changes of the scene; a narrowed one makes places of its own.
fn of_grant(target: Uuid, narrowed: bool) -> Differs {
    if narrowed { Differs::Anything } else { Differs::Grants(vec![target]) }
}

async fn scope_of(acting: &mut Acting, change: &Change) -> Answer<Scope> {
    let tx = acting.tx()?;
    if let Some(grant) = &change.grant {
        let target = target_of(grant.folder, grant.credential)?;
        let region = tx.region_of(target).await?;
        let subjects: Vec<Uuid> = grant.person.or(grant.group).into_iter().collect();
        let differs = of_grant(sort_of(target).0, grant.only_kind.is_some() || grant.only_tag.is_some());
        return Ok(Scope { region, people: Some(tx.people_of(&subjects).await?), differs });
    }
    if let Some(grant) = change.withdraw {
        let row = tx.grant(grant).await.map_err(|_| Fault::unknown("grant"))?;
        let target = target_of(row.folder_id, row.credential_id)?;
        let region = tx.region_of(target).await?;
        let subjects: Vec<Uuid> = row.person_id.or(row.group_id).into_iter().collect();
        let differs = of_grant(sort_of(target).0, row.only_kind.is_some() || row.only_tag.is_some());
        return Ok(Scope { region, people: Some(tx.people_of(&subjects).await?), differs });
    }
    if let Some(membership) = change.join.as_ref().or(change.leave.as_ref()) {
        let region = tx.region_of_group(membership.group).await?;
        return Ok(Scope { region, people: Some(tx.people_of(&[membership.member]).await?), differs: Differs::People });
    }
    if let Some(folder) = &change.folder {
        return Ok(Scope { region: tx.region_below(folder.id).await?, people: None, differs: Differs::Anything });
    }
    if let Some(over) = &change.hand_over {
        let rows = tx.grants_naming(over.from).await?;
        let folders: Vec<Uuid> = rows.iter().filter_map(|row| row.folder_id).collect();
        let credentials: Vec<Uuid> = rows.iter().filter_map(|row| row.credential_id).collect();
        let region = tx.region_of_many(&folders, &credentials, &[], &[]).await?;
        return Ok(Scope { region, people: Some(vec![over.from, over.to]), differs: Differs::Anything });
    }
    let credentials = change.credentials.as_ref().map(|moved| moved.ids.clone()).unwrap_or_default();
    Ok(Scope { region: Region { folders: vec![], credentials }, people: None, differs: Differs::Anything })
}

/// Makes the change, with all checks that it will meet.
async fn make(acting: &mut Acting, change: Change) -> Answer<()> {
    if let Some(grant) = change.grant {
        give(acting, grant).await?;
    } else if let Some(grant) = change.withdraw {
        withdraw(acting, grant).await?;
    } else if let Some(membership) = change.join {
        join(acting, membership.group, membership.member).await?;
    } else if let Some(membership) = change.leave {
        leave(acting, membership.group, membership.member).await?;
    } else if let Some(folder) = change.folder {
        let body = ChangeFolder { name: None, parent: folder.parent, to_top: folder.to_top, closed: folder.closed };
        alter(acting, folder.id, None, body).await?;
    } else if let Some(over) = change.hand_over {
        give_over(acting, &over).await?;
    } else if let Some(moved) = change.credentials {
        if moved.ids.len() > MOST_MOVED {
            return Err(Fault::field("credentials", format!("at most {MOST_MOVED} at once")));
        }
        allow_folder::<mark::Edit>(acting, moved.to).await?;
        for credential in &moved.ids {
            allow_credential::<mark::Steward>(acting, *credential).await?;
        }
        acting.tx()?.place_credentials(&moved.ids, moved.to).await?;
    }
    Ok(())
}

/// Who would gain or lose what by a change: exactly, in persons and credentials, without names of
/// credentials. It takes what the change takes, and changes nothing.
#[utoipa::path(context_path = "", request_body = Change, responses((status = 200, body = Preview)))]
#[post("/api/v1/preview", data = "<body>")]
pub async fn preview(mut acting: Acting, body: Body<Change>) -> Answer<Sent<Preview>> {
    let Body(change) = body;
    let parts = [
        change.grant.is_some(),
        change.withdraw.is_some(),
        change.join.is_some(),
        change.leave.is_some(),
        change.folder.is_some(),
        change.credentials.is_some(),
        change.hand_over.is_some(),
    ];
    if parts.into_iter().filter(|part| *part).count() != 1 {
        return Err(Fault::field("change", "name exactly one of grant, withdraw, join, leave, folder, credentials and hand_over"));
    }
    let now = acting.now;
    let Scope { mut region, people, differs } = scope_of(&mut acting, &change).await?;
    let tx = acting.tx()?;
    region.credentials = tx.looked_at_alone(&region, now).await?;
    let whom = people.as_deref();
    let (before, after) = if differs == Differs::Anything {
        tx.mark().await?;
        make(&mut acting, change).await?;
        // What is a place of its own in one of the scenes is in the other.
        let tx = acting.tx()?;
        let more = tx.looked_at_alone(&region, now).await?;
        region.credentials.extend(more);
        let after = tx.scene(&region, whom, now).await?;
        tx.back().await?;
        (tx.scene(&region, whom, now).await?, after)
    } else {
        let before = tx.scene(&region, whom, now).await?;
        make(&mut acting, change).await?;
        let after = acting.tx()?.scene_after(&before, &region, whom, &differs, now).await?;
        (before, after)
    };
    // Nothing is kept, and nobody waits for it any longer.
    acting.undo();
    acting.again().await?;
    let shown = show(&mut acting, &before, &after).await?;
    acting.seen().await?;
    Ok(Sent(shown))
}

pub async fn show(acting: &mut Acting, before: &Scene, after: &Scene) -> Answer<Preview> {
    let shifts = compare(before, after);
    let people = |wanted: fn(Option<Level>, Option<Level>) -> bool| {
        shifts.iter().filter(|shift| wanted(shift.before, shift.after)).map(|shift| shift.person).collect::<BTreeSet<_>>().len()
    };
    let (gaining, losing) = (people(|before, after| after > before), people(|before, after| after < before));
    let more = shifts.len() > MOST;
    let wanted: Vec<Uuid> = shifts.iter().take(MOST).map(|shift| shift.person).collect();
    let rows = acting.tx()?.some_people(&wanted).await?;
    let mut shown: Vec<Shift> = shifts
        .iter()
        .take(MOST)
        .filter_map(|shift| {
            let row = rows.iter().find(|row| row.id == shift.person)?;
            Some(Shift {
                person: shift.person,
                name: row.display_name.clone(),
                state: row.state.clone(),
                before: shift.before,
                after: shift.after,
                credentials: shift.credentials,
                gated: shift.gated,
            })
        })
        .collect();
    shown.sort_by_key(|shift| (shift.name.to_lowercase(), shift.before, shift.after));
    let of = |count: usize, does: &str, do_: &str| match count {
        1 => format!("1 person {does}"),
        count => format!("{count} people {do_}"),
    };
    let sentence = match (gaining, losing) {
        (0, 0) => "Nobody gains or loses anything.".to_owned(),
        (gaining, 0) => format!("{}, nobody loses anything.", of(gaining, "gains something", "gain something")),
        (0, losing) => format!("{}, nobody gains anything.", of(losing, "loses something", "lose something")),
        (gaining, losing) => format!("{}, {}.", of(gaining, "gains something", "gain something"), of(losing, "loses something", "lose something")),
    };
    Ok(Preview { sentence, gaining, losing, shifts: shown, more })
}
