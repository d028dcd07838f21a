//! What happened at Osmere Water in the last five months.

use chrono::{TimeDelta, Utc};
use jexlin_standins::demo_hosts::network;
use jexlin_standins::misbehaving_device::Wire;
use rocket::http::Method;
use serde_json::{Value, json};
use uuid::Uuid;

use crate::world::{Account, World, split};
use crate::{Demo, Outcome};

/// The dialogues and recipes that come with the demo.
const DIALOGUES: [(&str, &str); 8] = [
    (
        "ridge-switch",
        include_str!("../dialogues/ridge-switch.toml"),
    ),
    (
        "holloway-firewall",
        include_str!("../dialogues/holloway-firewall.toml"),
    ),
    (
        "tarn-telemetry",
        include_str!("../dialogues/tarn-telemetry.toml"),
    ),
    (
        "harbour-console",
        include_str!("../recipes/harbour-console.toml"),
    ),
    ("linux-sudo", include_str!("../dialogues/linux-sudo.toml")),
    ("etcd", include_str!("../recipes/etcd.toml")),
    ("influxdb", include_str!("../recipes/influxdb.toml")),
    ("rabbitmq", include_str!("../recipes/rabbitmq.toml")),
];

const RIDGE: &str = "/Pumping/North ridge/duty";
const GATEWAY: &str = "/Control room/gateway duty";

fn text(value: &Value, field: &str) -> String {
    value
        .get(field)
        .and_then(Value::as_str)
        .unwrap_or_default()
        .to_owned()
}

fn revision(value: &Value) -> i64 {
    value.get("revision").and_then(Value::as_i64).unwrap_or(1)
}

/// Tells the story from the first day to today.
///
/// # Errors
/// Whatever a call was refused with.
pub async fn tell(demo: &mut Demo, world: &World) -> Outcome<()> {
    say("people and groups");
    people(demo, world).await?;
    demo.pass(TimeDelta::days(2)).await?;
    say("folders, devices and credentials");
    vault(demo, world).await?;
    demo.pass(TimeDelta::days(1)).await?;
    say("grants, gates and plans");
    rules(demo).await?;
    say("kinds, policies, tags, what people keep for themselves");
    daily(demo).await?;
    say("five months of checks and rotations on the demo's hosts");
    months(demo).await?;
    say("the last days");
    add_devices(demo, world, true).await?;
    last_days(demo).await?;
    let behind = Utc::now() - demo.now();
    demo.pass(behind.max(TimeDelta::zero())).await
}

fn say(what: &str) {
    eprintln!("    {what}");
}

async fn people(demo: &mut Demo, world: &World) -> Outcome<()> {
    for person in &world.people {
        let body = json!({"sign_in_name": person.name, "display_name": person.display_name, "duties": person.duties, "password": demo.password});
        let made = demo.post("ines", "/api/v1/people", body).await?;
        demo.ids.insert(person.name.clone(), text(&made, "id"));
    }
    for person in &world.invited {
        demo.post(
            "ines",
            "/api/v1/people",
            json!({"sign_in_name": person.name, "display_name": person.display_name}),
        )
        .await?;
    }
    for group in &world.groups {
        let made = demo
            .post("ines", "/api/v1/groups", json!({"name": group.name}))
            .await?;
        demo.ids.insert(group.name.clone(), text(&made, "id"));
    }
    for group in &world.groups {
        for member in group.people.iter().chain(&group.groups) {
            let path = format!(
                "/api/v1/groups/{}/members/{}",
                demo.id(&group.name)?,
                demo.id(member)?
            );
            demo.put("ines", &path).await?;
        }
    }
    Ok(())
}

async fn credential(demo: &mut Demo, path: &str, mut body: Value) -> Outcome<()> {
    let (folder, name) = split(path);
    if let Some(fields) = body.as_object_mut() {
        fields.insert("folder".into(), demo.id(folder)?.into());
        fields.insert("name".into(), name.into());
    }
    let made = demo.post("ines", "/api/v1/credentials", body).await?;
    demo.ids.insert(path.to_owned(), text(&made, "id"));
    Ok(())
}

