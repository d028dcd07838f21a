//! What the columns of a sheet are, and what a row of it comes to.

use std::collections::BTreeMap;

use zeroize::Zeroize;

use super::{Row, Sheet};
use crate::names::{Name, without_guard};
use crate::vault::kinds::{FieldType, Given, Kind, PASSWORD};
use crate::vault::readings::KeyReader;

/// What a column is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Column {
    /// Nothing that is wanted.
    Nothing,
    /// The name.
    Name,
    /// The folder, as a path.
    Folder,
    /// The tags, apart by commas or semicolons.
    Tags,
    /// The kind, by its name or its label.
    Kind,
    /// A field of the kind, by its name.
    Field(String),
}

impl Column {
    /// The word for it.
    #[must_use]
    pub fn word(&self) -> &str {
        match self {
            Self::Nothing => "-",
            Self::Name => "name",
            Self::Folder => "folder",
            Self::Tags => "tags",
            Self::Kind => "kind",
            Self::Field(name) => name,
        }
    }

    /// The column of a word: any other word is a field.
    #[must_use]
    pub fn of(word: &str) -> Self {
        match word.trim() {
            "" | "-" => Self::Nothing,
            "name" => Self::Name,
            "folder" => Self::Folder,
            "tags" => Self::Tags,
            "kind" => Self::Kind,
            field => Self::Field(field.to_owned()),
        }
    }
}

/// Heads as programs write them, in small letters and without signs between.
const KNOWN: [(&str, &[&str]); 10] = [
    // Not "type": other programs' words for what a thing is are not ours.
    ("kind", &["kind"]),
    (
        "name",
        &[
            "name",
            "title",
            "label",
            "item",
            "itemname",
            "description",
            "entry",
            "system",
            "service",
            "bezeichnung",
            "nom",
        ],
    ),
    (
        "folder",
        &[
            "folder",
            "path",
            "group",
            "grouping",
            "category",
            "collection",
            "vault",
            "location",
            "ordner",
        ],
    ),
    ("tags", &["tags", "tag", "labels", "keywords"]),
    (
        "user_name",
        &[
            "username",
            "user",
            "login",
            "loginname",
            "loginusername",
            "account",
            "accountname",
            "email",
            "mail",
            "signin",
            "benutzer",
            "benutzername",
        ],
    ),
    (
        PASSWORD,
        &[
            "password",
            "pass",
            "pwd",
            "secret",
            "loginpassword",
            "passwort",
            "kennwort",
            "passphrase",
            "token",
            "key",
            "apikey",
            "privatekey",
            "value",
        ],
    ),
    (
        "url",
        &[
            "url",
            "urls",
            "uri",
            "website",
            "web",
            "site",
            "address",
            "link",
            "loginuri",
            "webaddress",
            "hostname",
            "host",
        ],
    ),
    (
        "note",
        &[
            "note", "notes", "comment", "comments", "extra", "remark", "remarks", "notiz",
            "notizen",
        ],
    ),
    (
        "one_time_seed",
        &[
            "totp",
            "otp",
            "otpauth",
            "onetimeseed",
            "logintotp",
            "2fa",
            "seed",
            "otpsecret",
            "totpsecret",
        ],
    ),
    (
        "expires",
        &[
            "expires",
            "expiry",
            "expirydate",
            "validuntil",
            "expiration",
        ],
    ),
];

/// Of which kind things are.
#[derive(Clone, Debug)]
pub struct Kinds {
    /// What a thing is of that does not say it.
    pub default_kind: Kind,
    /// What a thing may say that it is of.
    pub known: Vec<Kind>,
}

impl Kinds {
    /// The kind of a name or a label.
    #[must_use]
    pub fn find(&self, word: &str) -> Option<&Kind> {
        let word = word.trim().to_lowercase();
        self.known
            .iter()
            .find(|kind| kind.name == word || kind.label.to_lowercase() == word)
    }
}

impl From<Kind> for Kinds {
    fn from(kind: Kind) -> Self {
        Self {
            known: vec![kind.clone()],
            default_kind: kind,
        }
    }
}

