//! Credentials.

use std::collections::BTreeMap;

use jexlin_api::{ChangeCredential, Credential, CredentialItem, FindingItem, NewCredential, Page, SecretText};
use jexlin_core::access::{Allowed, AtLeast, Level, mark};
use jexlin_core::names::check_note;
use jexlin_core::policy::{About, Finding};
use jexlin_core::secret::Secret;
use jexlin_core::vault::kinds::{Facts, Field, FieldType, Given, Kind, PASSWORD};
use jexlin_core::vault::readings::Readings;
use jexlin_core::vault::ssh_keys::SshKey;
use jexlin_core::vault::{Place, WrappedKey};
use jexlin_store::{CredentialChange, CredentialListing, CredentialRow, ListQuery, NewVersion, Tx, View};
use rocket::{FromForm, Route, delete, get, patch, post, routes};
use uuid::Uuid;

use super::bin::removal;
use super::devices::enroll;
use super::exchange::{Call, IfMatch, Sent, Versioned, id, maybe_id, page, paging};
use super::folders::allow_folder;
use super::kinds::{self, read_fields, show_fields};
use super::marks::read_tags;
use super::people::named;
use crate::acting::Acting;
use crate::foreign;
use crate::judging::{self, Rule};
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![list, add, read, change, remove]
}

/// The parameters by which a list of credentials can be narrowed, and a search be saved.
pub const FILTERS: [&str; 10] = ["folder", "below", "find", "name", "user", "kind", "tag", "device", "check", "finding"];
/// The most words of one search, and the longest of them.
const MOST_WORDS: usize = 6;
const LONGEST_WORD: usize = 60;
/// So many of the latest or most often used are shown.
const MOST_USED: i64 = 50;

/// Demands a level on a credential, and notes its name for the record.
pub async fn allow_credential<L: AtLeast>(acting: &mut Acting, credential: Uuid) -> Answer<Allowed<L>> {
    let (person, now) = (acting.person.id, acting.now);
    let approach = acting.tx()?.approach(person, credential, now).await?;
    if approach.reach.level().is_some() {
        acting.naming(credential, &approach.path);
    }
    approach.reach.allow::<L>().map_err(|denied| if approach.reach.level().is_none() { Fault::unknown("credential") } else { denied.into() })
}

fn show_item(row: CredentialListing, near: bool) -> CredentialItem {
    CredentialItem {
        id: row.id,
        name: row.name,
        folder: row.folder_id,
        place: row.place,
        kind: row.kind,
        user_name: row.fields.get("user_name").and_then(serde_json::Value::as_str).unwrap_or_default().to_owned(),
        device: row.device_name,
        device_id: row.device_id,
        check: row.check_outcome,
        gated: row.gated,
        level: Level::from_number(row.held).unwrap_or(Level::List),
        tags: row.tags,
        favourite: row.favourite,
        findings: row.findings,
        changed_at: row.changed_at,
        own_grants: row.own_grants,
        shared: row.shared,
        near,
    }
}

/// How a list of credentials is narrowed.
#[derive(Debug, FromForm)]
pub struct Narrowed<'r> {
    folder: Option<&'r str>,
    below: Option<&'r str>,
    find: Option<&'r str>,
    name: Option<&'r str>,
    user: Option<&'r str>,
    kind: Option<&'r str>,
    tag: Option<&'r str>,
    device: Option<&'r str>,
    check: Option<&'r str>,
    finding: Option<&'r str>,
    view: Option<&'r str>,
}

fn typed(text: Option<&str>) -> Option<String> {
    text.map(str::trim).filter(|text| !text.is_empty()).map(|text| text.chars().take(LONGEST_WORD).collect())
}

