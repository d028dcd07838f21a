//! What the commands do.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;
use std::path::Path;

use clap::CommandFactory as _;
use jexlin_api::{
    AuditEvent, AuditKey, ChangeCredential, ChangeDevice, ChangeFolder, ChangePassword, ChangePerson, Checkout as CheckoutItem, Credential as CredentialItem,
    CredentialItem as Listed, Decide, Device as DeviceItem, Explanation, Folder as FolderItem, Gate as GateItem, Generated, Grant as GrantItem,
    Group as GroupItem, Job, Kind, Level, Me, NewCheckout, NewCredential, NewDevice, NewFolder, NewGate, NewGrant, NewGroup, NewJob, NewPasswordPolicy,
    NewPerson, NewPlan, NewRequest, OneTimeCode, PasswordPolicy, Person, Plan as PlanItem, PlanRules, Request as RequestItem, Reveal, Revealed, SecretText,
    Setup, SignIn, SignedIn, Status, Unlock, Upkeep as UpkeepItem, Version, parse_path, proof,
};
use serde_json::{Value, json};
use uuid::Uuid;

use crate::cli::{
    Audit, Checkout, Cli, Command, Credential, Device, Folder, Format, Gate, GateArgs, Grant, Group, People, Place, Plan, PlanArgs, Policy, PolicyRules,
    Request, SetupArgs, Upkeep, Who,
};
use crate::find;
use crate::link::{Link, query};
use crate::output::{self, Column, say};
use crate::secrets;
use crate::trouble::Trouble;

type Done = Result<(), Trouble>;

/// Runs a command.
pub fn run(cli: Cli) -> Done {
    if let Command::Completions { shell } = cli.command {
        clap_complete::generate(shell, &mut Cli::command(), "jexlin", &mut std::io::stdout());
        return Ok(());
    }
    if let Command::Audit(Audit::Verify { file, key_file }) = &cli.command {
        return verify(cli.output, file, key_file);
    }
    let link = Link::open(cli.service)?;
    let run = Run { link, format: cli.output };
    match cli.command {
        Command::Setup(args) => run.setup(args),
        Command::Unlock { passphrase_file } => {
            let passphrase = secrets::read("Passphrase of the root key", passphrase_file.as_deref(), false)?;
            let status: Status = run.link.post("/api/v1/unlock", &Unlock { passphrase })?;
            say(&format!("The vault is {}.", if status.state == "ready" { "open" } else { &status.state }))
        }
        Command::Status => {
            let status: Status = run.link.get("/api/v1/status")?;
            output::one(run.format, &status, &[("state", "state"), ("organisations", "organisations"), ("version", "version")])
        }
        Command::SignIn { name, organisation, password } => run.sign_in(name, organisation, password.password_file.as_deref()),
        Command::SignOut => {
            run.link.post::<Value>("/api/v1/sign-out", &json!({}))?;
            run.link.forget()?;
            say("Signed out.")
        }
        Command::Me => {
            let me: Me = run.link.get("/api/v1/me")?;
            output::one(run.format, &me, &[("name", "display_name"), ("sign-in name", "sign_in_name"), ("organisation", "organisation"), ("duties", "duties")])
        }
        Command::Password { present_file, new_file } => {
            let present = secrets::read("Present password", present_file.as_deref(), false)?;
            let new = secrets::read("New password", new_file.as_deref(), true)?;
            run.link.post::<Value>("/api/v1/me/password", &ChangePassword { present, new })?;
            say("Your password is changed; your other sessions have ended.")
        }
        Command::People(command) => run.people(command),
        Command::Group(command) => run.group(command),
        Command::Folder(command) => run.folder(command),
        Command::Find { text } => run.listed(&format!("/api/v1/credentials?find={}", query(&text)), "Nothing that you may know of holds this text."),
        Command::Credential(command) => run.credential(*command),
        Command::Code { path } => run.code(&path),
        Command::Reveal { path, field, version } => run.reveal(&path, field, version),
        Command::Generate { policy } => run.generate(policy),
        Command::Policy(command) => run.policy(command),
        Command::Grant(command) => run.grant(command),
        Command::Explain { person, path } => run.explain(&person, &path),
        Command::Device(command) => run.device(command),
        Command::Plan(command) => run.plan(command),
        Command::Upkeep(command) => run.upkeep(command),
        Command::Gate(command) => run.gate(command),
        Command::Request(command) => run.request(command),
        Command::Checkout(command) => run.checkout(command),
        Command::Audit(command) => run.audit(command),
        Command::Completions { .. } => Ok(()),
    }
}

struct Run {
    link: Link,
    format: Format,
}

const PERSON: [Column; 5] = [("name", "sign_in_name"), ("display name", "display_name"), ("state", "state"), ("duties", "duties"), ("id", "id")];
const LISTED: [Column; 7] =
    [("name", "name"), ("folder", "place"), ("user", "user_name"), ("device", "device"), ("check", "check"), ("gate", "gated"), ("level", "level")];
