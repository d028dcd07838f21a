//! What is printed: a table for people, JSON or CSV for programs.

use std::borrow::Cow;
use std::io::Write as _;
use std::sync::Mutex;

use chrono::{DateTime, Utc};
use jexlin_api::{is_unshowable, no_formula, show_foreign};
use serde::Serialize;
use serde_json::Value;
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

use crate::args::Format;
use crate::error::ClientError;
use crate::pager;
use crate::time;
use crate::view::{self, View};

/// A column: its heading, and the field of each item (a JSON pointer without its first slash).
pub type Column<'a> = (&'a str, &'a str);

fn broken(error: impl std::fmt::Display) -> ClientError {
    ClientError::local(format!("The output cannot be written: {error}."))
}

/// What is said in JSON, where one document is all that standard output gets.
#[derive(Default)]
struct Said {
    messages: Vec<String>,
    documents: usize,
}

static SAID: Mutex<Said> = Mutex::new(Said {
    messages: vec![],
    documents: 0,
});

fn write_out(text: &str) -> Result<(), ClientError> {
    match std::io::stdout().write_all(text.as_bytes()) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(broken(error)),
        _ => Ok(()),
    }
}

/// Prints lines; a reader that closed early is no error. Where the output is JSON, they become the
/// `messages` of the document at the end.
pub fn say(text: &str) -> Result<(), ClientError> {
    if view::get().output == Format::Json
        && let Ok(mut said) = SAID.lock()
    {
        said.messages.push(text.to_owned());
        return Ok(());
    }
    write_out(&format!("{text}\n"))
}

/// Prints a document for programs, or a secret alone.
pub fn document(text: &str) -> Result<(), ClientError> {
    if let Ok(mut said) = SAID.lock() {
        said.documents += 1;
    }
    write_out(&format!("{text}\n"))
}

/// Says something beside the output, on standard error.
pub fn aside(text: &str) {
    let _ = writeln!(std::io::stderr(), "{text}");
}

/// Ends the output: in JSON, what was said is a document of its own if there is no other.
pub fn finish() -> Result<(), ClientError> {
    let Ok(mut said) = SAID.lock() else {
        return Ok(());
    };
    let messages = std::mem::take(&mut said.messages);
    if messages.is_empty() {
        return Ok(());
    }
    if said.documents == 0 {
        let text = json(&serde_json::json!({ "messages": messages }))?;
        return write_out(&format!("{text}\n"));
    }
    messages.iter().for_each(|message| aside(message));
    Ok(())
}

/// A cell on one line. What others wrote is data: it forges no line and no look of a terminal.
fn cell(item: &Value, field: &str, people: bool) -> String {
    show_foreign(&raw_cell(item, field, people))
}

fn is_time(field: &str) -> bool {
    field == "at"
        || ["_at", "_from", "/not_before", "/not_after"]
            .iter()
            .any(|end| field.ends_with(end))
}

fn raw_cell(item: &Value, field: &str, people: bool) -> String {
    match item.pointer(&format!("/{field}")) {
        None | Some(Value::Null) => String::new(),
        Some(Value::Bool(true)) if people => "yes".into(),
        Some(Value::Bool(false)) if people => String::new(),
        Some(Value::String(text)) if people && is_time(field) => text
            .parse::<DateTime<Utc>>()
            .map_or_else(|_| text.clone(), time::shown),
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

/// What one list shows: its columns as they were chosen, its items in the order and the number that
/// were asked for.
fn arranged<'a>(
    view: &'a View,
    mut items: Vec<Value>,
    columns: &'a [Column<'a>],
) -> Result<(Vec<Value>, Vec<Column<'a>>), ClientError> {
    let find = |name: &'a str, items: &[Value]| -> Result<Column<'a>, ClientError> {
        let known = columns
            .iter()
            .find(|(heading, field)| heading.eq_ignore_ascii_case(name) || *field == name)
            .copied();
        let any = || {
            items
                .iter()
                .any(|item| item.pointer(&format!("/{name}")).is_some())
        };
        match known {
            Some(column) => Ok(column),
            None if items.is_empty() || any() => Ok((name, name)),
            None => {
                let headings: Vec<&str> = columns.iter().map(|(heading, _)| *heading).collect();
                Err(ClientError::input(
                    format!("This list has no column {name}."),
                    &format!("Its columns are: {}.", headings.join(", ")),
                ))
            }
        }
    };
    if let Some(wanted) = &view.sort {
        let (name, reverse) = match wanted.strip_prefix('-') {
            Some(name) => (name, true),
            None => (wanted.as_str(), false),
        };
        let (_, field) = find(name, &items)?;
        let pointer = format!("/{field}");
        items.sort_by(|one, other| {
            let (one, other) = (one.pointer(&pointer), other.pointer(&pointer));
            let number = |value: Option<&Value>| value.and_then(Value::as_f64);
            let order = match (number(one), number(other)) {
                (Some(one), Some(other)) => one.total_cmp(&other),
                _ => sort_key(one).cmp(&sort_key(other)),
            };
            if reverse { order.reverse() } else { order }
        });
    }
    let chosen = if view.columns.is_empty() {
        columns.to_vec()
    } else {
        let each = view.columns.iter();
        each.map(|name| find(name, &items))
            .collect::<Result<_, _>>()?
    };
    if let Some(limit) = view.limit {
        items.truncate(limit);
    }
    Ok((items, chosen))
}

