//! Attachments: files that belong to a credential, sealed piece by piece as they stream in and
//! opened piece by piece as they stream out.

use std::io::ErrorKind;
use std::time::Duration;

use jexlin_api::ErrorCode;
use jexlin_api::{Attachment, Page};
use jexlin_core::access::mark;
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::policy::settings::Settings;
use jexlin_core::vault::RemovedType;
use jexlin_core::vault::{DataKey, Pass, PiecePlace, Sealed, WrappedKey, copy_piece, open_piece};
use jexlin_store::{AttachmentRow, CredentialRow, StoreError};
use tokio::io::{
    AsyncRead, AsyncReadExt as _, AsyncWriteExt as _, DuplexStream, copy, duplex, sink,
};
use tokio::time::timeout;
use uuid::Uuid;
use zeroize::Zeroizing;

use super::names::named;
use super::removal::removal;
use crate::error::{AppError, AppResult};
use crate::guards::allow_credential;
use crate::guards::through_all;
use crate::unit_of_work::UnitOfWork;

/// Bytes of a piece: what is in memory of an attachment at any time, twice.
const PIECE: usize = 256 * 1024;

/// No settings allow larger ones: the most that is read of a body.
pub const MOST_BYTES: u64 = 1 << 40;

const MIB: i64 = 1024 * 1024;

fn show(row: AttachmentRow, by: Option<String>) -> Attachment {
    Attachment {
        id: row.id,
        name: row.name,
        size: row.size,
        made_at: row.made_at,
        made_by: by,
    }
}