const JOB: [Column; 8] = [
    ("queued", "queued_at"),
    ("task", "task"),
    ("credential", "credential_path"),
    ("device", "device"),
    ("state", "state"),
    ("outcome", "outcome"),
    ("cause", "cause"),
    ("message", "message"),
];
const REQUEST: [Column; 8] = [
    ("id", "id"),
    ("state", "state"),
    ("credential", "credential_path"),
    ("who", "person_name"),
    ("minutes", "minutes"),
    ("reason", "reason"),
    ("asked", "asked_at"),
    ("comment", "comment"),
];
const CHECKOUT: [Column; 7] = [
    ("id", "id"),
    ("credential", "credential_path"),
    ("holder", "person_name"),
    ("from", "starts_at"),
    ("until", "ends_at"),
    ("ended", "ended_how"),
    ("reason", "reason"),
];
const GRANT: [Column; 6] = [("level", "level"), ("to", "subject_name"), ("stands on", "place"), ("until", "ends_at"), ("note", "note"), ("id", "id")];

impl Run {
    fn setup(&self, args: SetupArgs) -> Done {
        let code = secrets::read("Set-up code (from the file `setup-code` in the service's folder)", args.code_file.as_deref(), false)?;
        let password = secrets::read("Password of the first administrator", args.password_file.as_deref(), true)?;
        let passphrase =
            if args.managed_key { None } else { Some(secrets::read("Passphrase to protect the root key with", args.passphrase_file.as_deref(), true)?) };
        let body = Setup { code, organisation: args.organisation, sign_in_name: args.name, display_name: args.display_name, password, passphrase };
        let status: Status = self.link.post("/api/v1/setup", &body)?;
        say(&format!(
            "{} is set up. Keep a copy of root-key.json and its passphrase apart from the database's backups: without both, nothing can be opened.",
            status.organisations.join(", ")
        ))
    }

    fn sign_in(&self, name: String, organisation: Option<String>, file: Option<&Path>) -> Done {
        let password = secrets::read(&format!("Password of {name}"), file, false)?;
        let signed: SignedIn = self.link.post("/api/v1/sign-in", &SignIn { organisation, sign_in_name: name, password, channel: "client".into() })?;
        let token = signed.token.ok_or_else(|| Trouble::local("The service sent no token."))?;
        self.link.keep(token)?;
        say(&format!("Signed in to {} as {} until {}.", signed.me.organisation, signed.me.display_name, signed.ends_at.format("%Y-%m-%d %H:%M UTC")))
    }

    fn people(&self, command: People) -> Done {
        match command {
            People::List => output::list(self.format, &self.link.list::<Person>("/api/v1/people", None)?, &PERSON, "There is nobody."),
            People::Add { name, display_name, with_password, duties, password } => {
                let password = if with_password || password.password_file.is_some() {
                    Some(secrets::read(&format!("First password of {name}"), password.password_file.as_deref(), true)?)
                } else {
                    None
                };
                let person: Person = self.link.post("/api/v1/people", &NewPerson { sign_in_name: name, display_name, password, duties })?;
                output::one(self.format, &person, &PERSON)
            }
            People::Change { name, state, display_name, duties, with_password, password } => {
                let person = find::person(&self.link, &name)?;
                let password = if with_password || password.password_file.is_some() {
                    Some(secrets::read(&format!("New password of {name}"), password.password_file.as_deref(), true)?)
                } else {
                    None
                };
                let person: Person = self.link.change(
                    "PATCH",
                    &format!("/api/v1/people/{}", person.id),
                    &ChangePerson { display_name, state, duties, password },
                    person.version,
                )?;
                output::one(self.format, &person, &PERSON)
            }
        }
    }

    fn subject(&self, who: &Who) -> Result<Uuid, Trouble> {
        match (&who.person, &who.group) {
            (Some(name), _) => Ok(find::person(&self.link, name)?.id),
            (None, Some(name)) => Ok(find::group(&self.link, name)?.id),
            (None, None) => Err(Trouble::input("Nobody is named.", "Name a person or a group.")),
        }
    }

    fn group(&self, command: Group) -> Done {
        let columns: [Column; 3] = [("name", "name"), ("members", "members"), ("id", "id")];
        let shown = match command {
            Group::List => {
                return output::list(
                    self.format,
                    &self.link.list::<GroupItem>("/api/v1/groups", None)?,
                    &columns,
                    "There are no groups yet. Add one: jexlin group add NAME",
                );
            }
            Group::Add { name } => self.link.post::<GroupItem>("/api/v1/groups", &NewGroup { name })?,
            Group::Rename { name, new_name } => {
                let group = find::group(&self.link, &name)?;
                self.link.change("PATCH", &format!("/api/v1/groups/{}", group.id), &NewGroup { name: new_name }, group.version)?
            }
            Group::Remove { name } => {
                let group = find::group(&self.link, &name)?;
                self.link.delete(&format!("/api/v1/groups/{}", group.id), Some(group.version))?;
                return say(&format!("The group {} is removed, and the grants to it have ended.", group.name));
            }
            Group::Join { name, who } => self.link.put(&format!("/api/v1/groups/{}/members/{}", find::group(&self.link, &name)?.id, self.subject(&who)?))?,
            Group::Leave { name, who } => {
                let group = find::group(&self.link, &name)?;
                self.link.delete(&format!("/api/v1/groups/{}/members/{}", group.id, self.subject(&who)?), None)?;
                find::group(&self.link, &name)?
            }
        };
        output::one(self.format, &shown, &columns)
    }

