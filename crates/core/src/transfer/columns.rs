//! What the columns of a sheet are, and the result of reading a row.

use std::borrow::Cow;
use std::collections::BTreeMap;

use zeroize::Zeroize;

use super::Row;
use crate::names::{Name, without_guard};
use crate::upkeep::ConnectorKind;
use crate::vault::kinds::{FieldType, Given, Kind, PASSWORD, is_scheme};
use crate::vault::readings::KeyReader;
use crate::words::Word as _;

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
    /// The device that it is an account of, by its name in the folder of the row.
    Device,
    /// The type of that device.
    DeviceType,
    /// Where that device is: a host name or an address, with or without a port.
    DeviceAddress,
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
            Self::Device => "device",
            Self::DeviceType => "device_type",
            Self::DeviceAddress => "device_address",
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
            "device" => Self::Device,
            "device_type" => Self::DeviceType,
            "device_address" => Self::DeviceAddress,
            field => Self::Field(field.to_owned()),
        }
    }
}

/// Heads as programs write them, in small letters and without signs between.
const KNOWN: [(&str, &[&str]); 13] = [
    // Not "type": other programs use it for kinds of their own.
    ("kind", &["kind"]),
    ("device", &["device", "devicename"]),
    ("device_type", &["devicetype"]),
    ("device_address", &["deviceaddress"]),
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

/// What the columns of a file probably are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Guess {
    /// One for each heading. Of several that are the same, the first.
    pub columns: Vec<Column>,
    /// What several columns look like, and which (counted from 0): somebody has to say which of
    /// them it is.
    pub ambiguous: Vec<(Column, Vec<usize>)>,
}

/// Looks headings up, for the fields of one kind, or of all where a column says the kind of each
/// row.
struct Headings<'a> {
    kinds: Vec<&'a Kind>,
}

impl<'a> Headings<'a> {
    fn of(heads: &[String], kinds: &'a Kinds) -> Self {
        let several = heads
            .iter()
            .any(|head| known_word(&plain(head)) == Some("kind"));
        let others = kinds.known.iter().filter(|_| several);
        Self {
            kinds: std::iter::once(&kinds.default_kind).chain(others).collect(),
        }
    }

    /// What a column of this heading is.
    fn find(&self, head: &str) -> Option<Column> {
        let plain = plain(head);
        let own = self
            .kinds
            .iter()
            .flat_map(|kind| &kind.fields)
            .find(|field| {
                field.name.replace('_', "") == plain
                    || field.label.to_lowercase() == head.trim().to_lowercase()
            });
        let found = match own {
            Some(field) => Column::Field(field.name.clone()),
            None => Column::of(known_word(&plain)?),
        };
        match &found {
            Column::Field(name) => self
                .kinds
                .iter()
                .any(|kind| kind.field(name).is_some())
                .then_some(found),
            _ => Some(found),
        }
    }
}

fn known_word(plain: &str) -> Option<&'static str> {
    KNOWN
        .iter()
        .find(|(_, heads)| heads.contains(&plain))
        .map(|(word, _)| *word)
}

/// Whether a text is a heading by which a column is known.
#[must_use]
pub fn is_heading(text: &str, kinds: &Kinds) -> bool {
    let all = Headings {
        kinds: std::iter::once(&kinds.default_kind)
            .chain(&kinds.known)
            .collect(),
    };
    all.find(text).is_some()
}

/// What the columns probably are, by the heads, for the fields that a kind has; where a column
/// says the kind of each row, that any kind has.
#[must_use]
pub fn guess(heads: &[String], kinds: &Kinds) -> Guess {
    let headings = Headings::of(heads, kinds);
    let found: Vec<Option<Column>> = heads.iter().map(|head| headings.find(head)).collect();
    let mut columns: Vec<Column> = vec![];
    let mut ambiguous: Vec<(Column, Vec<usize>)> = vec![];
    for (index, column) in found.iter().enumerate() {
        let Some(column) = column else {
            columns.push(Column::Nothing);
            continue;
        };
        let Some(first) = found
            .iter()
            .position(|other| other.as_ref() == Some(column))
        else {
            continue;
        };
        if first == index {
            columns.push(column.clone());
            continue;
        }
        columns.push(Column::Nothing);
        match ambiguous.iter_mut().find(|(known, _)| known == column) {
            Some((_, indices)) => indices.push(index),
            None => ambiguous.push((column.clone(), vec![first, index])),
        }
    }
    Guess { columns, ambiguous }
}

