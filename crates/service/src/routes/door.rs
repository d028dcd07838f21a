//! The door: status, set-up, opening the vault, signing in and out.

use chrono::{DateTime, TimeDelta, Utc};
use jexlin_api::{ChangePassword, LockVault, Me, SecretText, Setup, SignIn, SignedIn, Status, Unlock};
use jexlin_core::audit::{Event, Outcome, Signer};
use jexlin_core::names::{Name, check_note};
use jexlin_core::policy::PasswordPolicy;
use jexlin_core::secret::Secret;
use jexlin_core::vault::sign_in::{check_password, hash_password, new_token, verify_password};
use jexlin_core::vault::{OrganisationKey, RootKey};
use jexlin_store::{OrganisationRow, PersonRow, PolicyRow, SessionRow, Tx};
use rocket::http::{Cookie, CookieJar, SameSite};
use rocket::{Route, State, get, post, routes};
use uuid::Uuid;

use super::exchange::{Body, Call, Sent};
use crate::acting::{Acting, COOKIE, StrangerSlot, stranger_intends};
use crate::app::App;
use crate::keyring;
use crate::problem::{Answer, Fault};

/// The duties that there are.
pub const DUTIES: [&str; 7] = ["people", "folders", "access", "policy", "audit", "export", "recovery"];
/// After so many failures in a row, signing in has to wait.
const FREE_FAILURES: i32 = 5;

pub fn routes() -> Vec<Route> {
    routes![live, ready, status, setup, lock_vault, unlock, sign_in, sign_out, me, change_password]
}

/// A secret of the interface as one of core.
pub fn secret(text: &SecretText) -> Secret {
    Secret::from_text(text.expose_secret().to_owned())
}

#[get("/health/live")]
fn live() -> &'static str {
    "alive\n"
}

#[get("/health/ready")]
async fn ready(app: &State<App>) -> Answer<&'static str> {
    if !app.store.answers().await {
        return Err(Fault::unavailable("not ready: the database does not answer"));
    }
    if app.keyring.is_open() { Ok("ready\n") } else { Err(Fault::locked()) }
}

/// How the service is.
#[utoipa::path(context_path = "", responses((status = 200, body = Status)))]
#[get("/api/v1/status")]
pub async fn status(app: &State<App>) -> Sent<Status> {
    let version = env!("CARGO_PKG_VERSION").to_owned();
    let Ok(organisations) = app.store.organisations().await else {
        return Sent(Status { version, state: "no-database".into() });
    };
    let state = if organisations.is_empty() {
        "needs-setup"
    } else if app.keyring.is_open() {
        "ready"
    } else {
        "locked"
    };
    Sent(Status { version, state: state.into() })
}