    fn folder(&self, command: Folder) -> Done {
        let columns: [Column; 3] = [("path", "path"), ("closed", "closed"), ("level", "level")];
        let change = |path: &str, body: ChangeFolder| -> Result<FolderItem, Trouble> {
            let folder = find::folder(&self.link, path)?;
            self.link.change("PATCH", &format!("/api/v1/folders/{}", folder.id), &body, folder.version)
        };
        let shown: FolderItem = match command {
            Folder::List => {
                return output::list(self.format, &self.link.list::<FolderItem>("/api/v1/folders", None)?, &columns, "There is no folder that you may see.");
            }
            Folder::Add { path, closed } => {
                let names =
                    parse_path(&path).map_err(|problem| Trouble::input(format!("{path}: {problem}."), "Write a path such as \"/Pumping/North ridge\"."))?;
                let (name, above) = names.split_last().ok_or_else(|| Trouble::input("The path is empty.", "Write a path such as \"/Pumping/North ridge\"."))?;
                let above = above.iter().map(|name| name.as_str()).collect::<Vec<_>>().join("/");
                let parent = if above.is_empty() { None } else { Some(find::folder(&self.link, &above)?.id) };
                self.link.post("/api/v1/folders", &NewFolder { parent, name: name.as_str().to_owned(), closed })?
            }
            Folder::Rename { path, name } => change(&path, ChangeFolder { name: Some(name), ..Default::default() })?,
            Folder::Move { path, to } if to.trim() == "/" => change(&path, ChangeFolder { to_top: true, ..Default::default() })?,
            Folder::Move { path, to } => change(&path, ChangeFolder { parent: Some(find::folder(&self.link, &to)?.id), ..Default::default() })?,
            Folder::Close { path } => change(&path, ChangeFolder { closed: Some(true), ..Default::default() })?,
            Folder::Open { path } => change(&path, ChangeFolder { closed: Some(false), ..Default::default() })?,
            Folder::Remove { path } => {
                let folder = find::folder(&self.link, &path)?;
                self.link.delete(&format!("/api/v1/folders/{}", folder.id), Some(folder.version))?;
                return say(&format!("{} is removed.", folder.path));
            }
        };
        output::one(self.format, &shown, &columns)
    }

    fn listed(&self, path: &str, none: &str) -> Done {
        output::list(self.format, &self.link.list::<Listed>(path, None)?, &LISTED, none)
    }

    fn show_credential(&self, shown: &CredentialItem) -> Done {
        let columns: [Column; 21] = [
            ("name", "name"),
            ("folder", "place"),
            ("kind", "kind"),
            ("user", "fields/user_name"),
            ("url", "fields/url"),
            ("address", "fields/address"),
            ("database", "fields/database"),
            ("domain", "fields/domain"),
            ("product", "fields/product"),
            ("licensed to", "fields/licensed_to"),
            ("expires", "fields/expires"),
            ("note", "fields/note"),
            ("secret fields", "secret_fields"),
            ("device", "device_name"),
            ("your level", "level"),
            ("gate", "gate/place"),
            ("last check", "upkeep/check_outcome"),
            ("checked", "upkeep/checked_at"),
            ("last rotated", "upkeep/rotated_at"),
            ("next rotation", "upkeep/next_rotation_at"),
            ("version", "version"),
        ];
        output::one(self.format, shown, &columns)
    }

    fn credential(&self, command: Credential) -> Done {
        match command {
            Credential::List { folder: None } => self.listed("/api/v1/credentials", "There is no credential that you may know of."),
            Credential::List { folder: Some(path) } => self.listed(
                &format!("/api/v1/credentials?folder={}", find::folder(&self.link, &path)?.id),
                "The folder holds no credential that you may know of. Add one: jexlin credential add",
            ),
            Credential::Show { path } => self.show_credential(&self.link.get(&format!("/api/v1/credentials/{}", find::credential(&self.link, &path)?))?),
            Credential::Add { path, kind, user, url, note, set, secret_file, device, type_password, password } => {
                let names = parse_path(&path)
                    .map_err(|problem| Trouble::input(format!("{path}: {problem}."), "Write a path such as \"/Pumping/North ridge/duty\"."))?;
                let (name, folder) =
                    names.split_last().ok_or_else(|| Trouble::input("The path is empty.", "Write a path such as \"/Pumping/North ridge/duty\"."))?;
                let folder = find::folder(&self.link, &folder.iter().map(|name| name.as_str()).collect::<Vec<_>>().join("/"))?;
                let device = device.map(|path| find::device(&self.link, &path)).transpose()?;
                let typed = type_password || password.password_file.is_some();
                let password = if typed { Some(secrets::read("Password to keep", password.password_file.as_deref(), true)?) } else { None };
                let body = NewCredential {
                    folder: folder.id,
                    kind,
                    name: name.as_str().to_owned(),
                    fields: fields(user, url, note, set)?,
                    password,
                    secrets: secret_files(secret_file)?,
                    device,
                };
                self.show_credential(&self.link.post("/api/v1/credentials", &body)?)
            }
            Credential::Edit { path, name, user, url, note, set, secret_file, device, no_device, type_password, generate, if_version, password } => {
                let id = find::credential(&self.link, &path)?;
                let present: CredentialItem = self.link.get(&format!("/api/v1/credentials/{id}"))?;
                let device = device.map(|path| find::device(&self.link, &path)).transpose()?;
                let typed = type_password || password.password_file.is_some();
                let password = if typed { Some(secrets::read("New password to keep", password.password_file.as_deref(), true)?) } else { None };
                let body = ChangeCredential {
                    name,
                    folder: None,
                    fields: fields(user, url, note, set)?,
                    password,
                    secrets: secret_files(secret_file)?,
                    generate,
                    device,
                    no_device,
                };
                self.show_credential(&self.link.change("PATCH", &format!("/api/v1/credentials/{id}"), &body, if_version.unwrap_or(present.version))?)
            }
            Credential::Move { path, to } => {
                let id = find::credential(&self.link, &path)?;
                let present: CredentialItem = self.link.get(&format!("/api/v1/credentials/{id}"))?;
                let body = ChangeCredential { folder: Some(find::folder(&self.link, &to)?.id), ..Default::default() };
                self.show_credential(&self.link.change("PATCH", &format!("/api/v1/credentials/{id}"), &body, present.version)?)
            }
            Credential::Remove { path } => {
                let id = find::credential(&self.link, &path)?;
                let present: CredentialItem = self.link.get(&format!("/api/v1/credentials/{id}"))?;
                self.link.delete(&format!("/api/v1/credentials/{id}"), Some(present.version))?;
                say(&format!("{}/{} is removed.", present.place, present.name))
            }
            Credential::History { path } => {
                let rows: Vec<Version> = self.link.list(&format!("/api/v1/credentials/{}/history", find::credential(&self.link, &path)?), None)?;
                output::list(
                    self.format,
                    &rows,
                    &[("field", "field"), ("version", "number"), ("state", "state"), ("made", "made_at"), ("by", "made_by"), ("how", "made_how")],
                    "There is no history.",
                )
            }
            Credential::Kinds => output::list(
                self.format,
                &self.link.list::<Kind>("/api/v1/kinds", None)?,
                &[("kind", "name"), ("label", "label"), ("fields", "fields")],
                "There are no kinds.",
            ),
        }
    }