/// What a device must prove is read, compared and confirmed before a password goes there.
async fn confirm_identity(demo: &mut Demo, device: &str) -> Outcome<()> {
    let path = format!("/api/v1/devices/{device}");
    let shown = demo
        .post("ines", &format!("{path}/read-identity"), json!({}))
        .await?;
    let lines: Vec<Value> = shown
        .get("items")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
        .filter_map(|identity| identity.get("line").cloned())
        .collect();
    let present = demo.get("ines", &path).await?;
    demo.patch(
        "ines",
        &path,
        revision(&present),
        json!({"identity": lines}),
    )
    .await
    .map(|_| ())
}

async fn vault(demo: &mut Demo, world: &World) -> Outcome<()> {
    // The demo's hosts are on this machine.
    let settings = demo.get("ines", "/api/v1/settings").await?;
    let mut body = settings.get("settings").cloned().unwrap_or_default();
    if let Some(fields) = body.as_object_mut() {
        fields.insert(
            "connect_to".into(),
            json!([
                format!("{}.0/24 22,23,443,3306,5432,6379", network()),
                "127.0.0.1"
            ]),
        );
        // One of the telemetry units has nothing but Telnet.
        fields.insert("unproven_devices".into(), true.into());
    }
    demo.change("ines", "/api/v1/settings", revision(&settings), body)
        .await?;
    for path in &world.folders {
        let (parent, name) = split(path);
        let parent = if parent.is_empty() {
            Value::Null
        } else {
            demo.id(parent)?.into()
        };
        let made = demo
            .post(
                "ines",
                "/api/v1/folders",
                json!({"parent": parent, "name": name}),
            )
            .await?;
        demo.ids.insert(path.clone(), text(&made, "id"));
    }
    for (name, text) in DIALOGUES {
        let made = demo
            .post(
                "ines",
                "/api/v1/dialogues",
                json!({"name": name, "text": text}),
            )
            .await?;
        demo.ids
            .insert(format!("dialogue {name}"), self::text(&made, "id"));
    }
    add_devices(demo, world, false).await?;
    for login in &world.logins {
        let mut fields = json!({"user_name": login.user, "url": login.url});
        if let (Some(fields), false) = (fields.as_object_mut(), login.note.is_empty()) {
            fields.insert("note".into(), login.note.clone().into());
        }
        credential(
            demo,
            &login.path,
            json!({"kind": "login", "fields": fields}),
        )
        .await?;
        demo.pass(TimeDelta::minutes(7)).await?;
    }
    for other in &world.others {
        let mut body = other.body.clone();
        if let Some(device) = &other.device {
            let device = demo.id(device)?;
            if let Some(fields) = body.as_object_mut() {
                fields.insert("device".into(), device.into());
            }
        }
        credential(demo, &other.path, body).await?;
        if other.device.is_some() {
            rotate(demo, &other.path).await?;
        }
        demo.pass(TimeDelta::minutes(5)).await?;
    }
    Ok(())
}