/// First-run set-up: the organisation, its first administrator, and the root key.
#[utoipa::path(context_path = "", request_body = Setup, responses((status = 200, body = Status)))]
#[post("/api/v1/setup", data = "<body>")]
pub async fn setup(app: &State<App>, body: Body<Setup>, stranger: StrangerSlot) -> Answer<Sent<Status>> {
    let Body(body) = body;
    let mut opening = app.opening.lock().await;
    if !app.store.organisations().await?.is_empty() {
        return Err(Fault::conflict("already-set-up", "There is an organisation already.", "Sign in."));
    }
    if !opening.code.as_ref().is_some_and(|code| code.same_as(&secret(&body.code))) {
        return Err(Fault::forbidden("The set-up code is not the one that the service wrote.", "Read it from the file `setup-code` in the service's folder."));
    }
    let name = Name::parse(&body.organisation).map_err(|problem| Fault::field("organisation", problem.to_string()))?;
    let sign_in_name = Name::parse(&body.sign_in_name).map_err(|problem| Fault::field("sign_in_name", problem.to_string()))?;
    let display_name = Name::parse(&body.display_name).map_err(|problem| Fault::field("display_name", problem.to_string()))?;
    let password = secret(&body.password);
    check_password(&password).map_err(|problem| Fault::field("password", problem))?;

    let mut rng = app.rng()?;
    let (root, file) = if app.keyring.is_open() {
        (app.keyring.root_for_setup()?, None)
    } else {
        let passphrase = body.passphrase.as_ref().ok_or_else(|| Fault::field("passphrase", "the root key needs a passphrase"))?;
        let root = RootKey::generate(&mut rng);
        let file = root.protect(&mut rng, &secret(passphrase)).map_err(|problem| Fault::field("passphrase", problem.to_string()))?;
        (root, Some(file))
    };
    let organisation = Uuid::now_v7();
    let now = app.clock.now();
    let (key, wrapped) = OrganisationKey::generate(&mut rng, &root, organisation)?;
    let seed = jexlin_core::vault::Key::generate(&mut rng);
    let log_key_sealed = key.seal_signing_key(&mut rng, organisation, seed.expose_key())?;
    let log_origin = format!("jexlin/{organisation}");
    let signer = Signer::new(&log_origin, seed.expose_key());
    let administrator = PersonRow {
        id: Uuid::now_v7(),
        organisation,
        sign_in_name: sign_in_name.into_string(),
        display_name: display_name.into_string(),
        password_phc: Some(hash_password(&mut rng, &password).map_err(Fault::internal)?),
        state: "active".into(),
        duties: DUTIES.map(str::to_owned).to_vec(),
        created_at: now,
        version: 1,
        sort: "person".into(),
        secret_hash: None,
        sign_in_by: None,
    };
    let mut tx = app.store.begin(organisation).await?;
    tx.add_organisation(&OrganisationRow {
        id: organisation,
        name: name.as_str().to_owned(),
        wrapped_key: wrapped.0,
        log_origin,
        log_key_sealed: log_key_sealed.0,
        log_verifier: signer.verifier().to_text(),
        created_at: now,
        locked_at: None,
        root_key: root.name(),
        next_wrapped_key: None,
        next_root_key: None,
        key_number: key.number(),
        former_key: None,
    })
    .await?;
    tx.add_person(&administrator).await?;
    let rules = serde_json::to_value(PasswordPolicy::default()).map_err(|error| Fault::internal(error.to_string()))?;
    tx.add_policy(&PolicyRow { id: Uuid::now_v7(), organisation, name: "Standard".into(), rules, is_default: true, version: 1 }).await?;
    let mut event = Event::new(Uuid::now_v7(), organisation, now, "organisation.setup");
    event.actor = administrator.id.to_string();
    event.actor_name.clone_from(&administrator.display_name);
    event.origin.clone_from(&stranger.origin);
    event.target = organisation.to_string();
    event.target_kind = "organisation".into();
    event.target_name = name.into_string();
    tx.record(&event, &key.event_key()).await?;
    // The key file first: an organisation whose key was never written would be lost.
    if let Some(file) = file {
        let path = keyring::root_key_path(&app.config.folder);
        if path.exists() {
            return Err(Fault::conflict(
                "root-key-exists",
                "There is a root key file already, of another database perhaps.",
                "Move root-key.json away, or start with the database that it belongs to.",
            ));
        }
        keyring::write_private(&path, &file).map_err(|error| Fault::internal(format!("the root key file cannot be written: {error}")))?;
    }
    tx.commit_recorded().await?;
    app.keyring.open(root);
    opening.code = None;
    // Used up; an old file would only mislead.
    let _ = std::fs::remove_file(app.config.folder.join("setup-code"));
    drop(opening);
    Ok(status(app).await)
}

/// Locks the vault of the organisation on all services at once. They forget its keys, and until it is
/// unlocked with the root key's passphrase no service opens a secret, sends one to a device, or signs
/// anyone in.
#[utoipa::path(context_path = "", request_body = LockVault, responses((status = 200, body = Status)))]
#[post("/api/v1/lock", data = "<body>")]
pub async fn lock_vault(app: &State<App>, body: Call<LockVault>) -> Answer<Sent<Status>> {
    let Call(mut acting, body) = body;
    let organisation = acting.organisation();
    acting.intends("vault.lock", "organisation", Some(organisation), "");
    acting.duty("recovery")?;
    let reason = body.reason.trim();
    if reason.is_empty() {
        return Err(Fault::field("reason", "a reason is required; it is recorded in the audit log"));
    }
    check_note(reason).map_err(|problem| Fault::field("reason", problem))?;
    let name = acting.tx()?.organisation_row().await?.name;
    acting.naming(organisation, &name);
    acting.noting("reason", reason);
    let now = acting.now;
    acting.tx()?.set_locked(Some(now)).await?;
    acting.done().await?;
    crate::work::forget_locked_keys(app).await?;
    Ok(status(app).await)
}

