//! What several tests look up: identifiers by name, people in a state, an access file that is
//! edited.

use jexlin_acceptance::{Client, Session};
use serde_json::json;

pub fn id_of(session: &Session<'_>, list: &str, field: &str, name: &str) -> String {
    let all = session.get(list).good();
    all["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item[field] == *name)
        .unwrap_or_else(|| panic!("{name} in {all}"))["id"]
        .as_str()
        .unwrap()
        .to_owned()
}

pub fn state(session: &Session<'_>, name: &str, state: &str) {
    let people = session.get("/api/v1/people").good();
    let item = people["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["sign_in_name"] == *name)
        .unwrap()
        .clone();
    let _ = session
        .patch(
            &format!("/api/v1/people/{}", item["id"].as_str().unwrap()),
            item["revision"].as_i64().unwrap(),
            &json!({"state": state}),
        )
        .good();
}

/// The file as it is, changed by `edit`, under a name.
pub fn edited(client: &Client, name: &str, edit: impl Fn(String) -> String) -> String {
    let text = client.good(&["access", "export", "-"]);
    let path = client.folder.join(name);
    std::fs::write(&path, edit(text)).unwrap();
    path.to_str().unwrap().to_owned()
}
