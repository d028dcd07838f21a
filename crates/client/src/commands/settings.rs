//! Settings of the organisation.

use clap::Subcommand;
use jexlin_api::SettingsItem;
use serde_json::Value;

use crate::args::Format;
use crate::error::ClientError;
use crate::lookup::pair;
use crate::output;
use crate::run::{Done, Run};

/// What an organisation has set.
#[derive(Debug, Subcommand)]
pub enum Settings {
    /// Show the settings
    Show,
    /// Edit settings
    #[command(
        after_help = "EXAMPLE\n  jexlin settings edit bin_days=60 weak_below=3\n\njexlin settings show lists the names."
    )]
    Edit {
        /// The settings to change
        #[arg(required = true, value_name = "NAME=VALUE")]
        values: Vec<String>,
    },
}

/// A value as `settings show` writes it: yes and no, and the items of a list with commas between.
fn as_shown(before: &Value, value: &str) -> Value {
    match (before, value) {
        (Value::Bool(_), "yes") => Value::Bool(true),
        (Value::Bool(_), "no" | "") => Value::Bool(false),
        (Value::Array(_), list) if !list.trim_start().starts_with('[') => list
            .split(',')
            .map(str::trim)
            .filter(|item| !item.is_empty())
            .map(Value::from)
            .collect(),
        (Value::String(_), text) => Value::from(text),
        (_, text) => serde_json::from_str(text).unwrap_or_else(|_| Value::from(text)),
    }
}

impl Run {
    pub fn settings(&self, command: Settings) -> Done {
        let mut present: SettingsItem = self.connection.get("/api/v1/settings")?;
        if let Settings::Edit { values } = command {
            let broken = |error: serde_json::Error| ClientError::local(error.to_string());
            let mut body = serde_json::to_value(&present.settings).map_err(broken)?;
            for text in &values {
                let (name, value) = pair(
                    text,
                    "Write NAME=VALUE, as in bin_days=60; jexlin settings show lists the names.",
                )?;
                let Some(place) = body.get_mut(name) else {
                    return Err(ClientError::input(
                        format!("There is no setting {name}."),
                        "List settings: jexlin settings show",
                    ));
                };
                *place = as_shown(place, value);
            }
            present = self
                .connection
                .change("PUT", "/api/v1/settings", &body, present.revision)?;
        }
        if self.format == Format::Json {
            return output::one(self.format, &present, &[]);
        }
        let value = serde_json::to_value(&present.settings)
            .map_err(|error| ClientError::local(error.to_string()))?;
        // Off is a value, and not a gap.
        let said = |value: &Value| {
            if self.format == Format::Table && *value == Value::Bool(false) {
                Value::from("no")
            } else {
                value.clone()
            }
        };
        let rows: Vec<Value> = value
            .as_object()
            .into_iter()
            .flatten()
            .map(|(name, value)| serde_json::json!({"name": name, "value": said(value)}))
            .collect();
        output::list(
            self.format,
            &rows,
            &[("name", "name"), ("value", "value")],
            "There are no settings.",
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_setting_takes_the_words_that_it_shows() {
        for (before, text, wanted) in [
            (json!(true), "no", json!(false)),
            (json!(false), "yes", json!(true)),
            (json!(false), "true", json!(true)),
            (json!(30), "60", json!(60)),
            (
                json!([]),
                "10.20.0.0/16 22, 10.30.0.0/16",
                json!(["10.20.0.0/16 22", "10.30.0.0/16"]),
            ),
            (json!(["x"]), "", json!([])),
            (json!(["x"]), "[\"a,b\"]", json!(["a,b"])),
            (json!("x"), "60", json!("60")),
            (json!(30), "many", json!("many")),
        ] {
            assert_eq!(as_shown(&before, text), wanted, "{text}");
        }
    }
}