fn sort_key(value: Option<&Value>) -> String {
    value.map_or_else(String::new, |value| {
        value
            .as_str()
            .map_or_else(|| value.to_string(), str::to_lowercase)
    })
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
    let view = view::get();
    let (items, columns) = arranged(view, items, columns)?;
    match format {
        Format::Json => document(&json(&items)?),
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
            document(String::from_utf8_lossy(&bytes).trim_end())
        }
        Format::Table if items.is_empty() => {
            aside(none);
            Ok(())
        }
        Format::Table => {
            let terminal = terminal_size::terminal_size_of(std::io::stdout());
            let width = terminal
                .map(|(width, _)| usize::from(width.0))
                .filter(|_| !view.wide);
            let (text, left_out) = table(&items, &columns, width, view);
            let height = terminal.map(|(_, height)| usize::from(height.0));
            let is_long = height.is_some_and(|height| text.lines().count() >= height);
            if is_long && !view.no_pager {
                pager::show(&text)?;
            } else {
                write_out(&text)?;
            }
            if !left_out.is_empty() {
                let left_out = left_out.join(", ");
                aside(&format!(
                    "Columns left out: {left_out}. Use --wide, or --columns."
                ));
            }
            Ok(())
        }
    }
}

/// Columns that are cut before others are left out have at least so many characters.
const LEAST: usize = 12;

/// A column with its cells, and how wide it is.
struct Filled<'a> {
    heading: &'a str,
    cells: Vec<String>,
    width: usize,
    /// An identifier, a time or something short: never cut.
    rigid: bool,
}

/// A table: a line an item, no cell broken into two. Where it does not fit, long texts end in `…`,
/// and columns at the right are left out, which are returned.
fn table<'a>(
    items: &[Value],
    columns: &[Column<'a>],
    width: Option<usize>,
    view: &View,
) -> (String, Vec<&'a str>) {
    let hidden = |heading: &str| heading == "id" && !view.wide && view.columns.is_empty();
    let mut filled: Vec<Filled<'a>> = vec![];
    for (heading, field) in columns.iter().filter(|(heading, _)| !hidden(heading)) {
        let cells: Vec<String> = items.iter().map(|item| cell(item, field, true)).collect();
        let widest = cells.iter().map(|cell| cell.width()).max().unwrap_or(0);
        // A column in which nothing stands takes the room of those in which something does.
        if widest > 0 {
            let width = widest.max(heading.width());
            filled.push(Filled {
                heading,
                cells,
                width,
                rigid: *field == "id" || is_time(field) || width <= LEAST,
            });
        }
    }
    let mut left_out = vec![];
    if let Some(room) = width {
        let least = |column: &Filled<'_>| if column.rigid { column.width } else { LEAST };
        while filled.len() > 1
            && filled.iter().map(|column| least(column) + 2).sum::<usize>() > room + 2
        {
            left_out.extend(filled.pop().map(|column| column.heading));
        }
        shrink(&mut filled, room);
    }
    left_out.reverse();
    let mut text = String::new();
    let heading = filled
        .iter()
        .map(|column| (column.heading.to_uppercase(), column.width));
    line(&mut text, heading);
    for index in 0..items.len() {
        let cells = filled.iter().map(|column| {
            let cell = column.cells.get(index).map_or("", String::as_str);
            (cut(cell, column.width), column.width)
        });
        line(&mut text, cells);
    }
    (text, left_out)
}

/// Takes the room that is missing from the widest of the columns that may be cut.
///
/// ```text
/// room 40: 20* 30* 10        20* 8... no: the widest first, down to the next widest:
///          20* 20* 10  = 54  then both: 12* 12* 10 = 38, with two spaces between
/// ```
fn shrink(columns: &mut [Filled<'_>], room: usize) {
    loop {
        let total = columns.iter().map(|column| column.width + 2).sum::<usize>();
        let missing = total.saturating_sub(room + 2);
        let Some(widest) = columns
            .iter_mut()
            .filter(|column| !column.rigid && column.width > LEAST)
            .max_by_key(|column| column.width)
        else {
            return;
        };
        if missing == 0 {
            return;
        }
        widest.width -= 1;
    }
}

/// A text that is no wider than so many columns.
fn cut(text: &str, width: usize) -> Cow<'_, str> {
    if text.width() <= width {
        return Cow::Borrowed(text);
    }
    let mut taken = 0;
    let short: String = text
        .chars()
        .take_while(|c| {
            taken += c.width().unwrap_or(0);
            taken < width
        })
        .collect();
    Cow::Owned(format!("{}…", short.trim_end()))
}