    fn reveal(&self, path: &str, field: String, version: Option<i32>) -> Done {
        let id = find::credential(&self.link, path)?;
        let shown: Revealed = self.link.post(&format!("/api/v1/credentials/{id}/reveal"), &Reveal { field: Some(field), version })?;
        if self.format == Format::Json { output::one(self.format, &shown, &[]) } else { say(shown.value.expose_secret()) }
    }

    /// The code goes to standard output, how long it lasts to standard error, so that a pipe gets
    /// the code alone.
    fn code(&self, path: &str) -> Done {
        let id = find::credential(&self.link, path)?;
        let code: OneTimeCode = self.link.post(&format!("/api/v1/credentials/{id}/code"), &serde_json::json!({}))?;
        if self.format == Format::Json {
            return output::one(self.format, &code, &[]);
        }
        say(code.digits.expose_secret())?;
        eprintln!("Good for {} more seconds.", code.left);
        Ok(())
    }

    fn policy_id(&self, name: &str) -> Result<PasswordPolicy, Trouble> {
        let all: Vec<PasswordPolicy> = self.link.list("/api/v1/password-policies", None)?;
        all.into_iter()
            .find(|policy| policy.name.to_lowercase() == name.to_lowercase())
            .ok_or_else(|| Trouble::unknown(format!("There is no password policy {name}."), "See what there is: jexlin policy list"))
    }

    fn generate(&self, policy: Option<String>) -> Done {
        let id = policy.map(|name| self.policy_id(&name)).transpose()?.map(|policy| policy.id.to_string()).unwrap_or_default();
        let made: Generated = self.link.post(&format!("/api/v1/generate?policy={id}"), &json!({}))?;
        if self.format == Format::Json { output::one(self.format, &made, &[]) } else { say(made.password.expose_secret()) }
    }

    fn policy(&self, command: Policy) -> Done {
        let columns: [Column; 9] = [
            ("name", "name"),
            ("default", "is_default"),
            ("length", "rules/length"),
            ("shortest", "rules/shortest"),
            ("small", "rules/lower"),
            ("capital", "rules/upper"),
            ("digits", "rules/digits"),
            ("symbols", "rules/symbols_least"),
            ("of", "rules/symbols"),
        ];
        let body = |name: &str, rules: PolicyRules| -> Result<NewPasswordPolicy, Trouble> {
            let rules = json!({"length": rules.length, "shortest": rules.shortest, "lower": rules.lower, "upper": rules.upper, "digits": rules.digits,
                "symbols_least": rules.symbols_least, "symbols": rules.symbols, "no_look_alikes": !rules.look_alikes});
            serde_json::from_value(json!({"name": name, "rules": rules})).map_err(|error| Trouble::input(error.to_string(), "Check the numbers."))
        };
        let shown: PasswordPolicy = match command {
            Policy::List => {
                return output::list(self.format, &self.link.list::<PasswordPolicy>("/api/v1/password-policies", None)?, &columns, "There are no policies.");
            }
            Policy::Add { name, rules } => self.link.post("/api/v1/password-policies", &body(&name, rules)?)?,
            Policy::Change { name, rules } => {
                let present = self.policy_id(&name)?;
                self.link.change("PUT", &format!("/api/v1/password-policies/{}", present.id), &body(&present.name, rules)?, present.version)?
            }
        };
        output::one(self.format, &shown, &columns)
    }

