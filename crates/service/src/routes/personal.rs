//! Personal folders. Their key is in the memory of one open session and nowhere else; the log says
//! that somebody opened theirs or added to it, and never what is in it.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::{ChangePassphrase, MoveIn, NewPersonalThing, Page, Passphrase, PersonalState, PersonalThing, Revealed, SecretText, TakeOut};
use jexlin_core::access::{Level, mark};
use jexlin_core::vault::kinds::{Kind, PASSWORD};
use jexlin_core::vault::personal::{PersonalItem, PersonalKey, Protected, check_passphrase};
use jexlin_core::vault::{Place, Sealed, WrappedKey};
use jexlin_store::{PersonalFolderRow, PersonalItemRow, Target};
use rocket::{Route, delete, get, patch, post, put, routes};
use uuid::Uuid;

use super::bin::removal;
use super::door::{check_throttle, secret};
use super::exchange::{Call, IfMatch, Sent, Versioned, id};
use super::folders::allow_folder;
use super::secrets::through_all;
use super::vault::{allow_credential, generated, keep_new};
use crate::acting::Acting;
use crate::judging;
use crate::problem::{Answer, Fault};

pub fn routes() -> Vec<Route> {
    routes![state, create, open_folder, lock, protect, list, add, change, remove, reveal, take_out, move_in]
}

/// Open keys and when each was last used, by session.
type OpenKeys = HashMap<Uuid, (PersonalKey, DateTime<Utc>)>;

/// The open personal folders of this process, by session.
#[derive(Clone, Default)]
pub struct OpenFolders(Arc<Mutex<OpenKeys>>);

impl std::fmt::Debug for OpenFolders {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OpenFolders(…)")
    }
}

impl OpenFolders {
    fn put(&self, session: Uuid, key: PersonalKey, now: DateTime<Utc>) {
        if let Ok(mut all) = self.0.lock() {
            all.insert(session, (key, now));
        }
    }

    fn get(&self, session: Uuid, now: DateTime<Utc>, idle: TimeDelta) -> Option<PersonalKey> {
        let mut all = self.0.lock().ok()?;
        // Sessions that ended by themselves leave nothing behind.
        all.retain(|_, (_, used)| now - *used < idle);
        all.get_mut(&session).map(|(key, used)| {
            *used = now;
            key.clone()
        })
    }

    /// The sessions with an open folder.
    #[must_use]
    pub fn sessions(&self) -> Vec<Uuid> {
        self.0.lock().map(|all| all.keys().copied().collect()).unwrap_or_default()
    }

    /// Closes the folder of a session.
    pub fn close(&self, session: Uuid) {
        if let Ok(mut all) = self.0.lock() {
            all.remove(&session);
        }
    }
}

fn opened(acting: &Acting) -> Option<PersonalKey> {
    acting.app.personal.get(acting.session.id, acting.now, TimeDelta::minutes(acting.app.config.idle_minutes))
}

fn key(acting: &Acting) -> Answer<PersonalKey> {
    opened(acting).ok_or_else(|| {
        Fault::conflict(
            "personal-closed",
            "Your personal folder is not open in this session.",
            "Open it with its passphrase: jexlin personal open, or its page in the console.",
        )
    })
}

async fn allowed(acting: &mut Acting) -> Answer<()> {
    let (settings, _) = judging::settings(acting.tx()?).await?;
    if settings.personal_folders {
        return Ok(());
    }
    Err(Fault::forbidden("Your organisation does not let people keep personal folders.", "You can still open yours and take out what is in it."))
}

fn folder_missing() -> Fault {
    Fault::conflict(
        "no-personal-folder",
        "You have no personal folder yet.",
        "Make one with a passphrase of its own: jexlin personal create. Nobody can recover a forgotten one.",
    )
}

