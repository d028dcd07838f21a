//! Exporting what one may see, protected by age, or, with a duty, a fresh sign-in and a reason, as
//! it is.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::ErrorCode;
use jexlin_api::ExportOptions;
use jexlin_core::access::mark;
use jexlin_core::audit::Event;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::gate::Passed;
use jexlin_core::names::check_note;
use jexlin_core::people::Duty;
use jexlin_core::transfer::ExportFormat;
use jexlin_core::transfer::{Exported, Protection, protect, to_csv, to_exchange};
use jexlin_core::vault::kinds::PASSWORD;
use jexlin_core::vault::readings::Readings;
use jexlin_core::vault::{Place, Sealed, WrappedKey, open};
use jexlin_core::words::Word as _;
use jexlin_store::{CredentialListing, ListQuery, SealedVersion};
use tokio::sync::Semaphore;
use tokio::task::block_in_place;
use uuid::Uuid;
use zeroize::Zeroizing;

use super::auth::secret;
use crate::error::{AppError, AppResult};
use crate::file_reader;
use crate::guards::allow_folder;
use crate::guards::through;
use crate::guards::through_all;
use crate::keyring::OpenKeys;
use crate::unit_of_work::UnitOfWork;

/// A sign-in is fresh for so many minutes.
const FRESH: TimeDelta = TimeDelta::minutes(5);

/// The most that is exported at once.
const MOST: usize = 100_000;

/// So many are made at a time; what others do is not kept waiting by more.
static TURNS: Semaphore = Semaphore::const_new(2);

/// So many keys are read together.
const KEYS: usize = 500;

/// An exported file, and how much is in it.
#[derive(Debug)]
pub struct ExportedFile {
    /// The file.
    pub bytes: Zeroizing<Vec<u8>>,
    /// How many credentials are in it.
    pub taken: usize,
    /// How many are left out, since a gate is closed.
    pub left_out: usize,
}

/// How it is protected; nothing when it is not to be.
fn protection(unit: &UnitOfWork, options: &ExportOptions) -> AppResult<Option<Protection>> {
    match (
        options.recipients.is_empty(),
        &options.passphrase,
        options.plain,
    ) {
        (false, None, false) => Ok(Some(Protection::Recipients(options.recipients.clone()))),
        (true, Some(passphrase), false) => Ok(Some(Protection::Passphrase(secret(passphrase)))),
        (true, None, true) => {
            unit.duty(Duty::Export)?;
            if unit.now - unit.session.created_at > FRESH {
                return Err(AppError::forbidden(
                    "An unencrypted export needs a sign-in within the last five minutes.",
                    "Sign in again, then try again.",
                ));
            }
            if options.reason.trim().is_empty() {
                return Err(AppError::field(
                    "reason",
                    "an unencrypted export needs a reason",
                ));
            }
            Ok(None)
        }
        _ => Err(AppError::field(
            "recipients",
            "name age recipients, a passphrase, or no encryption: exactly one of these",
        )),
    }
}

fn event_for(unit: &UnitOfWork, target: Uuid, name: &str, plain: bool) -> Event {
    let mut event = Event::new(
        Uuid::now_v7(),
        unit.organisation(),
        unit.now,
        Action::CredentialExport,
    );
    event.actor = unit.person.id.to_string();
    event.actor_name.clone_from(&unit.person.display_name);
    unit.origin().clone_into(&mut event.origin);
    event.target = target.to_string();
    event.target_type = TargetType::Credential.word().into();
    name.clone_into(&mut event.target_name);
    event
        .detail
        .insert("protected".into(), if plain { "no" } else { "yes" }.into());
    event
}

/// A credential that is exported, with the proof that its gates were passed.
type Chosen = (CredentialListing, Passed<mark::Reveal>);

/// What is to be exported, and how many were left out because they have a gate.
async fn choose(unit: &mut UnitOfWork, below: Option<Uuid>) -> AppResult<(Vec<Chosen>, usize)> {
    let (person, now) = (unit.person.id, unit.now);
    let mut query = ListQuery {
        below,
        limit: 500,
        ..ListQuery::default()
    };
    let (mut chosen, mut left_out) = (vec![], 0);
    loop {
        let page = unit.tx()?.list_credentials(person, now, &query).await?;
        let Some(last) = page.last() else { break };
        query.after = Some((last.name.clone(), last.id));
        for row in page.into_iter().filter(|row| row.held >= 3) {
            let allowed = row.reach(person).allow::<mark::Reveal>()?;
            match if row.gated {
                through_all(unit, &allowed).await
            } else {
                through(unit, &allowed, &[]).await
            } {
                Ok(passed) => chosen.push((row, passed)),
                Err(_) => left_out += 1,
            }
        }
        if chosen.len() > MOST {
            return Err(AppError::field(
                "folder",
                format!("there are more than {MOST}; export them folder by folder"),
            ));
        }
    }
    if chosen.is_empty() {
        return Err(AppError::conflict(
            ErrorCode::Nothing,
            "There is nothing here that you may reveal.",
            "Choose another folder, or pass the gates first.",
        ));
    }
    Ok((chosen, left_out))
}

