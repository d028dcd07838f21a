//! Sessions, made from completed sign-ins.

use chrono::{DateTime, Utc};
use jexlin_core::audit::{Action, Event, TargetType};
use jexlin_core::auth::{SignedIn, new_token};
use jexlin_core::secret::Secret;
use jexlin_core::words::Word as _;
use jexlin_store::{PersonRow, SessionRow};
use uuid::Uuid;

use crate::app::App;
use crate::error::AppResult;

/// A session that is not stored yet, with its token and the event that says so.
#[derive(Debug)]
pub struct NewSession {
    /// The row.
    pub row: SessionRow,
    /// What its holder sends. Only its hash is stored.
    pub token: Secret,
    /// To be committed together with the row.
    pub event: Event,
}

/// Makes a session of a ceremony that ended well: there is no other way to one.
///
/// # Errors
/// [`crate::error::AppError`] when the kernel gives no randomness.
pub fn new_session(
    app: &App,
    signed_in: &SignedIn,
    person: &PersonRow,
    now: DateTime<Utc>,
    ends_at: DateTime<Utc>,
    origin: &str,
) -> AppResult<NewSession> {
    let organisation = person.organisation;
    let (token, hash) = new_token(&mut app.rng()?, organisation);
    let row = SessionRow {
        id: Uuid::now_v7(),
        organisation,
        person_id: signed_in.person(),
        token_hash: hash.to_vec(),
        channel: signed_in.channel().into(),
        assurance: signed_in.assurance().into(),
        created_at: now,
        last_used_at: now,
        ends_at,
        ended_at: None,
        origin: origin.to_owned(),
    };
    let mut event = Event::new(Uuid::now_v7(), organisation, now, Action::SessionSignIn);
    event.actor = person.id.to_string();
    event.actor_name.clone_from(&person.display_name);
    origin.clone_into(&mut event.origin);
    event.target = person.id.to_string();
    event.target_type = TargetType::Person.word().into();
    event.target_name.clone_from(&person.sign_in_name);
    for (name, word) in [
        ("channel", signed_in.channel().word()),
        ("assurance", signed_in.assurance().word()),
    ] {
        event.detail.insert(name.into(), word.into());
    }
    Ok(NewSession { row, token, event })
}
