//! Devices that have only a command line or an HTTP API: a dialogue or recipe, the device that uses it,
//! checks and rotations, what is kept of the talk, and who decides about all of it.

use jexlin_acceptance::{Service, Session};
use jexlin_standins::api_servers::ApiServer;
use jexlin_standins::cloud_console::{CloudConsole, KEEPER as HARBOUR_MASTER};
use jexlin_standins::command_line::{CHANGES, CommandLine, KEEPER, Manner, Model, WARDEN};
use jexlin_standins::router::Router;
use serde_json::{Value, json};

const DIALOGUE: &str = include_str!("../../../../demo/dialogues/ridge-switch.toml");
const SESSION: &str = include_str!("../../../../demo/dialogues/ridge-switch-session.txt");
const OPERATOR: &str = "Keeper-2019-a";
const OLD: &str = "Duty-2019-a";

fn switch() -> CommandLine {
    CommandLine::temporary(Model::Switch, &[(KEEPER, OPERATOR), ("duty", OLD)]).unwrap()
}

fn add(session: &Session<'_>, text: &str) -> Value {
    session
        .post(
            "/api/v1/dialogues",
            &json!({"name": "ridge-switch", "text": text}),
        )
        .good()
}

/// A folder with the switch as a device, its operator, and an account.
struct Hall {
    device: String,
    keeper: String,
    duty: String,
}

fn hall(ines: &Session<'_>, port: u16, dialogue: &str) -> Hall {
    let folder = ines.folder("Works");
    let device = ines.make(
        "/api/v1/devices",
        &json!({"folder": folder, "name": "filter hall switch", "connector": "command-line", "dialogue": dialogue, "address": "127.0.0.1", "port": port}),
    );
    let account = |user: &str, password: &str| {
        ines.make(
            "/api/v1/credentials",
            &json!({"folder": folder, "kind": "device-admin", "name": user, "fields": {"user_name": user}, "password": password, "device": device}),
        )
    };
    let (keeper, duty) = (account(KEEPER, OPERATOR), account("duty", OLD));
    edit(ines, &device, &json!({"operator": keeper}));
    Hall {
        device,
        keeper,
        duty,
    }
}

fn edit(ines: &Session<'_>, device: &str, body: &Value) {
    let path = format!("/api/v1/devices/{device}");
    let revision = ines.get(&path).good()["revision"].as_i64().unwrap();
    let _ = ines.patch(&path, revision, body).good();
}

fn job(ines: &Session<'_>, credential: &str, task: &str) -> Value {
    let job = ines.make(
        &format!("/api/v1/credentials/{credential}/{task}"),
        &json!({}),
    );
    ines.settled(&job)
}

#[test]
fn a_switch_is_checked_and_rotated_and_the_talk_is_kept_without_secrets() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let switch = switch();
    let dialogue = add(&ines, DIALOGUE);
    assert_eq!(dialogue["number"], 1);
    let hall = hall(&ines, switch.port(), dialogue["id"].as_str().unwrap());
    assert_eq!(job(&ines, &hall.duty, "check")["outcome"], "in-sync");
    let rotation = job(&ines, &hall.duty, "rotate");
    assert_eq!(rotation["outcome"], "done", "{rotation}");
    let new = ines.reveal(&hall.duty).text("value");
    assert_eq!(switch.password("duty"), new);
    assert!(
        !new.contains(['?', '"', '\\', ' ']) && new.len() <= 48,
        "the policy stays within what the switch takes"
    );
    // Last, the operator changes its own.
    assert_eq!(job(&ines, &hall.keeper, "rotate")["outcome"], "done");
    let keeper = ines.reveal(&hall.keeper).text("value");
    assert_eq!(switch.password(KEEPER), keeper);
    assert_eq!(job(&ines, &hall.duty, "rotate")["outcome"], "done");

    let id = rotation["id"].as_str().unwrap();
    assert_eq!(rotation["has_transcript"], true);
    let path = format!("/api/v1/jobs/{id}/transcript");
    let text = ines.get(&path).text("text");
    for line in [
        "> enable",
        "> {operator_password}",
        "> user duty password",
        "> {new}",
        "< Saved.",
    ] {
        assert!(text.contains(line), "{line} is not in {text}");
    }
    let later = ines.reveal(&hall.duty).text("value");
    let log = service.log();
    for secret in [OPERATOR, OLD, &new, &keeper, &later] {
        assert!(!text.contains(secret) && !log.contains(secret));
        let found = service.sql(&format!(
            "SELECT count(*) FROM job WHERE transcript LIKE '%{secret}%' OR message LIKE '%{secret}%'"
        ));
        assert_eq!(found, "0");
    }
    // What was heard can be rehearsed again, and whoever is no steward reads none of it.
    let client = service.client("ines");
    assert!(
        client
            .good(&["upkeep", "transcript", id])
            .contains("> save")
    );
    let pim = ines.person("pim", &[]);
    let folder = ines.get(&format!("/api/v1/devices/{}", hall.device)).good()["folder"].clone();
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": pim, "level": "reveal"}),
    );
    let pim = service.sign_in("pim");
    assert_eq!(
        pim.get(&format!("/api/v1/jobs/{id}")).good()["has_transcript"],
        false
    );
    pim.get(&path).refused(403, "not-allowed");
}

