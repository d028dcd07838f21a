//! What is printed: a table for people, JSON or CSV for programs.

use std::io::Write as _;

use chrono::{DateTime, Utc};
use comfy_table::{ColumnConstraint, ContentArrangement, Table, presets};
use jexlin_api::{is_unshowable, no_formula, show_foreign};
use serde::Serialize;
use serde_json::Value;

use crate::args::Format;
use crate::error::ClientError;

/// A column: its heading, and the field of each item (a JSON pointer without its first slash).
pub type Column<'a> = (&'a str, &'a str);

fn broken(error: impl std::fmt::Display) -> ClientError {
    ClientError::local(format!("The output cannot be written: {error}."))
}

/// Prints lines; a reader that closed early is no error.
pub fn say(text: &str) -> Result<(), ClientError> {
    match writeln!(std::io::stdout(), "{text}") {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(broken(error)),
        _ => Ok(()),
    }
}

/// A cell on one line. What others wrote is data: it forges no line and no look of a terminal.
fn cell(item: &Value, field: &str, people: bool) -> String {
    show_foreign(&raw_cell(item, field, people))
}

fn raw_cell(item: &Value, field: &str, people: bool) -> String {
    match item.pointer(&format!("/{field}")) {
        None | Some(Value::Null) => String::new(),
        Some(Value::Bool(true)) if people => "yes".into(),
        Some(Value::Bool(false)) if people => String::new(),
        Some(Value::String(text))
            if people
                && (field == "at"
                    || field.ends_with("_at")
                    || field.ends_with("_from")
                    || field.ends_with("/not_before")
                    || field.ends_with("/not_after")) =>
        {
            text.parse::<DateTime<Utc>>().map_or_else(
                |_| text.clone(),
                |time| time.format("%Y-%m-%d %H:%M").to_string(),
            )
        }
        Some(Value::String(text)) => text.clone(),
        Some(Value::Array(items)) => items
            .iter()
            .map(|item| {
                item.get("name")
                    .and_then(Value::as_str)
                    .or(item.as_str())
                    .unwrap_or_default()
                    .to_owned()
            })
            .collect::<Vec<_>>()
            .join(", "),
        Some(Value::Object(pairs)) => pairs
            .iter()
            .map(|(name, value)| format!("{name}={}", value.as_str().unwrap_or_default()))
            .collect::<Vec<_>>()
            .join(", "),
        Some(other) => other.to_string(),
    }
}

/// JSON in which nothing that cannot be seen stands as itself.
pub fn json(value: &impl Serialize) -> Result<String, ClientError> {
    let text = serde_json::to_string_pretty(value).map_err(broken)?;
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if c != '\n' && is_unshowable(c) {
            let mut units = [0; 2];
            for unit in c.encode_utf16(&mut units) {
                out.push_str(&format!("\\u{unit:04x}"));
            }
        } else {
            out.push(c);
        }
    }
    Ok(out)
}

