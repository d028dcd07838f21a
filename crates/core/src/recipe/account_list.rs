//! Accounts in what a device lists: a list in a JSON answer.

use serde::Deserialize;
use serde_json::Value;

use crate::upkeep::FoundAccount;

/// Where in an answer the accounts are, and what of each says what, by JSON pointers (RFC 6901).
///
/// ```text
/// {"users": [{"name": "duty", "tags": ["monitoring"]}]}
///
/// at = "/users", name = "/name", groups = "/tags", privileged = "/tags", privileged_if = ["administrator"]
/// ```
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct AccountList {
    /// The list in the answer; the answer itself when empty.
    at: String,
    /// The name in each item; the item itself when empty.
    name: String,
    #[serde(default)]
    groups: Option<String>,
    #[serde(default)]
    privileged: Option<String>,
    /// It is privileged with one of these words alone.
    #[serde(default)]
    privileged_if: Vec<String>,
    #[serde(default)]
    locked: Option<String>,
    #[serde(default)]
    off: Option<String>,
}

/// The words of a value: those of a list, or those of a text with commas.
fn words(value: &Value) -> Vec<String> {
    match value {
        Value::String(text) => text
            .split(',')
            .map(str::trim)
            .filter(|word| !word.is_empty())
            .map(str::to_owned)
            .collect(),
        Value::Array(items) => items.iter().flat_map(words).collect(),
        Value::Number(number) => vec![number.to_string()],
        Value::Bool(_) | Value::Null | Value::Object(_) => vec![],
    }
}

/// Whether a value says yes.
fn is_set(value: &Value) -> bool {
    match value {
        Value::Bool(yes) => *yes,
        Value::Number(number) => number.as_f64() != Some(0.0),
        other => !words(other).is_empty(),
    }
}

impl AccountList {
    /// What is no JSON pointer.
    pub(super) fn no_pointer(&self) -> Option<&str> {
        let optional = [&self.groups, &self.privileged, &self.locked, &self.off];
        [&self.at, &self.name]
            .into_iter()
            .chain(optional.into_iter().flatten())
            .map(String::as_str)
            .find(|pointer| !pointer.is_empty() && !pointer.starts_with('/'))
    }

    /// The accounts in an answer.
    pub(super) fn accounts_in(&self, answer: &Value) -> Vec<FoundAccount> {
        let items = answer.pointer(&self.at).and_then(Value::as_array);
        let items = items.into_iter().flatten();
        items.filter_map(|item| self.account(item)).collect()
    }

    fn account(&self, item: &Value) -> Option<FoundAccount> {
        let name = item.pointer(&self.name)?.as_str()?.to_owned();
        let at = |pointer: &Option<String>| item.pointer(pointer.as_deref()?);
        let privileged = at(&self.privileged).filter(|value| is_set(value));
        let why = privileged.map(|value| {
            let all = words(value);
            if all.is_empty() {
                "as the device says".to_owned()
            } else {
                all.join(", ")
            }
        });
        let wanted = |why: &String| {
            let is_one = |word: &str| {
                self.privileged_if
                    .iter()
                    .any(|it| it.eq_ignore_ascii_case(word))
            };
            self.privileged_if.is_empty() || why.split(", ").any(is_one)
        };
        Some(FoundAccount {
            login: name,
            signs_in: !at(&self.off).is_some_and(is_set),
            privileged: why.filter(wanted),
            locked: at(&self.locked).map(is_set),
            groups: at(&self.groups).map(words).unwrap_or_default(),
            ..FoundAccount::default()
        })
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::AccountList;

    fn read(text: &str) -> AccountList {
        toml::from_str(text).expect("a list")
    }

    #[test]
    fn accounts_are_read_from_objects_lists_and_bare_names() {
        let users = read(
            "at = '/users'\nname = '/name'\ngroups = '/tags'\nprivileged = '/tags'\nprivileged_if = ['Administrator']\nlocked = '/locked'\noff = '/off'",
        );
        let answer = json!({"users": [
            {"name": "root", "tags": "administrator, monitoring", "locked": false},
            {"name": "duty", "tags": ["monitoring"], "locked": true, "off": 1},
            {"tags": []}, "nobody", {"name": 7},
        ]});
        let found = users.accounts_in(&answer);
        assert_eq!(found.len(), 2);
        assert_eq!(
            found[0].privileged.as_deref(),
            Some("administrator, monitoring")
        );
        assert_eq!(found[0].groups, ["administrator", "monitoring"]);
        assert_eq!((found[0].locked, found[0].signs_in), (Some(false), true));
        assert_eq!((found[1].locked, found[1].signs_in), (Some(true), false));
        assert_eq!(found[1].privileged, None);
        let rows = read("at = '/values'\nname = '/0'\nprivileged = '/1'");
        let found = rows.accounts_in(&json!({"values": [["root", true], ["feed", false]]}));
        assert_eq!(found[0].privileged.as_deref(), Some("as the device says"));
        assert_eq!(
            (found[1].privileged.as_deref(), found[1].locked),
            (None, None)
        );
        let names = read("at = '/users'\nname = ''");
        assert_eq!(
            names.accounts_in(&json!({"users": ["root", "duty"]}))[1].login,
            "duty"
        );
        assert!(names.accounts_in(&json!(["root"])).is_empty());
    }

    #[test]
    fn only_json_pointers_are_taken() {
        assert_eq!(read("at = ''\nname = '/n'").no_pointer(), None);
        assert_eq!(
            read("at = ''\nname = '/n'\noff = 'off'").no_pointer(),
            Some("off")
        );
    }
}