/// The credentials that the asker may know of, narrowed as they like. `find` looks in everything that
/// is not secret, word by word; when nothing holds all words, what resembles them comes back with
/// `near` set. `view` is `favourites`, `recent`, `most-used`, `mine`, `shared-with-me`,
/// `shared-by-me` or `with-nobody`.
#[utoipa::path(context_path = "", params(
    ("folder" = Option<String>, Query), ("below" = Option<String>, Query), ("find" = Option<String>, Query), ("name" = Option<String>, Query),
    ("user" = Option<String>, Query), ("kind" = Option<String>, Query), ("tag" = Option<String>, Query), ("device" = Option<String>, Query),
    ("check" = Option<String>, Query), ("finding" = Option<String>, Query), ("view" = Option<String>, Query), ("cursor" = Option<String>, Query),
    ("limit" = Option<i64>, Query)
), responses((status = 200, body = Page<CredentialItem>)))]
#[get("/api/v1/credentials?<cursor>&<limit>&<narrowed..>")]
pub async fn list(mut acting: Acting, narrowed: Narrowed<'_>, cursor: Option<&str>, limit: Option<i64>) -> Answer<Sent<Page<CredentialItem>>> {
    let paging = paging::<(String, Uuid)>(cursor, limit)?;
    let words = narrowed.find.unwrap_or_default().split(|c: char| c.is_whitespace() || c == '/').filter(|word| !word.is_empty());
    let finding = typed(narrowed.finding);
    if finding.as_deref().is_some_and(|word| word != "any" && Finding::find(word).is_none()) {
        return Err(Fault::field("finding", format!("it is any, {}", Finding::ALL.map(Finding::word).join(", "))));
    }
    let (person, now) = (acting.person.id, acting.now);
    let below = maybe_id(narrowed.below)?;
    let mut query = ListQuery {
        folder: maybe_id(narrowed.folder)?,
        below,
        find: words.take(MOST_WORDS).map(|word| word.chars().take(LONGEST_WORD).collect()).collect(),
        nearly: false,
        name: typed(narrowed.name),
        user_name: typed(narrowed.user),
        kind: typed(narrowed.kind),
        tag: typed(narrowed.tag).map(|tag| tag.to_lowercase()),
        device: typed(narrowed.device),
        check: typed(narrowed.check),
        finding,
        view: None,
        only: None,
        thresholds: judging::thresholds(acting.tx()?).await?,
        many_folders: None,
        after: paging.after,
        most: paging.most + 1,
    };
    let mut used: Option<Vec<Uuid>> = None;
    match narrowed.view.filter(|view| !view.is_empty()) {
        None => {}
        Some("favourites") => query.view = Some(View::Favourites),
        Some("mine") => query.view = Some(View::Mine),
        Some("shared-with-me") => query.view = Some(View::SharedWithMe),
        Some("shared-by-me") => query.view = Some(View::SharedByMe),
        Some("with-nobody") => query.view = Some(View::WithNobody),
        Some(view @ ("recent" | "most-used")) => {
            let ids = acting.tx()?.used_by(person, view == "most-used", MOST_USED).await?;
            query.only = Some(ids.clone());
            used = Some(ids);
        }
        Some(_) => return Err(Fault::field("view", "it is favourites, recent, most-used, mine, shared-with-me, shared-by-me or with-nobody")),
    }
    let mut rows = acting.tx()?.list_credentials(person, now, &query).await?;
    let near = rows.is_empty() && !query.find.is_empty() && query.after.is_none();
    if near {
        query.nearly = true;
        rows = acting.tx()?.list_credentials(person, now, &query).await?;
    }
    acting.seen().await?;
    if let Some(order) = used {
        // These come in their own order, and are few.
        rows.sort_by_key(|row| order.iter().position(|id| *id == row.id));
        return Ok(Sent(Page { items: rows.into_iter().map(|row| show_item(row, false)).collect(), next: None }));
    }
    if near {
        // The nearest first: whoever does not find it here types it otherwise.
        rows.truncate(usize::try_from(paging.most).unwrap_or(0));
        return Ok(Sent(Page { items: rows.into_iter().map(|row| show_item(row, true)).collect(), next: None }));
    }
    Ok(Sent(page(rows, paging.most, |row| (row.name.clone(), row.id), |row| show_item(row, false))))
}

fn fields_of(row: &CredentialRow) -> BTreeMap<String, String> {
    serde_json::from_value(row.fields.clone()).unwrap_or_default()
}

fn extra_of(row: &CredentialRow) -> Vec<Field> {
    serde_json::from_value(row.extra.clone()).unwrap_or_default()
}