/// Opens the vault with the root key's passphrase.
#[utoipa::path(context_path = "", request_body = Unlock, responses((status = 200, body = Status)))]
#[post("/api/v1/unlock", data = "<body>")]
pub async fn unlock(app: &State<App>, body: Body<Unlock>, stranger: StrangerSlot) -> Answer<Sent<Status>> {
    // One at a time: guessing costs a second of Argon2id each.
    let mut opening = app.opening.lock().await;
    let (organisations, open) = (app.store.organisations().await?, app.store.open_organisations().await?);
    // While the root key changes, the next one is opened beside the one that counts.
    let next = keyring::root_key_name_in(&keyring::next_root_key_path(&app.config.folder));
    let holds_next = next.is_none_or(|next| app.keyring.root_names().contains(&next));
    if app.keyring.is_open() && open.len() == organisations.len() && holds_next {
        return Ok(status(app).await);
    }
    if organisations.is_empty() {
        return Err(Fault::needs_setup());
    }
    let (folder, passphrase) = (app.config.folder.clone(), secret(&body.0.passphrase));
    let opened =
        tokio::task::spawn_blocking(move || keyring::read_root_keys(&folder, &passphrase)).await.map_err(|error| Fault::internal(error.to_string()))?;
    let roots = opened.inspect_err(|_| {
        opening.refused += 1;
        tracing::warn!(origin = %stranger.origin, "opening the vault was refused");
    })?;
    roots.into_iter().for_each(|root| app.keyring.open(root));
    open_all(app, &stranger.origin, opening.refused).await?;
    opening.refused = 0;
    drop(opening);
    crate::work::tell_of_this_service(app).await?;
    app.wake.notify_one();
    Ok(status(app).await)
}

/// Unlocks the vaults of all organisations with the open root key.
///
/// # Errors
/// When the root key is not the one of this database; then it is forgotten again.
pub async fn open_all(app: &App, origin: &str, refused: u32) -> Answer<()> {
    for (id, name) in app.store.organisations().await? {
        let mut tx = app.store.begin(id).await?;
        let row = tx.organisation_row().await?;
        if row.locked_at.is_some() {
            tx.set_locked(None).await?;
        }
        let keys = match app.keyring.open_organisation(&row) {
            Ok(keys) => keys,
            Err(fault) => {
                app.keyring.lock();
                return Err(fault);
            }
        };
        let mut event = Event::new(Uuid::now_v7(), id, app.clock.now(), "vault.unlock");
        event.origin = origin.to_owned();
        event.target = id.to_string();
        event.target_kind = "organisation".into();
        event.target_name = name;
        event.detail.insert("refused_before".into(), refused.to_string());
        event.detail.insert("root_keys".into(), app.keyring.root_names().join(", "));
        if let Some(at) = row.locked_at {
            event.detail.insert("locked_since".into(), at.to_rfc3339());
        }
        tx.commit_with(&event, &keys.mac).await?;
    }
    Ok(())
}

async fn find_organisation(app: &App, named: Option<&str>) -> Answer<(Uuid, String)> {
    let organisations = app.store.organisations().await?;
    if organisations.is_empty() {
        return Err(Fault::needs_setup());
    }
    match named.filter(|name| !name.is_empty()) {
        Some(name) => organisations.into_iter().find(|(_, known)| known.to_lowercase() == name.to_lowercase()).ok_or_else(Fault::sign_in),
        None if organisations.len() == 1 => organisations.into_iter().next().ok_or_else(Fault::sign_in),
        None => Err(Fault::field("organisation", "there are several organisations; name one")),
    }
}

