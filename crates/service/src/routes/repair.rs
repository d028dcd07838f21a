//! Access put in order: what has no steward, what is of no use, what changes hands.

use std::collections::{BTreeMap, BTreeSet};

use jexlin_api::{Disorder, HandOver, HandedOver, Mend, Mended, Page};
use jexlin_core::access::{Level, in_force};
use jexlin_store::{GrantRow, PersonRow, Target};
use rocket::{Route, get, post, routes};
use uuid::Uuid;

use super::access::{allow_sharing, place_of, sort_of, target_of};
use super::exchange::{Call, Sent};
use crate::acting::Acting;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![list, mend, hand_over]
}

fn advice(sort: &str) -> &'static str {
    match sort {
        "no-steward" => "Make somebody who can sign in a steward of it.",
        "left" => "Take the grant away: nobody signs in with it any more.",
        "ended" => "Take the grant away: its time is over.",
        _ => "Take the grant away: nobody loses anything by it.",
    }
}

async fn disorders(acting: &mut Acting) -> Answer<Vec<Disorder>> {
    let now = acting.now;
    let mut items = vec![];
    for row in acting.tx()?.orphans(now).await? {
        let sort = "no-steward";
        items.push(Disorder { sort: sort.into(), id: row.id, place: row.place, subject_name: String::new(), level: None, advice: advice(sort).into() });
    }
    for row in acting.tx()?.idle_grants(now).await? {
        items.push(Disorder {
            advice: advice(&row.why).into(),
            sort: row.why,
            id: row.grant.id,
            place: row.grant.place,
            subject_name: row.grant.subject_name,
            level: Level::from_number(row.grant.held),
        });
    }
    Ok(items)
}

/// What is out of order in the access, for the duty `access`: places and names of people, nothing of
/// what is inside.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Disorder>)))]
#[get("/api/v1/repairs")]
pub async fn list(mut acting: Acting) -> Answer<Sent<Page<Disorder>>> {
    acting.intends("repair.list", "access", None, "");
    acting.duty("access")?;
    let items = disorders(&mut acting).await?;
    acting.noting("found", items.len().to_string());
    acting.done().await?;
    Ok(Sent(Page { items, next: None }))
}

/// A person who can sign in. A program is nobody to keep a place in order, and whoever keeps its secret
/// would get by it what the duty `access` gives nobody.
async fn active(acting: &mut Acting, field: &str, person: Uuid) -> Answer<PersonRow> {
    let row = acting.tx()?.person(person).await.map_err(|_| Fault::unknown("person"))?;
    if row.sort == "client" {
        return Err(Fault::field(field, format!("{} is a program: name a person", row.display_name)));
    }
    if row.state == "active" {
        return Ok(row);
    }
    Err(Fault::field(field, format!("{} is {}: they cannot sign in", row.display_name, row.state)))
}