#[test]
fn a_firewall_is_rehearsed_and_then_rotated_with_its_enable_password_and_context() {
    const ENABLE: &str = "Only-for-changes-1";
    let text = include_str!("../../../../demo/dialogues/holloway-firewall.toml");
    let accounts = [(WARDEN, OPERATOR), (CHANGES, ENABLE), ("duty", OLD)];
    let firewall = CommandLine::temporary(Model::Firewall, &accounts).unwrap();
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Control room");
    let dialogue = add(&ines, text);
    let device = ines.make(
        "/api/v1/devices",
        &json!({"folder": folder, "name": "firewall", "connector": "command-line", "dialogue": dialogue["id"], "address": "127.0.0.1", "port": firewall.port()}),
    );
    let warden = ines.make(
        "/api/v1/credentials",
        &json!({"folder": folder, "kind": "device-admin", "name": "warden", "fields": {"user_name": WARDEN}, "password": OPERATOR, "secrets": {"enable_password": "Forgotten-2019"}, "device": device}),
    );
    let duty = ines.make(
        "/api/v1/credentials",
        &json!({"folder": folder, "kind": "device-admin", "name": "duty", "fields": {"user_name": "duty", "context": "edge"}, "extra": [{"name": "context", "label": "Context", "holds": "text"}], "password": OLD, "device": device}),
    );
    edit(&ines, &device, &json!({"operator": warden}));
    // What a rotation would run into is found without changing anything.
    let rehearsal = job(&ines, &duty, "rehearse");
    assert_eq!(rehearsal["task"], "rehearsal");
    assert_eq!(rehearsal["outcome"], "unreachable", "{rehearsal}");
    let said = rehearsal["message"].as_str().unwrap();
    assert!(
        said.contains("does not take the operator's enable password"),
        "{said}"
    );
    let client = service.client("ines");
    std::fs::write(client.folder.join("enable"), ENABLE).unwrap();
    let path = format!("/api/v1/credentials/{warden}");
    let revision = ines.get(&path).good()["revision"].as_i64().unwrap();
    let body = json!({"secrets": {"enable_password": ENABLE}});
    let _ = ines.patch(&path, revision, &body).good();
    let shown = client.good(&["upkeep", "rehearse", "/Control room/duty", "--wait"]);
    assert!(
        shown.contains("everything went well up to the change"),
        "{shown}"
    );
    let id = service.sql("SELECT id FROM job WHERE task = 'rehearsal' AND state = 'done'");
    let transcript = client.good(&["upkeep", "transcript", &id]);
    for line in [
        "> context edge",
        "> changes open",
        "> {enable_password}",
        "> account duty secret",
        "< New secret:",
    ] {
        assert!(transcript.contains(line), "{line} is not in {transcript}");
    }
    assert!(!transcript.contains("{new}"));
    assert_eq!(firewall.password("duty"), OLD);
    assert_eq!(ines.reveal(&duty).text("value"), OLD);
    assert_eq!(
        service.sql(&format!(
            "SELECT count(*) FROM secret_version WHERE credential_id = '{duty}'"
        )),
        "1",
        "a rehearsal makes no new password"
    );
    let told = firewall.told();
    assert!(
        told.iter()
            .all(|told| [OPERATOR, ENABLE, "Forgotten-2019"].contains(&told.as_str())),
        "{told:?}"
    );

    assert_eq!(job(&ines, &duty, "rotate")["outcome"], "done");
    let new = ines.reveal(&duty).text("value");
    assert_eq!(firewall.password("duty"), new);
    // The log of the operator says that both of its secrets were used, and who asked.
    let signed_in = ines.events("upkeep.sign-in");
    let fields = |event: &Value| event["detail"]["fields"] == "password, enable_password";
    assert!(signed_in.iter().any(fields), "{signed_in:?}");
    assert_eq!(ines.events("upkeep.rehearsed").len(), 2);
    for secret in [OPERATOR, ENABLE, OLD, &new] {
        assert!(!service.log().contains(secret) && !transcript.contains(secret));
    }

    // A field that an editor of the account can set must not become a command at the operator's prompt.
    let pim = ines.person("pim", &[]);
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"folder": folder, "person": pim, "level": "use"}),
    );
    let session = service.sign_in("pim");
    let rehearse = format!("/api/v1/credentials/{duty}/rehearse");
    session
        .post(&rehearse, &json!({}))
        .refused(403, "not-allowed");
    let _ = ines.make(
        "/api/v1/grants",
        &json!({"credential": duty, "person": pim, "level": "edit"}),
    );
    let path = format!("/api/v1/credentials/{duty}");
    let revision = ines.get(&path).good()["revision"].as_i64().unwrap();
    let _ = session
        .patch(
            &path,
            revision,
            &json!({"fields": {"context": "edge; own secret"}}),
        )
        .good();
    let before = firewall.told().len();
    let settled = session.settled(&session.make(&rehearse, &json!({})));
    assert_eq!(settled["outcome"], "refused", "{settled}");
    assert!(
        settled["message"]
            .as_str()
            .unwrap()
            .contains("would not take")
    );
    assert!(
        firewall.told().len() <= before + 1,
        "nothing but the sign-in"
    );
    session
        .get(&format!(
            "/api/v1/jobs/{}/transcript",
            settled["id"].as_str().unwrap()
        ))
        .refused(403, "not-allowed");
}