/// Adds devices with their operators and accounts: those of the beginning, or those that came late.
async fn add_devices(demo: &mut Demo, world: &World, late: bool) -> Outcome<()> {
    for device in world.devices.iter().filter(|device| device.late == late) {
        let (folder, name) = split(&device.path);
        let dialogue = match &device.dialogue {
            Some(name) => Some(demo.id(&format!("dialogue {name}"))?),
            None => None,
        };
        let jump_account = match &device.jump_account {
            Some(path) => Some(demo.id(path)?),
            None => None,
        };
        let made = demo
            .post(
                "ines",
                "/api/v1/devices",
                json!({"folder": demo.id(folder)?, "name": name, "jump_account": jump_account, "connector": device.connector, "address": device.address, "dialogue": dialogue, "platform": device.platform, "description": device.description}),
            )
            .await?;
        let id = text(&made, "id");
        demo.ids.insert(device.path.clone(), id.clone());
        confirm_identity(demo, &id).await?;
        let path = format!("{folder}/{name} {}", device.operator);
        let mut body = json!({"kind": "device-admin", "fields": {"user_name": device.operator}, "password": device.password, "device": id});
        if let (Some(enable), Some(fields)) = (&device.enable_password, body.as_object_mut()) {
            fields.insert("secrets".into(), json!({"enable_password": enable}));
        }
        credential(demo, &path, body).await?;
        let operator = demo.id(&path)?;
        let present = demo.get("ines", &format!("/api/v1/devices/{id}")).await?;
        demo.patch(
            "ines",
            &format!("/api/v1/devices/{id}"),
            revision(&present),
            json!({"operator": operator}),
        )
        .await?;
    }
    let of_these = |account: &&Account| {
        let mut devices = world.devices.iter();
        devices.any(|device| device.late == late && device.path == account.device)
    };
    for account in world.accounts.iter().filter(of_these) {
        let device = demo.id(&account.device)?;
        let mut body = json!({"kind": account.kind, "fields": {"user_name": account.user}, "password": account.password, "device": device});
        if let (Some(context), Some(all)) = (&account.context, body.as_object_mut()) {
            all.insert(
                "fields".into(),
                json!({"user_name": account.user, "context": context}),
            );
            all.insert(
                "extra".into(),
                json!([{"name": "context", "label": "Context", "holds": "text"}]),
            );
        }
        credential(demo, &account.path, body).await?;
        demo.pass(TimeDelta::minutes(3)).await?;
    }
    Ok(())
}

/// Has an account rotated now.
async fn rotate(demo: &mut Demo, path: &str) -> Outcome<()> {
    let id = demo.id(path)?;
    demo.post(
        "ines",
        &format!("/api/v1/credentials/{id}/rotate"),
        json!({}),
    )
    .await?;
    demo.work().await
}

async fn rules(demo: &mut Demo) -> Outcome<()> {
    for (level, folder, group) in [
        ("use", "/Pumping", "Operations"),
        ("reveal", "/Pumping", "Duty engineers"),
        ("reveal", "/Works", "Operations"),
        ("reveal", "/Control room", "Operations"),
        ("steward", "/Pumping", "Shift leads"),
    ] {
        let body = json!({"folder": demo.id(folder)?, "group": demo.id(group)?, "level": level});
        demo.post("ines", "/api/v1/grants", body).await?;
    }
    let until = demo.now() + TimeDelta::days(40);
    let body = json!({"credential": demo.id("/Control room/contractor")?, "person": demo.id("pim")?, "level": "reveal", "ends_at": until, "note": "fits the new gateway"});
    demo.post("ines", "/api/v1/grants", body).await?;
    let body = json!({"folder": demo.id("/Office")?, "person": demo.id("olena")?, "level": "list", "note": "yearly audit"});
    demo.post("ines", "/api/v1/grants", body).await?;
    let gate = |folder: String, group: String| json!({"folder": folder, "needs_reason": true, "approver_groups": [group], "max_minutes": 120, "one_holder": true, "rotate_on_return": true});
    let body = gate(demo.id("/Control room")?, demo.id("Shift leads")?);
    demo.post("ines", "/api/v1/gates", body).await?;
    let body = json!({"credential": demo.id(RIDGE)?, "needs_reason": true, "approver_groups": [demo.id("Shift leads")?], "max_minutes": 60, "one_holder": true, "rotate_on_return": true});
    demo.post("ines", "/api/v1/gates", body).await?;
    let plan = |folder: String, days: u16| {
        json!({"folder": folder, "check": "FREQ=WEEKLY;BYDAY=MO,TH;BYHOUR=3;BYMINUTE=0;BYSECOND=0", "out_of_sync": "report",
            "rotate_days": days, "hours_from": "01:00", "hours_to": "04:00", "time_zone": "Europe/London"})
    };
    let body = plan(demo.id("/Pumping")?, 30);
    demo.post("ines", "/api/v1/plans", body).await?;
    let body = plan(demo.id("/Control room")?, 60);
    demo.post("ines", "/api/v1/plans", body).await?;
    let body = json!({"folder": demo.id("/Works")?, "check": "FREQ=WEEKLY;BYDAY=WE;BYHOUR=4;BYMINUTE=0;BYSECOND=0", "out_of_sync": "report", "time_zone": "Europe/London"});
    demo.post("ines", "/api/v1/plans", body).await?;
    delegated(demo).await?;
    demo.work().await
}