    fn place(&self, place: &Place) -> Result<(Option<Uuid>, Option<Uuid>), Trouble> {
        let folder = place.folder.as_ref().map(|path| find::folder(&self.link, path)).transpose()?.map(|folder| folder.id);
        let credential = place.credential.as_ref().map(|path| find::credential(&self.link, path)).transpose()?;
        Ok((folder, credential))
    }

    fn grant(&self, command: Grant) -> Done {
        match command {
            Grant::List { place } => {
                let address = match self.place(&place)? {
                    (Some(folder), _) => format!("/api/v1/grants?folder={folder}"),
                    (None, credential) => format!("/api/v1/grants?credential={}", credential.unwrap_or_default()),
                };
                output::list(self.format, &self.link.list::<GrantItem>(&address, None)?, &GRANT, "No grant reaches this.")
            }
            Grant::Give { level, place, who, until, note } => {
                let level: Level = level.parse().map_err(|problem: String| Trouble::input(format!("{problem}."), "Name one of them."))?;
                let (folder, credential) = self.place(&place)?;
                let person = who.person.as_ref().map(|name| find::person(&self.link, name)).transpose()?.map(|person| person.id);
                let group = who.group.as_ref().map(|name| find::group(&self.link, name)).transpose()?.map(|group| group.id);
                let shown: GrantItem = self.link.post("/api/v1/grants", &NewGrant { folder, credential, person, group, level, ends_at: until, note })?;
                output::one(self.format, &shown, &GRANT)
            }
            Grant::Take { grant } => {
                self.link.delete(&format!("/api/v1/grants/{grant}"), None)?;
                say("The grant is taken away.")
            }
        }
    }

    fn explain(&self, person: &str, path: &str) -> Done {
        let (person, credential) = (find::person(&self.link, person)?.id, find::credential(&self.link, path)?);
        let shown: Explanation = self.link.get(&format!("/api/v1/explain?person={person}&credential={credential}"))?;
        if self.format != Format::Table {
            return output::one(self.format, &shown, &[("person", "person"), ("credential", "credential"), ("level", "level"), ("sentence", "sentence")]);
        }
        say(&shown.sentence)?;
        if shown.ways.is_empty() {
            return Ok(());
        }
        say("")?;
        output::list(
            self.format,
            &shown.ways,
            &[("level", "level"), ("stands on", "stands_on"), ("through", "through"), ("does not count because", "stopped")],
            "",
        )
    }

    fn device(&self, command: Device) -> Done {
        let columns: [Column; 6] =
            [("name", "name"), ("folder", "place"), ("address", "address"), ("port", "port"), ("accounts", "accounts"), ("host key", "host_key")];
        let shown: DeviceItem = match command {
            Device::List { folder } => {
                let address = match folder {
                    Some(path) => format!("/api/v1/devices?folder={}", find::folder(&self.link, &path)?.id),
                    None => "/api/v1/devices".into(),
                };
                return output::list(
                    self.format,
                    &self.link.list::<DeviceItem>(&address, None)?,
                    &columns[..5],
                    "There is no device that you may know of. Add one: jexlin device add",
                );
            }
            Device::Add { path, address, port, operator } => {
                let names = parse_path(&path)
                    .map_err(|problem| Trouble::input(format!("{path}: {problem}."), "Write a path such as \"/Pumping/North ridge/telemetry\"."))?;
                let (name, folder) =
                    names.split_last().ok_or_else(|| Trouble::input("The path is empty.", "Write a path such as \"/Pumping/North ridge/telemetry\"."))?;
                let folder = find::folder(&self.link, &folder.iter().map(|name| name.as_str()).collect::<Vec<_>>().join("/"))?;
                let operator = operator.map(|path| find::credential(&self.link, &path)).transpose()?;
                self.link.post("/api/v1/devices", &NewDevice { folder: folder.id, name: name.as_str().to_owned(), address, port: Some(port), operator })?
            }
            Device::Edit { path, name, address, port, operator, accept_new_key } => {
                let id = find::device(&self.link, &path)?;
                let present: DeviceItem = self.link.get(&format!("/api/v1/devices/{id}"))?;
                let operator = operator.map(|path| find::credential(&self.link, &path)).transpose()?;
                self.link.change("PATCH", &format!("/api/v1/devices/{id}"), &ChangeDevice { name, address, port, operator, accept_new_key }, present.version)?
            }
            Device::Remove { path } => {
                let id = find::device(&self.link, &path)?;
                let present: DeviceItem = self.link.get(&format!("/api/v1/devices/{id}"))?;
                self.link.delete(&format!("/api/v1/devices/{id}"), Some(present.version))?;
                return say(&format!("{}/{} is removed.", present.place, present.name));
            }
        };
        output::one(self.format, &shown, &columns)
    }