#[test]
fn a_policy_that_asks_for_what_the_device_does_not_take_ends_the_rotation_at_once() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let switch = switch();
    let short = DIALOGUE.replace("longest = 48", "longest = 4");
    let dialogue = add(&ines, &short);
    let hall = hall(&ines, switch.port(), dialogue["id"].as_str().unwrap());
    for (task, outcome) in [("rehearse", "unreachable"), ("rotate", "refused")] {
        let ended = job(&ines, &hall.duty, task);
        assert_eq!(ended["outcome"], outcome, "{ended}");
        assert_eq!(ended["attempts"], 1);
        let said = ended["message"].as_str().unwrap();
        assert!(said.contains("no password fits both"), "{said}");
    }
    assert_eq!(switch.password("duty"), OLD);
    assert_eq!(ines.reveal(&hall.duty).text("value"), OLD);
}

#[test]
fn a_switch_that_misbehaves_ends_a_rotation_in_the_devices_own_words() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let switch = switch();
    let dialogue = add(&ines, DIALOGUE);
    let hall = hall(&ines, switch.port(), dialogue["id"].as_str().unwrap());
    switch.behave(Manner::ShowsSecrets);
    let refused = job(&ines, &hall.duty, "rotate");
    assert_eq!(refused["outcome"], "refused", "{refused}");
    let message = refused["message"].as_str().unwrap();
    assert!(
        message.contains("% The password ••• was used before."),
        "{message}"
    );
    assert_eq!(switch.password("duty"), OLD);
    switch.behave(Manner::Obeys);
    assert_eq!(job(&ines, &hall.duty, "rotate")["outcome"], "done");
    let kept = ines.reveal(&hall.duty).text("value");
    assert_eq!(switch.password("duty"), kept);
    // A name that would be a command is never typed.
    let before = switch.told().len();
    let folder = ines.get(&format!("/api/v1/devices/{}", hall.device)).good()["folder"].clone();
    let odd = ines.make(
        "/api/v1/credentials",
        &json!({"folder": folder, "kind": "device-admin", "name": "odd", "fields": {"user_name": "duty password; quit"}, "password": OLD, "device": hall.device}),
    );
    let ended = job(&ines, &odd, "rotate");
    assert_eq!(ended["outcome"], "refused", "{ended}");
    assert!(
        ended["message"].as_str().unwrap().contains("for a name"),
        "{ended}"
    );
    assert!(switch.told().len() <= before + 2, "{:?}", switch.told());
    // It says done, and has the old one: a fresh sign-in finds out, and nothing is lost.
    switch.behave(Manner::Lies);
    let lied = job(&ines, &hall.duty, "rotate");
    assert_eq!(lied["outcome"], "in-doubt", "{lied}");
    assert_eq!(switch.password("duty"), kept);
    assert_eq!(ines.reveal(&hall.duty).text("value"), kept);
}

