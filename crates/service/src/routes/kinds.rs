//! Kinds of credentials: the built-in ones and the organisation's own.

use jexlin_api::{ChangeKind, Kind, KindField, NewKind, Page};
use jexlin_core::vault::kinds::{self as core_kinds, Field, FieldType};
use jexlin_store::{KindRow, Tx};
use rocket::{Route, delete, get, patch, post, routes};
use uuid::Uuid;

use super::exchange::{Call, IfMatch, Sent, Versioned};
use crate::acting::Acting;
use crate::judging;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![list, add, change, remove]
}

/// A kind with what only the records know of it.
#[derive(Clone, Debug)]
pub struct Known {
    /// The kind.
    pub kind: core_kinds::Kind,
    /// Whether it is one of the organisation's own.
    pub own: bool,
    /// Whether no new credential can be of it.
    pub retired: bool,
    /// It changes with the kind.
    pub version: i32,
}

fn of_row(row: KindRow) -> Answer<Known> {
    let fields = serde_json::from_value(row.fields).map_err(|error| Fault::internal(format!("kind {}: {error}", row.id)))?;
    let kind = core_kinds::Kind { name: row.name, label: row.label, fields, generates: row.generates };
    Ok(Known { kind, own: true, retired: row.retired_at.is_some(), version: row.version })
}

/// The kind of a name, built-in or own.
pub async fn find(tx: &mut Tx, name: &str) -> Answer<Option<Known>> {
    if let Some(kind) = core_kinds::Kind::find(name) {
        return Ok(Some(Known { kind, own: false, retired: false, version: 1 }));
    }
    tx.kind(name).await?.map(of_row).transpose()
}

/// All kinds, the organisation's own first.
async fn all(tx: &mut Tx) -> Answer<Vec<Known>> {
    let own = tx.kinds().await?;
    let (settings, _) = judging::settings(tx).await?;
    let built_in = core_kinds::built_in().iter().map(|kind| Ok(Known { kind: kind.clone(), own: false, retired: settings.only_own_kinds, version: 1 }));
    own.into_iter().map(of_row).chain(built_in).collect()
}

/// The kinds that new credentials can be of.
pub async fn in_use(tx: &mut Tx) -> Answer<Vec<core_kinds::Kind>> {
    Ok(all(tx).await?.into_iter().filter(|known| !known.retired).map(|known| known.kind).collect())
}

/// The names of all kinds, built-in or own.
pub async fn all_names(tx: &mut Tx) -> Answer<std::collections::BTreeSet<String>> {
    let own = tx.kinds().await?.into_iter().map(|row| row.name);
    Ok(core_kinds::built_in().iter().map(|kind| kind.name.clone()).chain(own).collect())
}

/// Reads fields that somebody defines.
pub fn read_fields(fields: &[KindField]) -> Answer<Vec<Field>> {
    let read = |field: &KindField| {
        let holds: FieldType = serde_json::from_value(field.holds.clone().into()).map_err(|_| {
            Fault::field(
                "fields",
                format!("`{}` holds text, url, note, date, certificate, secret, secret-note, one-time-seed, ssh-key or private-key", field.name),
            )
        })?;
        Ok(Field { name: field.name.clone(), label: field.label.trim().to_owned(), holds, required: field.required, help: field.help.clone() })
    };
    fields.iter().map(read).collect()
}

/// Shows fields.
pub fn show_fields(fields: &[Field]) -> Vec<KindField> {
    let show = |field: &Field| KindField {
        name: field.name.clone(),
        label: field.label.clone(),
        holds: field.holds.word().into(),
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
        version: known.version,
    }
}

/// The kinds of credentials: the organisation's own first. Where only those are offered, the
/// built-in ones are there as retired.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<Kind>)))]
#[get("/api/v1/kinds")]
pub async fn list(mut acting: Acting) -> Answer<Sent<Page<Kind>>> {
    let all = all(acting.tx()?).await?;
    acting.seen().await?;
    Ok(Sent(Page { items: all.into_iter().map(show).collect(), next: None }))
}

fn check(kind: &core_kinds::Kind) -> Answer<()> {
    jexlin_core::names::Name::parse(&kind.label.replace('/', " ")).map_err(|problem| Fault::field("label", problem.to_string()))?;
    kind.check().map_err(|problem| Fault::field("fields", problem))
}