fn plain(head: &str) -> String {
    head.to_lowercase()
        .chars()
        .filter(|c| c.is_alphanumeric())
        .collect()
}

/// What the columns probably are: each thing once, by the heads, for the fields that a kind has;
/// where a column says the kind of each row, that any kind has.
#[must_use]
pub fn guess(heads: &[String], kinds: &Kinds) -> Vec<Column> {
    let mut taken: Vec<Column> = vec![];
    let several = heads.iter().any(|head| {
        KNOWN
            .iter()
            .any(|(word, heads)| *word == "kind" && heads.contains(&plain(head).as_str()))
    });
    let others = kinds.known.iter().filter(|_| several);
    let all: Vec<&Kind> = std::iter::once(&kinds.default_kind).chain(others).collect();
    heads
        .iter()
        .map(|head| {
            let plain = plain(head);
            let mut fields = all.iter().flat_map(|kind| &kind.fields);
            let own = fields.find(|field| {
                field.name.replace('_', "") == plain
                    || field.label.to_lowercase() == head.to_lowercase()
            });
            let known = KNOWN
                .iter()
                .find(|(_, heads)| heads.contains(&plain.as_str()))
                .map(|(word, _)| *word);
            let found = match (own, known) {
                (Some(field), _) => Column::Field(field.name.clone()),
                (None, Some(word)) => Column::of(word),
                (None, None) => Column::Nothing,
            };
            let fits = match &found {
                Column::Field(name) => all.iter().any(|kind| kind.field(name).is_some()),
                _ => true,
            };
            if !fits || taken.contains(&found) {
                return Column::Nothing;
            }
            taken.push(found.clone());
            found
        })
        .collect()
}

/// What a row comes to.
#[derive(Debug)]
pub struct Thing {
    /// Its kind, by name.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// Its folder, below the one that everything is imported into; empty for that one.
    pub folder: Vec<String>,
    /// Its tags.
    pub tags: Vec<String>,
    /// Its plain fields.
    pub fields: BTreeMap<String, String>,
    /// Its secret ones.
    pub secrets: Vec<(String, Given)>,
}

impl Drop for Thing {
    fn drop(&mut self) {
        self.fields.values_mut().for_each(Zeroize::zeroize);
    }
}

/// What a row calls itself, for somebody who looks for it; nothing secret.
#[must_use]
pub fn name_of<'a>(row: &'a Row, columns: &[Column]) -> &'a str {
    let cell = |wanted: &Column| {
        columns
            .iter()
            .position(|column| column == wanted)
            .and_then(|number| row.cells.get(number))
            .map(|cell| cell.trim())
    };
    let ways = [
        Column::Name,
        Column::Field("url".into()),
        Column::Field("user_name".into()),
    ];
    ways.iter()
        .filter_map(cell)
        .find(|text| !text.is_empty())
        .unwrap_or_default()
}