    fn plan(&self, command: Plan) -> Done {
        let columns: [Column; 8] = [
            ("on", "place"),
            ("check", "check"),
            ("out of step", "out_of_step"),
            ("rotate", "rotate"),
            ("every days", "rotate_days"),
            ("from", "hours_from"),
            ("to", "hours_to"),
            ("zone", "time_zone"),
        ];
        let all = || self.link.list::<PlanItem>("/api/v1/plans", None);
        match command {
            Plan::List => output::list(self.format, &all()?, &columns, "There is no upkeep plan that you may know of. Set one: jexlin plan set"),
            Plan::Set(PlanArgs { place, check, out_of_step, rotate, every_days, hours, time_zone, policy }) => {
                let (folder, credential) = self.place(&place)?;
                let (hours_from, hours_to) = match hours.as_deref().map(|text| text.split_once('-')) {
                    None => (None, None),
                    Some(Some((from, to))) => (Some(from.trim().to_owned()), Some(to.trim().to_owned())),
                    Some(None) => return Err(Trouble::input("The hours have no beginning and end.", "Write them as 22:00-04:00.")),
                };
                let policy = policy.map(|name| self.policy_id(&name)).transpose()?.map(|policy| policy.id);
                let rules = PlanRules { check, out_of_step, rotate, rotate_days: every_days, hours_from, hours_to, time_zone, policy };
                let target = folder.or(credential);
                let shown: PlanItem = match all()?.into_iter().find(|plan| Some(plan.target) == target) {
                    Some(present) => self.link.change("PUT", &format!("/api/v1/plans/{}", present.id), &rules, present.version)?,
                    None => self.link.post("/api/v1/plans", &NewPlan { folder, credential, rules })?,
                };
                output::one(self.format, &shown, &columns)
            }
            Plan::Remove { place } => {
                let (folder, credential) = self.place(&place)?;
                let target = folder.or(credential);
                let present = all()?
                    .into_iter()
                    .find(|plan| Some(plan.target) == target)
                    .ok_or_else(|| Trouble::unknown("There is no plan of its own there.", "See: jexlin plan list"))?;
                self.link.delete(&format!("/api/v1/plans/{}", present.id), Some(present.version))?;
                say(&format!("The plan of {} is removed.", present.place))
            }
        }
    }

    fn upkeep(&self, command: Upkeep) -> Done {
        match command {
            Upkeep::List => {
                let columns: [Column; 7] = [
                    ("credential", "credential_path"),
                    ("device", "device"),
                    ("last check", "check_outcome"),
                    ("checked", "checked_at"),
                    ("rotated", "rotated_at"),
                    ("next check", "next_check_at"),
                    ("next rotation", "next_rotation_at"),
                ];
                output::list(self.format, &self.link.list::<UpkeepItem>("/api/v1/upkeep", None)?, &columns, "No account on a device is known to you.")
            }
            Upkeep::Check { path, wait } => {
                let id = find::credential(&self.link, &path)?;
                let job = self.link.post(&format!("/api/v1/credentials/{id}/check"), &json!({}))?;
                self.follow(job, wait)
            }
            Upkeep::Rotate { path, as_itself, wait } => {
                let id = find::credential(&self.link, &path)?;
                let job = self.link.post(&format!("/api/v1/credentials/{id}/rotate"), &NewJob { way: as_itself.then(|| "self".to_owned()) })?;
                self.follow(job, wait)
            }
            Upkeep::Jobs { credential, state, most } => {
                let credential = credential.map(|path| find::credential(&self.link, &path)).transpose()?.map(|id| id.to_string()).unwrap_or_default();
                let address = format!("/api/v1/jobs?credential={credential}&state={}", query(&state.unwrap_or_default()));
                output::list(self.format, &self.link.list::<Job>(&address, Some(most))?, &JOB, "There are no such jobs.")
            }
            Upkeep::Watch => self.watch(),
        }
    }

    /// Says what a job does until it has ended, when that is wanted.
    fn follow(&self, job: Job, wait: bool) -> Done {
        if !wait {
            return output::one(self.format, &job, &JOB);
        }
        let address = format!("/api/v1/jobs/{}", job.id);
        let settled = |job: &Job| job.state == "done" || job.state == "failed" || (job.state == "queued" && job.outcome.is_some());
        let mut last = job;
        // The first news comes after listening has begun; what happened before is asked for.
        while !settled(&last) {
            self.link.listen(|event, data| {
                if event == "hello" || event == "all" || (event == "job" && data == last.id.to_string()) {
                    last = self.link.get(&address)?;
                }
                Ok(!settled(&last))
            })?;
        }
        output::one(self.format, &last, &JOB)?;
        if last.state == "done" {
            Ok(())
        } else {
            Err(Trouble::failed(
                format!("The {} came to: {}.", last.task, last.outcome.unwrap_or_default()),
                "The message says why; jexlin upkeep jobs shows it again.",
            ))
        }
    }

    fn watch(&self) -> Done {
        eprintln!("Following the jobs that you may know of. Ctrl-C ends.");
        let mut shown: BTreeMap<Uuid, (String, String)> = BTreeMap::new();
        loop {
            self.link.listen(|event, data| {
                if event != "job" {
                    return Ok(true);
                }
                match self.link.get::<Job>(&format!("/api/v1/jobs/{data}")) {
                    Ok(job) => {
                        let state = (job.state.clone(), job.step.clone());
                        if shown.insert(job.id, state.clone()) != Some(state) {
                            let time = chrono::Utc::now().format("%H:%M:%S");
                            let more = [Some(job.step), job.outcome, Some(job.message)]
                                .into_iter()
                                .flatten()
                                .filter(|text| !text.is_empty())
                                .collect::<Vec<_>>()
                                .join(": ");
                            say(&format!("{time}  {:<8} {:<8} {}  {more}", job.task, job.state, job.credential_path))?;
                        }
                        Ok(true)
                    }
                    // A job on something that the listener may not know of.
                    Err(Trouble::Service(problem)) if problem.status == 404 => Ok(true),
                    Err(other) => Err(other),
                }
            })?;
        }
    }

