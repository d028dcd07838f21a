//! What the columns of a sheet are, and the result of reading a row.

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
    // Not "type": other programs use it for kinds of their own.
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

/// The kinds that rows may be of.
#[derive(Clone, Debug)]
pub struct Kinds {
    /// The kind of a row that names none.
    pub default_kind: Kind,
    /// The kinds that a row may name.
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

/// What the columns probably are: each use once, by the heads, for the fields that a kind has;
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

/// The result of reading a row.
#[derive(Debug)]
pub struct ParsedRow {
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

impl Drop for ParsedRow {
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
/// The column's heading and a sentence for each problem, without a value.
pub fn read_row(
    sheet: &Sheet,
    row: &Row,
    columns: &[Column],
    kinds: &Kinds,
    reader: &impl KeyReader,
) -> Result<ParsedRow, Vec<(String, String)>> {
    let kind = kind_of(sheet, row, columns, kinds)?;
    let mut reading = RowReading {
        sheet,
        columns,
        kind,
        reader,
        parsed: ParsedRow {
            kind: kind.name.clone(),
            name: String::new(),
            folder: vec![],
            tags: vec![],
            fields: BTreeMap::new(),
            secrets: vec![],
        },
        problems: vec![],
    };
    for (number, (cell, column)) in row.cells.iter().zip(columns).enumerate() {
        reading.cell(number, cell, column);
    }
    reading.name_if_missing();
    reading.check();
    let (mut parsed, problems) = (reading.parsed, reading.problems);
    kind.complete(&mut parsed.fields, &BTreeMap::new(), reader);
    if problems.is_empty() {
        Ok(parsed)
    } else {
        Err(problems)
    }
}

/// The kind that a row names, or the default one.
fn kind_of<'a>(
    sheet: &Sheet,
    row: &Row,
    columns: &[Column],
    kinds: &'a Kinds,
) -> Result<&'a Kind, Vec<(String, String)>> {
    let said = columns
        .iter()
        .position(|column| *column == Column::Kind)
        .and_then(|number| Some((number, row.cells.get(number)?.trim())));
    match said.filter(|(_, word)| !word.is_empty()) {
        None => Ok(&kinds.default_kind),
        Some((number, word)) => kinds.find(word).ok_or_else(|| {
            let head = sheet.heads.get(number).cloned().unwrap_or_default();
            vec![(head, "there is no kind of this name".to_owned())]
        }),
    }
}

/// A row that is being read, cell by cell.
struct RowReading<'a, R> {
    sheet: &'a Sheet,
    columns: &'a [Column],
    kind: &'a Kind,
    reader: &'a R,
    parsed: ParsedRow,
    problems: Vec<(String, String)>,
}

impl<R: KeyReader> RowReading<'_, R> {
    fn head(&self, number: usize) -> String {
        self.sheet.heads.get(number).cloned().unwrap_or_default()
    }

    /// The heading of the column that holds something; that itself, where no column does.
    fn head_of(&self, wanted: &str) -> String {
        self.columns
            .iter()
            .position(|column| column.word() == wanted)
            .map_or_else(|| wanted.to_owned(), |number| self.head(number))
    }

    fn problem(&mut self, number: usize, problem: impl ToString) {
        let head = self.head(number);
        self.problems.push((head, problem.to_string()));
    }

    fn cell(&mut self, number: usize, cell: &str, column: &Column) {
        let trimmed = cell.trim();
        let text = if self.sheet.guarded {
            without_guard(trimmed)
        } else {
            trimmed
        };
        if text.is_empty() {
            return;
        }
        match column {
            Column::Nothing | Column::Kind => {}
            Column::Name => match Name::parse(&text.replace('/', "-")) {
                Ok(name) => self.parsed.name = name.into_string(),
                Err(problem) => self.problem(number, problem),
            },
            Column::Folder => {
                let parts = text.split(['/', '\\']).map(str::trim);
                for part in parts.filter(|part| !part.is_empty()) {
                    match Name::parse(part) {
                        Ok(name) => self.parsed.folder.push(name.into_string()),
                        Err(problem) => self.problem(number, problem),
                    }
                }
            }
            Column::Tags => {
                self.parsed.tags = text
                    .split([',', ';', '\n'])
                    .map(|tag| tag.trim().to_lowercase())
                    .filter(|tag| !tag.is_empty())
                    .collect();
            }
            Column::Field(name) => self.field(number, name, (cell, trimmed, text)),
        }
    }

    /// Reads a field from a cell as it is, without spaces around it, and without a guard too.
    fn field(&mut self, number: usize, name: &str, (cell, trimmed, text): (&str, &str, &str)) {
        match self.kind.field(name).map(|field| field.holds) {
            None => {
                let label = self.kind.label.to_lowercase();
                self.problem(number, format!("a {label} has no field `{name}`"));
            }
            Some(holds) if holds.is_secret() => {
                // A password is what it is: no space of it is taken away.
                let given = if holds == FieldType::Secret {
                    cell
                } else {
                    trimmed
                };
                match self.kind.read_secret(name, given, self.reader) {
                    Ok(given) => self.parsed.secrets.push((name.to_owned(), given)),
                    Err(problem) => self.problem(number, problem),
                }
            }
            Some(FieldType::Url) => {
                let with_scheme = |url: &str| {
                    if url.contains("://") {
                        url.to_owned()
                    } else {
                        format!("https://{url}")
                    }
                };
                let urls: Vec<String> = text.split_whitespace().map(with_scheme).collect();
                self.parsed.fields.insert(name.to_owned(), urls.join("\n"));
            }
            Some(_) => {
                self.parsed.fields.insert(name.to_owned(), text.to_owned());
            }
        }
    }

    /// Many programs write logins without a name; what it is for is name enough.
    fn name_if_missing(&mut self) {
        if !self.parsed.name.is_empty() || !self.problems.is_empty() {
            return;
        }
        let fields = &self.parsed.fields;
        let host = fields
            .get("url")
            .and_then(|url| url.split("://").nth(1))
            .and_then(|rest| rest.split(['/', ':', '\n']).next())
            .map(str::to_owned);
        let name = host
            .or_else(|| fields.get("user_name").cloned())
            .map(|name| Name::parse(&name).map(Name::into_string));
        if let Some(Ok(name)) = name {
            self.parsed.name = name;
        } else {
            let head = self.head_of("name");
            self.problems.push((head, "there is no name".to_owned()));
        }
    }

    /// Notes what the fields of the kind demand and the row does not have.
    fn check(&mut self) {
        let checked = self
            .kind
            .check_plain(&self.parsed.fields, &BTreeMap::new(), self.reader);
        for (field, problem) in checked.err().into_iter().flatten() {
            let head = self.head_of(&field);
            self.problems.push((head, problem));
        }
        let kind = self.kind;
        let required = kind.fields.iter();
        for field in required.filter(|field| field.required && field.holds.is_secret()) {
            let mut secrets = self.parsed.secrets.iter();
            let missing = !secrets.any(|(name, _)| *name == field.name);
            let head = self.head_of(&field.name);
            if missing && !self.problems.iter().any(|(known, _)| *known == head) {
                let label = field.label.to_lowercase();
                self.problems.push((head, format!("there is no {label}")));
            }
        }
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
