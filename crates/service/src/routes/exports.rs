//! Taking out what one may see, protected by age, or, with a duty, a fresh sign-in and a reason, as it is.

use std::collections::BTreeMap;

use chrono::TimeDelta;
use jexlin_api::ExportOptions;
use jexlin_core::access::mark;
use jexlin_core::audit::Event;
use jexlin_core::names::check_note;
use jexlin_core::transfer::{Exported, Protection, protect, to_csv, to_exchange};
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::readings::Readings;
use jexlin_core::vault::{Place, Sealed, WrappedKey, open};
use jexlin_store::ListQuery;
use rocket::http::{ContentType, Status};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use rocket::tokio::sync::Semaphore;
use rocket::tokio::task::block_in_place;
use rocket::{Route, post, routes};
use std::io::Cursor;
use uuid::Uuid;
use zeroize::Zeroizing;

use super::door::secret;
use super::exchange::Call;
use super::folders::allow_folder;
use super::secrets::{through, through_all};
use crate::acting::Acting;
use crate::foreign;
use crate::judging;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![take_out]
}

/// A sign-in is fresh for so many minutes.
const FRESH: TimeDelta = TimeDelta::minutes(5);
/// The most that is taken out at once.
const MOST: usize = 100_000;
/// So many are made at a time; what others do is not kept waiting by more.
static TURNS: Semaphore = Semaphore::const_new(2);
/// So many keys are read together.
const KEYS: usize = 500;

/// A file that is taken out, and how much is in it.
#[derive(Debug)]
pub struct TakenOut {
    bytes: Zeroizing<Vec<u8>>,
    taken: usize,
    left_out: usize,
}

impl<'r> Responder<'r, 'static> for TakenOut {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        Response::build()
            .status(Status::Ok)
            .header(ContentType::Binary)
            .raw_header("Cache-Control", "no-store")
            .raw_header("Jexlin-Taken", self.taken.to_string())
            .raw_header("Jexlin-Left-Out", self.left_out.to_string())
            .sized_body(self.bytes.len(), Cursor::new(self.bytes))
            .ok()
    }
}

/// How it is protected; nothing when it is not to be.
fn protection(acting: &Acting, options: &ExportOptions) -> Answer<Option<Protection>> {
    match (options.recipients.is_empty(), &options.passphrase, options.plain) {
        (false, None, false) => Ok(Some(Protection::Recipients(options.recipients.clone()))),
        (true, Some(passphrase), false) => Ok(Some(Protection::Passphrase(secret(passphrase)))),
        (true, None, true) => {
            acting.duty("export")?;
            if acting.now - acting.session.created_at > FRESH {
                return Err(Fault::forbidden("Taking out passwords as they are takes a sign-in of the last five minutes.", "Sign in anew, then try again."));
            }
            if options.reason.trim().is_empty() {
                return Err(Fault::field("reason", "say why, since what is taken out is not protected"));
            }
            Ok(None)
        }
        _ => Err(Fault::field("recipients", "name recipients of age, or a passphrase, or say that it is not to be protected: exactly one")),
    }
}