    fn gate(&self, command: Gate) -> Done {
        let columns: [Column; 6] = [
            ("at", "place"),
            ("reason", "needs_reason"),
            ("approvers", "approvers"),
            ("minutes", "longest_minutes"),
            ("one holder", "one_holder"),
            ("rotates", "rotate_on_return"),
        ];
        let all = || self.link.list::<GateItem>("/api/v1/gates", None);
        match command {
            Gate::List => output::list(self.format, &all()?, &columns, "There is no gate that you may know of. Set one: jexlin gate set"),
            Gate::Set(GateArgs { place, reason, approver, approver_group, minutes, one_holder, rotate_on_return }) => {
                let (folder, credential) = self.place(&place)?;
                let approver_people = approver.iter().map(|name| find::person(&self.link, name).map(|person| person.id)).collect::<Result<_, _>>()?;
                let approver_groups = approver_group.iter().map(|name| find::group(&self.link, name).map(|group| group.id)).collect::<Result<_, _>>()?;
                let body = NewGate {
                    folder,
                    credential,
                    needs_reason: reason,
                    approver_people,
                    approver_groups,
                    longest_minutes: minutes,
                    one_holder,
                    rotate_on_return,
                };
                let target = folder.or(credential);
                let shown: GateItem = match all()?.into_iter().find(|gate| Some(gate.target) == target) {
                    Some(present) => self.link.change("PUT", &format!("/api/v1/gates/{}", present.id), &body, present.version)?,
                    None => self.link.post("/api/v1/gates", &body)?,
                };
                output::one(self.format, &shown, &columns)
            }
            Gate::Remove { place } => {
                let (folder, credential) = self.place(&place)?;
                let target = folder.or(credential);
                let present = all()?
                    .into_iter()
                    .find(|gate| Some(gate.target) == target)
                    .ok_or_else(|| Trouble::unknown("There is no gate of its own there.", "See: jexlin gate list"))?;
                self.link.delete(&format!("/api/v1/gates/{}", present.id), Some(present.version))?;
                say(&format!("The gate of {} is removed.", present.place))
            }
        }
    }

    fn request(&self, command: Request) -> Done {
        let settle = |id: Uuid, what: &str, comment: String| self.link.post::<RequestItem>(&format!("/api/v1/requests/{id}/{what}"), &Decide { comment });
        let shown = match command {
            Request::List { state } => {
                let address = format!("/api/v1/requests?state={}", query(&state.unwrap_or_default()));
                return output::list(self.format, &self.link.list::<RequestItem>(&address, None)?, &REQUEST, "There are no such requests.");
            }
            Request::Ask { path, reason, minutes } => {
                self.link.post("/api/v1/requests", &NewRequest { credential: find::credential(&self.link, &path)?, reason, minutes })?
            }
            Request::Approve { id, comment } => settle(id, "approve", comment)?,
            Request::Refuse { id, comment } => settle(id, "refuse", comment)?,
            Request::Withdraw { id } => settle(id, "withdraw", String::new())?,
        };
        output::one(self.format, &shown, &REQUEST)
    }

    fn checkout(&self, command: Checkout) -> Done {
        let shown: CheckoutItem = match command {
            Checkout::List { credential, open } => {
                let credential = credential.map(|path| find::credential(&self.link, &path)).transpose()?.map(|id| id.to_string()).unwrap_or_default();
                let rows: Vec<CheckoutItem> = self.link.list(&format!("/api/v1/checkouts?credential={credential}&open={open}"), None)?;
                return output::list(self.format, &rows, &CHECKOUT, "There are no such checkouts.");
            }
            Checkout::Take { path, request, reason, minutes } => {
                let credential = find::credential(&self.link, &path)?;
                let approved = || -> Result<Option<Uuid>, Trouble> {
                    let mine: Vec<RequestItem> = self.link.list(&format!("/api/v1/requests?state=approved&credential={credential}"), None)?;
                    let me: Me = self.link.get("/api/v1/me")?;
                    Ok(mine.into_iter().find(|asked| asked.person == me.id && asked.checkout.is_none()).map(|asked| asked.id))
                };
                let request = match request {
                    Some(request) => Some(request),
                    None => approved()?,
                };
                self.link.post("/api/v1/checkouts", &NewCheckout { request, credential: Some(credential), reason, minutes })?
            }
            Checkout::CheckIn { path } => {
                let credential = find::credential(&self.link, &path)?;
                let open: Vec<CheckoutItem> = self.link.list("/api/v1/checkouts?open=true", None)?;
                let held = open
                    .into_iter()
                    .find(|held| held.credential == credential)
                    .ok_or_else(|| Trouble::unknown(format!("You hold no checkout of {path}."), "See: jexlin checkout list --open"))?;
                self.link.post(&format!("/api/v1/checkouts/{}/check-in", held.id), &json!({}))?
            }
            Checkout::Recall { id } => self.link.post(&format!("/api/v1/checkouts/{id}/recall"), &json!({}))?,
        };
        output::one(self.format, &shown, &CHECKOUT)
    }