/// Prints a list.
pub fn list(
    format: Format,
    items: &[impl Serialize],
    columns: &[Column<'_>],
    none: &str,
) -> Result<(), ClientError> {
    let items: Vec<Value> = items
        .iter()
        .map(serde_json::to_value)
        .collect::<Result<_, _>>()
        .map_err(broken)?;
    match format {
        Format::Json => say(&json(&items)?),
        Format::Csv => {
            let mut writer = csv::Writer::from_writer(vec![]);
            writer
                .write_record(columns.iter().map(|(heading, _)| *heading))
                .map_err(broken)?;
            for item in &items {
                writer
                    .write_record(
                        columns
                            .iter()
                            .map(|(_, field)| no_formula(&cell(item, field, false))),
                    )
                    .map_err(broken)?;
            }
            let bytes = writer.into_inner().map_err(broken)?;
            say(String::from_utf8_lossy(&bytes).trim_end())
        }
        Format::Table if items.is_empty() => {
            eprintln!("{none}");
            Ok(())
        }
        Format::Table => {
            let mut table = Table::new();
            table
                .load_preset(presets::NOTHING)
                .set_content_arrangement(ContentArrangement::Dynamic);
            // A column in which nothing stands takes the room of those in which something does.
            let columns = columns
                .iter()
                .filter(|(_, field)| items.iter().any(|item| !cell(item, field, true).is_empty()));
            table.set_header(columns.clone().map(|(heading, _)| heading.to_uppercase()));
            for item in &items {
                table.add_row(columns.clone().map(|(_, field)| cell(item, field, true)));
            }
            // An identifier is there to be copied: it is never broken into two lines.
            if let Some(column) = columns
                .clone()
                .position(|(_, field)| *field == "id")
                .and_then(|index| table.column_mut(index))
            {
                column.set_constraint(ColumnConstraint::ContentWidth);
            }
            let text: Vec<String> = table
                .to_string()
                .lines()
                .map(|line| line.strip_prefix(' ').unwrap_or(line).trim_end().to_owned())
                .collect();
            say(&text.join("\n"))
        }
    }
}

/// Prints one thing: a line a field.
pub fn one(
    format: Format,
    item: &impl Serialize,
    fields: &[Column<'_>],
) -> Result<(), ClientError> {
    let item = serde_json::to_value(item).map_err(broken)?;
    match format {
        Format::Json => say(&json(&item)?),
        Format::Csv => list(format, &[item], fields, ""),
        Format::Table => {
            let width = fields
                .iter()
                .map(|(heading, _)| heading.chars().count())
                .max()
                .unwrap_or(0);
            for (heading, field) in fields {
                let text = raw_cell(&item, field, true);
                let text = text
                    .lines()
                    .map(show_foreign)
                    .collect::<Vec<_>>()
                    .join("\n");
                if !text.is_empty() {
                    // What has several lines stays in its column.
                    let text = text.trim_end().replace('\n', &format!("\n{:width$}  ", ""));
                    say(&format!("{heading:<width$}  {text}"))?;
                }
            }
            Ok(())
        }
    }
}

/// A number with what it counts.
pub fn counted(number: usize, singular: &str, plural: &str) -> String {
    format!("{number} {}", if number == 1 { singular } else { plural })
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_cell_is_written_for_its_reader() {
        let item = json!({"name": "duty", "closed": true, "open": false, "asked_at": "2026-11-23T04:05:06Z", "broken_at": "soon", "port": 22,
            "members": [{"name": "Marek Tull"}, {"name": "Shift leads"}], "duties": ["people", "audit"], "none": null, "gate": {"place": "/Pumping"}});
        let people = |field| cell(&item, field, true);
        let programs = |field| cell(&item, field, false);
        assert_eq!(
            (people("closed"), people("open"), programs("open")),
            ("yes".into(), String::new(), "false".into())
        );
        assert_eq!(
            (people("asked_at"), programs("asked_at")),
            ("2026-11-23 04:05".into(), "2026-11-23T04:05:06Z".into())
        );
        assert_eq!(
            (people("broken_at"), people("none"), people("nowhere")),
            ("soon".into(), String::new(), String::new())
        );
        assert_eq!(
            (people("members"), people("duties"), people("port")),
            (
                "Marek Tull, Shift leads".into(),
                "people, audit".into(),
                "22".into()
            )
        );
        assert_eq!(people("gate/place"), "/Pumping");
    }

    #[test]
    fn foreign_text_forges_no_line_no_look_and_no_formula() {
        let item = json!({"name": "duty\nines  granted everything", "reason": "\u{1b}[2J\u{202e}txt", "formula": "=HYPERLINK(\"x\")", "number": "-5"});
        assert_eq!(cell(&item, "name", true), "duty ines granted everything");
        assert_eq!(cell(&item, "reason", false), "\u{FFFD}[2J\u{FFFD}txt");
        assert_eq!(
            (
                no_formula("=HYPERLINK(1)"),
                no_formula("-5"),
                no_formula("@x")
            ),
            ("'=HYPERLINK(1)".into(), "-5".into(), "'@x".into())
        );
        let text = super::json(&item).unwrap();
        assert!(
            text.contains("\\u001b[2J\\u202etxt") && !text.contains('\u{202e}'),
            "{text}"
        );
        assert_eq!(serde_json::from_str::<Value>(&text).unwrap(), item);
    }
}
