//! `docs/security.md` has a table of every place where a secret is opened. It is compared with the
//! code here, so that a new place cannot be forgotten.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

type Places = BTreeSet<(String, String)>;

fn top() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The rows of a table of the page, by the comment above it.
fn rows_of(name: &str) -> Vec<String> {
    let page = fs::read_to_string(top().join("docs/security.md")).unwrap();
    let rest = page
        .split_once(&format!("<!-- {name} -->"))
        .unwrap_or_else(|| panic!("no table {name}"))
        .1;
    rest.trim_start()
        .lines()
        .take_while(|line| line.starts_with('|'))
        .skip(2)
        .map(str::to_owned)
        .collect()
}

fn cell(row: &str, number: usize) -> String {
    row.split('|')
        .nth(number)
        .unwrap()
        .trim()
        .trim_matches('`')
        .to_owned()
}

/// File and function of each row.
fn table(name: &str) -> Places {
    rows_of(&format!("openings: {name}"))
        .iter()
        .map(|row| (cell(row, 1), cell(row, 2)))
        .collect()
}

/// The sources below a folder without their tests, by their path from there.
fn sources(folder: &Path) -> Vec<(String, String)> {
    let mut found = vec![];
    let mut left = vec![folder.to_owned()];
    while let Some(next) = left.pop() {
        for entry in fs::read_dir(&next).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                left.push(path);
            } else if path.extension().is_some_and(|end| end == "rs") {
                let text = fs::read_to_string(&path).unwrap();
                let code = text.split("#[cfg(test)]").next().unwrap_or_default();
                found.push((
                    path.strip_prefix(folder).unwrap().display().to_string(),
                    unbroken(code),
                ));
            }
        }
    }
    found
}

/// Code in which calls that the formatter broke stand on one line each.
fn unbroken(code: &str) -> String {
    let mut text = String::new();
    for line in code.lines() {
        if line.trim_start().starts_with('.') || text.ends_with('(') {
            text.push_str(line.trim_start());
        } else {
            text.push('\n');
            text.push_str(line);
        }
    }
    text
}

/// What opens sealed bytes at the bottom of everything.
const PRIMITIVES: [&str; 6] = [
    "self.0.open(",
    "self.current.open(",
    "self.open(aad",
    ".unwrap_data_key(",
    ".unwrap_key(",
    "data_key.open(",
];

fn opens(line: &str) -> bool {
    let called = |name: &str| {
        line.match_indices(name).any(|(index, _)| {
            !line[..index].ends_with(|sign: char| sign.is_alphanumeric() || "_.:".contains(sign))
        })
    };
    called("open(")
        || called("open_piece(")
        || PRIMITIVES.iter().any(|primitive| line.contains(primitive))
        || line.contains(")?.open(")
        || line.contains("key.open(&self.")
        || line.contains(")?.open_piece(")
}

/// Keys that only lead to other keys.
const KEYS_ALONE: [&str; 3] = ["unwrap_with", "unwrap_data_key", "rewrap"];

#[test]
fn in_the_core() {
    let mut found = Places::new();
    for (file, code) in sources(&top().join("crates/core/src")) {
        let mut function = String::new();
        for line in code.lines() {
            if let Some((_, rest)) = line.split_once("fn ") {
                function = rest
                    .chars()
                    .take_while(|sign| sign.is_alphanumeric() || *sign == '_')
                    .collect();
            }
            if opens(line) && !line.contains(" fn ") && !KEYS_ALONE.contains(&function.as_str()) {
                let _ = found.insert((file.clone(), function.clone()));
            }
        }
    }
    assert_eq!(
        found,
        table("core"),
        "the code at the left, docs/security.md at the right"
    );
}

/// The names that a file takes from the core's modules that open secrets, as they are called there.
fn imported(code: &str) -> BTreeSet<String> {
    let mut names = BTreeSet::new();
    for (index, _) in code.match_indices("jexlin_core::") {
        // An import, or a call by its whole path.
        let rest = &code[index + "jexlin_core::".len()..];
        let end = rest.find([';', '(']).unwrap_or(rest.len());
        let words = rest[..end].split(|sign: char| !(sign.is_alphanumeric() || sign == '_'));
        names.extend(words.filter(|word| !word.is_empty()).map(str::to_owned));
    }
    names
}

#[test]
fn by_whoever_calls_the_core() {
    let documented = table("core");
    let functions: BTreeSet<&str> = documented
        .iter()
        .filter(|(file, _)| {
            file == "vault/mod.rs" || file == "vault/one_time.rs" || file.starts_with("policy/")
        })
        .map(|(_, function)| function.as_str())
        .collect();
    let methods = [
        "PersonalKey::open",
        ".open_item",
        "RootKey::unprotect",
        ".open_signing_key",
    ];
    let mut found = Places::new();
    for part in ["app", "service", "client", "store", "devices", "api"] {
        for (file, code) in sources(&top().join("crates").join(part).join("src")) {
            let file = format!("{part}/src/{file}");
            let names = imported(&code);
            for function in &functions {
                if names.contains(*function) {
                    let _ = found.insert((file.clone(), (*function).to_owned()));
                }
            }
            for method in methods {
                if code.contains(&format!("{method}(")) {
                    let _ = found.insert((file.clone(), method.to_owned()));
                }
            }
            assert!(
                !names.contains("Key") || !code.contains("Key::open("),
                "{file} opens with a bare key"
            );
        }
    }
    assert_eq!(
        found,
        table("callers"),
        "the code at the left, docs/security.md at the right"
    );
}

#[test]
fn every_attack_has_its_row_in_the_security_model() {
    let folder = fs::read_dir(top().join("crates/acceptance/tests/attacks")).unwrap();
    let files: BTreeSet<String> = folder
        .map(|file| file.unwrap().file_name().into_string().unwrap())
        .filter(|name| name != "main.rs")
        .collect();
    let rows: BTreeSet<String> = rows_of("attacks").iter().map(|row| cell(row, 3)).collect();
    assert_eq!(rows, files);
}