/// What is somebody's own to keep in order: a works, the staff's files, an archive. And what was
/// left behind: a grant from before the groups.
async fn delegated(demo: &mut Demo) -> Outcome<()> {
    let (marek, tomas, yusra, dorrit, petra) = (
        demo.id("marek")?,
        demo.id("tomas")?,
        demo.id("yusra")?,
        demo.id("dorrit")?,
        demo.id("petra")?,
    );
    let body = json!({"folder": demo.id("/Pumping/Weir lane")?, "person": marek, "level": "use", "note": "from before the groups"});
    demo.post("ines", "/api/v1/grants", body).await?;
    let body = json!({"folder": demo.id("/Works/Lower Osmere")?, "person": tomas, "level": "steward", "note": "runs the works"});
    demo.post("ines", "/api/v1/grants", body).await?;
    demo.post(
        "tomas",
        "/api/v1/transfer-stewardship",
        json!({"from": tomas, "to": yusra}),
    )
    .await?;
    let staff = demo
        .post(
            "ines",
            "/api/v1/folders",
            json!({"parent": demo.id("/Office")?, "name": "Staff", "closed": true}),
        )
        .await?;
    demo.ids.insert("/Office/Staff".into(), text(&staff, "id"));
    demo.post(
        "ines",
        "/api/v1/grants",
        json!({"folder": text(&staff, "id"), "person": petra, "level": "steward"}),
    )
    .await?;
    credential(
        demo,
        "/Office/Staff/Payroll portal",
        json!({"kind": "login", "fields": {"user_name": "payroll@osmere.example", "url": "https://payroll.example/"}}),
    )
    .await?;
    // An archive that one person has for themselves alone; two months on they leave.
    let archive = demo
        .post("ines", "/api/v1/folders", json!({"name": "Archive"}))
        .await?;
    let archive = text(&archive, "id");
    demo.ids.insert("/Archive".into(), archive.clone());
    credential(
        demo,
        "/Archive/Old drawings server",
        json!({"kind": "login", "fields": {"user_name": "drawings", "url": "http://192.0.2.88/"}}),
    )
    .await?;
    demo.post("ines", "/api/v1/grants", json!({"folder": archive, "person": dorrit, "level": "steward", "note": "keeps the archive"})).await?;
    let reaching = demo
        .get("ines", &format!("/api/v1/grants?folder={archive}"))
        .await?;
    let grants = reaching
        .get("items")
        .and_then(Value::as_array)
        .into_iter()
        .flatten();
    let ines = grants
        .into_iter()
        .find(|grant| text(grant, "subject_name") == "Ines Calder")
        .map(|grant| text(grant, "id"));
    demo.remove(
        "ines",
        &format!("/api/v1/grants/{}", ines.unwrap_or_default()),
        1,
    )
    .await?;
    // A program that fetches the historian's reports by night, and has no password in its script.
    let program = demo
        .post(
            "ines",
            "/api/v1/clients",
            json!({"name": "report-fetcher", "display_name": "Report fetcher"}),
        )
        .await?;
    let (historian, program) = (
        demo.id("/Works/Highfield/historian reports")?,
        text(program.get("client").unwrap_or(&Value::Null), "id"),
    );
    demo.post("ines", "/api/v1/grants", json!({"credential": historian, "person": program, "level": "reveal", "note": "fetches the nightly reports"})).await?;
    // Names may be seen by all; one access request was granted, one will wait.
    let settings = demo.get("ines", "/api/v1/settings").await?;
    let mut body = settings.get("settings").cloned().unwrap_or_default();
    if let Some(body) = body.as_object_mut() {
        body.insert("discoverable_names".into(), true.into());
    }
    demo.change("ines", "/api/v1/settings", revision(&settings), body)
        .await?;
    let rain = demo.id("/Office/Rainfall service")?;
    let access_request = demo
        .post(
            "yusra",
            "/api/v1/access-requests",
            json!({"credential": rain, "level": "use", "reason": "forecasts for the storm rota"}),
        )
        .await?;
    demo.post(
        "ines",
        &format!(
            "/api/v1/access-requests/{}/grant",
            text(&access_request, "id")
        ),
        json!({"comment": "Good thinking."}),
    )
    .await?;
    // The rota for the storm season, as a file that somebody reviewed first.
    demo.upload(
        "ines",
        "/api/v1/access/apply",
        include_bytes!("../storm-season.toml"),
    )
    .await?;
    let folders = demo.get("ines", "/api/v1/folders").await?;
    let made = folders
        .get("items")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
        .find(|folder| text(folder, "name") == "Storm season");
    demo.ids.insert(
        "/Control room/Storm season".into(),
        made.map(|folder| text(folder, "id")).unwrap_or_default(),
    );
    for (name, user) in [
        ("Barrier pager", "pager"),
        ("Flood gauge portal", "gauges@osmere.example"),
    ] {
        credential(
            demo,
            &format!("/Control room/Storm season/{name}"),
            json!({"kind": "login", "fields": {"user_name": user}}),
        )
        .await?;
    }
    Ok(())
}

