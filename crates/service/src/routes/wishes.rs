//! What somebody sees the name of and no more, where the organisation lets them, and asking for it.

use jexlin_api::{Beyond, Decide, NewGrant, NewWish, Page, Wish};
use jexlin_core::access::Level;
use jexlin_core::names::check_note;
use jexlin_store::{StoreError, WishRow, WishView};
use rocket::{Route, get, post, routes};
use uuid::Uuid;

use super::access::{give, place_of};
use super::exchange::{Call, Sent, id, page, paging};
use crate::acting::Acting;
use crate::judging;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![beyond, list, ask, grant, refuse, withdraw]
}

/// The most wishes in a list.
const MOST: i64 = 200;

async fn allowed(acting: &mut Acting) -> Answer<()> {
    let (settings, _) = judging::settings(acting.tx()?).await?;
    if settings.names_beyond {
        return Ok(());
    }
    Err(Fault::forbidden(
        "This organisation shows nobody the names of what they cannot open.",
        "Ask an administrator what there is; the setting is `names_beyond`.",
    ))
}

fn show(view: WishView) -> Wish {
    Wish {
        id: view.id,
        credential: view.credential_id,
        place: view.place,
        person: view.person_id,
        person_name: view.person_name,
        level: Level::from_number(view.held).unwrap_or(Level::List),
        reason: view.reason,
        may_decide: view.may_decide && view.state == "waiting",
        state: view.state,
        asked_at: view.asked_at,
        decided_by: view.decided_by_name,
        comment: view.comment,
    }
}

/// The names of credentials that the asker holds nothing on, with a text in them; not of what is in
/// closed folders. Where the organisation lets people see them.
#[utoipa::path(context_path = "", params(("find" = String, Query), ("cursor" = Option<String>, Query), ("limit" = Option<i64>, Query)), responses((status = 200, body = Page<Beyond>)))]
#[get("/api/v1/beyond?<find>&<cursor>&<limit>")]
pub async fn beyond(mut acting: Acting, find: &str, cursor: Option<&str>, limit: Option<i64>) -> Answer<Sent<Page<Beyond>>> {
    let paging = paging::<(String, Uuid)>(cursor, limit)?;
    allowed(&mut acting).await?;
    let text = find.trim();
    if text.chars().count() < 2 || text.chars().count() > 60 {
        return Err(Fault::field("find", "two to sixty letters of the name"));
    }
    let (person, now) = (acting.person.id, acting.now);
    let rows = acting.tx()?.beyond(person, now, text, paging.after, paging.most + 1).await?;
    acting.seen().await?;
    let show = |row: jexlin_store::BeyondView| Beyond { id: row.id, name: row.name, place: row.place, kind: row.kind, asked: row.asked };
    Ok(Sent(page(rows, paging.most, |row| (row.name.to_lowercase(), row.id), show)))
}

/// The wishes that concern the asker: their own, and those for what they are a steward of.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Wish>)))]
#[get("/api/v1/wishes")]
pub async fn list(mut acting: Acting) -> Answer<Sent<Page<Wish>>> {
    let (person, now) = (acting.person.id, acting.now);
    let rows = acting.tx()?.wishes(person, now, MOST).await?;
    acting.seen().await?;
    Ok(Sent(Page { items: rows.into_iter().map(show).collect(), next: None }))
}

/// Asks the stewards of something for a level on it.
#[utoipa::path(context_path = "", request_body = NewWish, responses((status = 200, body = Wish)))]
#[post("/api/v1/wishes", data = "<body>")]
pub async fn ask(body: Call<NewWish>) -> Answer<Sent<Wish>> {
    let Call(mut acting, body) = body;
    acting.intends("wish.ask", "credential", Some(body.credential), "");
    allowed(&mut acting).await?;
    let (person, now) = (acting.person.id, acting.now);
    if acting.tx()?.reach_credential(person, body.credential, now).await?.level().is_some() {
        return Err(Fault::conflict("within-reach", "You hold something on this already.", "Ask one of its stewards for more: they are under Access."));
    }
    if !acting.tx()?.is_beyond(person, body.credential, now).await? {
        return Err(Fault::unknown("credential"));
    }
    let place = place_of(&mut acting, body.credential).await?;
    acting.naming(body.credential, &place);
    if body.level == Level::Steward {
        return Err(Fault::field("level", "one asks for list, use, reveal or edit"));
    }
    let reason = body.reason.trim().to_owned();
    check_note(&reason).map_err(|problem| Fault::field("reason", problem))?;
    if reason.is_empty() {
        return Err(Fault::field("reason", "say what for"));
    }
    let row = WishRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        credential_id: body.credential,
        person_id: person,
        held: body.level.number(),
        reason: reason.clone(),
        state: "waiting".into(),
        asked_at: now,
        decided_at: None,
        decided_by: None,
        comment: String::new(),
    };
    acting.tx()?.add_wish(&row).await.map_err(|error| match error {
        StoreError::Conflict(_) => Fault::conflict("already-asked", "Your earlier wish for this is still waiting.", "Wait for the answer, or withdraw it."),
        other => other.into(),
    })?;
    acting.noting("level", body.level.word());
    acting.noting("reason", reason);
    let shown = show(acting.tx()?.wish_view(person, row.id, now).await?);
    acting.done().await?;
    Ok(Sent(shown))
}

