//! The kinds that an organisation has: the built-in ones and its own.

use jexlin_core::vault::kinds::{self as core_kinds, Field, Kind};
use jexlin_store::{CredentialRow, KindRow, Tx};

use crate::error::{AppError, AppResult};

/// A kind with what only the records know of it.
#[derive(Clone, Debug)]
pub struct Known {
    /// The kind.
    pub kind: Kind,
    /// Whether it is one of the organisation's own.
    pub own: bool,
    /// Whether no new credential can be of it.
    pub retired: bool,
    /// It changes with the kind.
    pub revision: i32,
}

/// A kind of the organisation's own.
///
/// # Errors
/// When the record makes no sense.
pub fn of_row(row: KindRow) -> AppResult<Known> {
    let fields = serde_json::from_value(row.fields)
        .map_err(|error| AppError::internal(format!("kind {}: {error}", row.id)))?;
    let kind = Kind {
        name: row.name,
        label: row.label,
        fields,
        generates: row.generates,
    };
    Ok(Known {
        kind,
        own: true,
        retired: row.retired_at.is_some(),
        revision: row.revision,
    })
}

/// The kind of a name, built-in or own.
pub async fn find(tx: &mut Tx, name: &str) -> AppResult<Option<Known>> {
    if let Some(kind) = Kind::find(name) {
        return Ok(Some(Known {
            kind,
            own: false,
            retired: false,
            revision: 1,
        }));
    }
    tx.kind(name).await?.map(of_row).transpose()
}

/// All kinds, the organisation's own first.
pub async fn all(tx: &mut Tx) -> AppResult<Vec<Known>> {
    let own = tx.kinds().await?;
    let (settings, _) = crate::settings::settings(tx).await?;
    let built_in = core_kinds::built_in().iter().map(|kind| {
        Ok(Known {
            kind: kind.clone(),
            own: false,
            retired: settings.only_own_kinds,
            revision: 1,
        })
    });
    own.into_iter().map(of_row).chain(built_in).collect()
}

/// The kinds that new credentials can be of.
pub async fn in_use(tx: &mut Tx) -> AppResult<Vec<Kind>> {
    Ok(all(tx)
        .await?
        .into_iter()
        .filter(|known| !known.retired)
        .map(|known| known.kind)
        .collect())
}

/// The names of all kinds, built-in or own.
pub async fn all_names(tx: &mut Tx) -> AppResult<std::collections::BTreeSet<String>> {
    let own = tx.kinds().await?.into_iter().map(|row| row.name);
    Ok(core_kinds::built_in()
        .iter()
        .map(|kind| kind.name.clone())
        .chain(own)
        .collect())
}

/// A kind by its name, without what only the records know of it.
///
/// # Errors
/// [`AppError`].
pub async fn kind(tx: &mut Tx, name: &str) -> AppResult<Option<Kind>> {
    Ok(find(tx, name).await?.map(|known| known.kind))
}

/// The fields that a credential has for itself alone.
#[must_use]
pub fn own_fields_of(row: &CredentialRow) -> Vec<Field> {
    serde_json::from_value(row.extra.clone()).unwrap_or_default()
}

/// The kind of a credential, with the fields that it has for itself alone.
///
/// # Errors
/// [`AppError`] when its kind cannot be read.
pub async fn kind_of(tx: &mut Tx, row: &CredentialRow) -> AppResult<Kind> {
    let known = find(tx, &row.kind)
        .await?
        .ok_or_else(|| AppError::internal("a credential without a kind"))?;
    let mut kind = known.kind;
    // The kind may have got a field of the same name since; then that one counts.
    let own: Vec<Field> = own_fields_of(row)
        .into_iter()
        .filter(|field| kind.field(&field.name).is_none())
        .collect();
    kind.fields.extend(own);
    Ok(kind)
}