/// What an office does to its vault in the first weeks.
async fn daily(demo: &mut Demo) -> Outcome<()> {
    let field = |name: &str, label: &str, holds: &str, required: bool, help: &str| json!({"name": name, "label": label, "holds": holds, "required": required, "help": help});
    let body = json!({"name": "valve-code", "label": "Valve code", "generates": true, "fields": [
        field("valve", "Valve", "text", true, "As on its brass plate"), field("floor", "Floor", "text", false, ""), field("password", "Code", "secret", true, "")]});
    demo.post("ines", "/api/v1/kinds", body).await?;
    credential(demo, "/Works/Lower Osmere/Main valve", json!({"kind": "valve-code", "fields": {"valve": "V-41", "floor": "Lower gallery"}, "tags": ["storm"]}))
        .await?;
    let phrases = demo
        .post("ines", "/api/v1/password-policies", json!({"name": "Phrases for people", "rules": {"length": 20, "min_length": 20, "min_lower": 0, "min_upper": 0, "min_digits": 1, "min_symbols": 0, "symbols": "-", "no_look_alikes": true, "words": 5, "separator": "-"}}))
        .await?;
    let plain = demo
        .post("ines", "/api/v1/password-policies", json!({"name": "Pump controllers", "rules": {"length": 16, "min_length": 12, "min_lower": 1, "min_upper": 1, "min_digits": 1, "min_symbols": 0, "symbols": "", "only_these": true, "first": "letter", "no_look_alikes": true, "not_user_name": true, "max_repeats": 2}}))
        .await?;
    let folder = demo.id("/Office")?;
    demo.change(
        "ines",
        &format!("/api/v1/folders/{folder}/password-rule"),
        0,
        json!({"mode": "advise", "policies": [text(&phrases, "id")]}),
    )
    .await?;
    let folder = demo.id("/Pumping/Mill race")?;
    demo.change(
        "ines",
        &format!("/api/v1/folders/{folder}/password-rule"),
        0,
        json!({"mode": "enforce", "policies": [text(&plain, "id")]}),
    )
    .await?;
    // A value that was replaced, and one that was restored since the portal never took it.
    let portal = format!(
        "/api/v1/credentials/{}",
        demo.id("/Office/Postal franking")?
    );
    demo.patch(
        "ines",
        &portal,
        1,
        json!({"generate": true, "why": "Sven has left the office", "tags": ["office hours"]}),
    )
    .await?;
    let portal = format!(
        "/api/v1/credentials/{}",
        demo.id("/Office/Rainfall service")?
    );
    demo.patch(
        "ines",
        &portal,
        1,
        json!({"password": "Rain-gauge-nine-77", "why": "the service asked for it"}),
    )
    .await?;
    demo.pass(TimeDelta::minutes(30)).await?;
    demo.post(
        "ines",
        &format!("{portal}/restore"),
        json!({"version": 1, "reason": "the service never took the new one"}),
    )
    .await?;
    let drawings = format!(
        "/api/v1/credentials/{}/attachments?name=dosing-hall.svg",
        demo.id("/Works/Dosing hall drawings")?
    );
    demo.upload(
        "ines",
        &drawings,
        include_bytes!("../../console/public/mark.svg"),
    )
    .await?;
    // What people keep for themselves.
    for (who, path) in [
        ("marek", "/Pumping/Weir lane/duty"),
        ("marek", RIDGE),
        ("ines", "/Office/Bank portal"),
    ] {
        let id = demo.id(path)?;
        demo.put(who, &format!("/api/v1/credentials/{id}/favourite"))
            .await?;
    }
    demo.post("ines", "/api/v1/searches", json!({"name": "Anything wrong in the office", "filters": {"below": demo.id("/Office")?, "finding": "any"}})).await?;
    demo.post(
        "marek",
        "/api/v1/personal",
        json!({"passphrase": "tide tables by heart"}),
    )
    .await?;
    demo.post(
        "marek",
        "/api/v1/personal/items",
        json!({"name": "Canteen card", "user_name": "marek", "password": "Soup-on-Tuesdays"}),
    )
    .await?;
    // What the office kept in a spreadsheet until now, and a grant for just that, without its past.
    let options = json!({"id": Uuid::now_v7(), "name": "office logins.csv", "folder": demo.id("/Office")?, "kind": "login", "key": "name", "matching": "skip", "accept_changes": true});
    let address = format!("/api/v1/imports?options={}", percent(&options.to_string()));
    demo.upload("ines", &address, include_bytes!("../office.csv"))
        .await?;
    let (folder, petra) = (demo.id("/Office")?, demo.id("petra")?);
    let grant = json!({"folder": folder, "person": petra, "level": "edit", "only_tag": "counter", "without_history": true, "note": "stands in at the counter"});
    let grant = demo.post("ines", "/api/v1/grants", grant).await?;
    // More than it takes: she shall see, and not change.
    let terms = json!({"level": "reveal", "ends_at": demo.now() + TimeDelta::days(300), "note": "stands in at the counter until spring"});
    demo.patch(
        "ines",
        &format!("/api/v1/grants/{}", text(&grant, "id")),
        revision(&grant),
        terms,
    )
    .await?;
    // Removed by mistake, and not yet missed.
    let old = "/Office/Old fax gateway";
    credential(
        demo,
        old,
        json!({"kind": "login", "fields": {"user_name": "fax"}}),
    )
    .await?;
    Ok(())
}

