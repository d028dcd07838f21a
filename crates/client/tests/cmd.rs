//! What the client says without a service: the help of every command, and slips of the pen. The
//! transcripts are in `tests/cmd/`; `TRYCMD=overwrite cargo test -p jexlin --test cmd` writes them
//! again.

#![allow(
    clippy::expect_used,
    clippy::panic,
    clippy::unwrap_used,
    reason = "what cannot be set up ends the test"
)]

use std::collections::BTreeSet;
use std::process::Command;

/// The commands that a command has, as its help lists them.
fn commands(path: &[String]) -> Vec<Vec<String>> {
    let output = Command::new(env!("CARGO_BIN_EXE_jexlin"))
        .args(path)
        .arg("--help")
        .output()
        .unwrap();
    let help = String::from_utf8(output.stdout).unwrap();
    let mut found = vec![];
    if let Some((_, list)) = help.split_once("\nCommands:\n") {
        for line in list.lines().take_while(|line| !line.is_empty()) {
            let name = line.split_whitespace().next().unwrap_or_default();
            if line.starts_with("  ") && !line.starts_with("   ") && name != "help" {
                let mut longer = path.to_vec();
                longer.push(name.to_owned());
                found.extend(commands(&longer));
                found.push(longer);
            }
        }
    }
    found
}

#[test]
fn every_command_has_its_help_in_the_transcripts() {
    let there: BTreeSet<String> = commands(&[])
        .iter()
        .map(|path| format!("$ jexlin {} --help", path.join(" ")))
        .collect();
    let page = std::fs::read_to_string(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/tests/cmd/help.trycmd"
    ))
    .unwrap();
    let written: BTreeSet<String> = page
        .lines()
        .filter(|line| line.starts_with("$ jexlin "))
        .map(str::to_owned)
        .collect();
    assert!(there.len() > 80, "{there:?}");
    assert_eq!(there, written);
}

#[test]
fn what_the_client_says_is_what_was_agreed() {
    trycmd::TestCases::new()
        .case("tests/cmd/*.trycmd")
        .env("COLUMNS", "100")
        .env("JEXLIN_SESSION", "none");
}