/// The kind of a credential, with the fields that it has for itself alone.
pub async fn kind_of(tx: &mut Tx, row: &CredentialRow) -> Answer<Kind> {
    let known = kinds::find(tx, &row.kind).await?.ok_or_else(|| Fault::internal("a credential of no kind"))?;
    let mut kind = known.kind;
    // The kind may have got a field of the same name since; then that one counts.
    let own: Vec<Field> = extra_of(row).into_iter().filter(|field| kind.field(&field.name).is_none()).collect();
    kind.fields.extend(own);
    Ok(kind)
}

async fn findings(acting: &mut Acting, row: &CredentialRow) -> Answer<Vec<FindingItem>> {
    let (person, now) = (acting.person.id, acting.now);
    let from = judging::thresholds(acting.tx()?).await?;
    let words = acting.tx()?.findings_of(row.id, person, now, from).await?;
    let lacks = acting.tx()?.judgement(row.id).await?.map(|row| row.lacks).unwrap_or_default();
    let show = |word: &String| {
        let finding = Finding::find(word)?;
        let detail = if finding == Finding::BreaksPolicy { lacks.join("; ") } else { String::new() };
        Some(FindingItem { name: word.clone(), detail, advice: finding.advice().into() })
    };
    Ok(words.iter().filter_map(show).collect())
}

/// Shows a credential without its secrets.
pub async fn show(acting: &mut Acting, row: CredentialRow, level: Level) -> Answer<Credential> {
    let kind = kind_of(acting.tx()?, &row).await?;
    let fields = fields_of(&row);
    let mut facts: BTreeMap<String, Facts> = kind.facts(&fields, &foreign::certificates(&kind.certificates(&fields)).await);
    let tx = acting.tx()?;
    let place = tx.path_of(row.folder_id).await?;
    let current: Vec<_> = tx.versions(row.id).await?.into_iter().filter(|version| version.state == "current").collect();
    for version in &current {
        let known: Facts = serde_json::from_value(version.facts.clone()).unwrap_or_default();
        if !known.is_empty() {
            facts.insert(version.field.clone(), known);
        }
    }
    let device_name = match row.device_id {
        // The device may be in the bin.
        Some(device) => tx.device(device).await.ok().map(|device| device.name),
        None => None,
    };
    let state = if row.device_id.is_some() { tx.account_of(row.id).await? } else { None };
    let upkeep = state.map(|state| super::upkeep::show_state(state, row.id, &place, &row.name, device_name.as_deref()));
    let mut people = [None, None];
    for (shown, person) in people.iter_mut().zip([row.created_by, row.changed_by]) {
        if let Some(person) = person {
            *shown = tx.person(person).await.ok().map(|person| person.display_name);
        }
    }
    let [created_by, changed_by] = people;
    let person = acting.person.id;
    let favourite = acting.tx()?.is_favourite(person, row.id).await?;
    let gate = super::gates::show_conditions(acting, row.id).await?;
    let findings = if level >= Level::Reveal { findings(acting, &row).await? } else { vec![] };
    let attachments = super::attachments::of(acting, row.id).await?;
    Ok(Credential {
        extra: show_fields(&extra_of(&row)),
        fields,
        facts,
        id: row.id,
        name: row.name,
        folder: row.folder_id,
        place,
        kind: row.kind,
        secret_fields: current.into_iter().map(|version| version.field).collect(),
        device: row.device_id,
        device_name,
        level,
        gate,
        upkeep,
        tags: row.tags,
        favourite,
        findings,
        attachments,
        created_at: row.created_at,
        created_by,
        changed_at: row.changed_at,
        changed_by,
        version: row.version,
    })
}

