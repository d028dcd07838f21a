//! What every command works with: the connection and the output format; questions before a change;
//! the same done to many things.

use jexlin_api::Change;
use serde_json::json;

use crate::args::{Format, Selection};
use crate::commands::search::Narrow;
use crate::connection::Connection;
use crate::error::ClientError;
use crate::output::{self, counted};
use crate::secrets;

/// The result of a command.
pub type Done = Result<(), ClientError>;

/// What every command has available.
pub struct Run {
    /// The service.
    pub connection: Connection,
    /// How to print.
    pub format: Format,
    /// No question is asked: the answer is yes.
    pub yes: bool,
}

/// One of many things that a command is for.
pub struct Selected {
    /// What names it to the person.
    pub path: String,
    /// What names it to the service: its path, or its identifier where that is known.
    pub key: String,
}

impl Selected {
    /// Something by its path or identifier, as it was given.
    pub fn named(path: &str) -> Self {
        Self {
            path: path.to_owned(),
            key: path.to_owned(),
        }
    }
}

impl Run {
    /// Asks before something that cannot be undone.
    ///
    /// # Errors
    /// The answer is no, or there is no terminal to ask on and no `--yes`.
    pub fn confirm(&self, question: &str) -> Done {
        if self.yes || secrets::confirm(question)? {
            Ok(())
        } else {
            Err(ClientError::declined())
        }
    }

    /// Shows who would gain or lose what by a change of access, and asks whether to make it.
    ///
    /// # Errors
    /// The answer is no, or there is no terminal to ask on and no `--yes`.
    pub fn confirm_change(&self, change: &Change) -> Done {
        if self.yes {
            return Ok(());
        }
        secrets::must_be_able_to_ask("This changes access.")?;
        self.show_preview(change)?;
        self.confirm("\nApply this change?")
    }

    /// The credentials that were selected. Those that are selected by a rule come in the order of
    /// the service's list; none comes twice.
    pub fn selected(&self, selection: &Selection) -> Result<Vec<Selected>, ClientError> {
        self.selected_that(selection, |_| true)
    }

    /// The same, of accounts on devices: a rule selects nothing else.
    pub fn selected_accounts(&self, selection: &Selection) -> Result<Vec<Selected>, ClientError> {
        self.selected_that(selection, |device| device.is_some())
    }

    fn selected_that(
        &self,
        selection: &Selection,
        fits: impl Fn(Option<&str>) -> bool,
    ) -> Result<Vec<Selected>, ClientError> {
        let mut found: Vec<Selected> = selection.paths.iter().map(|p| Selected::named(p)).collect();
        let rule = &selection.rule;
        if rule.stdin {
            let text = std::io::read_to_string(std::io::stdin()).map_err(|error| {
                ClientError::local(format!("Standard input cannot be read: {error}."))
            })?;
            let lines = text.lines().map(str::trim);
            found.extend(lines.filter(|line| !line.is_empty()).map(Selected::named));
        }
        let mut by_rule: Option<Vec<Selected>> = None;
        if rule.below.is_some() || rule.tag.is_some() {
            let filters = self.filters(Narrow {
                below: rule.below.clone(),
                tag: rule.tag.clone(),
                ..Narrow::default()
            })?;
            let rows = self.credentials_that_match(&filters, None)?;
            let rows = rows.into_iter().filter(|row| fits(row.device.as_deref()));
            let selected = rows.map(|row| Selected {
                path: format!("{}/{}", row.place, row.name),
                key: row.id.to_string(),
            });
            by_rule = Some(selected.collect());
        }
        if let Some(name) = &rule.seen_by {
            let seen = self.seen_by(name, true)?.into_iter();
            let seen = seen.filter(|item| fits(item.device.as_deref()));
            let seen: Vec<Selected> = seen
                .map(|item| Selected {
                    path: item.path,
                    key: item.credential.to_string(),
                })
                .collect();
            // Each rule narrows what the others select.
            by_rule = Some(match by_rule {
                None => seen,
                Some(mut both) => {
                    both.retain(|one| seen.iter().any(|other| other.key == one.key));
                    both
                }
            });
        }
        found.extend(by_rule.unwrap_or_default());
        let mut seen = std::collections::BTreeSet::new();
        found.retain(|one| seen.insert(one.path.clone()));
        if found.is_empty() {
            return Err(ClientError::unknown(
                "No credential is selected.",
                "List what there is: jexlin credential list --below FOLDER --tag TAG",
            ));
        }
        Ok(found)
    }

    /// Asks before a rule that selected several things is followed.
    pub fn confirm_many(&self, selection: &Selection, many: &[Selected], what: &str) -> Done {
        if selection.rule.selects() && many.len() > 1 {
            let credentials = counted(many.len(), "credential", "credentials");
            return self.confirm(&format!("{what} {credentials}?"));
        }
        Ok(())
    }

    /// Does the same to each, reports the result of each, and fails at the end if one failed. One
    /// alone fails by itself.
    pub fn each(
        &self,
        many: &[Selected],
        mut act: impl FnMut(&str) -> Result<String, ClientError>,
    ) -> Done {
        let (mut rows, mut failed) = (vec![], None);
        for one in many {
            let (done, result) = match act(&one.key) {
                Ok(result) => (true, result),
                Err(trouble) if many.len() == 1 => return Err(trouble),
                Err(trouble) => {
                    let result = trouble.what();
                    failed = failed.or(Some(trouble));
                    (false, result)
                }
            };
            rows.push(json!({"path": one.path, "done": done, "result": result}));
        }
        output::list(
            self.format,
            &rows,
            &[("path", "path"), ("result", "result")],
            "",
        )?;
        failed.map_or(Ok(()), Err)
    }
}