/// The device that a row is an account of.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RowDevice {
    /// Its name.
    pub name: String,
    /// Its type, where the row says it.
    pub connector: Option<ConnectorKind>,
    /// Where it is, where the row says it: a host name or an address, and a port.
    pub address: Option<(String, Option<u16>)>,
}

/// A host name or an address with or without a port.
///
/// ```text
/// historian.osmere.example    192.0.2.7:2222    [2001:db8::7]:22    2001:db8::7
/// ```
fn host_and_port(text: &str) -> Option<(String, Option<u16>)> {
    if let Some((host, rest)) = text.strip_prefix('[').and_then(|text| text.split_once(']')) {
        let port = match rest.strip_prefix(':') {
            Some(port) => Some(port.parse().ok()?),
            None if rest.is_empty() => None,
            None => return None,
        };
        return Some((host.to_owned(), port));
    }
    match text.rsplit_once(':') {
        // Several colons are an address of IPv6.
        Some((host, port)) if !host.contains(':') => {
            Some((host.to_owned(), Some(port.parse().ok()?)))
        }
        _ => Some((text.to_owned(), None)),
    }
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
    /// The device that it is an account of.
    pub device: Option<RowDevice>,
    /// Its plain fields.
    pub fields: BTreeMap<String, String>,
    /// Its secret ones.
    pub secrets: Vec<(String, Given)>,
    /// What is not taken exactly as it stands in the file: the column, counted from 0, and what.
    pub changes: Vec<(Option<usize>, &'static str)>,
}

impl Drop for ParsedRow {
    fn drop(&mut self) {
        self.fields.values_mut().for_each(Zeroize::zeroize);
    }
}

/// What is wrong in a row: the column, counted from 0, and a sentence without a value.
pub type Problem = (Option<usize>, String);

/// Reads a row by what its columns are.
///
/// # Errors
/// The column, counted from 0, and a sentence for each problem, without a value.
pub fn read_row(
    guarded: bool,
    row: &Row,
    columns: &[Column],
    kinds: &Kinds,
    reader: &impl KeyReader,
) -> Result<ParsedRow, Vec<Problem>> {
    let kind = kind_of(row, columns, kinds)?;
    let mut reading = RowReading {
        guarded,
        columns,
        kind,
        reader,
        parsed: ParsedRow {
            kind: kind.name.clone(),
            name: String::new(),
            folder: vec![],
            tags: vec![],
            device: None,
            fields: BTreeMap::new(),
            secrets: vec![],
            changes: vec![],
        },
        problems: vec![],
    };
    for (number, (cell, column)) in row.cells.iter().zip(columns).enumerate() {
        reading.cell(number, cell, column);
    }
    reading.name_if_missing();
    reading.check();
    reading.check_account();
    let (mut parsed, problems) = (reading.parsed, reading.problems);
    kind.complete(&mut parsed.fields, &BTreeMap::new(), reader);
    if problems.is_empty() {
        Ok(parsed)
    } else {
        Err(problems)
    }
}

/// The kind that a row names, or the default one.
fn kind_of<'a>(row: &Row, columns: &[Column], kinds: &'a Kinds) -> Result<&'a Kind, Vec<Problem>> {
    let said = columns
        .iter()
        .position(|column| *column == Column::Kind)
        .and_then(|number| Some((number, row.cells.get(number)?.trim())));
    match said.filter(|(_, word)| !word.is_empty()) {
        None => Ok(&kinds.default_kind),
        Some((number, word)) => kinds
            .find(word)
            .ok_or_else(|| vec![(Some(number), "there is no kind of this name".to_owned())]),
    }
}

/// A row that is being read, cell by cell.
struct RowReading<'a, R> {
    guarded: bool,
    columns: &'a [Column],
    kind: &'a Kind,
    reader: &'a R,
    parsed: ParsedRow,
    problems: Vec<Problem>,
}