/// How long the next sign-in must wait after so many failures beyond those that are free: doubling from
/// 2 seconds to 15 minutes.
pub fn wait_after(failures: i32, last: DateTime<Utc>, now: DateTime<Utc>) -> Option<i64> {
    let beyond = u32::try_from(failures - FREE_FAILURES).ok()?;
    let seconds = (2_i64 << beyond.min(9)).min(900);
    // A failure from a time that is still to come was noted before the clock jumped back. Waiting
    // for that time could take years: the next try is let through and noted at the right time. The
    // clocks of two services may differ by a little.
    if last > now + TimeDelta::minutes(1) {
        return None;
    }
    let left = (last + TimeDelta::seconds(seconds) - now).num_seconds().min(seconds);
    (left > 0).then_some(left)
}

pub(super) async fn check_throttle(tx: &mut Tx, keys: &[String], now: DateTime<Utc>) -> Answer<()> {
    for key in keys {
        if let Some(throttle) = tx.throttle(key).await?
            && let Some(seconds) = wait_after(throttle.failures, throttle.last_failure_at, now)
        {
            return Err(Fault::throttled(seconds));
        }
    }
    Ok(())
}

/// What slows guesses of one sign-in down.
///
/// A pair of name and address is slowed after a few failures. A name that is guessed from many
/// addresses, and an address that guesses many names, are slowed after more, and only where that name
/// has never signed in from that address: so neither keeps out those who are at home there.
pub struct Tries {
    pair: String,
    name: String,
    wide: [String; 2],
    origin: String,
    known: bool,
}

/// Failures of a name from anywhere, and of an address with any name, that slow nobody.
const FREE_WIDE: i32 = 25;
/// The longest wait that one address, or guesses at one name, can put on strangers there.
const LONGEST_WIDE: i64 = 60;
/// So long an address stays known.
const KNOWN_FOR: TimeDelta = TimeDelta::days(90);

impl Tries {
    /// Demands that the next try may be made now, and notes it as failed.
    pub async fn begin(tx: &mut Tx, kind: &str, name: &str, origin: &str, now: DateTime<Utc>) -> Answer<Self> {
        let known = tx.has_signed_in_from(name, origin, now - KNOWN_FOR).await?;
        let tries = Self {
            pair: format!("{kind}:{name} from {origin}"),
            name: name.to_owned(),
            wide: [format!("{kind}:{name}"), format!("address:{origin}")],
            origin: origin.to_owned(),
            known,
        };
        check_throttle(tx, std::slice::from_ref(&tries.pair), now).await?;
        for key in &tries.wide {
            let before = tx.throttle(key).await?;
            // An hour without a failure forgives.
            let failures = before.as_ref().filter(|before| now - before.last_failure_at < TimeDelta::hours(1)).map_or(0, |before| before.failures);
            if let (false, Some(before)) = (known, &before)
                && let Some(seconds) = wait_after(failures - FREE_WIDE + FREE_FAILURES, before.last_failure_at, now)
            {
                let left = (before.last_failure_at + TimeDelta::seconds(LONGEST_WIDE) - now).num_seconds();
                if left > 0 {
                    return Err(Fault::throttled(seconds.min(left)));
                }
            }
            tx.note_failure(key, failures.saturating_add(1), now).await?;
        }
        let failures = tx.throttle(&tries.pair).await?.map_or(0, |throttle| throttle.failures);
        tx.note_failure(&tries.pair, failures.saturating_add(1), now).await?;
        Ok(tries)
    }

    /// It was right: this try is taken back, and the address is known from now on. What else an address
    /// has tried stays noted.
    pub async fn succeed(&self, tx: &mut Tx, now: DateTime<Utc>) -> Answer<()> {
        tx.forget_failures(&self.pair).await?;
        for key in &self.wide {
            tx.take_failure_back(key).await?;
        }
        if !self.known || !self.origin.is_empty() {
            tx.note_signed_in_from(&self.name, &self.origin, now).await?;
        }
        Ok(())
    }
}