async fn settle(mut acting: Acting, wish: &str, state: &str, comment: &str) -> Answer<Sent<Wish>> {
    let wish = id(wish)?;
    let action = match state {
        "granted" => "wish.grant",
        "refused" => "wish.refuse",
        _ => "wish.withdraw",
    };
    acting.intends(action, "credential", None, "");
    check_note(comment).map_err(|problem| Fault::field("comment", problem))?;
    let (person, now) = (acting.person.id, acting.now);
    let mut row = acting.tx()?.wish_locked(wish).await.map_err(|_| Fault::unknown("wish"))?;
    let view = acting.tx()?.wish_view(person, wish, now).await?;
    let mine = view.person_id == person;
    if !mine && !view.may_decide {
        return Err(Fault::unknown("wish"));
    }
    let said = |acting: &mut Acting| {
        acting.intends(action, "credential", Some(view.credential_id), &view.place);
        acting.noting("asked_by", view.person_name.clone());
        if !comment.is_empty() {
            acting.noting("comment", comment);
        }
    };
    said(&mut acting);
    if mine != (state == "withdrawn") {
        return Err(Fault::forbidden("One withdraws one's own wish, and a steward settles somebody else's.", "Ask somebody else who is a steward of it."));
    }
    if row.state != "waiting" {
        return Err(Fault::conflict("wish-settled", format!("This wish is {} already.", row.state), "Look at the list again."));
    }
    if state == "granted" {
        let level = Level::from_number(row.held).unwrap_or(Level::List);
        let new = NewGrant {
            folder: None,
            credential: Some(row.credential_id),
            person: Some(row.person_id),
            group: None,
            level,
            ends_at: None,
            note: format!("asked for: {}", row.reason),
            only_kind: None,
            only_tag: None,
            without_history: false,
        };
        give(&mut acting, new).await?;
        acting.gather()?;
        said(&mut acting);
        acting.noting("level", level.word());
    }
    row.state = state.into();
    row.decided_at = Some(now);
    row.decided_by = Some(person);
    comment.clone_into(&mut row.comment);
    acting.tx()?.settle_wish(&row).await?;
    let shown = show(acting.tx()?.wish_view(person, wish, now).await?);
    acting.done().await?;
    Ok(Sent(shown))
}

/// Grants what somebody else wished for, as a steward.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = Wish)))]
#[post("/api/v1/wishes/<wish>/grant", data = "<body>")]
pub async fn grant(wish: &str, body: Call<Decide>) -> Answer<Sent<Wish>> {
    let Call(acting, body) = body;
    settle(acting, wish, "granted", &body.comment).await
}

/// Refuses what somebody else wished for, as a steward.
#[utoipa::path(context_path = "", request_body = Decide, responses((status = 200, body = Wish)))]
#[post("/api/v1/wishes/<wish>/refuse", data = "<body>")]
pub async fn refuse(wish: &str, body: Call<Decide>) -> Answer<Sent<Wish>> {
    let Call(acting, body) = body;
    settle(acting, wish, "refused", &body.comment).await
}

/// Withdraws one's own wish.
#[utoipa::path(context_path = "", responses((status = 200, body = Wish)))]
#[post("/api/v1/wishes/<wish>/withdraw")]
pub async fn withdraw(acting: Acting, wish: &str) -> Answer<Sent<Wish>> {
    settle(acting, wish, "withdrawn", "").await
}