/// Mends what is out of order, for the duty `access`: takes grants of no use away, and makes somebody
/// else a steward where there is none. Who mends gets nothing by it.
#[utoipa::path(context_path = "", request_body = Mend, responses((status = 200, body = Mended)))]
#[post("/api/v1/repairs", data = "<body>")]
pub async fn mend(body: Call<Mend>) -> Answer<Sent<Mended>> {
    let Call(mut acting, body) = body;
    acting.intends("repair.mend", "access", None, "");
    acting.duty("access")?;
    acting.tx()?.lock_access().await?;
    if body.withdraw.is_empty() && body.folders.is_empty() {
        return Err(Fault::field("withdraw", "name a grant to take away, or a folder that needs a steward"));
    }
    let found: BTreeMap<Uuid, Disorder> = disorders(&mut acting).await?.into_iter().map(|item| (item.id, item)).collect();
    let withdraw: BTreeSet<Uuid> = body.withdraw.iter().copied().collect();
    for id in withdraw.iter().chain(&body.folders) {
        let in_place = found.get(id).is_some_and(|item| (item.sort == "no-steward") == body.folders.contains(id));
        if !in_place {
            return Err(Fault::conflict("not-broken", format!("{id} is not out of order, or not any more."), "Look at what is with `jexlin repair list`."));
        }
    }
    for row in acting.tx()?.some_grants(&withdraw.iter().copied().collect::<Vec<_>>()).await? {
        let Some(item) = found.get(&row.id) else { continue };
        let (target, sort) = sort_of(target_of(row.folder_id, row.credential_id)?);
        acting.intends("grant.remove", sort, Some(target), &item.place);
        acting.noting("from", item.subject_name.clone());
        acting.noting("level", item.level.map_or("", Level::word));
        acting.noting("by", "repair");
        acting.noting("why", item.sort.clone());
        acting.gather()?;
    }
    let withdrawn = acting.tx()?.remove_grants(&withdraw.into_iter().collect::<Vec<_>>()).await?;
    let appointed = if body.folders.is_empty() { 0 } else { appoint(&mut acting, &body, &found).await? };
    acting.intends("repair.mend", "access", None, "");
    acting.noting("withdrawn", withdrawn.to_string());
    acting.noting("appointed", appointed.to_string());
    acting.done().await?;
    Ok(Sent(Mended { withdrawn, appointed }))
}

async fn appoint(acting: &mut Acting, body: &Mend, found: &BTreeMap<Uuid, Disorder>) -> Answer<usize> {
    let (me, now) = (acting.person.id, acting.now);
    let name = match (body.person, body.group) {
        (Some(person), None) => active(acting, "person", person).await?.display_name,
        (None, Some(group)) => acting.tx()?.group(group).await.map_err(|_| Fault::unknown("group"))?.name,
        _ => return Err(Fault::field("person", "name exactly one of `person` and `group` to be the steward")),
    };
    let subjects = acting.tx()?.subjects_of(me).await?;
    if body.person == Some(me) || body.group.is_some_and(|group| subjects.contains(&group)) {
        return Err(Fault::forbidden("The duty `access` gives nobody a look at what is inside: you cannot make yourself a steward.", "Name somebody else."));
    }
    let folders: BTreeSet<Uuid> = body.folders.iter().copied().collect();
    for folder in &folders {
        let row = GrantRow {
            id: Uuid::now_v7(),
            organisation: acting.organisation(),
            folder_id: Some(*folder),
            credential_id: None,
            person_id: body.person,
            group_id: body.group,
            held: Level::Steward.number(),
            ends_at: None,
            note: "had no steward".into(),
            created_at: now,
            created_by: Some(me),
            only_kind: None,
            only_tag: None,
            history: true,
        };
        acting.intends("grant.add", "folder", Some(*folder), found.get(folder).map_or("", |item| &item.place));
        acting.noting("to", name.clone());
        acting.noting("level", Level::Steward.word());
        acting.noting("by", "repair");
        acting.gather()?;
        acting.tx()?.put_grant(&row).await?;
    }
    if !acting.tx()?.without_steward(Some(&folders.iter().copied().collect::<Vec<_>>()), now).await?.is_empty() {
        return Err(Fault::field("group", format!("nobody in {name} can sign in: there would still be no steward")));
    }
    Ok(folders.len())
}