/// Reads a row by what its columns are.
///
/// # Errors
/// The column's head and a sentence for each thing that is wrong, without a value.
pub fn read_row(
    sheet: &Sheet,
    row: &Row,
    columns: &[Column],
    kinds: &Kinds,
    reader: &impl KeyReader,
) -> Result<Thing, Vec<(String, String)>> {
    let said = columns
        .iter()
        .position(|column| *column == Column::Kind)
        .and_then(|number| Some((number, row.cells.get(number)?.trim())));
    let kind = match said.filter(|(_, word)| !word.is_empty()) {
        None => &kinds.default_kind,
        Some((number, word)) => kinds.find(word).ok_or_else(|| {
            vec![(
                sheet.heads.get(number).cloned().unwrap_or_default(),
                "there is no kind of this name".to_owned(),
            )]
        })?,
    };
    let mut thing = Thing {
        kind: kind.name.clone(),
        name: String::new(),
        folder: vec![],
        tags: vec![],
        fields: BTreeMap::new(),
        secrets: vec![],
    };
    let mut problems = vec![];
    let head = |number: usize| sheet.heads.get(number).cloned().unwrap_or_default();
    let head_of = |wanted: &str| {
        columns
            .iter()
            .position(|column| column.word() == wanted)
            .map_or_else(|| wanted.to_owned(), head)
    };
    for (number, (cell, column)) in row.cells.iter().zip(columns).enumerate() {
        let trimmed = cell.trim();
        let text = if sheet.guarded {
            without_guard(trimmed)
        } else {
            trimmed
        };
        match column {
            Column::Nothing | Column::Kind => {}
            _ if text.is_empty() => {}
            Column::Name => match Name::parse(&text.replace('/', "-")) {
                Ok(name) => thing.name = name.into_string(),
                Err(problem) => problems.push((head(number), problem.to_string())),
            },
            Column::Folder => {
                for part in text
                    .split(['/', '\\'])
                    .map(str::trim)
                    .filter(|part| !part.is_empty())
                {
                    match Name::parse(part) {
                        Ok(name) => thing.folder.push(name.into_string()),
                        Err(problem) => problems.push((head(number), problem.to_string())),
                    }
                }
            }
            Column::Tags => {
                thing.tags = text
                    .split([',', ';', '\n'])
                    .map(|tag| tag.trim().to_lowercase())
                    .filter(|tag| !tag.is_empty())
                    .collect()
            }
            Column::Field(name) => match kind.field(name).map(|field| field.holds) {
                None => problems.push((
                    head(number),
                    format!("a {} has no field `{name}`", kind.label.to_lowercase()),
                )),
                // A password is what it is: no space of it is taken away.
                Some(holds) if holds.is_secret() => match kind.read_secret(
                    name,
                    if holds == FieldType::Secret {
                        cell
                    } else {
                        trimmed
                    },
                    reader,
                ) {
                    Ok(given) => thing.secrets.push((name.clone(), given)),
                    Err(problem) => problems.push((head(number), problem)),
                },
                Some(FieldType::Url) => {
                    let urls: Vec<String> = text
                        .split_whitespace()
                        .map(|url| {
                            if url.contains("://") {
                                url.to_owned()
                            } else {
                                format!("https://{url}")
                            }
                        })
                        .collect();
                    thing.fields.insert(name.clone(), urls.join("\n"));
                }
                Some(_) => {
                    thing.fields.insert(name.clone(), text.to_owned());
                }
            },
        }
    }
    if thing.name.is_empty() && problems.is_empty() {
        // Many programs write logins without a name; what it is for is name enough.
        let host = thing
            .fields
            .get("url")
            .and_then(|url| url.split("://").nth(1))
            .and_then(|rest| rest.split(['/', ':', '\n']).next())
            .map(str::to_owned);
        match host
            .or_else(|| thing.fields.get("user_name").cloned())
            .map(|name| Name::parse(&name).map(Name::into_string))
        {
            Some(Ok(name)) => thing.name = name,
            _ => problems.push((head_of("name"), "there is no name".to_owned())),
        }
    }
    if let Err(found) = kind.check_plain(&thing.fields, &BTreeMap::new(), reader) {
        problems.extend(
            found
                .into_iter()
                .map(|(field, problem)| (head_of(&field), problem)),
        );
    }
    for field in kind
        .fields
        .iter()
        .filter(|field| field.required && field.holds.is_secret())
    {
        let missing = !thing.secrets.iter().any(|(name, _)| *name == field.name);
        if missing
            && !problems
                .iter()
                .any(|(head, _)| *head == head_of(&field.name))
        {
            problems.push((
                head_of(&field.name),
                format!("there is no {}", field.label.to_lowercase()),
            ));
        }
    }
    kind.complete(&mut thing.fields, &BTreeMap::new(), reader);
    if problems.is_empty() {
        Ok(thing)
    } else {
        Err(problems)
    }
}

#[cfg(test)]
mod tests {
    use super::super::Format;
    use super::*;
    use crate::vault::readings::Parser;

    fn login() -> Kinds {
        Kind::find("login").unwrap().into()
    }

    fn all() -> Kinds {
        Kinds {
            known: crate::vault::kinds::built_in().to_vec(),
            ..login()
        }
    }

    fn sheet(text: &str) -> Sheet {
        Sheet::read(text.as_bytes(), Format::Separated).unwrap()
    }