fn line<T: AsRef<str>>(text: &mut String, cells: impl Iterator<Item = (T, usize)>) {
    let start = text.len();
    let mut pending = 0;
    for (cell, width) in cells {
        let cell = cell.as_ref();
        text.extend(std::iter::repeat_n(' ', pending));
        text.push_str(cell);
        pending = width.saturating_sub(cell.width()) + 2;
    }
    text.truncate(start + text.get(start..).unwrap_or_default().trim_end().len());
    text.push('\n');
}

/// Prints one thing: a line a field.
pub fn one(
    format: Format,
    item: &impl Serialize,
    fields: &[Column<'_>],
) -> Result<(), ClientError> {
    let item = serde_json::to_value(item).map_err(broken)?;
    match format {
        Format::Json => document(&json(&item)?),
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

    fn view(wide: bool) -> View {
        View {
            wide,
            ..view::get().clone()
        }
    }

    const COLUMNS: [Column<'static>; 4] = [
        ("name", "name"),
        ("path", "path"),
        ("last", "last_at"),
        ("id", "id"),
    ];

    #[test]
    fn a_table_cuts_long_texts_and_leaves_out_what_has_no_room() {
        let items = [
            json!({"name": "duty", "path": "/Pumping/North ridge/telemetry/duty of the night", "last_at": "2026-11-23T04:05:06Z", "id": "018f0000"}),
            json!({"name": "Öl 油", "path": "/Office", "last_at": "2026-11-24T04:05:06Z", "id": "018f0001"}),
        ];
        let shown = |width, wide| table(&items, &COLUMNS, width, &view(wide));
        let (text, left_out) = shown(None, false);
        assert_eq!(left_out, [""; 0]);
        assert_eq!(
            text,
            "NAME   PATH                                            LAST\nduty   /Pumping/North ridge/telemetry/duty of the night  2026-11-23 04:05\nÖl 油  /Office                                           2026-11-24 04:05\n"
                .replace("PATH                                            LAST", "PATH                                              LAST")
        );
        let (text, left_out) = shown(Some(50), false);
        assert!(
            left_out.is_empty() && text.contains("/Pumping/North ridge/tel…"),
            "{text}"
        );
        assert!(text.lines().all(|line| line.width() <= 50), "{text}");
        assert!(text.contains("2026-11-23 04:05"), "{text}");
        let (text, left_out) = shown(Some(30), false);
        assert_eq!(left_out, ["last"]);
        assert!(text.lines().all(|line| line.width() <= 30), "{text}");
        assert!(shown(None, true).0.contains("018f0001"));
    }

    #[test]
    fn items_are_sorted_limited_and_shown_by_chosen_columns() {
        let items = || {
            vec![
                json!({"name": "b", "age": 9, "x": 1}),
                json!({"name": "A", "age": 10}),
            ]
        };
        let arrange = |sort: Option<&str>, limit, columns: &[&str]| {
            let view = View {
                sort: sort.map(str::to_owned),
                limit,
                columns: columns.iter().map(|name| (*name).to_owned()).collect(),
                ..view::get().clone()
            };
            arranged(&view, items(), &[("name", "name"), ("years", "age")]).map(
                |(items, columns)| {
                    let names: Vec<String> = items
                        .iter()
                        .map(|item| item["name"].as_str().unwrap().to_owned())
                        .collect();
                    (
                        names.join(" "),
                        columns
                            .iter()
                            .map(|(_, field)| *field)
                            .collect::<Vec<_>>()
                            .join(" "),
                    )
                },
            )
        };
        assert_eq!(
            arrange(Some("name"), None, &[]).unwrap(),
            ("A b".into(), "name age".into())
        );
        assert_eq!(
            arrange(Some("-years"), Some(1), &["x"]).unwrap(),
            ("A".into(), "x".into())
        );
        assert_eq!(
            arrange(Some("age"), None, &["YEARS"]).unwrap(),
            ("b A".into(), "age".into())
        );
        let unknown = arrange(Some("colour"), None, &[]).unwrap_err();
        assert!(
            unknown.what().contains("no column colour"),
            "{}",
            unknown.what()
        );
    }

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
