//! The examples in the client's help are commands that work on the demo.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use jexlin_acceptance::{Client, Service, program};
use jexlin_standins::is_root;
use serde_json::Value;

/// An identifier that is different in every organisation.
const SOME_ID: &str = "0199c3a0-55d2-7a41-9d25-2f1b7a3cbb04";
/// Somebody's age recipient, and the file of its key that nobody has any more.
const RECIPIENT: &str = "age1ql3z7hjy54pw3hyww5ayyfg7zqgvc7w3j2elw8zmrj2kg5sfn9aqmcac8p";

/// What the help of a command and of those below it gives as examples, in its order.
fn examples(path: &[String], found: &mut Vec<String>) {
    let output = Command::new(program("jexlin"))
        .args(path)
        .arg("--help")
        .env("COLUMNS", "100")
        .env("JEXLIN_SESSION", "none")
        .output()
        .unwrap();
    let help = String::from_utf8(output.stdout).unwrap();
    let block = help
        .lines()
        .skip_while(|line| !line.starts_with("EXAMPLE"))
        .skip(1)
        .take_while(|line| !line.trim().is_empty());
    for line in block {
        match found.last_mut() {
            // A long one goes on in the next line.
            Some(last)
                if !["jexlin ", "curl "]
                    .iter()
                    .any(|begin| line.trim().starts_with(begin)) =>
            {
                last.push(' ');
                last.push_str(line.trim());
            }
            _ => found.push(line.trim().to_owned()),
        }
    }
    let below = help
        .lines()
        .skip_while(|line| *line != "Commands:")
        .skip(1)
        .take_while(|line| !line.is_empty())
        .filter(|line| !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next())
        .filter(|name| *name != "help");
    for name in below {
        let mut longer = path.to_vec();
        longer.push(name.to_owned());
        examples(&longer, found);
    }
}

/// What is put into the folder where the examples run: the files that they name.
fn files(folder: &Path) {
    let logins =
        "name,user_name,password,url\nTide table,reader,Tide-and-time-41,https://tides.example/\n";
    for (name, text) in [
        ("logins.csv", logins),
        (
            "old.csv",
            "Exported by hand\n\nname;user_name;password\nOld fax;fax;Fax-line-1999-Harbour\n",
        ),
        (
            "logins.jsonl",
            r#"{"name": "Tide table", "user_name": "reader", "password": "Tide-and-time-42"}"#,
        ),
        ("seed.txt", "JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP"),
        ("pass", "a passphrase for the export"),
        (
            "ridge-switch.toml",
            include_str!("../../../../demo/dialogues/ridge-switch.toml"),
        ),
        (
            "session.txt",
            include_str!("../../../../demo/dialogues/ridge-switch-session.txt"),
        ),
    ] {
        fs::write(folder.join(name), text).unwrap();
    }
    fs::write(folder.join("keys.xlsx"), workbook()).unwrap();
    for shell in [
        ".local/share/bash-completion/completions",
        ".config/fish/completions",
        ".zfunc",
        ".local/share/man/man1",
    ] {
        fs::create_dir_all(folder.join(shell)).unwrap();
    }
}

/// A workbook with one sheet, `Keys`.
fn workbook() -> Vec<u8> {
    use std::io::Write as _;
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(vec![]));
    let row = |cells: [&str; 4]| {
        let cells: Vec<String> = cells
            .iter()
            .map(|cell| format!("<c t=\"inlineStr\"><is><t>{cell}</t></is></c>"))
            .collect();
        format!("<row>{}</row>", cells.concat())
    };
    let rows = row(["Key", "Station", "Shelf", "Code"])
        + &row(["Gate key", "North ridge", "B", "Gatecode2291Ridge"]);
    for (name, text) in [
        ("[Content_Types].xml", "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"><Default Extension=\"rels\" ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/><Default Extension=\"xml\" ContentType=\"application/xml\"/></Types>".to_owned()),
        ("_rels/.rels", "<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"><Relationship Id=\"r1\" Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>".to_owned()),
        ("xl/workbook.xml", "<workbook xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\" xmlns:r=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships\"><sheets><sheet name=\"Keys\" sheetId=\"1\" r:id=\"r1\"/></sheets></workbook>".to_owned()),
        ("xl/_rels/workbook.xml.rels", "<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"><Relationship Id=\"r1\" Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet\" Target=\"worksheets/sheet1.xml\"/></Relationships>".to_owned()),
        ("xl/worksheets/sheet1.xml", format!("<worksheet xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\"><sheetData>{rows}</sheetData></worksheet>")),
    ] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