/// How one's personal folder is.
#[utoipa::path(context_path = "", responses((status = 200, body = PersonalState)))]
#[get("/api/v1/personal")]
pub async fn state(mut acting: Acting) -> Answer<Sent<PersonalState>> {
    let person = acting.person.id;
    let exists = acting.tx()?.personal_folder(person).await?.is_some();
    let allowed = judging::settings(acting.tx()?).await?.0.personal_folders;
    let open = exists && opened(&acting).is_some();
    acting.seen().await?;
    Ok(Sent(PersonalState { allowed, exists, open }))
}

/// Argon2id takes memory and time: so many at once, and not on a thread that answers others.
async fn hashing<T: Send + 'static>(acting: &Acting, work: impl FnOnce() -> T + Send + 'static) -> Answer<T> {
    let place = acting.app.hashing.clone().acquire_owned().await.map_err(|error| Fault::internal(error.to_string()))?;
    let done = rocket::tokio::task::spawn_blocking(work).await.map_err(|error| Fault::internal(error.to_string()));
    drop(place);
    done
}

/// Makes one's personal folder, and opens it. Nobody can recover a forgotten passphrase.
#[utoipa::path(context_path = "", request_body = Passphrase, responses((status = 200)))]
#[post("/api/v1/personal", data = "<body>")]
pub async fn create(body: Call<Passphrase>) -> Answer<()> {
    let Call(mut acting, body) = body;
    acting.intends("personal.create", "personal-folder", None, "");
    allowed(&mut acting).await?;
    let (organisation, person, now) = (acting.organisation(), acting.person.id, acting.now);
    if acting.tx()?.personal_folder(person).await?.is_some() {
        return Err(Fault::conflict("has-personal-folder", "You have a personal folder already.", "Open it with its passphrase."));
    }
    let passphrase = secret(&body.passphrase);
    check_passphrase(&passphrase).map_err(|problem| Fault::field("passphrase", problem))?;
    let mut rng = acting.app.rng()?;
    let (key, protected) = hashing(&acting, move || PersonalKey::create(&mut rng, organisation, person, &passphrase)).await??;
    let row = PersonalFolderRow { person_id: person, organisation, salt: protected.salt, sealed_key: protected.sealed_key, made_at: now, version: 1 };
    acting.tx()?.add_personal_folder(&row).await?;
    acting.done().await?;
    acting.app.personal.put(acting.session.id, key, now);
    Ok(())
}

/// Opens the key of a personal folder. Tries are slowed like sign-ins.
async fn open_with(acting: &mut Acting, row: &PersonalFolderRow, passphrase: &SecretText) -> Answer<PersonalKey> {
    let (organisation, person, now) = (acting.organisation(), acting.person.id, acting.now);
    // Noted beforehand and taken back by a success, as at the door.
    let tries = format!("personal:{person}");
    let mut tx = acting.app.store.begin(organisation).await?;
    check_throttle(&mut tx, std::slice::from_ref(&tries), now).await?;
    let failures = tx.throttle(&tries).await?.map_or(0, |throttle| throttle.failures);
    tx.note_failure(&tries, failures.saturating_add(1), now).await?;
    tx.commit().await?;
    let protected = Protected { salt: row.salt.clone(), sealed_key: row.sealed_key.clone() };
    let passphrase = secret(passphrase);
    let Ok(key) = hashing(acting, move || PersonalKey::open(organisation, person, &protected, &passphrase)).await? else {
        return Err(Fault::forbidden("The passphrase does not open your personal folder.", "Check it; nobody can recover a forgotten one."));
    };
    acting.tx()?.forget_failures(&tries).await?;
    Ok(key)
}

/// Opens one's personal folder for this session. Tries are slowed like sign-ins.
#[utoipa::path(context_path = "", request_body = Passphrase, responses((status = 200)))]
#[post("/api/v1/personal/open", data = "<body>")]
pub async fn open_folder(body: Call<Passphrase>) -> Answer<()> {
    let Call(mut acting, body) = body;
    acting.intends("personal.open", "personal-folder", None, "");
    let (person, now) = (acting.person.id, acting.now);
    let row = acting.tx()?.personal_folder(person).await?.ok_or_else(folder_missing)?;
    let key = open_with(&mut acting, &row, &body.passphrase).await?;
    acting.done().await?;
    acting.app.personal.put(acting.session.id, key, now);
    Ok(())
}

