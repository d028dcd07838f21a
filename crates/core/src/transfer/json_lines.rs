//! JSON Lines: one JSON object (RFC 8259) a line, whose names are the columns; or an array of such
//! objects.

use std::collections::HashMap;
use std::fmt;

use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;

use super::rows::{Grid, MOST_COLUMNS, SheetProblem};

/// The members of an object in their order, a name that comes twice included, and each value as it
/// is written: a number keeps all its digits.
struct Members<'a>(Vec<(String, &'a RawValue)>);

impl<'de> Deserialize<'de> for Members<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Object;
        impl<'de> Visitor<'de> for Object {
            type Value = Members<'de>;

            fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
                formatter.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
                let mut members = vec![];
                while let Some(member) = map.next_entry()? {
                    members.push(member);
                }
                Ok(Members(members))
            }
        }
        deserializer.deserialize_map(Object)
    }
}

/// A value as a cell, and whether it is a list that became lines.
fn cell(value: &RawValue) -> Result<(String, bool), &'static str> {
    let written = value.get();
    Ok(match written.as_bytes().first() {
        Some(b'"') => (
            serde_json::from_str(written).map_err(|_| "it is not a valid JSON string")?,
            false,
        ),
        Some(b'[') => {
            let list: Vec<String> = serde_json::from_str(written)
                .map_err(|_| "it is neither a string nor a list of strings")?;
            (list.join("\n"), true)
        }
        Some(b'{') => return Err("it is neither a string nor a list of strings"),
        Some(b'n') => (String::new(), false),
        _ => (written.to_owned(), false),
    })
}

/// The objects of an array, each with the line where it begins.
fn elements(text: &str) -> Result<Vec<(usize, &str)>, SheetProblem> {
    let elements: Vec<&RawValue> = serde_json::from_str(text).map_err(|error| {
        let (line, at) = (error.line(), error.column());
        SheetProblem(format!(
            "it begins as a JSON array and is none (line {line}, character {at})"
        ))
    })?;
    let (mut line, mut counted) = (1, 0);
    let found = elements.into_iter().map(|element| {
        let written = element.get();
        // Where it stands in the text that it was read from.
        let begin = written.as_ptr().addr().saturating_sub(text.as_ptr().addr());
        let between = text.get(counted..begin).unwrap_or_default();
        line += between.matches('\n').count();
        counted = begin;
        (line, written)
    });
    Ok(found.collect())
}

/// Reads the rows; the columns are those of all of them.
pub(super) fn read(text: &str, grid: &mut Grid) -> Result<(), SheetProblem> {
    let mut heads: Vec<String> = vec![];
    let mut columns: HashMap<String, usize> = HashMap::new();
    let rows = if text.trim_start().starts_with('[') {
        elements(text)?
    } else {
        (1..).zip(text.lines()).collect()
    };
    for (line, written) in rows {
        if written.trim().is_empty() {
            continue;
        }
        let members: Members<'_> = match serde_json::from_str(written) {
            Ok(members) => members,
            Err(error) => {
                let at = error.column();
                grid.problem(
                    line,
                    None,
                    format!("this is not a JSON object (character {at})"),
                )?;
                continue;
            }
        };
        let mut cells: Vec<Option<String>> = vec![None; heads.len()];
        let mut problem = None;
        for (name, value) in members.0 {
            let next = heads.len();
            let column = *columns.entry(name).or_insert_with_key(|name| {
                heads.push(name.clone());
                next
            });
            if heads.len() > MOST_COLUMNS {
                return Err(SheetProblem(format!(
                    "it has more than {MOST_COLUMNS} columns"
                )));
            }
            cells.resize(heads.len(), None);
            let Some(place) = cells.get_mut(column) else {
                continue;
            };
            match (place.is_some(), cell(value)) {
                (true, _) => problem = Some((column, "this name is twice in the object")),
                (false, Err(why)) => problem = Some((column, why)),
                (false, Ok((text, list))) => {
                    if list {
                        grid.changes
                            .note(line, Some(column), "a list is written as lines");
                    }
                    *place = Some(text);
                }
            }
        }
        if let Some((column, why)) = problem {
            grid.problem(line, Some(column), why)?;
            continue;
        }
        grid.push(
            line,
            cells.into_iter().map(Option::unwrap_or_default).collect(),
        )?;
    }
    grid.heads = Some(heads);
    Ok(())
}
