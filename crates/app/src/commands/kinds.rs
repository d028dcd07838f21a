//! Kinds of credentials: the built-in ones and the organisation's own.

use jexlin_api::ErrorCode;
use jexlin_api::{EditKind, Kind, KindField, NewKind, Page};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::vault::kinds::{self as core_kinds, Field};
use jexlin_store::KindRow;
use uuid::Uuid;

use crate::error::{AppError, AppResult};
use crate::kinds::{Known, all, of_row};
use crate::paging::Versioned;
use crate::unit_of_work::UnitOfWork;

/// Reads fields that somebody defines.
pub fn read_fields(fields: &[KindField]) -> Vec<Field> {
    let read = |field: &KindField| Field {
        name: field.name.clone(),
        label: field.label.trim().to_owned(),
        holds: field.holds,
        required: field.required,
        help: field.help.clone(),
    };
    fields.iter().map(read).collect()
}

/// Shows fields.
pub fn show_fields(fields: &[Field]) -> Vec<KindField> {
    let show = |field: &Field| KindField {
        name: field.name.clone(),
        label: field.label.clone(),
        holds: field.holds,
        required: field.required,
        help: field.help.clone(),
    };
    fields.iter().map(show).collect()
}

fn show(known: Known) -> Kind {
    Kind {
        fields: show_fields(&known.kind.fields),
        name: known.kind.name,
        label: known.kind.label,
        generates: known.kind.generates,
        own: known.own,
        retired: known.retired,
        revision: known.revision,
    }
}

/// The kinds of credentials: the organisation's own first. Where only those are offered, the
/// built-in ones are there as retired.
pub async fn list(unit: &mut UnitOfWork) -> AppResult<Page<Kind>> {
    let all = all(unit.tx()?).await?;
    unit.commit().await?;
    Ok(Page {
        items: all.into_iter().map(show).collect(),
        next: None,
    })
}

fn check(kind: &core_kinds::Kind) -> AppResult<()> {
    jexlin_core::names::Name::parse(&kind.label.replace('/', " "))
        .map_err(|problem| AppError::field("label", problem.to_string()))?;
    kind.check()
        .map_err(|problem| AppError::field("fields", problem))
}

/// Adds a kind of the organisation's own.
pub async fn add(unit: &mut UnitOfWork, body: NewKind) -> AppResult<Versioned<Kind>> {
    unit.begin(Action::KindAdd, TargetType::Kind, None, &body.name)?;
    let kind = core_kinds::Kind {
        name: body.name,
        label: body.label.trim().to_owned(),
        fields: read_fields(&body.fields),
        generates: body.generates,
    };
    check(&kind)?;
    let row = KindRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        name: kind.name.clone(),
        label: kind.label.clone(),
        fields: serde_json::to_value(&kind.fields)
            .map_err(|error| AppError::internal(error.to_string()))?,
        generates: kind.generates,
        retired_at: None,
        revision: 1,
    };
    unit.tx()?.add_kind(&row).await?;
    unit.set_target(row.id, &row.label);
    unit.add_detail(
        "fields",
        kind.fields
            .iter()
            .map(|field| field.name.as_str())
            .collect::<Vec<_>>()
            .join(", "),
    );
    unit.commit_audited().await?;
    Ok(Versioned(
        1,
        show(Known {
            kind,
            own: true,
            retired: false,
            revision: 1,
        }),
    ))
}

async fn own(unit: &mut UnitOfWork, name: &str) -> AppResult<KindRow> {
    if core_kinds::Kind::find(name).is_some() {
        return Err(AppError::conflict(
            ErrorCode::BuiltIn,
            "The built-in kinds are the same everywhere.",
            "Add a kind of your own, or allow only your own kinds in the settings.",
        ));
    }
    unit.tx()?
        .kind(name)
        .await?
        .ok_or_else(|| AppError::unknown("kind"))
}

/// Changes, retires or brings back a kind of the organisation's own.
pub async fn edit(
    unit: &mut UnitOfWork,
    name: &str,
    revision: i32,
    body: EditKind,
) -> AppResult<Versioned<Kind>> {
    unit.begin(Action::KindEdit, TargetType::Kind, None, name)?;
    let mut row = own(unit, name).await?;
    unit.set_target(row.id, &row.label);
    let mut known = of_row(row.clone())?;
    if let Some(label) = body.label {
        label.trim().clone_into(&mut known.kind.label);
        unit.add_detail("label", known.kind.label.clone());
    }
    if let Some(fields) = body.fields {
        known.kind.fields = read_fields(&fields);
        unit.add_detail(
            "fields",
            known
                .kind
                .fields
                .iter()
                .map(|field| field.name.as_str())
                .collect::<Vec<_>>()
                .join(", "),
        );
    }
    if let Some(generates) = body.generates {
        known.kind.generates = generates;
        unit.add_detail("generates", if generates { "yes" } else { "no" });
    }
    check(&known.kind)?;
    if let Some(retired) = body.retired {
        row.retired_at = retired.then_some(unit.now);
        unit.add_detail("retired", if retired { "yes" } else { "no" });
    }
    row.label.clone_from(&known.kind.label);
    row.fields = serde_json::to_value(&known.kind.fields)
        .map_err(|error| AppError::internal(error.to_string()))?;
    row.generates = known.kind.generates;
    row.revision = revision;
    unit.tx()?.edit_kind(&row).await?;
    unit.commit_audited().await?;
    known.retired = row.retired_at.is_some();
    known.revision = revision + 1;
    Ok(Versioned(known.revision, show(known)))
}

/// Removes a kind of the organisation's own that no credential is of.
pub async fn remove(unit: &mut UnitOfWork, name: &str, revision: i32) -> AppResult<()> {
    unit.begin(Action::KindRemove, TargetType::Kind, None, name)?;
    let mut row = own(unit, name).await?;
    unit.set_target(row.id, &row.label);
    let used = unit.tx()?.credentials_of_kind(name).await?;
    if used > 0 {
        return Err(AppError::conflict(
            ErrorCode::InUse,
            format!("Credentials of this kind: {used}, those in the bin included."),
            "Retire it instead: nothing new can have it then, and nothing is lost.",
        ));
    }
    row.revision = revision;
    unit.tx()?.remove_kind(&row).await?;
    unit.commit_audited().await?;
    Ok(())
}