/// Closes it for this session.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[post("/api/v1/personal/lock")]
pub async fn lock(mut acting: Acting) -> Answer<()> {
    acting.seen().await?;
    acting.app.personal.close(acting.session.id);
    Ok(())
}

/// Gives it another passphrase; it takes the present one. No item is touched.
#[utoipa::path(context_path = "", request_body = ChangePassphrase, responses((status = 200)))]
#[put("/api/v1/personal/passphrase", data = "<body>")]
pub async fn protect(body: Call<ChangePassphrase>) -> Answer<()> {
    let Call(mut acting, body) = body;
    acting.intends("personal.passphrase", "personal-folder", None, "");
    let passphrase = secret(&body.passphrase);
    check_passphrase(&passphrase).map_err(|problem| Fault::field("passphrase", problem))?;
    let person = acting.person.id;
    let mut row = acting.tx()?.personal_folder(person).await?.ok_or_else(folder_missing)?;
    let key = open_with(&mut acting, &row, &body.present).await?;
    let mut rng = acting.app.rng()?;
    let protected = hashing(&acting, move || key.protect(&mut rng, &passphrase)).await??;
    (row.salt, row.sealed_key) = (protected.salt, protected.sealed_key);
    acting.tx()?.protect_personal_folder(&row).await?;
    acting.done().await?;
    Ok(())
}

fn show(row: &PersonalItemRow, item: &PersonalItem) -> PersonalThing {
    PersonalThing {
        id: row.id,
        name: item.name.clone(),
        user_name: item.user_name.clone(),
        url: item.url.clone(),
        note: item.note.clone(),
        changed_at: row.changed_at,
        version: row.version,
    }
}

/// What is in one's personal folder, by name.
#[utoipa::path(context_path = "", responses((status = 200, body = Page<PersonalThing>)))]
#[get("/api/v1/personal/items")]
pub async fn list(mut acting: Acting) -> Answer<Sent<Page<PersonalThing>>> {
    let (key, person) = (key(&acting)?, acting.person.id);
    let rows = acting.tx()?.personal_items(person).await?;
    acting.seen().await?;
    let mut items = vec![];
    for row in &rows {
        items.push(show(row, &key.open_item(row.id, row.version, &row.sealed)?));
    }
    items.sort_by_key(|item| item.name.to_lowercase());
    Ok(Sent(Page { items, next: None }))
}

fn fill(item: &mut PersonalItem, given: NewPersonalThing) -> Answer<()> {
    let fields = [(&mut item.name, given.name), (&mut item.user_name, given.user_name), (&mut item.url, given.url), (&mut item.note, given.note)];
    for (field, given) in fields {
        if let Some(given) = given {
            given.trim().clone_into(field);
        }
    }
    if let Some(password) = given.password {
        password.expose_secret().clone_into(&mut item.password);
    }
    item.check().map_err(|(field, problem)| Fault::field(field, problem))
}

async fn store(acting: &mut Acting, key: &PersonalKey, item: &PersonalItem) -> Answer<PersonalItemRow> {
    let thing = Uuid::now_v7();
    let sealed = key.seal(&mut acting.app.rng()?, thing, 1, item)?;
    let row = PersonalItemRow { id: thing, organisation: acting.organisation(), person_id: acting.person.id, sealed, changed_at: acting.now, version: 1 };
    acting.tx()?.add_personal_item(&row).await?;
    Ok(row)
}

/// Adds something; without a password one is generated.
#[utoipa::path(context_path = "", request_body = NewPersonalThing, responses((status = 200, body = PersonalThing)))]
#[post("/api/v1/personal/items", data = "<body>")]
pub async fn add(body: Call<NewPersonalThing>) -> Answer<Versioned<PersonalThing>> {
    let Call(mut acting, body) = body;
    acting.intends("personal.add", "personal-folder", None, "");
    allowed(&mut acting).await?;
    let key = key(&acting)?;
    let mut item = PersonalItem::default();
    fill(&mut item, body)?;
    if item.password.is_empty() {
        let rule = judging::any_rule(acting.tx()?).await?;
        let made = generated(&acting, &rule, &item.user_name)?;
        made.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?.clone_into(&mut item.password);
    }
    let row = store(&mut acting, &key, &item).await?;
    acting.done().await?;
    Ok(Versioned(1, show(&row, &item)))
}