/// Signs in.
#[utoipa::path(context_path = "", request_body = SignIn, responses((status = 200, body = SignedIn)))]
#[post("/api/v1/sign-in", data = "<body>")]
pub async fn sign_in(app: &State<App>, body: Body<SignIn>, stranger: StrangerSlot, cookies: &CookieJar<'_>) -> Answer<Sent<SignedIn>> {
    let Body(body) = body;
    if !app.keyring.is_open() {
        return Err(if app.store.organisations().await?.is_empty() { Fault::needs_setup() } else { Fault::locked() });
    }
    let channel = match body.channel.as_str() {
        channel @ ("console" | "client") => channel.to_owned(),
        _ => return Err(Fault::field("channel", "it is `console` or `client`")),
    };
    let (organisation, organisation_name) = find_organisation(app, body.organisation.as_deref()).await?;
    stranger_intends(&stranger, organisation, &body.sign_in_name, "session.sign-in");
    let now = app.clock.now();
    let name = body.sign_in_name.trim().to_lowercase();
    let name: String = name.chars().take(200).collect();
    // The console's cookie comes from the console alone: no other site signs its visitor in here.
    if channel == "console" && !stranger.from_console {
        return Err(Fault::forbidden("A sign-in to the console did not come from the console.", "Use the console, or the channel `client`."));
    }

    // The throttle is read and a failure noted beforehand in one transaction, so that a hundred
    // guesses at the same moment do not all pass; a success takes the note back.
    let mut tx = app.store.begin(organisation).await?;
    let tries = Tries::begin(&mut tx, "person", &name, &stranger.origin, now).await?;
    let person = tx.person_by_name(&name).await?;
    tx.commit().await?;

    let permit = app.hashing.acquire().await.map_err(|error| Fault::internal(error.to_string()))?;
    let phc = person.as_ref().filter(|person| person.state == "active").and_then(|person| person.password_phc.clone());
    let password = secret(&body.password);
    // A name that nobody has takes as long as one that somebody has.
    let verified = tokio::task::spawn_blocking(move || {
        let known = phc.is_some();
        let stand_in = "$argon2id$v=19$m=19456,t=2,p=1$c29tZS1zYWx0LWZvci1uby1vbmU$lm6aDrbB/8Wme8jM8CqsfWl0ocIKCmsUEcfPRgd8MDw".to_owned();
        verify_password(&phc.unwrap_or(stand_in), &password) && known
    })
    .await
    .map_err(|error| Fault::internal(error.to_string()))?;
    drop(permit);
    let Some(person) = person.filter(|_| verified) else { return Err(Fault::sign_in()) };

    let keys = app.keyring.keys(&app.store, organisation).await?;
    let mut rng = app.rng()?;
    let (token, hash) = new_token(&mut rng, organisation);
    let ends_at = now + TimeDelta::hours(app.config.session_hours);
    let session = SessionRow {
        id: Uuid::now_v7(),
        organisation,
        person_id: person.id,
        token_hash: hash.to_vec(),
        channel: channel.clone(),
        created_at: now,
        last_used_at: now,
        ends_at,
        ended_at: None,
    };
    let mut event = Event::new(Uuid::now_v7(), organisation, now, "session.sign-in");
    event.actor = person.id.to_string();
    event.actor_name.clone_from(&person.display_name);
    event.origin.clone_from(&stranger.origin);
    event.target = person.id.to_string();
    event.target_kind = "person".into();
    event.target_name.clone_from(&person.sign_in_name);
    event.outcome = Outcome::Done;
    event.detail.insert("channel".into(), channel.clone());
    let mut tx = app.store.begin(organisation).await?;
    tries.succeed(&mut tx, now).await?;
    tx.add_session(&session).await?;
    tx.commit_with(&event, &keys.mac).await?;

    let token = SecretText::new(token.expose_secret_text().map_err(|error| Fault::internal(error.to_string()))?.to_owned());
    let token = if channel == "console" {
        let cookie =
            Cookie::build((COOKIE, token.expose_secret().to_owned())).path("/").http_only(true).same_site(SameSite::Strict).secure(app.config.secure_cookies);
        cookies.add(cookie);
        None
    } else {
        Some(token)
    };
    Ok(Sent(SignedIn { token, ends_at, me: me_of(&person, organisation_name) }))
}