/// A new value of a secret field, and how it came: `typed` or `generated`.
pub type NewSecret = (String, Given, &'static str);

/// Reads the secrets that somebody gave, by the kind; each problem is named by its field.
fn read_secrets(kind: &Kind, password: Option<&SecretText>, others: &BTreeMap<String, SecretText>, readings: &Readings) -> Answer<Vec<NewSecret>> {
    let given = password.map(|value| (PASSWORD.to_owned(), value)).into_iter().chain(others.iter().map(|(name, value)| (name.clone(), value)));
    let (mut read, mut problems) = (vec![], BTreeMap::new());
    for (name, value) in given {
        match kind.read_secret(&name, value.expose_secret(), readings) {
            Ok(secret) => read.push((name, secret, "typed")),
            Err(problem) => {
                problems.insert(name, problem);
            }
        }
    }
    if problems.is_empty() { Ok(read) } else { Err(Fault::fields(problems)) }
}

/// Makes a password by what counts.
pub fn generated(acting: &Acting, rule: &Rule, user_name: &str) -> Answer<Secret> {
    let about = About { user_name, used_ago: None };
    rule.policy
        .generate(&mut acting.app.rng()?, about)
        .map_err(|problem| Fault::field("policy", format!("the policy “{}” cannot be met: {problem}", rule.name)))
}

/// Makes the main secret of a kind: a password by what counts, or a key.
fn make_main(acting: &Acting, kind: &Kind, rule: &Rule, user_name: &str, sort: Option<&str>) -> Answer<Given> {
    if kind.field(PASSWORD).is_some_and(|field| field.holds == FieldType::SshKey) {
        let key = SshKey::generate(&mut acting.app.rng()?, sort.unwrap_or("ed25519"), user_name).map_err(|problem| Fault::field("key", problem.to_string()))?;
        return Ok(Given { facts: key.facts(), value: key.into_text() });
    }
    Ok(Given { value: generated(acting, rule, user_name)?, facts: Facts::new() })
}

fn user_of(fields: &BTreeMap<String, String>) -> &str {
    fields.get("user_name").map_or("", String::as_str)
}

fn changed_kind(kind: &Kind) -> Fault {
    Fault::conflict(
        "kind-changed",
        format!("Somebody has changed what a {} has for fields since the form was opened.", kind.label.to_lowercase()),
        "Open the form again; copy what you typed first.",
    )
}

fn to_json<T: serde::Serialize>(value: &T) -> Answer<serde_json::Value> {
    serde_json::to_value(value).map_err(|error| Fault::internal(error.to_string()))
}

/// A typed password is compared with former ones only for whoever could see them: the answer would tell
/// others what they are.
async fn allow_comparing(acting: &mut Acting, credential: Uuid) -> Answer<()> {
    let (person, now) = (acting.person.id, acting.now);
    let seen = acting.tx()?.may_see_history(person, credential, now).await?;
    let approach = acting.tx()?.approach(person, credential, now).await?;
    let passed = match approach.reach.allow::<mark::Reveal>() {
        Ok(allowed) => super::secrets::through_all(acting, &allowed).await.is_ok(),
        Err(_) => false,
    };
    if seen && passed {
        return Ok(());
    }
    Err(Fault::forbidden(
        "The policy compares a password with former ones, which you may not see at this moment.",
        "Have one generated, or check it out first.",
    ))
}

/// Keeps new values of secret fields, judged where there is something to judge. Their numbers go on
/// from what is there.
async fn keep_secrets(acting: &mut Acting, kind: &Kind, row: &CredentialRow, secrets: &[NewSecret], why: &str, rule: &Rule) -> Answer<()> {
    let (organisation, credential, now, by) = (row.organisation, row.id, acting.now, acting.person.id);
    let data_key = acting.keys.key.unwrap_data_key(organisation, credential, &WrappedKey(row.data_key.clone()))?;
    let mut rng = acting.app.rng()?;
    for (field, given, how) in secrets {
        let number = acting.tx()?.next_number(credential, field).await?;
        let sealed = data_key.seal(&mut rng, &Place { organisation, credential, field, version: number }, &given.value)?;
        let facts = to_json(&given.facts)?;
        let new = NewVersion { credential, field, number, state: "current", sealed: &sealed.0, now, by: Some(by), how, why, facts };
        acting.tx()?.add_version(&new).await?;
        acting.noting(field, *how);
        if field == PASSWORD {
            if *how == "typed" && number > 1 && rule.policy.not_last > 0 {
                allow_comparing(acting, credential).await?;
                acting.value_may_be_asked().await?;
            }
            let (app, keys) = (acting.app.clone(), acting.keys.clone());
            judging::admit_and_keep(acting.tx()?, &app, &keys, kind, row, number, &given.value, rule).await?;
        }
    }
    if !why.is_empty() {
        acting.noting("why", why);
    }
    Ok(())
}

/// Adds a credential whose parts have been read; for what brings things in.
pub async fn keep_new(acting: &mut Acting, kind: &Kind, folder: Uuid, name: &str, fields: &BTreeMap<String, String>, secrets: Vec<NewSecret>) -> Answer<Uuid> {
    let rule = judging::rule_for(acting.tx()?, folder, None).await?;
    let row = new_row(acting, kind, folder, name, fields)?;
    acting.tx()?.add_credential(&row).await?;
    keep_secrets(acting, kind, &row, &secrets, "", &rule).await?;
    Ok(row.id)
}

fn new_row(acting: &Acting, kind: &Kind, folder: Uuid, name: &str, fields: &BTreeMap<String, String>) -> Answer<CredentialRow> {
    let (organisation, now, by) = (acting.organisation(), acting.now, acting.person.id);
    let credential = Uuid::now_v7();
    let (_, wrapped) = acting.keys.key.generate_data_key(&mut acting.app.rng()?, organisation, credential)?;
    Ok(CredentialRow {
        id: credential,
        organisation,
        folder_id: folder,
        kind: kind.name.clone(),
        name: named("name", name)?,
        fields: to_json(fields)?,
        device_id: None,
        data_key: wrapped.0,
        created_at: now,
        created_by: Some(by),
        changed_at: now,
        changed_by: Some(by),
        removed_at: None,
        version: 1,
        removal_id: None,
        extra: serde_json::json!([]),
        tags: vec![],
    })
}

/// Adds a credential.
#[utoipa::path(context_path = "", request_body = NewCredential, responses((status = 200, body = Credential)))]
#[post("/api/v1/credentials", data = "<body>")]
pub async fn add(body: Call<NewCredential>) -> Answer<Versioned<Credential>> {
    let Call(mut acting, body) = body;
    acting.intends("credential.add", "credential", None, &body.name);
    let known = kinds::find(acting.tx()?, &body.kind).await?.ok_or_else(|| Fault::field("kind", "there is no such kind; see `jexlin kind list`"))?;
    if known.retired || (!known.own && judging::settings(acting.tx()?).await?.0.only_own_kinds) {
        return Err(Fault::field("kind", "no new credential can be of this kind any more; see `jexlin kind list`"));
    }
    if body.kind_version.is_some_and(|version| version != known.version) {
        return Err(changed_kind(&known.kind));
    }
    let extra = read_fields(&body.extra)?;
    let kind = known.kind.with_extra(&extra).map_err(|problem| Fault::field("extra", problem))?;
    check_note(&body.why).map_err(|problem| Fault::field("why", problem))?;
    let mut fields = body.fields;
    kind.check_plain(&fields, &BTreeMap::new(), &acting.readings).map_err(Fault::fields)?;
    kind.complete(&mut fields, &BTreeMap::new(), &acting.readings);
    let level = allow_folder::<mark::Edit>(&mut acting, body.folder).await?.held();
    let rule = judging::rule_for(acting.tx()?, body.folder, body.policy).await?;
    let mut secrets = read_secrets(&kind, body.password.as_ref(), &body.secrets, &acting.readings)?;
    if let (Some(main), false) = (kind.field(PASSWORD), secrets.iter().any(|(name, ..)| name == PASSWORD)) {
        if kind.generates {
            secrets.push((PASSWORD.to_owned(), make_main(&acting, &kind, &rule, user_of(&fields), body.key.as_deref())?, "generated"));
        } else if main.required {
            let label = main.label.to_lowercase();
            return Err(Fault::field(PASSWORD, format!("a {} needs its {label}; none can be generated", kind.label.to_lowercase())));
        }
    }
    for field in kind.fields.iter().filter(|field| field.required && field.holds.is_secret() && field.name != PASSWORD) {
        if !secrets.iter().any(|(name, ..)| *name == field.name) {
            return Err(Fault::field(&field.name, "this field is required"));
        }
    }
    let mut row = new_row(&acting, &kind, body.folder, &body.name, &fields)?;
    row.extra = to_json(&extra)?;
    row.tags = read_tags(&body.tags)?;
    acting.tx()?.add_credential(&row).await?;
    keep_secrets(&mut acting, &kind, &row, &secrets, &body.why, &rule).await?;
    if let Some(device) = body.device {
        enroll(&mut acting, row.id, user_of(&fields), device, true).await?;
        row.device_id = Some(device);
    }
    let shown = show(&mut acting, row, level).await?;
    acting.naming(shown.id, &format!("{}/{}", shown.place, shown.name));
    acting.done().await?;
    Ok(Versioned(1, shown))
}

/// One credential, without its secrets.
#[utoipa::path(context_path = "", responses((status = 200, body = Credential)))]
#[get("/api/v1/credentials/<credential>")]
pub async fn read(mut acting: Acting, credential: &str) -> Answer<Versioned<Credential>> {
    let target = id(credential)?;
    let level = allow_credential::<mark::List>(&mut acting, target).await?.held();
    let row = acting.tx()?.credential(target).await?;
    let shown = show(&mut acting, row, level).await?;
    acting.seen().await?;
    Ok(Versioned(shown.version, shown))
}

/// Changes a credential: name, place, fields, tags, device, or secrets in the vault.
#[utoipa::path(context_path = "", request_body = ChangeCredential, responses((status = 200, body = Credential)))]
#[patch("/api/v1/credentials/<credential>", data = "<body>")]
pub async fn change(credential: &str, version: IfMatch, body: Call<ChangeCredential>) -> Answer<Versioned<Credential>> {
    let Call(mut acting, body) = body;
    let target = id(credential)?;
    acting.intends("credential.change", "credential", Some(target), "");
    let allowed = allow_credential::<mark::Edit>(&mut acting, target).await?;
    let mut row = acting.tx()?.credential_locked(target).await?;
    if row.version != version.0 {
        return Err(Fault::stale());
    }
    let known = kinds::find(acting.tx()?, &row.kind).await?.ok_or_else(|| Fault::internal("a credential of no kind"))?;
    if body.kind_version.is_some_and(|version| version != known.version) {
        return Err(changed_kind(&known.kind));
    }
    check_note(&body.why).map_err(|problem| Fault::field("why", problem))?;
    if let Some(name) = &body.name {
        row.name = named("name", name)?;
        acting.noting("name", row.name.clone());
    }
    let gates = acting.tx()?.gate_ids_of(target).await?;
    let mut moved = false;
    if let Some(folder) = body.folder.filter(|folder| *folder != row.folder_id) {
        // Moving changes who reaches it: it takes a steward here and an editor there.
        allow_credential::<mark::Steward>(&mut acting, target).await?;
        allow_folder::<mark::Edit>(&mut acting, folder).await?;
        row.folder_id = folder;
        let to = acting.tx()?.path_of(folder).await?;
        acting.noting("moved_to", to);
        moved = true;
    }
    let kept = fields_of(&row);
    let mut fields = kept.clone();
    for (name, value) in &body.fields {
        if value.is_empty() {
            fields.remove(name);
        } else {
            fields.insert(name.clone(), value.clone());
        }
        acting.noting(&format!("field {}", name.chars().take(40).collect::<String>()), "changed");
    }
    if let Some(extra) = &body.extra {
        let extra = read_fields(extra)?;
        known.kind.clone().with_extra(&extra).map_err(|problem| Fault::field("extra", problem))?;
        row.extra = to_json(&extra)?;
        acting.noting("extra fields", extra.iter().map(|field| field.name.as_str()).collect::<Vec<_>>().join(", "));
    }
    let kind = kind_of(acting.tx()?, &row).await?;
    kind.check_plain(&fields, &kept, &acting.readings).map_err(Fault::fields)?;
    kind.complete(&mut fields, &kept, &acting.readings);
    row.fields = to_json(&fields)?;
    if let Some(tags) = &body.tags {
        let tags = read_tags(tags)?;
        let changed: Vec<String> = tags.iter().chain(&row.tags).filter(|tag| tags.contains(tag) != row.tags.contains(tag)).cloned().collect();
        let now = acting.now;
        if acting.tx()?.tags_move_access(row.folder_id, &changed, now).await? {
            // A grant for such a tag alone reaches it from now on, or does not any more.
            allow_credential::<mark::Steward>(&mut acting, target).await?;
        }
        row.tags = tags;
        acting.noting("tags", row.tags.join(", "));
    }
    let renamed = user_of(&fields) != user_of(&kept);
    match (row.device_id, body.device) {
        (Some(present), None) if body.no_device => {
            acting.tx()?.withdraw_from_account(target).await?;
            row.device_id = None;
            acting.noting("device", format!("none any more; it was {present}"));
        }
        (present, Some(device)) if present != Some(device) || renamed => {
            acting.tx()?.withdraw_from_account(target).await?;
            enroll(&mut acting, target, user_of(&fields), device, false).await?;
            row.device_id = Some(device);
        }
        (Some(_), _) if renamed => {
            return Err(Fault::conflict(
                "is-account",
                "This credential is the password of an account on a device, and the user name is the account's.",
                "Name the device with the new user name to make it the password of that account, or take it off the device first.",
            ));
        }
        _ => {}
    }
    let rule = judging::rule_for(acting.tx()?, row.folder_id, body.policy).await?;
    let mut secrets = read_secrets(&kind, body.password.as_ref(), &body.secrets, &acting.readings)?;
    if body.generate && body.password.is_none() {
        if !kind.generates {
            return Err(Fault::field("generate", format!("the secret of a {} comes from somebody else; none can be generated", kind.label.to_lowercase())));
        }
        secrets.push((PASSWORD.to_owned(), make_main(&acting, &kind, &rule, user_of(&fields), body.key.as_deref())?, "generated"));
    }
    if secrets.iter().any(|(field, ..)| field == PASSWORD) && acting.tx()?.has_candidate(target).await? {
        return Err(Fault::rotating());
    }
    row.changed_at = acting.now;
    row.changed_by = Some(acting.person.id);
    keep_secrets(&mut acting, &kind, &row, &secrets, &body.why, &rule).await?;
    if !secrets.iter().any(|(field, ..)| field == PASSWORD) && (moved || fields != kept || body.name.is_some()) {
        // What it keeps is judged by what counts from now on, and where it comes to, also admitted.
        let (app, keys) = (acting.app.clone(), acting.keys.clone());
        for mut it in acting.tx()?.to_judge_of(&[target], PASSWORD).await? {
            (it.folder, it.name, it.fields) = (row.folder_id, row.name.clone(), row.fields.clone());
            if moved {
                if judging::is_enforced(acting.tx()?, row.folder_id).await? {
                    // Whether it complies tells something of the value: only to whoever could see it.
                    let reach = allow_credential::<mark::Reveal>(&mut acting, target).await?;
                    super::secrets::through_all(&mut acting, &reach).await?;
                    acting.value_may_be_asked().await?;
                }
                judging::admit_sealed(acting.tx()?, &app, &keys, &it).await?;
            } else {
                judging::again(acting.tx()?, &app, &keys, &it).await?;
            }
        }
    }
    let change = CredentialChange {
        id: target,
        version: version.0,
        name: &row.name,
        folder_id: row.folder_id,
        fields: &row.fields,
        extra: &row.extra,
        tags: &row.tags,
        now: row.changed_at,
        by: row.changed_by,
    };
    acting.tx()?.change_credential(&change).await?;
    let after = acting.tx()?.gate_ids_of(target).await?;
    super::gates::may_leave(&mut acting, &gates, &after).await?;
    row.version += 1;
    let shown = show(&mut acting, row, allowed.held()).await?;
    acting.done().await?;
    Ok(Versioned(shown.version, shown))
}

/// Moves a credential to the bin, from where it can be put back.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/credentials/<credential>")]
pub async fn remove(mut acting: Acting, credential: &str, version: IfMatch) -> Answer<Sent<Uuid>> {
    let target = id(credential)?;
    acting.intends("credential.remove", "credential", Some(target), "");
    allow_credential::<mark::Steward>(&mut acting, target).await?;
    let now = acting.now;
    let row = acting.tx()?.credential_locked(target).await?;
    let path = format!("{}/{}", acting.tx()?.path_of(row.folder_id).await?, row.name);
    let going = removal(&acting, "credential", target, path, row.folder_id, 1);
    acting.tx()?.add_removal(&going).await?;
    acting.tx()?.remove_credential(target, version.0, going.id, now).await?;
    acting.done().await?;
    Ok(Sent(going.id))
}