/// Hands over, in the transaction that is under way: the paths of what changed hands.
pub async fn give_over(acting: &mut Acting, body: &HandOver) -> Answer<Vec<String>> {
    let (me, now) = (acting.person.id, acting.now);
    acting.intends("access.hand-over", "person", Some(body.from), "");
    let from = acting.tx()?.person(body.from).await.map_err(|_| Fault::unknown("person"))?;
    acting.naming(from.id, &from.display_name);
    if body.from == body.to {
        return Err(Fault::field("to", "it is theirs already"));
    }
    let to = active(acting, "to", body.to).await?;
    acting.noting("to", to.display_name.clone());
    acting.tx()?.lock_access().await?;
    let duty = acting.duty("access").is_ok();
    if duty && body.to == me && body.from != me {
        return Err(Fault::forbidden("The duty `access` gives nobody a look at what is inside: you cannot hand over to yourself.", "Name somebody else."));
    }
    allow_sharing(acting).await?;
    let within: Option<BTreeSet<Uuid>> = match body.below {
        None => None,
        Some(top) => Some(acting.tx()?.subtree(top).await?.into_iter().collect()),
    };
    let theirs = acting.tx()?.grants_naming(body.to).await?;
    let mut places = vec![];
    for row in acting.tx()?.grants_naming(body.from).await? {
        if row.held != Level::Steward.number() || !in_force(row.ends_at, now) {
            continue;
        }
        let target = target_of(row.folder_id, row.credential_id)?;
        let (folder, path, level) = match target {
            Target::Folder(id) => (id, acting.tx()?.path_of(id).await?, acting.tx()?.reach_folder(me, id, now).await?.level()),
            Target::Credential(id) => {
                let Ok(found) = acting.tx()?.credential(id).await else { continue };
                (found.folder_id, place_of(acting, id).await?, acting.tx()?.reach_credential(me, id, now).await?.level())
            }
        };
        if within.as_ref().is_some_and(|within| !within.contains(&folder)) || !(duty || body.from == me || level == Some(Level::Steward)) {
            continue;
        }
        let (target, sort) = sort_of(target);
        let said = |acting: &mut Acting, action: &str, word: &str, name: &str| {
            acting.intends(action, sort, Some(target), &path);
            acting.noting(word, name);
            acting.noting("level", Level::Steward.word());
            acting.noting("by", "hand-over");
            acting.gather()
        };
        said(acting, "grant.add", "to", &to.display_name)?;
        // What they held there by a lower grant of their own goes up in this one.
        let same = |other: &&GrantRow| {
            (other.folder_id, other.credential_id, &other.only_kind, &other.only_tag) == (row.folder_id, row.credential_id, &row.only_kind, &row.only_tag)
        };
        let present = theirs.iter().find(same).filter(|grant| grant.held == Level::Steward.number() && in_force(grant.ends_at, now));
        let ends_at = present.map_or(row.ends_at, |grant| grant.ends_at.and_then(|end| row.ends_at.map(|other| end.max(other))));
        let history = row.history || present.is_some_and(|grant| grant.history);
        let new = GrantRow { id: Uuid::now_v7(), person_id: Some(body.to), history, ends_at, created_at: now, created_by: Some(me), ..row.clone() };
        acting.tx()?.put_grant(&new).await?;
        if !body.keep {
            said(acting, "grant.remove", "from", &from.display_name)?;
            acting.tx()?.remove_grants(&[row.id]).await?;
        }
        places.push(path);
    }
    acting.intends("access.hand-over", "person", Some(body.from), &from.display_name);
    acting.noting("to", to.display_name);
    acting.noting("places", places.len().to_string());
    if places.is_empty() {
        return Err(Fault::conflict(
            "nothing-to-hand-over",
            format!("There is nothing that {} is a steward of by a grant of their own, and that you may hand over.", from.display_name),
            "One hands over what is one's own; otherwise it takes the duty `access`, or being a steward of it.",
        ));
    }
    Ok(places)
}

/// Hands over what one person is a steward of, by grants that name them, to another. One's own; with
/// the duty `access` anybody's, to somebody else than oneself; otherwise what one is a steward of.
#[utoipa::path(context_path = "", request_body = HandOver, responses((status = 200, body = HandedOver)))]
#[post("/api/v1/hand-over", data = "<body>")]
pub async fn hand_over(body: Call<HandOver>) -> Answer<Sent<HandedOver>> {
    let Call(mut acting, body) = body;
    let places = give_over(&mut acting, &body).await?;
    acting.done().await?;
    Ok(Sent(HandedOver { places }))
}