impl<R: KeyReader> RowReading<'_, R> {
    /// The column that holds something.
    fn column_of(&self, wanted: &str) -> Option<usize> {
        self.columns
            .iter()
            .position(|column| column.word() == wanted)
    }

    fn problem(&mut self, number: usize, problem: impl ToString) {
        self.problems.push((Some(number), problem.to_string()));
    }

    fn change(&mut self, number: usize, change: &'static str) {
        self.parsed.changes.push((Some(number), change));
    }

    fn cell(&mut self, number: usize, cell: &str, column: &Column) {
        let trimmed = cell.trim();
        let text = if self.guarded {
            without_guard(trimmed)
        } else {
            trimmed
        };
        if matches!(column, Column::Nothing) || trimmed.is_empty() && !self.is_password(column) {
            return;
        }
        if let Column::Field(name) = column {
            return self.field(number, name, (cell, trimmed, text));
        }
        if trimmed.len() < cell.len() {
            self.change(number, SPACES);
        }
        if text.len() < trimmed.len() {
            self.change(number, GUARD);
        }
        match column {
            Column::Nothing | Column::Kind | Column::Field(_) => {}
            Column::Name => {
                if text.contains('/') {
                    self.change(number, "a `/` in a name is written as `-`");
                }
                match Name::parse(&text.replace('/', "-")) {
                    Ok(name) => self.parsed.name = name.into_string(),
                    Err(problem) => self.problem(number, problem),
                }
            }
            Column::Device => match Name::parse(text) {
                Ok(name) => self.device().name = name.into_string(),
                Err(problem) => self.problem(number, problem),
            },
            Column::DeviceType => match ConnectorKind::find(&text.to_lowercase()) {
                Some(connector) => self.device().connector = Some(connector),
                None => {
                    let types = ConnectorKind::words();
                    self.problem(
                        number,
                        format!("there is no type of device of this name: {types}"),
                    );
                }
            },
            Column::DeviceAddress => match host_and_port(text) {
                Some(address) => self.device().address = Some(address),
                None => self.problem(number, "this is no host name or address with a port"),
            },
            Column::Folder => self.folder(number, text),
            Column::Tags => {
                let tags = text.split([',', ';', '\n']).map(str::trim);
                let tags: Vec<&str> = tags.filter(|tag| !tag.is_empty()).collect();
                self.parsed.tags = tags.iter().map(|tag| tag.to_lowercase()).collect();
                if tags
                    .iter()
                    .zip(&self.parsed.tags)
                    .any(|(said, tag)| said != tag)
                {
                    self.change(number, "tags are written in small letters");
                }
            }
        }
    }

    fn device(&mut self) -> &mut RowDevice {
        self.parsed.device.get_or_insert_default()
    }

    /// An account has a device, a user name, and a password or a key.
    fn check_account(&mut self) {
        let Some(device) = &self.parsed.device else {
            return;
        };
        let problem = if device.name.is_empty() {
            ("device", "an account is on a device, which has a name")
        } else if self
            .parsed
            .fields
            .get("user_name")
            .is_none_or(String::is_empty)
        {
            ("user_name", "an account on a device has a user name")
        } else if !matches!(
            self.kind.field(PASSWORD).map(|field| field.holds),
            Some(FieldType::Secret | FieldType::SshKey)
        ) {
            (
                "device",
                "a credential of this kind opens no account on a device",
            )
        } else {
            return;
        };
        let column = self.column_of(problem.0);
        self.problems.push((column, problem.1.to_owned()));
    }

    fn is_password(&self, column: &Column) -> bool {
        match column {
            Column::Field(name) => {
                self.kind.field(name).map(|field| field.holds) == Some(FieldType::Secret)
            }
            _ => false,
        }
    }

    fn folder(&mut self, number: usize, text: &str) {
        let separator = if text.contains('/') { '/' } else { '\\' };
        if text.contains('\\') && separator == '\\' {
            self.change(number, "`\\` is taken for the `/` between folders");
        }
        for part in text.split(separator) {
            let name = part.trim();
            if name.len() < part.len() {
                self.change(number, SPACES);
            }
            if name.is_empty() {
                continue;
            }
            match Name::parse(name) {
                Ok(name) => self.parsed.folder.push(name.into_string()),
                Err(problem) => self.problem(number, problem),
            }
        }
    }

    /// Reads a field from a cell: as it is, without spaces around it, and without a guard too.
    fn field(&mut self, number: usize, name: &str, (cell, trimmed, text): (&str, &str, &str)) {
        let Some(holds) = self.kind.field(name).map(|field| field.holds) else {
            let label = self.kind.label.to_lowercase();
            return self.problem(number, format!("a {label} has no field `{name}`"));
        };
        // A password is what it is: no space of it is taken away.
        if holds == FieldType::Secret {
            if !cell.is_empty() {
                self.secret(number, name, cell);
            }
            return;
        }
        let (text, trimmed) = match holds {
            // Lines are what they are, too.
            FieldType::Note if self.guarded => (without_guard(cell), cell),
            FieldType::Note => (cell, cell),
            FieldType::SecretNote => return self.secret(number, name, cell),
            // Nothing around a key or a certificate belongs to it.
            FieldType::SshKey | FieldType::PrivateKey | FieldType::OneTimeSeed => {
                return self.secret(number, name, trimmed);
            }
            FieldType::Certificate => (text, text),
            _ => {
                if trimmed.len() < cell.len() {
                    self.change(number, SPACES);
                }
                (text, trimmed)
            }
        };
        if text.len() < trimmed.len() {
            self.change(number, GUARD);
        }
        let value = if holds == FieldType::Url {
            let mut urls: Vec<Cow<'_, str>> = vec![];
            for url in text.split_whitespace() {
                urls.push(with_scheme(url));
            }
            if urls.iter().any(|url| matches!(url, Cow::Owned(_))) {
                self.change(
                    number,
                    "`https://` is put before an address without a scheme",
                );
            }
            urls.join("\n")
        } else {
            text.to_owned()
        };
        self.parsed.fields.insert(name.to_owned(), value);
    }

    fn secret(&mut self, number: usize, name: &str, given: &str) {
        match self.kind.read_secret(name, given, self.reader) {
            Ok(given) => self.parsed.secrets.push((name.to_owned(), given)),
            Err(problem) => self.problem(number, problem),
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
        let column = self.column_of("name");
        if let Some(Ok(name)) = name {
            self.parsed.name = name;
            let change = "there is no name, so the address or the user name becomes one";
            self.parsed.changes.push((column, change));
        } else {
            self.problems.push((column, "there is no name".to_owned()));
        }
    }

    /// Notes what the fields of the kind demand and the row does not have.
    fn check(&mut self) {
        let checked = self
            .kind
            .check_plain(&self.parsed.fields, &BTreeMap::new(), self.reader);
        for (field, problem) in checked.err().into_iter().flatten() {
            self.problems.push((self.column_of(&field), problem));
        }
        let kind = self.kind;
        let required = kind.fields.iter();
        for field in required.filter(|field| field.required && field.holds.is_secret()) {
            let mut secrets = self.parsed.secrets.iter();
            let missing = !secrets.any(|(name, _)| *name == field.name);
            let column = self.column_of(&field.name);
            let known = self
                .problems
                .iter()
                .any(|(known, _)| known.is_some() && *known == column);
            if missing && !known {
                let label = field.label.to_lowercase();
                self.problems.push((column, format!("there is no {label}")));
            }
        }
    }
}