/// The first identifier in a list.
fn first_id(client: &Client, list: &[&str], of: impl Fn(&Value) -> bool) -> String {
    let rows: Vec<Value> =
        serde_json::from_str(&client.good(&[list, &["-o", "json"]].concat())).unwrap();
    let row = rows
        .iter()
        .find(|row| of(row))
        .unwrap_or_else(|| panic!("{list:?}: {rows:?}"));
    row["id"].as_str().unwrap().to_owned()
}

/// What an example leaves open, filled in; answers that the demo's people would type.
fn filled_in(line: &str, client: &Client) -> String {
    let (line, _remark) = line.split_once("   ").unwrap_or((line, ""));
    let mut line = line.trim().replace("127.0.10.", "127.0.11.");
    if line.contains(SOME_ID) {
        let id = if line.starts_with("jexlin session") {
            first_id(client, &["session", "list", "--person", "tomas"], |_| true)
        } else if line.starts_with("jexlin access-issue") {
            first_id(client, &["access-issue", "list"], |row| {
                row["type"] != "no-steward"
            })
        } else {
            first_id(client, &["grant", "list", "--folder", "/Office"], |row| {
                row["level"] == "reveal"
            })
        };
        line = line.replace(SOME_ID, &id);
    }
    if line.contains("SHA256:…") {
        let rows: Vec<Value> = serde_json::from_str(&client.good(&[
            "device",
            "identity",
            "/Pumping/North ridge/telemetry",
            "-o",
            "json",
        ]))
        .unwrap();
        line = line.replace("SHA256:…", rows[0]["fingerprint"].as_str().unwrap());
    }
    line = line.replace("age1…", RECIPIENT);
    for verb in ["reveal ", "code ", "copy "] {
        let begin = format!("jexlin {verb}");
        if line.starts_with(&begin) {
            line = line.replace(&begin, &format!("{begin}--pipe "));
        }
    }
    if line.starts_with("jexlin setup") {
        line.push_str(" --managed-key");
    }
    line.replacen("jexlin ", "jexlin --yes ", 1)
}

/// What an example may end with other than success, and why.
fn may_end_with(line: &str, words: &str) -> bool {
    // Somebody at a terminal types the password.
    words.contains("No terminal to ask for")
        // Another person confirms what takes two.
        || words.contains("waits for a second person")
        // One account of the demo is in doubt, and has a job for as long.
        || words.contains("A job is under way")
        || (line.contains(" setup ") && words.contains("setup-code"))
}

#[test]
fn the_examples_of_the_help_work_on_the_demo() {
    if !is_root() {
        return;
    }
    let mut lines = vec![];
    examples(&[], &mut lines);
    lines.retain(|line| {
        line.starts_with("jexlin ")
            // It follows the jobs until somebody stops it, and the others need a screen.
            && !line.starts_with("jexlin upkeep watch")
            && !line.starts_with("jexlin copy ")
    });
    assert!(lines.len() > 90, "{lines:?}");
    // What ends the work of the others comes last.
    lines.sort_by_key(|line| {
        (
            line.starts_with("jexlin lock "),
            line.starts_with("jexlin session end --all"),
        )
    });
    let (service, _hosts) = Service::demo();
    let (ines, marek) = (service.client("ines"), service.client("marek"));
    let _tomas = service.client("tomas");
    files(&ines.folder);
    let _ = ines.good(&["audit", "export", "october.jsonl"]);
    let path = format!(
        "{}:{}",
        program("jexlin").parent().unwrap().display(),
        std::env::var("PATH").unwrap()
    );
    let mut failed = vec![];
    for example in &lines {
        let line = filled_in(example, &ines);
        // The administrator already has access to everything.
        let who = if line.contains(" access-request ") {
            &marek
        } else {
            &ines
        };
        let input = if line.contains("--password-file -") {
            "echo Weir-lane-at-night-7 |"
        } else {
            ""
        };
        let output = who
            .command("timeout".as_ref())
            .args(["60", "sh", "-c", &format!("{input} {line}")])
            .env("PATH", &path)
            .env("HOME", &ines.folder)
            .stdin(Stdio::null())
            .output()
            .unwrap();
        let words = String::from_utf8_lossy(&output.stderr);
        if !output.status.success() && !may_end_with(&line, &words) {
            let shown = String::from_utf8_lossy(&output.stdout);
            failed.push(format!("{} {line}\n{shown}\n{words}", output.status));
        }
    }
    assert!(failed.is_empty(), "{}", failed.join("\n"));
}