#[test]
fn another_dialogue_suspends_what_may_be_sent_until_it_is_confirmed() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let switch = switch();
    let first = add(&ines, DIALOGUE);
    let hall = hall(&ines, switch.port(), first["id"].as_str().unwrap());
    // Without the duty nobody adds one; a file with errors is refused, with the line of each.
    let _ = ines.person("marek", &[]);
    let marek = service.sign_in("marek");
    marek
        .post(
            "/api/v1/dialogues",
            &json!({"name": "ridge-switch", "text": DIALOGUE}),
        )
        .refused(403, "needs-duty");
    let wrong = DIALOGUE.replace("next = \"again\"", "next = \"agian\"");
    let refused = ines.post(
        "/api/v1/dialogues",
        &json!({"name": "ridge-switch", "text": wrong}),
    );
    assert!(refused.text("detail").contains("“agian” is no step"));
    // A second version: the device keeps the first until its steward gives it the second.
    let second = add(&ines, &DIALOGUE.replace("firmware 3", "firmware 4"));
    assert_eq!(second["number"], 2);
    assert_eq!(job(&ines, &hall.duty, "check")["outcome"], "in-sync");
    let path = format!("/api/v1/devices/{}", hall.device);
    assert_eq!(ines.get(&path).good()["dialogue_name"], "ridge-switch 1");
    edit(&ines, &hall.device, &json!({"dialogue": second["id"]}));
    let told = switch.told().len();
    let stopped = job(&ines, &hall.duty, "check");
    assert_eq!(stopped["outcome"], "unreachable", "{stopped}");
    assert_eq!(switch.told().len(), told, "nothing is sent");
    let shown = ines.get(&path).good();
    let suspended = shown["bindings"][0]["suspended"].as_str().unwrap();
    assert!(suspended.contains("dialogue has changed"), "{suspended}");
    let overview = ines.get("/api/v1/overview").good();
    assert!(
        overview.to_string().contains("filter hall switch"),
        "its steward is told"
    );
    let client = service.client("ines");
    let _ = client.good(&["device", "confirm", "/Works/filter hall switch"]);
    assert_eq!(job(&ines, &hall.duty, "check")["outcome"], "in-sync");
    let confirmed = ines.events("binding.confirm");
    assert_eq!(confirmed[0]["detail"]["dialogue"], "ridge-switch 2");
    // A device of another type has none.
    let folder = shown["folder"].clone();
    ines.post(
        "/api/v1/devices",
        &json!({"folder": folder, "name": "host", "dialogue": second["id"], "address": "127.0.0.1"}),
    )
    .refused(422, "bad-input");
}