/// A text as it stands in a query.
fn percent(text: &str) -> String {
    text.bytes()
        .map(|byte| {
            if byte.is_ascii_alphanumeric() {
                char::from(byte).to_string()
            } else {
                format!("%{byte:02X}")
            }
        })
        .collect()
}

async fn reveal(demo: &mut Demo, who: &str, path: &str) -> Outcome<u16> {
    let address = format!("/api/v1/credentials/{}/reveal", demo.id(path)?);
    Ok(demo
        .try_as(who, Method::Post, &address, json!({}))
        .await?
        .0
        .code)
}

/// Lets the time pass to the next morning, with a look at every hour in which rotations may run.
async fn night(demo: &mut Demo) -> Outcome<()> {
    let midnight = (demo.now() + TimeDelta::days(1))
        .date_naive()
        .and_time(chrono::NaiveTime::MIN)
        .and_utc();
    for hour in 0..5 {
        let left = midnight + TimeDelta::minutes(hour * 60 + 50) - demo.now();
        demo.pass(left.max(TimeDelta::zero())).await?;
    }
    demo.pass(TimeDelta::hours(3)).await
}

/// How long before now the story's last days begin.
const LAST_DAYS: TimeDelta = TimeDelta::days(4);

async fn months(demo: &mut Demo) -> Outcome<()> {
    let looks = [
        ("marek", "/Pumping/Weir lane/duty"),
        ("yusra", "/Pumping/Chapel rise/Pump controller"),
        ("ines", "/Office/Ordering portal"),
        ("marek", "/Works/Highfield/Filter controller"),
        ("tomas", "/Works/Lower Osmere/Dosing controller"),
        ("pim", "/Control room/contractor"),
        ("olena", "/Office/Rainfall service"),
    ];
    for (day, (who, what)) in (0..).zip(looks.iter().cycle()) {
        if Utc::now() - demo.now() < LAST_DAYS {
            break;
        }
        night(demo).await?;
        if day % 3 == 0 {
            reveal(demo, who, what).await?;
        }
        if day % 17 == 4 {
            demo.mistype(who).await?;
        }
        demo.pass(TimeDelta::hours(2)).await?;
        if day == 60 {
            let person = demo.id("dorrit")?;
            demo.patch(
                "petra",
                &format!("/api/v1/people/{person}"),
                1,
                json!({"state": "left"}),
            )
            .await?;
        }
        if day == 110 {
            let person = demo.id("sven")?;
            demo.patch(
                "petra",
                &format!("/api/v1/people/{person}"),
                1,
                json!({"state": "suspended"}),
            )
            .await?;
        }
    }
    Ok(())
}