const SPACES: &str = "spaces around it are removed";
const GUARD: &str = "the apostrophe that says that it is no formula is removed";

/// An address with a scheme (RFC 3986): its own, or `https`. What follows a host after a colon is
/// its port.
///
/// ```text
/// ridge.example           https://ridge.example
/// ridge.example:8443/in   https://ridge.example:8443/in
/// rdp:full%20address      as it is
/// ```
fn with_scheme(url: &str) -> Cow<'_, str> {
    let own = url.split_once(':').is_some_and(|(scheme, rest)| {
        let port = rest.split(['/', '?', '#']).next().unwrap_or_default();
        let is_port = !port.is_empty() && port.bytes().all(|byte| byte.is_ascii_digit());
        is_scheme(scheme) && !is_port
    });
    if own {
        Cow::Borrowed(url)
    } else {
        Cow::Owned(format!("https://{url}"))
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Grid, ReadOptions, Sheet};
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
        let grid = Grid::read(text.as_bytes(), &ReadOptions::default()).unwrap();
        grid.into_sheet(Some(1), |_| true).unwrap()
    }

    fn at(sheet: &Sheet, head: &str) -> Option<usize> {
        sheet.heads.iter().position(|known| known == head)
    }

    #[test]
    fn heads_of_many_programs_are_guessed_and_each_thing_is_guessed_once() {
        let heads = |text: &str| {
            guess(
                &text.split(',').map(str::to_owned).collect::<Vec<_>>(),
                &login(),
            )
            .columns
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
        let twice = guess(&["Pass".into(), "User".into(), "Secret".into()], &login());
        assert_eq!(
            twice.ambiguous,
            [(Column::Field(PASSWORD.into()), vec![0, 2])]
        );
    }

    #[test]
    fn addresses_keep_their_scheme_and_get_one_where_they_have_none() {
        for (given, taken) in [
            ("ridge.example", "https://ridge.example"),
            ("ridge.example:8443/in", "https://ridge.example:8443/in"),
            ("localhost:8080", "https://localhost:8080"),
            ("rdp:full%20address=ridge", "rdp:full%20address=ridge"),
            (
                "jdbc:postgresql://ridge/pumps",
                "jdbc:postgresql://ridge/pumps",
            ),
            (
                "android://hash@example.ridge/",
                "android://hash@example.ridge/",
            ),
            ("vnc://ridge:5900", "vnc://ridge:5900"),
        ] {
            assert_eq!(with_scheme(given), taken);
        }
    }

    #[test]
    fn what_is_not_taken_as_it_stands_is_told_by_its_column() {
        let sheet = sheet(
            "Title,User,Pass,Site,Group,Tags\n A/B ,' =x , 'Winter\t41,ridge.example, P \\ Q ,\"Night, day\"\n,marek,'=1+1,https://ridge.example,P/Q,night\nscript,x,y,javascript:alert(1),,\n",
        );
        let columns = guess(&sheet.heads, &login()).columns;
        let read = |number: usize| read_row(true, &sheet.rows[number], &columns, &login(), &Parser);
        assert_eq!(
            read(0).unwrap_err(),
            [(
                at(&sheet, "Pass"),
                "the value contains a control character at position 9".to_owned()
            )]
        );
        let second = read(1).unwrap();
        assert_eq!(
            second.changes,
            [(
                Some(0),
                "there is no name, so the address or the user name becomes one"
            )]
        );
        assert_eq!(
            second.secrets[0].1.value.expose_secret_text().unwrap(),
            "'=1+1"
        );
        let script = read(2).unwrap_err();
        assert!(
            script[0].0 == at(&sheet, "Site") && script[0].1.contains("script"),
            "{script:?}"
        );
        let mut row = sheet.rows[0].clone();
        row.cells[2] = " Winter 41 ".into();
        let first = read_row(true, &row, &columns, &login(), &Parser).unwrap();
        assert_eq!(first.name, "A-B");
        assert_eq!(first.folder, ["P", "Q"]);
        let changes: Vec<(usize, &str)> = first
            .changes
            .iter()
            .map(|(column, change)| (column.unwrap(), *change))
            .collect();
        assert_eq!(
            changes,
            [
                (0, SPACES),
                (0, "a `/` in a name is written as `-`"),
                (1, SPACES),
                (3, "`https://` is put before an address without a scheme"),
                (4, SPACES),
                (4, "`\\` is taken for the `/` between folders"),
                (4, SPACES),
                (4, SPACES),
                (5, "tags are written in small letters"),
            ]
        );
    }

    #[test]
    fn a_row_becomes_a_thing_or_says_what_is_wrong_with_it_by_its_head() {
        let sheet = sheet(
            "Title,User,Pass,Site,Group,Labels\nRidge,marek, Winter 41 ,ridge.example,Pumping/North ridge,\"Night, Pumps\"\n,x,Winter-41,https://depot.example:8443/in,,\n,,Winter-42,,,\nPortal,x,,javascript://alert,..,\n",
        );
        let columns = guess(&sheet.heads, &login()).columns;
        let read = |number: usize| read_row(true, &sheet.rows[number], &columns, &login(), &Parser);
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
            [(at(&sheet, "Title"), "there is no name".to_owned())]
        );
        let wrong: Vec<Option<usize>> = read(3)
            .unwrap_err()
            .into_iter()
            .map(|(head, _)| head)
            .collect();
        assert!(
            wrong.contains(&at(&sheet, "Site")) && wrong.contains(&at(&sheet, "Group")),
            "{wrong:?}"
        );
    }

    #[test]
    fn a_column_may_say_of_which_kind_each_is() {
        let sheet = sheet(
            "name,kind,user,password,product,server\nRidge,Device admin,root,Winter-41,,\nPlain,,,Winter-42,,\nPlans,licence,,ABC-1,Drawing board,\nSpoon,spoon,,x,,\nWrong,login,,Winter-43,Drawing board,\n",
        );
        let columns = guess(&sheet.heads, &all()).columns;
        let words: Vec<&str> = columns.iter().map(Column::word).collect();
        assert_eq!(
            words,
            ["name", "kind", "user_name", "password", "product", "-"]
        );
        let read = |number: usize| read_row(true, &sheet.rows[number], &columns, &all(), &Parser);
        let kinds: Vec<String> = (0..3)
            .map(|number| read(number).unwrap().kind.clone())
            .collect();
        assert_eq!(kinds, ["device-admin", "login", "licence"]);
        assert_eq!(read(2).unwrap().fields["product"], "Drawing board");
        assert_eq!(
            read(3).unwrap_err(),
            [(
                at(&sheet, "kind"),
                "there is no kind of this name".to_owned()
            )]
        );
        assert_eq!(
            read(4).unwrap_err(),
            [(
                at(&sheet, "product"),
                "a login has no field `product`".to_owned()
            )]
        );
        // Without such a column, the fields of the one kind count alone.
        assert_eq!(
            guess(&["product".to_owned()], &all()).columns,
            [Column::Nothing]
        );
    }
}