/// Takes out everything that the asker may reveal, in a folder and below it or everywhere. What is
/// under a gate that they have not passed is left out and counted.
#[utoipa::path(context_path = "", request_body = ExportOptions, responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream")))]
#[post("/api/v1/export", data = "<body>")]
pub async fn take_out(body: Call<ExportOptions>) -> Answer<TakenOut> {
    let Call(mut acting, options) = body;
    acting.intends("export.run", "folder", options.folder, "");
    acting.noting("protected", if options.plain { "no" } else { "yes" });
    check_note(&options.reason).map_err(|problem| Fault::field("reason", problem))?;
    if !options.reason.is_empty() {
        acting.noting("reason", options.reason.clone());
    }
    if !["exchange", "csv"].contains(&options.format.as_str()) {
        return Err(Fault::field("format", "it is exchange or csv"));
    }
    if !judging::settings(acting.tx()?).await?.0.exports {
        return Err(Fault::forbidden("Your organisation does not let people take out what they may see.", "Ask whoever holds the duty `policy`."));
    }
    let protection = protection(&acting, &options)?;
    // What cannot be protected is refused before anything is looked at.
    if let Some(protection) = &protection {
        protect(b"", protection).map_err(|problem| Fault::field(if options.passphrase.is_some() { "passphrase" } else { "recipients" }, problem))?;
    }
    let _turn = TURNS.try_acquire().map_err(|_| Fault::conflict("exports-busy", "The service is making other exports.", "Try again in a minute."))?;
    if let Some(folder) = options.folder {
        allow_folder::<mark::List>(&mut acting, folder).await?;
        let path = acting.tx()?.path_of(folder).await?;
        acting.naming(folder, &path);
    }
    let (person, now) = (acting.person.id, acting.now);
    let mut query = ListQuery { below: options.folder, most: 500, ..ListQuery::default() };
    let (mut chosen, mut left_out) = (vec![], 0);
    loop {
        let page = acting.tx()?.list_credentials(person, now, &query).await?;
        let Some(last) = page.last() else { break };
        query.after = Some((last.name.clone(), last.id));
        for row in page.into_iter().filter(|row| row.held >= 3) {
            let allowed = row.reach(person).allow::<mark::Reveal>()?;
            match if row.gated { through_all(&mut acting, &allowed).await } else { through(&mut acting, &allowed, &[]).await } {
                Ok(passed) => chosen.push((row, passed)),
                Err(_) => left_out += 1,
            }
        }
        if chosen.len() > MOST {
            return Err(Fault::field("folder", format!("there are more than {MOST}; take them out folder by folder")));
        }
    }
    if chosen.is_empty() {
        return Err(Fault::conflict("nothing", "There is nothing here that you may reveal.", "Choose another folder, or pass the gates first."));
    }
    let ids: Vec<Uuid> = chosen.iter().map(|(row, _)| row.id).collect();
    let mut withheld = vec![];
    for some in ids.chunks(1000) {
        withheld.push(acting.tx()?.current_values(some).await?);
    }
    let events: Vec<Event> = chosen.iter().map(|(row, _)| event_for(&acting, row.id, &format!("{}/{}", row.place, row.name), options.plain)).collect();
    let keys = std::sync::Arc::clone(&acting.keys);
    for some in events.chunks(500) {
        acting.tx()?.record_all(some, &keys.mac).await?;
    }
    acting.noting("taken_out", chosen.len().to_string());
    acting.noting("left_out", left_out.to_string());
    let title = acting.tx()?.organisation_row().await?.name;
    let (_, receipt) = acting.done().await?;
    // From here on every event is durable.
    let mut sealed = vec![];
    for some in withheld {
        sealed.extend(some.after(&receipt)?);
    }
    let organisation = acting.organisation();
    let things = block_in_place(|| -> Answer<Vec<Exported>> {
        let mut things: BTreeMap<Uuid, (Exported, _)> = chosen
            .into_iter()
            .map(|(row, passed)| {
                let fields = serde_json::from_value(row.fields).unwrap_or_default();
                let thing = Exported { id: row.id, name: row.name, folder: row.place, kind: row.kind, tags: row.tags, fields, secrets: BTreeMap::new() };
                (row.id, (thing, passed))
            })
            .collect();
        for version in sealed {
            let Some((thing, passed)) = things.get_mut(&version.credential) else { continue };
            let place = Place { organisation, credential: version.credential, field: &version.field, version: version.number };
            let plain = open(&*passed, &keys.key, &WrappedKey(version.data_key), &place, &Sealed(version.sealed))?;
            let text = plain.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?;
            thing.secrets.insert(version.field, text.to_owned());
        }
        Ok(things.into_values().map(|(thing, _)| thing).collect())
    })?;
    let bytes = if options.format == "csv" {
        block_in_place(|| to_csv(&things))
    } else {
        // The format has keys in a form of its own.
        let keys: Vec<&str> =
            things.iter().filter(|thing| thing.kind == "ssh-key").filter_map(|thing| thing.secrets.get(PASSWORD)).map(String::as_str).collect();
        let mut readings = Readings::default();
        for some in keys.chunks(KEYS) {
            readings.extend(foreign::keys(some).await?);
        }
        block_in_place(|| to_exchange(&things, &title, now.timestamp(), &readings))
    };
    let bytes = match &protection {
        Some(protection) => Zeroizing::new(block_in_place(|| protect(&bytes, protection)).map_err(Fault::internal)?),
        None => bytes,
    };
    Ok(TakenOut { bytes, taken: ids.len(), left_out })
}

fn event_for(acting: &Acting, target: Uuid, name: &str, plain: bool) -> Event {
    let mut event = Event::new(Uuid::now_v7(), acting.organisation(), acting.now, "credential.export");
    event.actor = acting.person.id.to_string();
    event.actor_name.clone_from(&acting.person.display_name);
    acting.origin().clone_into(&mut event.origin);
    event.target = target.to_string();
    event.target_kind = "credential".into();
    name.clone_into(&mut event.target_name);
    event.detail.insert("protected".into(), if plain { "no" } else { "yes" }.into());
    event
}