    fn audit(&self, command: Audit) -> Done {
        match command {
            Audit::List { action, actor, credential, outcome, since, until, find: text, most } => {
                let actor = actor.map(|name| find::person(&self.link, &name)).transpose()?.map(|person| person.id.to_string());
                let target = credential.map(|path| find::credential(&self.link, &path)).transpose()?.map(|id| id.to_string());
                let filters =
                    [("action", action), ("actor", actor), ("target", target), ("outcome", outcome), ("since", since), ("until", until), ("find", text)];
                let address: String = filters.into_iter().filter_map(|(name, value)| value.map(|value| format!("{name}={}&", query(&value)))).collect();
                let rows: Vec<AuditEvent> = self.link.list(&format!("/api/v1/audit?{}", address.trim_end_matches('&')), Some(most))?;
                let rows: Vec<Value> = rows.iter().map(|event| with_detail(event, self.format)).collect::<Result<_, _>>()?;
                let columns: [Column; 7] = [
                    ("at", "at"),
                    ("who", "actor_name"),
                    ("action", "action"),
                    ("outcome", "outcome"),
                    ("on", "target_name"),
                    ("from", "origin"),
                    ("detail", "detail"),
                ];
                output::list(self.format, &rows, &columns, "There are no such events.")
            }
            Audit::Key => {
                let key: AuditKey = self.link.get("/api/v1/audit/key")?;
                if self.format == Format::Json { output::one(self.format, &key, &[]) } else { say(&key.key) }
            }
            Audit::Export { file } if file == Path::new("-") => self.link.copy_to("/api/v1/audit/export", &mut std::io::stdout()),
            Audit::Export { file } => {
                let beside = file.with_extension("part");
                let broken = |error: std::io::Error| Trouble::local(format!("{} cannot be written: {error}.", file.display()));
                let mut writer = std::io::BufWriter::new(fs::File::create(&beside).map_err(broken)?);
                self.link.copy_to("/api/v1/audit/export", &mut writer)?;
                writer.flush().map_err(broken)?;
                fs::rename(&beside, &file).map_err(broken)?;
                say(&format!("The audit log is in {}. Verify it: jexlin audit verify {} --key-file KEY", file.display(), file.display()))
            }
            Audit::Verify { file, key_file } => verify(self.format, &file, &key_file),
        }
    }
}

/// An event with its details as one text, for a table.
fn with_detail(event: &AuditEvent, format: Format) -> Result<Value, Trouble> {
    let mut value = serde_json::to_value(event).map_err(|error| Trouble::local(error.to_string()))?;
    if format != Format::Json {
        let skipped = ["job", "checkout", "request"];
        let text: Vec<String> =
            event.detail.iter().filter(|(name, _)| !skipped.contains(&name.as_str())).map(|(name, value)| format!("{name}: {value}")).collect();
        if let Some(object) = value.as_object_mut() {
            object.insert("detail".into(), text.join("; ").into());
        }
    }
    Ok(value)
}

fn pair<'a>(text: &'a str, advice: &str) -> Result<(&'a str, &'a str), Trouble> {
    text.split_once('=').ok_or_else(|| Trouble::input("A field is given without `=`.", advice))
}

fn fields(user: Option<String>, url: Option<String>, note: Option<String>, set: Vec<String>) -> Result<BTreeMap<String, String>, Trouble> {
    let known = [("user_name", user), ("url", url), ("note", note)].into_iter().filter_map(|(name, value)| value.map(|value| (name.to_owned(), value)));
    let mut all: BTreeMap<String, String> = known.collect();
    for text in &set {
        let (name, value) = pair(text, "Write FIELD=VALUE, as in expires=2027-03-31; jexlin credential kinds lists the fields.")?;
        all.insert(name.to_owned(), value.to_owned());
    }
    Ok(all)
}

/// Secret fields from files, so that no secret is on the command line.
fn secret_files(files: Vec<String>) -> Result<BTreeMap<String, SecretText>, Trouble> {
    let read = |text: &String| {
        let (name, file) = pair(text, "Write FIELD=FILE, as in one_time_seed=seed.txt, or FIELD=- for standard input.")?;
        Ok((name.to_owned(), secrets::read(name, Some(Path::new(file)), false)?))
    };
    files.iter().map(read).collect()
}

fn verify(format: Format, file: &Path, key_file: &Path) -> Done {
    let read = |path: &Path| fs::read_to_string(path).map_err(|error| Trouble::local(format!("{} cannot be read: {error}.", path.display())));
    let key = proof::Verifier::parse(&read(key_file)?)
        .map_err(|problem| Trouble::input(format!("{}: {problem}.", key_file.display()), "Give the file that `jexlin audit key` printed."))?;
    let text = read(file)?;
    let report = proof::verify_export(text.lines(), &key);
    if let Some(finding) = report.first {
        return Err(Trouble::failed(
            format!("The log is not what was signed: {finding}."),
            "Keep this export and the database as they are, and compare them with a backup and with checkpoints sent outside.",
        ));
    }
    if format == Format::Json {
        return output::one(format, &json!({"verified": true, "events": report.events, "checkpoints": report.checkpoints, "signed": report.signed}), &[]);
    }
    say(&format!("The log is whole: {} events, all of them under {} signed checkpoints of {}.", report.events, report.checkpoints, key.origin()))
}