fn me_of(person: &PersonRow, organisation: String) -> Me {
    Me { id: person.id, sign_in_name: person.sign_in_name.clone(), display_name: person.display_name.clone(), duties: person.duties.clone(), organisation }
}

/// Signs out; the session is over at once.
#[utoipa::path(context_path = "", responses((status = 200)))]
#[post("/api/v1/sign-out")]
pub async fn sign_out(mut acting: Acting, cookies: &CookieJar<'_>) -> Answer<()> {
    let (person, name, session, now) = (acting.person.id, acting.person.sign_in_name.clone(), acting.session.id, acting.now);
    acting.intends("session.sign-out", "person", Some(person), &name);
    acting.tx()?.end_session(session, now).await?;
    // The session ends with this very act.
    acting.tx()?.answer_to(None);
    acting.done().await?;
    acting.app.personal.close(session);
    cookies.remove(Cookie::build(COOKIE).path("/"));
    Ok(())
}

/// Who is signed in.
#[utoipa::path(context_path = "", responses((status = 200, body = Me)))]
#[get("/api/v1/me")]
pub async fn me(mut acting: Acting) -> Answer<Sent<Me>> {
    acting.seen().await?;
    Ok(Sent(me_of(&acting.person, acting.keys.name.clone())))
}

/// Changes one's own sign-in password; all other sessions end.
#[utoipa::path(context_path = "", request_body = ChangePassword, responses((status = 200)))]
#[post("/api/v1/me/password", data = "<body>")]
pub async fn change_password(body: Call<ChangePassword>) -> Answer<()> {
    let Call(mut acting, body) = body;
    let (id, name) = (acting.person.id, acting.person.sign_in_name.clone());
    acting.intends("person.password", "person", Some(id), &name);
    let (present, new) = (secret(&body.present), secret(&body.new));
    check_password(&new).map_err(|problem| Fault::field("new", problem))?;
    // A stolen session does not guess the present password.
    let (organisation, now) = (acting.organisation(), acting.now);
    let tries = format!("present:{id}");
    let mut tx = acting.app.store.begin(organisation).await?;
    check_throttle(&mut tx, std::slice::from_ref(&tries), now).await?;
    let failures = tx.throttle(&tries).await?.map_or(0, |throttle| throttle.failures);
    tx.note_failure(&tries, failures.saturating_add(1), now).await?;
    tx.commit().await?;
    let phc = acting.person.password_phc.clone().unwrap_or_default();
    let permit = acting.app.hashing.clone().acquire_owned().await.map_err(|error| Fault::internal(error.to_string()))?;
    let mut rng = acting.app.rng()?;
    let hashed = tokio::task::spawn_blocking(move || verify_password(&phc, &present).then(|| hash_password(&mut rng, &new))).await;
    drop(permit);
    let hashed = hashed.map_err(|error| Fault::internal(error.to_string()))?;
    let hashed = hashed.ok_or_else(|| Fault::forbidden("The present password is not right.", "Check it; nothing was changed."))?.map_err(Fault::internal)?;
    let row = PersonRow { password_phc: Some(hashed), ..acting.person.clone() };
    let (session, now) = (acting.session.id, acting.now);
    acting.tx()?.forget_failures(&tries).await?;
    acting.tx()?.change_person(&row).await?;
    acting.tx()?.end_sessions_of(id, Some(session), now).await?;
    acting.done().await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waiting_doubles_and_is_bounded() {
        let now = Utc::now();
        assert_eq!(wait_after(4, now, now), None);
        let waits: Vec<_> = (5..20).map(|failures| wait_after(failures, now, now).unwrap_or(0)).collect();
        assert!(waits.windows(2).all(|pair| pair[0] <= pair[1]), "{waits:?}");
        assert_eq!((waits[0], waits[14]), (2, 900));
        assert_eq!(wait_after(9, now - TimeDelta::hours(1), now), None);
        assert_eq!(wait_after(9, now + TimeDelta::days(400), now), None, "a clock that jumped back");
        assert!(wait_after(9, now + TimeDelta::seconds(20), now).is_some(), "another service's clock");
    }
}