/// What was chosen, with its secrets opened.
fn opened(
    keys: &OpenKeys,
    organisation: Uuid,
    chosen: Vec<Chosen>,
    sealed: Vec<SealedVersion>,
) -> AppResult<Vec<Exported>> {
    let mut exports: BTreeMap<Uuid, (Exported, _)> = chosen
        .into_iter()
        .map(|(row, passed)| {
            let fields = serde_json::from_value(row.fields).unwrap_or_default();
            let exported = Exported {
                id: row.id,
                name: row.name,
                folder: row.place,
                kind: row.kind,
                tags: row.tags,
                fields,
                secrets: BTreeMap::new(),
            };
            (row.id, (exported, passed))
        })
        .collect();
    for version in sealed {
        let Some((exported, passed)) = exports.get_mut(&version.credential) else {
            continue;
        };
        let place = Place {
            organisation,
            credential: version.credential,
            field: &version.field,
            version: version.number,
        };
        let plain = open(
            &*passed,
            &keys.key,
            &WrappedKey(version.data_key),
            &place,
            &Sealed(version.sealed),
        )?;
        let text = plain
            .expose_secret_text()
            .map_err(|error| AppError::internal(error.to_string()))?;
        exported.secrets.insert(version.field, text.to_owned());
    }
    Ok(exports
        .into_values()
        .map(|(exported, _)| exported)
        .collect())
}

/// The file, before it is protected.
async fn written(
    format: ExportFormat,
    exports: &[Exported],
    title: &str,
    now: DateTime<Utc>,
) -> AppResult<Zeroizing<Vec<u8>>> {
    if format == ExportFormat::Csv {
        return Ok(block_in_place(|| to_csv(exports)));
    }
    // The exchange format has keys in a form of its own.
    let keys: Vec<&str> = exports
        .iter()
        .filter(|exported| exported.kind == "ssh-key")
        .filter_map(|exported| exported.secrets.get(PASSWORD))
        .map(String::as_str)
        .collect();
    let mut readings = Readings::default();
    for chunk in keys.chunks(KEYS) {
        readings.extend(file_reader::keys(chunk).await?);
    }
    Ok(block_in_place(|| {
        to_exchange(exports, title, now.timestamp(), &readings)
    }))
}

/// Exports everything that the asker may reveal, in a folder and below it or everywhere. What is
/// under a gate that they have not passed is left out and counted.
pub async fn export(unit: &mut UnitOfWork, options: ExportOptions) -> AppResult<ExportedFile> {
    unit.begin_audit(Action::ExportRun, TargetType::Folder, options.folder, "");
    unit.add_detail("protected", if options.plain { "no" } else { "yes" });
    check_note(&options.reason).map_err(|problem| AppError::field("reason", problem))?;
    if !options.reason.is_empty() {
        unit.add_detail("reason", options.reason.clone());
    }
    if !crate::settings::settings(unit.tx()?).await?.0.exports {
        return Err(AppError::forbidden(
            "Your organisation does not allow exports.",
            "Ask a person with the duty `policy`.",
        ));
    }
    let protection = protection(unit, &options)?;
    // What cannot be protected is refused before anything is looked at.
    if let Some(protection) = &protection {
        let field = if options.passphrase.is_some() {
            "passphrase"
        } else {
            "recipients"
        };
        protect(b"", protection).map_err(|problem| AppError::field(field, problem))?;
    }
    let _turn = TURNS.try_acquire().map_err(|_| {
        AppError::conflict(
            ErrorCode::ExportsBusy,
            "The service is busy with other exports.",
            "Try again in a minute.",
        )
    })?;
    if let Some(folder) = options.folder {
        allow_folder::<mark::List>(unit, folder).await?;
        let path = unit.tx()?.path_of(folder).await?;
        unit.set_target(folder, &path);
    }
    let (chosen, left_out) = choose(unit, options.folder).await?;
    let ids: Vec<Uuid> = chosen.iter().map(|(row, _)| row.id).collect();
    let mut withheld = vec![];
    for chunk in ids.chunks(1000) {
        withheld.push(unit.tx()?.current_values(chunk).await?);
    }
    let event = |(row, _): &Chosen| {
        let path = format!("{}/{}", row.place, row.name);
        event_for(unit, row.id, &path, options.plain)
    };
    let events: Vec<Event> = chosen.iter().map(event).collect();
    let keys = std::sync::Arc::clone(&unit.keys);
    for chunk in events.chunks(500) {
        unit.tx()?.record_all(chunk, &keys.mac).await?;
    }
    unit.add_detail("taken_out", chosen.len().to_string());
    unit.add_detail("left_out", left_out.to_string());
    let title = unit.tx()?.organisation_row().await?.name;
    let (_, receipt) = unit.commit_audited().await?;
    // From here on every event is durable.
    let mut sealed = vec![];
    for chunk in withheld {
        sealed.extend(chunk.after(&receipt)?);
    }
    let organisation = unit.organisation();
    let exports = block_in_place(|| opened(&keys, organisation, chosen, sealed))?;
    let bytes = written(options.format, &exports, &title, unit.now).await?;
    let bytes = match &protection {
        Some(protection) => Zeroizing::new(
            block_in_place(|| protect(&bytes, protection)).map_err(AppError::internal)?,
        ),
        None => bytes,
    };
    Ok(ExportedFile {
        bytes,
        taken: ids.len(),
        left_out,
    })
}