#[test]
fn a_dialogue_is_inspected_and_rehearsed_from_the_client() {
    let service = Service::ready();
    let client = service.client("ines");
    let folder = std::env::temp_dir().join(format!("jexlin-dialogues-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let write = |name: &str, text: &str| {
        let file = folder.join(name);
        std::fs::write(&file, text).unwrap();
        file.to_str().unwrap().to_owned()
    };
    let good = write("ridge-switch.toml", DIALOGUE);
    let session = write("session.txt", SESSION);
    let slip = write(
        "slip.toml",
        &DIALOGUE.replace("say = \"enable\"", "say = \"enabel\""),
    );
    let nothing = client.run(&["dialogue", "inspect", &good], "");
    assert!(String::from_utf8_lossy(&nothing.stderr).contains("Nothing is wrong with it."));
    assert!(
        client
            .good(&["dialogue", "inspect", &slip])
            .contains("is “enable” meant?")
    );
    let rehearse = [
        "dialogue",
        "rehearse",
        &good,
        "--for",
        "operator",
        "--transcript",
        &session,
    ];
    let said = client.good(&rehearse);
    assert!(
        said.contains("> {new}") && said.contains("The conversation ends in success."),
        "{said}"
    );
    let wrong = [
        "dialogue",
        "rehearse",
        &slip,
        "--for",
        "operator",
        "--transcript",
        &session,
    ];
    let (code, told) = client.bad(&wrong);
    assert_eq!(code, 9);
    assert!(
        told.contains("types “enable”, and the dialogue says “enabel”"),
        "{told}"
    );
    let _ = client.good(&["dialogue", "add", "ridge-switch", &good]);
    let _ = client.good(&["dialogue", "add", "Ridge-Switch", &slip]);
    assert!(
        client
            .good(&["dialogue", "show", "ridge-switch 1"])
            .contains("say = \"enable\"")
    );
    assert!(
        client
            .good(&["dialogue", "show", "ridge-switch"])
            .contains("enabel")
    );
    let listed = client.good(&["dialogue", "list", "--versions"]);
    assert_eq!(listed.lines().count(), 3, "{listed}");
}

#[test]
fn the_users_of_an_api_are_checked_and_rotated_by_a_recipe() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let server = ApiServer::etcd(&[("root", "Root-2019-a"), ("duty", OLD)]).unwrap();
    let recipe = add(&ines, include_str!("../../../../demo/recipes/etcd.toml"));
    assert_eq!(recipe["kind"], "recipe");
    let folder = ines.folder("Works");
    let body = |dialogue: &Value| json!({"folder": folder, "name": "settings store", "connector": "http-api", "dialogue": dialogue, "address": "127.0.0.1", "port": server.port()});
    // A dialogue is none for it.
    let dialogue = ines
        .post(
            "/api/v1/dialogues",
            &json!({"name": "switch", "text": DIALOGUE}),
        )
        .good();
    let refused = ines.post("/api/v1/devices", &body(&dialogue["id"]));
    refused.refused(422, "bad-input");
    let device = ines.make("/api/v1/devices", &body(&recipe["id"]));
    let account = |user: &str, password: &str| {
        ines.make(
            "/api/v1/credentials",
            &json!({"folder": folder, "kind": "device-admin", "name": user, "fields": {"user_name": user}, "password": password, "device": device}),
        )
    };
    let (root, duty) = (account("root", "Root-2019-a"), account("duty", OLD));
    edit(&ines, &device, &json!({"operator": root}));
    assert_eq!(job(&ines, &duty, "check")["outcome"], "in-sync");
    let rotation = job(&ines, &duty, "rotate");
    assert_eq!(rotation["outcome"], "done", "{rotation}");
    assert_eq!(job(&ines, &root, "rotate")["outcome"], "done");
    assert_eq!(job(&ines, &duty, "rotate")["outcome"], "done");
    assert_eq!(job(&ines, &duty, "check")["outcome"], "in-sync");
    let id = rotation["id"].as_str().unwrap();
    let text = ines
        .get(&format!("/api/v1/jobs/{id}/transcript"))
        .text("text");
    assert!(text.contains("> POST /v3/auth/user/changepw"), "{text}");
    let (log, written) = (service.log(), server.written().unwrap());
    for secret in [
        OLD.to_owned(),
        "Root-2019-a".into(),
        ines.reveal(&duty).text("value"),
        ines.reveal(&root).text("value"),
    ] {
        for place in [&text, &log, &written] {
            assert!(!place.contains(&secret));
        }
    }
}