    #[test]
    fn heads_of_many_programs_are_guessed_and_each_thing_is_guessed_once() {
        let heads = |text: &str| {
            guess(
                &text.split(',').map(str::to_owned).collect::<Vec<_>>(),
                &login(),
            )
            .iter()
            .map(|column| column.word().to_owned())
            .collect::<Vec<_>>()
        };
        assert_eq!(
            heads("Title,User Name,Password,URL,Notes"),
            ["name", "user_name", "password", "url", "note"]
        );
        assert_eq!(
            heads("grouping,name,login_uri,login_username,login_password,login_totp"),
            [
                "folder",
                "name",
                "url",
                "user_name",
                "password",
                "one_time_seed"
            ]
        );
        assert_eq!(heads("name,title,shoe size"), ["name", "-", "-"]);
    }

    #[test]
    fn a_row_becomes_a_thing_or_says_what_is_wrong_with_it_by_its_head() {
        let sheet = sheet(
            "Title,User,Pass,Site,Group,Labels\nRidge,marek, Winter 41 ,ridge.example,Pumping/North ridge,\"Night, Pumps\"\n,x,Winter-41,https://depot.example:8443/in,,\n,,Winter-42,,,\nPortal,x,,javascript://alert,..,\n",
        );
        let columns = guess(&sheet.heads, &login());
        let read =
            |number: usize| read_row(&sheet, &sheet.rows[number], &columns, &login(), &Parser);
        let ridge = read(0).unwrap();
        assert_eq!(
            (
                ridge.name.as_str(),
                ridge.folder.as_slice(),
                ridge.tags.as_slice()
            ),
            (
                "Ridge",
                &["Pumping".to_owned(), "North ridge".to_owned()][..],
                &["night".to_owned(), "pumps".to_owned()][..]
            )
        );
        assert_eq!(ridge.fields["url"], "https://ridge.example");
        assert_eq!(
            ridge.secrets[0].1.value.expose_secret_text().unwrap(),
            " Winter 41 "
        );
        assert_eq!(read(1).unwrap().name, "depot.example");
        assert_eq!(
            read(2).unwrap_err(),
            [("Title".to_owned(), "there is no name".to_owned())]
        );
        let wrong: Vec<String> = read(3)
            .unwrap_err()
            .into_iter()
            .map(|(head, _)| head)
            .collect();
        assert!(
            wrong.contains(&"Site".to_owned()) && wrong.contains(&"Group".to_owned()),
            "{wrong:?}"
        );
    }

    #[test]
    fn a_column_may_say_of_which_kind_each_is() {
        let sheet = sheet(
            "name,kind,user,password,product,server\nRidge,Device admin,root,Winter-41,,\nPlain,,,Winter-42,,\nPlans,licence,,ABC-1,Drawing board,\nSpoon,spoon,,x,,\nWrong,login,,Winter-43,Drawing board,\n",
        );
        let columns = guess(&sheet.heads, &all());
        let words: Vec<&str> = columns.iter().map(Column::word).collect();
        assert_eq!(
            words,
            ["name", "kind", "user_name", "password", "product", "-"]
        );
        let read = |number: usize| read_row(&sheet, &sheet.rows[number], &columns, &all(), &Parser);
        let kinds: Vec<String> = (0..3)
            .map(|number| read(number).unwrap().kind.clone())
            .collect();
        assert_eq!(kinds, ["device-admin", "login", "licence"]);
        assert_eq!(read(2).unwrap().fields["product"], "Drawing board");
        assert_eq!(
            read(3).unwrap_err(),
            [(
                "kind".to_owned(),
                "there is no kind of this name".to_owned()
            )]
        );
        assert_eq!(
            read(4).unwrap_err(),
            [(
                "product".to_owned(),
                "a login has no field `product`".to_owned()
            )]
        );
        assert_eq!(name_of(&sheet.rows[3], &columns), "Spoon");
        // Without such a column, the fields of the one kind count alone.
        assert_eq!(guess(&["product".to_owned()], &all()), [Column::Nothing]);
    }
}