/// Adds a kind of the organisation's own.
#[utoipa::path(context_path = "", request_body = NewKind, responses((status = 200, body = Kind)))]
#[post("/api/v1/kinds", data = "<body>")]
pub async fn add(body: Call<NewKind>) -> Answer<Versioned<Kind>> {
    let Call(mut acting, body) = body;
    acting.intends("kind.add", "kind", None, &body.name);
    acting.duty("policy")?;
    let kind = core_kinds::Kind { name: body.name, label: body.label.trim().to_owned(), fields: read_fields(&body.fields)?, generates: body.generates };
    check(&kind)?;
    let row = KindRow {
        id: Uuid::now_v7(),
        organisation: acting.organisation(),
        name: kind.name.clone(),
        label: kind.label.clone(),
        fields: serde_json::to_value(&kind.fields).map_err(|error| Fault::internal(error.to_string()))?,
        generates: kind.generates,
        retired_at: None,
        version: 1,
    };
    acting.tx()?.add_kind(&row).await?;
    acting.naming(row.id, &row.label);
    acting.noting("fields", kind.fields.iter().map(|field| field.name.as_str()).collect::<Vec<_>>().join(", "));
    acting.done().await?;
    Ok(Versioned(1, show(Known { kind, own: true, retired: false, version: 1 })))
}

async fn own(acting: &mut Acting, name: &str) -> Answer<KindRow> {
    if core_kinds::Kind::find(name).is_some() {
        return Err(Fault::conflict(
            "built-in",
            "The built-in kinds are the same everywhere.",
            "Add a kind of your own, or set that only your own are offered.",
        ));
    }
    acting.tx()?.kind(name).await?.ok_or_else(|| Fault::unknown("kind"))
}

/// Changes, retires or brings back a kind of the organisation's own.
#[utoipa::path(context_path = "", request_body = ChangeKind, responses((status = 200, body = Kind)))]
#[patch("/api/v1/kinds/<name>", data = "<body>")]
pub async fn change(name: &str, version: IfMatch, body: Call<ChangeKind>) -> Answer<Versioned<Kind>> {
    let Call(mut acting, body) = body;
    acting.intends("kind.change", "kind", None, name);
    acting.duty("policy")?;
    let mut row = own(&mut acting, name).await?;
    acting.naming(row.id, &row.label);
    let mut known = of_row(row.clone())?;
    if let Some(label) = body.label {
        label.trim().clone_into(&mut known.kind.label);
        acting.noting("label", known.kind.label.clone());
    }
    if let Some(fields) = body.fields {
        known.kind.fields = read_fields(&fields)?;
        acting.noting("fields", known.kind.fields.iter().map(|field| field.name.as_str()).collect::<Vec<_>>().join(", "));
    }
    if let Some(generates) = body.generates {
        known.kind.generates = generates;
        acting.noting("generates", if generates { "yes" } else { "no" });
    }
    check(&known.kind)?;
    if let Some(retired) = body.retired {
        row.retired_at = retired.then_some(acting.now);
        acting.noting("retired", if retired { "yes" } else { "no" });
    }
    row.label.clone_from(&known.kind.label);
    row.fields = serde_json::to_value(&known.kind.fields).map_err(|error| Fault::internal(error.to_string()))?;
    row.generates = known.kind.generates;
    row.version = version.0;
    acting.tx()?.change_kind(&row).await?;
    acting.done().await?;
    known.retired = row.retired_at.is_some();
    known.version = version.0 + 1;
    Ok(Versioned(known.version, show(known)))
}

/// Removes a kind of the organisation's own that no credential is of.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/kinds/<name>")]
pub async fn remove(mut acting: Acting, name: &str, version: IfMatch) -> Answer<()> {
    acting.intends("kind.remove", "kind", None, name);
    acting.duty("policy")?;
    let mut row = own(&mut acting, name).await?;
    acting.naming(row.id, &row.label);
    let used = acting.tx()?.credentials_of_kind(name).await?;
    if used > 0 {
        return Err(Fault::conflict(
            "in-use",
            format!("{used} credentials are of this kind, those in the bin included."),
            "Retire it instead: nothing new can be of it then, and nothing is lost.",
        ));
    }
    row.version = version.0;
    acting.tx()?.remove_kind(&row).await?;
    acting.done().await?;
    Ok(())
}