async fn ask(
    demo: &mut Demo,
    who: &str,
    path: &str,
    reason: &str,
    minutes: i32,
) -> Outcome<String> {
    let body = json!({"credential": demo.id(path)?, "reason": reason, "minutes": minutes});
    Ok(text(&demo.post(who, "/api/v1/requests", body).await?, "id"))
}

async fn last_days(demo: &mut Demo) -> Outcome<()> {
    // One request that nobody answered.
    ask(demo, "yusra", GATEWAY, "look at the alarm forwarding", 30).await?;
    demo.pass(TimeDelta::days(2)).await?;
    // One that was refused, one that was withdrawn.
    let refused = ask(demo, "marek", GATEWAY, "just checking something", 120).await?;
    demo.post(
        "tomas",
        &format!("/api/v1/requests/{refused}/refuse"),
        json!({"comment": "Say what for, and I will."}),
    )
    .await?;
    let withdrawn = ask(
        demo,
        "marek",
        GATEWAY,
        "alarm forwarding to the weir lane pager",
        60,
    )
    .await?;
    demo.post(
        "marek",
        &format!("/api/v1/requests/{withdrawn}/withdraw"),
        json!({}),
    )
    .await?;
    demo.pass(TimeDelta::hours(20)).await?;
    // The night when pump 3 stopped: asked, approved, seen, given back, rotated.
    let night = ask(
        demo,
        "marek",
        RIDGE,
        "pump 3 has stopped and its controller does not answer",
        60,
    )
    .await?;
    demo.pass(TimeDelta::minutes(4)).await?;
    demo.post(
        "petra",
        &format!("/api/v1/requests/{night}/approve"),
        json!({"comment": "Call me when it runs."}),
    )
    .await?;
    let held = demo
        .post("marek", "/api/v1/checkouts", json!({"request": night}))
        .await?;
    reveal(demo, "marek", RIDGE).await?;
    demo.pass(TimeDelta::minutes(15)).await?;
    demo.post(
        "marek",
        &format!("/api/v1/checkouts/{}/check-in", text(&held, "id")),
        json!({}),
    )
    .await?;
    demo.work().await?;
    // Seen since its last rotation.
    reveal(demo, "marek", "/Pumping/Weir lane/duty").await?;
    // Somebody who may not, tries.
    reveal(demo, "pim", "/Control room/contractor").await?;
    reveal(demo, "olena", "/Office/Ordering portal").await?;
    demo.pass(TimeDelta::hours(6)).await?;
    // Which accounts there are, on two devices.
    for path in ["/Works/Highfield/historian", "/Works/maintenance database"] {
        let device = demo.id(path)?;
        demo.post(
            "ines",
            &format!("/api/v1/devices/{device}/read-accounts"),
            json!({}),
        )
        .await?;
        demo.work().await?;
    }
    // By a dialogue and by a recipe.
    for path in [
        "/Works/Highfield/filter hall duty",
        "/Works/firewall duty",
        "/Works/Lower Osmere/inlet unit duty",
        "/Office/cloud backups",
    ] {
        let account = demo.id(path)?;
        for task in ["rotate", "check"] {
            demo.post(
                "ines",
                &format!("/api/v1/credentials/{account}/{task}"),
                json!({}),
            )
            .await?;
            demo.work().await?;
        }
    }
    // The device says no: the account is gone from the host.
    rotate(demo, "/Works/Highfield/historian plc").await?;
    doubt(demo).await?;
    let behind = Utc::now() - demo.now() - TimeDelta::minutes(45);
    demo.pass(behind.max(TimeDelta::minutes(5))).await?;
    let old = demo.id("/Office/Old fax gateway")?;
    demo.remove("ines", &format!("/api/v1/credentials/{old}"), 1)
        .await?;
    // Now: one waits for an approver, one is approved and unused, one is held.
    let courier = demo.id("/Office/Courier account")?;
    demo.post("marek", "/api/v1/access-requests", json!({"credential": courier, "level": "reveal", "reason": "the pump seals come by courier on Friday"}))
        .await?;
    ask(
        demo,
        "yusra",
        RIDGE,
        "replace the level sensor at tank 2 after the storm",
        45,
    )
    .await?;
    let held = ask(
        demo,
        "marek",
        GATEWAY,
        "firmware of the alarm gateway, with the supplier on the phone",
        90,
    )
    .await?;
    demo.post(
        "tomas",
        &format!("/api/v1/requests/{held}/approve"),
        json!({"comment": ""}),
    )
    .await?;
    demo.post("marek", "/api/v1/checkouts", json!({"request": held}))
        .await?;
    demo.work().await
}