async fn own_thing(acting: &mut Acting, thing: &str) -> Answer<(PersonalKey, PersonalItemRow, PersonalItem)> {
    let (target, key, person) = (id(thing)?, key(acting)?, acting.person.id);
    let row = acting.tx()?.personal_item(person, target).await.map_err(|_| Fault::unknown("thing in your personal folder"))?;
    let item = key.open_item(row.id, row.version, &row.sealed)?;
    Ok((key, row, item))
}

/// Changes something.
#[utoipa::path(context_path = "", request_body = NewPersonalThing, responses((status = 200, body = PersonalThing)))]
#[patch("/api/v1/personal/items/<thing>", data = "<body>")]
pub async fn change(thing: &str, version: IfMatch, body: Call<NewPersonalThing>) -> Answer<Versioned<PersonalThing>> {
    let Call(mut acting, body) = body;
    acting.intends("personal.change", "personal-folder", None, "");
    allowed(&mut acting).await?;
    let (key, mut row, mut item) = own_thing(&mut acting, thing).await?;
    fill(&mut item, body)?;
    row.version = version.0;
    row.sealed = key.seal(&mut acting.app.rng()?, row.id, version.0 + 1, &item)?;
    row.changed_at = acting.now;
    acting.tx()?.change_personal_item(&row).await?;
    acting.done().await?;
    row.version += 1;
    Ok(Versioned(row.version, show(&row, &item)))
}

/// Removes something for good: there is no bin that others could look into.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[delete("/api/v1/personal/items/<thing>")]
pub async fn remove(mut acting: Acting, thing: &str, version: IfMatch) -> Answer<()> {
    acting.intends("personal.remove", "personal-folder", None, "");
    let (_, row, _) = own_thing(&mut acting, thing).await?;
    acting.tx()?.remove_personal_item(row.person_id, row.id, version.0).await?;
    acting.done().await?;
    Ok(())
}

/// Shows a secret of one's own, once its event is durable.
#[utoipa::path(context_path = "", responses((status = 200, body = Revealed)))]
#[post("/api/v1/personal/items/<thing>/reveal")]
pub async fn reveal(mut acting: Acting, thing: &str) -> Answer<Sent<Revealed>> {
    acting.intends("personal.reveal", "personal-folder", None, "");
    let (_, row, item) = own_thing(&mut acting, thing).await?;
    let (event, _) = acting.done().await?;
    Ok(Sent(Revealed { field: PASSWORD.into(), version: row.version, value: SecretText::new(item.password.clone()), event }))
}

/// Takes something out into a shared folder, as a login. Possible as well where personal folders are
/// no longer allowed.
#[utoipa::path(context_path = "", request_body = TakeOut, responses((status = 200)))]
#[post("/api/v1/personal/items/<thing>/take-out", data = "<body>")]
pub async fn take_out(thing: &str, body: Call<TakeOut>) -> Answer<()> {
    let Call(mut acting, body) = body;
    acting.intends("personal.take-out", "credential", None, "");
    allow_folder::<mark::Edit>(&mut acting, body.folder).await?;
    let (_, row, item) = own_thing(&mut acting, thing).await?;
    let kind = Kind::find("login").ok_or_else(|| Fault::internal("no logins"))?;
    let fields = [("user_name", &item.user_name), ("url", &item.url), ("note", &item.note)];
    let fields = fields.into_iter().filter(|(_, value)| !value.is_empty()).map(|(name, value)| (name.to_owned(), value.clone())).collect();
    kind.check_plain(&fields, &std::collections::BTreeMap::new(), &acting.readings).map_err(Fault::fields)?;
    let given = kind.read_secret(PASSWORD, &item.password, &acting.readings).map_err(|problem| Fault::field(PASSWORD, problem))?;
    let made = keep_new(&mut acting, &kind, body.folder, &item.name, &fields, vec![(PASSWORD.to_owned(), given, "typed")]).await?;
    acting.tx()?.remove_personal_item(row.person_id, row.id, row.version).await?;
    let path = format!("{}/{}", acting.tx()?.path_of(body.folder).await?, item.name);
    acting.naming(made, &path);
    acting.done().await?;
    Ok(())
}