#[test]
fn a_router_on_telnet_gets_a_password_only_where_that_is_allowed_and_accepted() {
    const FRR: &str = include_str!("../../../../demo/dialogues/frr.toml");
    let router = Router::temporary(OLD, None).unwrap();
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let _ = ines.folder("Works");
    let client = service.client("ines");
    std::fs::write(client.folder.join("frr.toml"), FRR).unwrap();
    let _ = client.good(&["dialogue", "add", "frr", "frr.toml"]);
    let (device, port) = ("/Works/router", router.port().to_string());
    let add = [
        "device",
        "add",
        device,
        "--type",
        "telnet",
        "--dialogue",
        "frr",
    ];
    let place = ["--address", "127.0.0.1", "--port", &port];
    let _ = client.good(&[&add[..], &place].concat());
    std::fs::write(client.folder.join("pass"), OLD).unwrap();
    let account = "/Works/router vty";
    let add = [
        "credential",
        "add",
        account,
        "--kind",
        "device-admin",
        "--user",
        "vty",
    ];
    let on = ["--device", device, "--password-file", "pass"];
    let _ = client.good(&[&add[..], &on].concat());
    let check = || {
        let checked = client.run(&["upkeep", "check", account, "--wait"], "");
        String::from_utf8_lossy(&checked.stdout).into_owned()
    };
    // Trusting first contact is not meant for what can never be proved.
    let said = check();
    assert!(said.contains("nobody has accepted"), "{said}");
    let shown = client.good(&["device", "identity", device]);
    assert!(shown.contains("unproven"), "{shown}");
    let _ = client.good(&["device", "identity", device, "--confirm", "none"]);
    let _ = client.good(&["device", "confirm", device]);
    let said = check();
    assert!(
        said.contains("sends no passwords to such devices"),
        "{said}"
    );
    let _ = client.good(&["settings", "edit", "unproven_devices=true"]);
    let said = check();
    assert!(said.contains("in-sync"), "{said}");
    let _ = client.good(&["upkeep", "rotate", account, "--as-itself", "--wait"]);
    assert!(check().contains("in-sync"));
    // A device that can prove who it is does not get by without it, and this one has nothing else.
    let _ = client.good(&["device", "add", "/Works/host", "--address", "127.0.0.1"]);
    for (path, line) in [
        ("/Works/host", "unproven"),
        (device, "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"),
    ] {
        let refused = client.run(&["device", "identity", path, "--set", line], "");
        assert!(!refused.status.success(), "{path}");
    }
    // Taken back, nothing is sent any more.
    let _ = client.good(&["settings", "edit", "unproven_devices=false"]);
    assert!(check().contains("sends no passwords to such devices"));
    let confirmed = ines.events("binding.confirm");
    assert!(
        confirmed
            .iter()
            .any(|event| event["detail"]["identity"] == "none")
    );
}

#[test]
fn the_accounts_of_a_machine_are_of_families_with_an_operator_each_and_move_together() {
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let (works, office) = (ines.folder("Works"), ines.folder("Office"));
    let client = service.client("ines");
    let main = "/Works/firewall";
    let _ = client.good(&["device", "add", main, "--address", "192.0.2.8"]);
    let add = |path: &str, of: &str| {
        client.run(
            &[
                "device",
                "add",
                path,
                "--type",
                "http-api",
                "--address",
                "192.0.2.8",
                "--family-of",
                of,
            ],
            "",
        )
    };
    assert!(add("/Works/firewall API", main).status.success());
    for (path, of) in [
        // The main device must not be a family itself, and must be in the same folder.
        ("/Works/third", "/Works/firewall API"),
        ("/Office/elsewhere", main),
    ] {
        assert!(!add(path, of).status.success(), "{path}");
    }
    let id = |name: &str| service.sql(&format!("SELECT id FROM device WHERE name = '{name}'"));
    let (device, api) = (id("firewall"), id("firewall API"));
    for (name, on) in [("duty", &device), ("reader", &api)] {
        let _ = ines.make(
            "/api/v1/credentials",
            &json!({"folder": works, "kind": "device-admin", "name": name, "fields": {"user_name": name}, "password": OLD, "device": on}),
        );
    }
    let shown = ines.get(&format!("/api/v1/devices/{device}")).good();
    assert_eq!(shown["family_of"], Value::Null);
    assert_eq!(
        shown["families"],
        json!([{"id": api, "name": "firewall API", "connector": "http-api", "accounts": 1}])
    );
    let other = ines.get(&format!("/api/v1/devices/{api}")).good();
    assert_eq!(other["family_of"], json!(device));
    assert_eq!(other["families"][0]["name"], "firewall");
    let said = client.good(&["device", "show", main]);
    assert!(
        said.contains("firewall API (http-api, 1 account)"),
        "{said}"
    );

    // Only its stewards and auditors can read its events.
    let tomas = ines.person("tomas", &[]);
    let grant = |level: &str| json!({"folder": works, "person": tomas, "level": level});
    let made = ines.make("/api/v1/grants", &grant("edit"));
    let session = service.sign_in("tomas");
    let log = format!("/api/v1/audit?target={device}");
    session.get(&log).refused(403, "needs-duty");
    assert_eq!(
        session.get(&format!("/api/v1/devices/{device}")).good()["level"],
        "edit"
    );
    let _ = ines
        .patch(
            &format!("/api/v1/grants/{made}"),
            1,
            &json!({"level": "steward"}),
        )
        .good();
    let seen = session.get(&log).good();
    assert!(
        seen["items"]
            .as_array()
            .unwrap()
            .iter()
            .any(|event| event["action"] == "device.add")
    );
    let said = client.good(&["audit", "list", "--device", main]);
    assert!(said.contains("device.add"), "{said}");

    // They move with the main device, and must be removed before it.
    let alone = client.run(&["device", "move", "/Works/firewall API", "/Office"], "");
    let said = String::from_utf8_lossy(&alone.stderr).into_owned();
    assert!(said.contains("move that one"), "{said}");
    let _ = client.good(&["device", "move", main, "/Office"]);
    let places = service.sql("SELECT string_agg(DISTINCT folder_id::text, ' ') FROM device");
    assert_eq!(places, office);
    let kept = ines.delete(&format!("/api/v1/devices/{device}"), Some(2));
    assert_eq!(kept.status, 409, "{}", kept.body);
    // The constraints of the table enforce the same.
    for change in [
        format!("folder_id = '{works}' WHERE id = '{api}'"),
        format!("family_of = id WHERE id = '{device}'"),
        format!("family_of = '{api}' WHERE id = '{device}'"),
    ] {
        let refused = service.try_sql(&format!("UPDATE device SET {change}"));
        assert!(refused.is_err(), "{change}");
    }
}

