//! Accounts in what a device lists: one to a line.

use regex::Regex;

use crate::upkeep::FoundAccount;

/// The groups that a pattern for accounts may have; the first it must have.
const GROUPS: [&str; 5] = ["name", "privileged", "groups", "locked", "off"];

/// A pattern for the lines that each are an account.
///
/// ```text
/// ^(?<name>\S+) +(?:(?<privileged>admin)|view) *(?<locked>locked)?$
///
/// duty     view             duty, locked: no
/// keeper   admin  locked    keeper, privileged: admin, locked: yes
/// ```
#[derive(Clone, Debug)]
pub(super) struct AccountLine(Regex);

impl AccountLine {
    /// A pattern that was compiled.
    ///
    /// # Errors
    /// What is wrong with its groups.
    pub(super) fn of(pattern: Regex) -> Result<Self, String> {
        let mut named = pattern.capture_names().flatten();
        if !pattern.capture_names().flatten().any(|it| it == GROUPS[0]) {
            return Err("`lists` has the name of an account in the group (?<name>…)".into());
        }
        match named.find(|name| !GROUPS.contains(name)) {
            Some(other) => Err(format!(
                "`lists` has no use for the group “{other}”; there are {}",
                GROUPS.join(", ")
            )),
            None => Ok(Self(pattern)),
        }
    }

    /// The accounts in a text, one to a line.
    pub(super) fn accounts_in(&self, text: &str) -> Vec<FoundAccount> {
        let lines = text.lines().map(str::trim_end);
        lines.filter_map(|line| self.account(line)).collect()
    }

    fn account(&self, line: &str) -> Option<FoundAccount> {
        let found = self.0.captures(line)?;
        let group = |name: &str| {
            let text = found.name(name)?.as_str().trim();
            (!text.is_empty()).then_some(text)
        };
        let tells = |name: &str| self.0.capture_names().flatten().any(|it| it == name);
        let groups = group("groups").unwrap_or_default();
        Some(FoundAccount {
            login: group("name")?.to_owned(),
            signs_in: group("off").is_none(),
            privileged: group("privileged").map(str::to_owned),
            locked: tells("locked").then(|| group("locked").is_some()),
            groups: groups
                .split([',', ' '])
                .filter(|group| !group.is_empty())
                .map(str::to_owned)
                .collect(),
            ..FoundAccount::default()
        })
    }
}

#[cfg(test)]
mod tests {
    use super::super::pattern_of;
    use super::AccountLine;

    fn read(pattern: &str) -> Result<AccountLine, String> {
        AccountLine::of(pattern_of(pattern).expect("a pattern"))
    }

    #[test]
    fn a_line_is_an_account_with_what_its_groups_say() {
        let line = read(
            r"^(?<name>\S+) +(?:(?<privileged>admin)|view) *(?<groups>[a-z, ]*?) *(?<locked>locked)? *(?<off>off)?$",
        )
        .unwrap();
        let text =
            "NAME     ROLE\nduty     view\nkeeper   admin  net, floor locked \nold view off\n";
        let found = line.accounts_in(text);
        let names: Vec<&str> = found.iter().map(|one| one.login.as_str()).collect();
        assert_eq!(names, ["duty", "keeper", "old"]);
        assert_eq!(found[0].locked, Some(false));
        assert_eq!(found[1].privileged.as_deref(), Some("admin"));
        assert_eq!(found[1].groups, ["net", "floor"]);
        assert_eq!((found[1].locked, found[1].signs_in), (Some(true), true));
        assert!(!found[2].signs_in);
        // What a pattern has no group for is not known.
        let names = read(r"^user (?<name>\S+)").unwrap();
        assert_eq!(names.accounts_in("user duty")[0].locked, None);
    }

    #[test]
    fn a_pattern_names_the_account_and_nothing_unknown() {
        for (pattern, word) in [
            (r"^(\S+)$", "(?<name>…)"),
            (r"^(?<groups>\S+)$", "(?<name>…)"),
            (r"^(?<name>\S+) (?<rank>\d)$", "rank"),
        ] {
            let why = read(pattern).unwrap_err();
            assert!(why.contains(word), "{pattern}: {why}");
        }
    }
}