/// A rotation whose connection was lost in the middle, over a line that is down since.
async fn doubt(demo: &mut Demo) -> Outcome<()> {
    let wire = Wire::to(&format!("{}.6", network()), 22)?;
    let (folder, operator) = (
        demo.id("/Pumping/Weir lane")?,
        demo.id("/Pumping/Weir lane/telemetry root")?,
    );
    let made = demo.post("ines", "/api/v1/devices", json!({"folder": folder, "name": "radio link", "address": "127.0.0.1", "port": wire.port()})).await?;
    let link = text(&made, "id");
    confirm_identity(demo, &link).await?;
    let present = demo.get("ines", &format!("/api/v1/devices/{link}")).await?;
    demo.patch(
        "ines",
        &format!("/api/v1/devices/{link}"),
        revision(&present),
        json!({"operator": operator}),
    )
    .await?;
    let body = json!({"kind": "device-admin", "fields": {"user_name": "duty", "note": "The same host over the radio link; for storms."}, "password": "Radio-link-2024", "device": text(&made, "id")});
    credential(demo, "/Pumping/Weir lane/duty by radio", body).await?;
    let id = demo.id("/Pumping/Weir lane/duty by radio")?;
    // Enough to sign in and begin; the answer never arrives.
    wire.cut_after(4300);
    demo.post(
        "ines",
        &format!("/api/v1/credentials/{id}/rotate"),
        json!({}),
    )
    .await?;
    demo.work().await?;
    wire.cut();
    Ok(())
}