/// Moves a shared login into one's own folder; it goes to the bin. That others lose it must be said.
#[utoipa::path(context_path = "", request_body = MoveIn, responses((status = 200, body = PersonalThing)))]
#[post("/api/v1/personal/move-in", data = "<body>")]
pub async fn move_in(body: Call<MoveIn>) -> Answer<Versioned<PersonalThing>> {
    let Call(mut acting, body) = body;
    let target = body.credential;
    acting.intends("personal.move-in", "credential", Some(target), "");
    allowed(&mut acting).await?;
    let key = key(&acting)?;
    let allowed = allow_credential::<mark::Steward>(&mut acting, target).await?;
    let (person, now) = (acting.person.id, acting.now);
    let row = acting.tx()?.credential_locked(target).await?;
    let path = format!("{}/{}", acting.tx()?.path_of(row.folder_id).await?, row.name);
    if row.device_id.is_some() || !acting.tx()?.attachments(target).await?.is_empty() {
        return Err(Fault::conflict(
            "not-personal",
            "It is an account of a device or has attachments.",
            "Only a login by itself can be moved into a personal folder.",
        ));
    }
    // Whoever reaches it now and is not the owner loses it.
    let reaching = acting.tx()?.grants_reaching(Target::Credential(target)).await?;
    let others: Vec<String> = reaching.iter().filter(|grant| grant.person_id != Some(person)).map(|grant| grant.subject_name.clone()).collect();
    if !others.is_empty() && !body.others_lose_it {
        return Err(Fault::conflict(
            "others-lose-it",
            format!("Others reach it and would lose it: {}.", others.join(", ")),
            "If that is meant, say so: --others-lose-it, or the box in the console.",
        ));
    }
    acting.noting("others", others.join(", "));
    let reach = acting.tx()?.reach_credential(person, target, now).await?.allow::<mark::Reveal>()?;
    debug_assert!(allowed.held() == Level::Steward);
    let passed = through_all(&mut acting, &reach).await?;
    let current = acting.tx()?.versions(target).await?.into_iter().find(|version| version.field == PASSWORD && version.state == "current");
    let number = current.ok_or_else(|| Fault::conflict("not-personal", "It has no password.", "Only a login can be moved into a personal folder."))?.number;
    let (sealed, _) = acting.tx()?.sealed_version(target, PASSWORD, number).await?;
    let place = Place { organisation: acting.organisation(), credential: target, field: PASSWORD, version: number };
    let mut item = PersonalItem::default();
    let text = |name: &str| Some(row.fields.get(name).and_then(serde_json::Value::as_str).unwrap_or_default().to_owned());
    let given = NewPersonalThing { name: Some(row.name.clone()), user_name: text("user_name"), url: text("url"), note: text("note"), password: None };
    fill(&mut item, given)?;
    let thing = Uuid::now_v7();
    let (wrapped, sealed) = (WrappedKey(row.data_key.clone()), Sealed(sealed));
    let sealed = key.take_in(&mut acting.app.rng()?, thing, &mut item, &passed, &acting.keys.key, &wrapped, &place, &sealed)?;
    let kept = PersonalItemRow { id: thing, organisation: acting.organisation(), person_id: person, sealed, changed_at: now, version: 1 };
    acting.tx()?.add_personal_item(&kept).await?;
    let going = removal(&acting, "credential", target, path, row.folder_id, 1);
    acting.tx()?.add_removal(&going).await?;
    acting.tx()?.remove_credential(target, row.version, going.id, now).await?;
    acting.done().await?;
    Ok(Versioned(1, show(&kept, &item)))
}