#[test]
fn the_operator_of_a_console_is_a_certificate_where_its_recipe_says_so() {
    let harbour = include_str!("../../../../demo/recipes/harbour-console.toml");
    let text = harbour
        .replace("recipe = 1\n", "recipe = 1\nclient_certificate = true\n")
        .replace(
            "path = \"/session\"\nform = { name = \"{operator}\", password = \"{operator_password}\" }",
            "path = \"/session/certificate\"",
        );
    let console = CloudConsole::temporary(&[(HARBOUR_MASTER, OPERATOR), ("duty", OLD)]).unwrap();
    let (certificate, key) = console.client_certificate().unwrap();
    let service = Service::ready();
    let ines = service.sign_in("ines");
    let folder = ines.folder("Office");
    let recipe = |name: &str, text: &str| {
        let body = json!({"name": name, "text": text});
        ines.post("/api/v1/dialogues", &body).good()["id"].clone()
    };
    let (plain, shows) = (recipe("plain", harbour), recipe("by-certificate", &text));
    let device = ines.make(
        "/api/v1/devices",
        &json!({"folder": folder, "name": "console", "connector": "http-api", "dialogue": plain, "address": "127.0.0.1", "port": console.port()}),
    );
    let account = |kind: &str, name: &str, fields: Value, password: &str, on: Option<&str>| {
        ines.make(
            "/api/v1/credentials",
            &json!({"folder": folder, "kind": kind, "name": name, "fields": fields, "password": password, "device": on}),
        )
    };
    let duty = account(
        "device-admin",
        "duty",
        json!({"user_name": "duty"}),
        OLD,
        Some(&device),
    );
    let master = account(
        "certificate",
        "master",
        json!({"certificate": certificate}),
        &key,
        None,
    );
    let path = format!("/api/v1/devices/{device}");
    let refused = ines.patch(&path, 1, &json!({"operator": master}));
    assert_eq!(refused.status, 422, "{}", refused.body);
    edit(&ines, &device, &json!({"dialogue": shows}));
    edit(&ines, &device, &json!({"operator": master}));
    let _ = service
        .client("ines")
        .good(&["device", "confirm", "/Office/console"]);
    let rotation = job(&ines, &duty, "rotate");
    assert_eq!(rotation["outcome"], "done", "{rotation}");
    assert_eq!(console.password("duty"), ines.reveal(&duty).text("value"));
    let id = rotation["id"].as_str().unwrap();
    let transcript = ines
        .get(&format!("/api/v1/jobs/{id}/transcript"))
        .text("text");
    assert!(
        transcript.contains("POST /session/certificate"),
        "{transcript}"
    );
    for line in key.lines().filter(|line| !line.starts_with("-----")) {
        assert!(!service.log().contains(line) && !transcript.contains(line));
    }
    // The certificate itself is no account of the device.
    let path = format!("/api/v1/credentials/{master}");
    let revision = ines.get(&path).good()["revision"].as_i64().unwrap();
    let refused = ines.patch(&path, revision, &json!({"device": device}));
    assert_eq!(refused.status, 422, "{}", refused.body);
}