/// The attachments of a credential.
pub async fn of(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<Vec<Attachment>> {
    let rows = unit.tx()?.attachments(credential).await?;
    if rows.is_empty() {
        return Ok(vec![]);
    }
    let names = super::names::names(unit).await?;
    let by = |row: &AttachmentRow| row.made_by.and_then(|person| names.get(&person).cloned());
    Ok(rows
        .into_iter()
        .map(|row| (by(&row), row))
        .map(|(by, row)| show(row, by))
        .collect())
}

/// The attachments of a credential, without their bytes.
pub async fn list(unit: &mut UnitOfWork, credential: Uuid) -> AppResult<Page<Attachment>> {
    let target = credential;
    allow_credential::<mark::List>(unit, target).await?;
    let items = of(unit, target).await?;
    unit.commit().await?;
    Ok(Page { items, next: None })
}

fn name_taken() -> AppError {
    AppError::conflict(
        ErrorCode::NameTaken,
        "The credential has an attachment of this name.",
        "Give it another name, or remove the one that is there first.",
    )
}

fn too_much() -> AppError {
    AppError::field(
        "file",
        "all attachments together would be larger than the settings allow",
    )
}

/// Seals the pieces as they come. The number of bytes and of pieces.
async fn arrive(
    unit: &UnitOfWork,
    row: &AttachmentRow,
    data_key: &DataKey,
    settings: &Settings,
    content: impl AsyncRead + Unpin,
) -> AppResult<(i64, i32)> {
    let cut_off = |error: std::io::Error| {
        AppError::malformed(format!("The upload was interrupted: {error}."))
    };
    let limit = i64::from(settings.attachment_mib) * MIB;
    // Read on a little past the limit, so that the sender hears this answer and not a broken line.
    let mut stream = content.take(u64::try_from(limit).unwrap_or(0) * 2 + 1_048_576);
    let (mut size, mut number) = (0_i64, 0_i32);
    let mut piece = vec![0; PIECE];
    let mut ahead = fill(&mut stream, &mut piece).await.map_err(cut_off)?;
    loop {
        size += i64::try_from(ahead).unwrap_or(i64::MAX);
        if size > limit {
            copy(&mut stream, &mut sink()).await.map_err(cut_off)?;
            return Err(AppError::field(
                "file",
                format!(
                    "it is larger than {} MiB, the most that the settings allow",
                    settings.attachment_mib
                ),
            ));
        }
        let now = Zeroizing::new(piece.get(..ahead).unwrap_or_default().to_vec());
        // A full piece may be the last one: only the next look tells.
        ahead = if ahead == PIECE {
            fill(&mut stream, &mut piece).await.map_err(cut_off)?
        } else {
            0
        };
        let place = PiecePlace {
            organisation: row.organisation,
            credential: row.credential_id,
            attachment: row.id,
            number,
            last: ahead == 0,
        };
        let sealed = data_key.seal_piece(&mut unit.app.rng()?, &place, &now)?;
        let mut tx = unit.app.store.begin(row.organisation).await?;
        tx.heard_of_attachment(row.id, unit.app.clock.now())
            .await
            .map_err(|_| AppError::malformed("The upload took too long and was stopped."))?;
        tx.add_piece(row.id, number, &sealed.0).await?;
        tx.commit().await?;
        number += 1;
        if ahead == 0 {
            return Ok((size, number));
        }
    }
}

/// Makes it seen, if whoever sent it may still add it and there is still room.
async fn finish(
    unit: &mut UnitOfWork,
    row: &AttachmentRow,
    size: i64,
    pieces: i32,
    settings: &Settings,
) -> AppResult<()> {
    unit.reopen().await?;
    allow_credential::<mark::Edit>(unit, row.credential_id).await?;
    let _held = unit.tx()?.credential_locked(row.credential_id).await?;
    if unit.tx()?.attachments_size().await? + size > i64::from(settings.attachments_total_mib) * MIB
    {
        return Err(too_much());
    }
    unit.tx()?
        .finish_attachment(row.id, size, pieces)
        .await
        .map_err(|error| match error {
            StoreError::Conflict(_) => name_taken(),
            StoreError::NotFound => {
                AppError::malformed("The upload took too long and was stopped.")
            }
            other => other.into(),
        })?;
    unit.add_detail("bytes", size.to_string());
    unit.commit_audited().await?;
    Ok(())
}

/// Copies the attachments of a credential to another, piece by piece; nothing of them comes out.
pub async fn copy_all(
    unit: &mut UnitOfWork,
    pass: &impl Pass,
    from: &CredentialRow,
    to: &CredentialRow,
) -> AppResult<()> {
    let all = unit.tx()?.attachments(from.id).await?;
    if all.is_empty() {
        return Ok(());
    }
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let more: i64 = all.iter().map(|row| row.size).sum();
    if unit.tx()?.attachments_size().await? + more > i64::from(settings.attachments_total_mib) * MIB
    {
        return Err(too_much());
    }
    let organisation = unit.organisation();
    let (from_key, to_key) = (
        WrappedKey(from.data_key.clone()),
        WrappedKey(to.data_key.clone()),
    );
    for there in all {
        let new = AttachmentRow {
            id: Uuid::now_v7(),
            credential_id: to.id,
            made_at: unit.now,
            made_by: Some(unit.person.id),
            name: there.name.clone(),
            ..there
        };
        unit.tx()?.add_attachment(&new).await?;
        for number in 0..there.pieces {
            let last = number + 1 == there.pieces;
            let old_place = PiecePlace {
                organisation,
                credential: from.id,
                attachment: there.id,
                number,
                last,
            };
            let new_place = PiecePlace {
                organisation,
                credential: to.id,
                attachment: new.id,
                number,
                last,
            };
            let sealed = Sealed(unit.tx()?.piece(there.id, number).await?);
            let again = copy_piece(
                pass,
                &mut unit.app.rng()?,
                &unit.keys.key,
                (&from_key, &old_place),
                (&to_key, &new_place),
                &sealed,
            )?;
            unit.tx()?.add_piece(new.id, number, &again.0).await?;
        }
    }
    Ok(())
}

/// How long a sender may stand still before the file is given up.
const STILL: Duration = Duration::from_secs(60);

async fn fill(
    stream: &mut (impl tokio::io::AsyncRead + Unpin),
    piece: &mut [u8],
) -> std::io::Result<usize> {
    let mut filled = 0;
    while let Some(rest) = piece.get_mut(filled..).filter(|rest| !rest.is_empty()) {
        let read = timeout(STILL, stream.read(rest)).await.map_err(|_| {
            std::io::Error::new(ErrorKind::TimedOut, "nothing arrived for a minute")
        })?;
        match read {
            Ok(0) => break,
            Ok(count) => filled += count,
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}

/// The bytes of an attachment on their way. Their number is said ahead, so that what breaks off is
/// seen to have broken off.
#[derive(Debug)]
pub struct File {
    /// The bytes.
    pub stream: DuplexStream,
    /// How many.
    pub size: i64,
    /// Its name.
    pub name: String,
}

/// Moves an attachment to the bin.
pub async fn remove(unit: &mut UnitOfWork, credential: Uuid, attachment: Uuid) -> AppResult<()> {
    let (target, file) = (credential, attachment);
    unit.begin_audit(
        Action::CredentialRemoveAttachment,
        TargetType::Credential,
        Some(target),
        "",
    );
    allow_credential::<mark::Edit>(unit, target).await?;
    let row = unit
        .tx()?
        .attachment(target, file)
        .await
        .map_err(|_| AppError::unknown("attachment"))?;
    unit.add_detail("attachment", row.name.clone());
    let credential = unit.tx()?.credential(target).await?;
    let path = format!(
        "{}/{} ({})",
        unit.tx()?.path_of(credential.folder_id).await?,
        credential.name,
        row.name
    );
    let going = removal(
        unit,
        RemovedType::Attachment,
        file,
        path,
        credential.folder_id,
        0,
    );
    let now = unit.now;
    unit.tx()?.add_removal(&going).await?;
    unit.tx()?.remove_attachment(file, going.id, now).await?;
    unit.commit_audited().await?;
    Ok(())
}

/// Adds an attachment: its bytes are the body. Cut off anywhere, nothing of it is kept.
pub async fn add(
    unit: &mut UnitOfWork,
    credential: Uuid,
    name: &str,
    content: impl AsyncRead + Unpin,
) -> AppResult<Attachment> {
    let target = credential;
    unit.begin_audit(
        Action::CredentialAddAttachment,
        TargetType::Credential,
        Some(target),
        "",
    );
    allow_credential::<mark::Edit>(unit, target).await?;
    let name = named("name", name)?;
    unit.add_detail("attachment", name.clone());
    let data_key = unit.tx()?.credential(target).await?.data_key;
    let data_key =
        unit.keys
            .key
            .unwrap_data_key(unit.organisation(), target, &WrappedKey(data_key))?;
    if unit
        .tx()?
        .attachments(target)
        .await?
        .iter()
        .any(|there| there.name.to_lowercase() == name.to_lowercase())
    {
        return Err(name_taken());
    }
    let (settings, _) = crate::settings::settings(unit.tx()?).await?;
    let row = AttachmentRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        credential_id: target,
        name,
        size: 0,
        pieces: 0,
        made_at: unit.now,
        made_by: Some(unit.person.id),
    };
    unit.tx()?.begin_attachment(&row).await?;
    unit.commit().await?;
    // A sender may take its time: no transaction is open while the pieces come, and nobody waits.
    let arrived = arrive(unit, &row, &data_key, &settings, content).await;
    let whole = match arrived {
        Ok((size, pieces)) => finish(unit, &row, size, pieces, &settings)
            .await
            .map(|()| (size, pieces)),
        Err(fault) => Err(fault),
    };
    match whole {
        Ok((size, pieces)) => Ok(show(
            AttachmentRow {
                size,
                pieces,
                ..row
            },
            Some(unit.person.display_name.clone()),
        )),
        Err(fault) => {
            // Should this fail as well, the worker clears it away.
            if let Ok(mut tx) = unit.app.store.begin(row.organisation).await
                && tx.give_up_attachment(row.id).await.is_ok()
            {
                let _ = tx.commit().await;
            }
            Err(fault)
        }
    }
}

/// The bytes of an attachment, once the event of the look is durable. It takes what a reveal takes.
pub async fn read(unit: &mut UnitOfWork, credential: Uuid, attachment: Uuid) -> AppResult<File> {
    let (target, file) = (credential, attachment);
    unit.begin_audit(
        Action::CredentialReveal,
        TargetType::Credential,
        Some(target),
        "",
    );
    let allowed = allow_credential::<mark::Reveal>(unit, target).await?;
    let passed = through_all(unit, &allowed).await?;
    let row = unit
        .tx()?
        .attachment(target, file)
        .await
        .map_err(|_| AppError::unknown("attachment"))?;
    unit.add_detail("attachment", row.name.clone());
    let withheld = unit.tx()?.key_of_pieces(target).await?;
    let (_, receipt) = unit.commit_audited().await?;
    let wrapped = WrappedKey(withheld.after(&receipt)?);
    let (mut writer, stream) = duplex(PIECE);
    let (store, keys) = (unit.app.store.clone(), unit.keys.clone());
    let (organisation, pieces) = (row.organisation, row.pieces);
    tokio::spawn(async move {
        let copied: AppResult<()> = async {
            for number in 0..pieces {
                let mut tx = store.begin(organisation).await?;
                let sealed = tx.piece(file, number).await?;
                tx.commit().await?;
                let place = PiecePlace {
                    organisation,
                    credential: target,
                    attachment: file,
                    number,
                    last: number + 1 == pieces,
                };
                let plain = open_piece(&passed, &keys.key, &wrapped, &place, &Sealed(sealed))?;
                if writer.write_all(plain.expose_secret()).await.is_err() {
                    // Whoever asked has gone.
                    break;
                }
            }
            Ok(())
        }
        .await;
        if let Err(fault) = copied {
            tracing::error!("an attachment download was interrupted: {}", fault.detail());
        }
    });
    Ok(File {
        stream,
        size: row.size,
        name: row.name,
    })
}
