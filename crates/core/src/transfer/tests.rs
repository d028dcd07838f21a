//! Tests of reading files.

use std::io::{Cursor, Write as _};

use proptest::prelude::*;

use super::*;
use crate::vault::kinds::Kind;

fn grid(bytes: &[u8]) -> Grid {
    Grid::read(bytes, &ReadOptions::default()).unwrap()
}

fn kinds() -> Kinds {
    Kind::find("login").unwrap().into()
}

/// Headings are found out, as for an import of logins.
fn read(bytes: impl AsRef<[u8]>) -> Sheet {
    let kinds = kinds();
    grid(bytes.as_ref())
        .into_sheet(None, |text| is_heading(text, &kinds))
        .unwrap()
}

fn refused(bytes: &[u8]) -> String {
    let kinds = kinds();
    Grid::read(bytes, &ReadOptions::default())
        .and_then(|grid| grid.into_sheet(None, |text| is_heading(text, &kinds)))
        .unwrap_err()
        .to_string()
}

fn problems(sheet: &Sheet) -> Vec<(usize, Option<usize>, &str)> {
    let each = sheet.problems.iter();
    each.map(|each| (each.line, each.column, each.problem.as_str()))
        .collect()
}

fn changes(sheet: &Sheet) -> Vec<(Option<usize>, &str, &[usize])> {
    let each = sheet.changes.iter();
    each.map(|(column, change, lines)| (column, change, lines.lines.as_slice()))
        .collect()
}

fn cells(sheet: &Sheet) -> Vec<&[String]> {
    sheet.rows.iter().map(|row| row.cells.as_slice()).collect()
}

#[test]
fn separators_quotes_and_line_breaks_are_found_out() {
    for sign in [",", ";", "\t", "|"] {
        let sheet = read(format!(
            "name{sign}password\r\n\"a{sign}b\"{sign}\"two\nlines \"\"quoted\"\"\"\r\n\r\nc{sign}=1+1\r\n"
        ));
        assert_eq!(sheet.heads, ["name", "password"]);
        assert_eq!(
            sheet.rows[0].cells,
            [format!("a{sign}b"), "two\nlines \"quoted\"".into()]
        );
        // A formula is a text like any other, and the line is the one of the editor.
        assert_eq!(
            (sheet.rows[1].line, sheet.rows[1].cells[1].as_str()),
            (5, "=1+1")
        );
        assert_eq!(
            sheet.read_as.separator.map(Separator::byte),
            sign.bytes().next()
        );
        assert_eq!(sheet.read_as.heading_row, Some(1));
    }
    let chosen = ReadOptions {
        separator: Some(Separator::Semicolon),
        ..ReadOptions::default()
    };
    let sheet = Grid::read(b"name,x;password\na,b;c", &chosen).unwrap();
    assert_eq!(sheet.rows[1].cells, ["a,b", "c"]);
}

#[test]
fn encodings_are_found_out_or_chosen() {
    let utf16: Vec<u8> = [0xFF, 0xFE]
        .into_iter()
        .chain(
            "name,password\nPumpe Süd,x"
                .encode_utf16()
                .flat_map(u16::to_le_bytes),
        )
        .collect();
    let office = b"name;password\nPumpe S\xFCd;x";
    let marked = b"\xEF\xBB\xBFname,password\nPumpe S\xC3\xBCd,x";
    for (bytes, encoding, changed) in [
        (&utf16[..], "UTF-16LE", 0),
        (office, "windows-1252", 1),
        (marked, "UTF-8", 0),
    ] {
        let sheet = read(bytes);
        assert_eq!(
            (sheet.heads[0].as_str(), sheet.rows[0].cells[0].as_str()),
            ("name", "Pumpe Süd")
        );
        assert_eq!(sheet.read_as.encoding.as_deref(), Some(encoding));
        assert_eq!(changes(&sheet).len(), changed, "{:?}", sheet.changes);
    }
    let with = |label: &str| ReadOptions {
        encoding: Some(label.into()),
        ..ReadOptions::default()
    };
    let greek = Grid::read(b"name,password\n\xE1,x", &with("iso-8859-7")).unwrap();
    assert_eq!(greek.rows[1].cells[0], "α");
    let unknown = Grid::read(b"name", &with("hunter2"))
        .unwrap_err()
        .to_string();
    assert!(
        unknown.contains("not known") && !unknown.contains("hunter2"),
        "{unknown}"
    );
}

#[test]
fn a_row_that_cannot_be_read_spoils_no_other() {
    let sheet = read(
        b"name,password\nok,x\na,b\0c\nsecret,Winter-41,more\nopen,\"Winter-42\nnext,y\nquoted,\"a\"b,c\nlast,\"z\"\n",
    );
    assert_eq!(cells(&sheet), [["ok", "x"], ["next", "y"], ["last", "z"]]);
    let lines: Vec<(usize, Option<usize>)> = problems(&sheet)
        .iter()
        .map(|(line, column, _)| (*line, *column))
        .collect();
    assert_eq!(lines, [(3, Some(1)), (4, None), (5, Some(1)), (7, Some(1))]);
    assert!(!format!("{:?}", sheet.problems).contains("Winter"));
    // The last row, with a quote that nothing closes.
    let sheet = read(b"name,password\na,x\nb,\"y\nc,z\n");
    assert_eq!(cells(&sheet), [["a", "x"], ["c", "z"]]);
    assert_eq!(
        problems(&sheet),
        [(3, Some(1), "a quote is opened in it and never closed")]
    );
    let sheet = read(
        "{\"name\": \"a\"}\n{\"name\": \n{\"name\": {\"first\": 1}}\n{\"name\": \"b\", \"name\": \"c\"}\n{\"name\": \"d\"}",
    );
    assert_eq!(cells(&sheet), [["a"], ["d"]]);
    let lines: Vec<usize> = problems(&sheet).iter().map(|(line, ..)| *line).collect();
    assert_eq!(lines, [2, 3, 4]);
    let long = format!("name,password\na,{}\nb,x\n", "y".repeat(100_001));
    assert_eq!((read(&long).rows.len(), read(&long).problems.len()), (1, 1));
}

#[test]
fn quotes_that_are_never_closed_do_not_take_for_ever() {
    // Each line opens a quote when it is the first that is read, and leaves it open otherwise.
    let text = format!("name,password\n{}", "a\",\"b\n".repeat(40_000));
    assert!(refused(text.as_bytes()).contains("never closed"));
}

#[test]
fn a_file_that_cannot_be_meant_is_refused() {
    assert!(refused("a,".repeat(1_000_000).as_bytes()).contains("columns"));
    assert!(refused(b"name\n").contains("no rows"));
    assert!(refused(b"").contains("empty"));
    assert!(refused(b"PK\x03\x04 and no more").contains("not a readable spreadsheet"));
    assert!(refused(b"age-encryption.org/v1\n-> X25519 x\n").contains("encrypted with age"));
    assert!(refused(b"-----BEGIN PGP MESSAGE-----\n").contains("OpenPGP"));
    assert!(refused(b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1x").contains("password"));
}

#[test]
fn a_first_row_without_known_headings_is_a_row_and_is_not_shown_as_headings() {
    let sheet = read("mail,marek,Winter-41\nridge,ines,Winter-42\n");
    assert_eq!(sheet.heads, ["column 1", "column 2", "column 3"]);
    assert_eq!((sheet.rows.len(), sheet.read_as.heading_row), (2, Some(0)));
    assert!(changes(&sheet)[0].1.contains("does not look like headings"));
    // Somebody says where they are, and that there are none.
    let text = b"Logins of 2026,,\nNom,Utente,Cle\na,b,c\n";
    let chosen = grid(text).into_sheet(Some(2), |_| false).unwrap();
    assert_eq!(chosen.heads, ["Nom", "Utente", "Cle"]);
    assert_eq!(
        changes(&chosen),
        [(None, "a row above the headings is left out", &[1][..])]
    );
    let none = grid(b"name,password\na,b\n")
        .into_sheet(Some(0), |_| true)
        .unwrap();
    assert_eq!((none.rows.len(), none.changes.iter().count()), (2, 0));
    assert!(grid(text).into_sheet(Some(9), |_| true).is_err());
}

#[test]
fn an_array_of_json_is_read_like_lines_of_it() {
    let text = "[\n  {\"name\": \"a\", \"password\": \"x\"},\n  7,\n  {\"name\": \"b\",\n   \"password\": \"y\"}, {\"name\": \"c\"}\n]\n";
    let sheet = grid(text.as_bytes()).into_sheet(None, |_| true).unwrap();
    let lines: Vec<usize> = sheet.rows.iter().map(|row| row.line).collect();
    assert_eq!(lines, [2, 4, 5]);
    assert_eq!((sheet.problems.len(), sheet.problems[0].line), (1, 3));
    let options = ReadOptions::default();
    let Err(problem) = Grid::read(b"[{\"name\": \"a\"}, {\"name\": \"Secret-7\"", &options) else {
        panic!("it is cut off");
    };
    assert!(problem.0.contains("line 1, character"), "{}", problem.0);
    assert!(!problem.0.contains("Secret-7"), "{}", problem.0);
}

#[test]
fn numbers_of_json_keep_all_their_digits_and_lists_become_lines() {
    let sheet = read(
        "{\"name\": \"a\", \"port\": 12345678901234567890123, \"on\": true}\n\n{\"name\": \"b\", \"urls\": [\"x\", \"y\"], \"port\": 1.50}\n",
    );
    assert_eq!(sheet.heads, ["name", "port", "on", "urls"]);
    assert_eq!(
        sheet.rows[0].cells,
        ["a", "12345678901234567890123", "true", ""]
    );
    assert_eq!(sheet.rows[1].cells, ["b", "1.50", "", "x\ny"]);
    assert_eq!(sheet.rows[1].line, 3);
    assert_eq!(
        changes(&sheet),
        [(Some(3), "a list is written as lines", &[3][..])]
    );
}

/// A spreadsheet of these sheets: rows of cells as they stand in its XML.
fn book(sheets: &[(&str, &str)]) -> Vec<u8> {
    let mut packed = zip::ZipWriter::new(Cursor::new(vec![]));
    let mut add = |name: &str, text: String| {
        packed
            .start_file(name, zip::write::SimpleFileOptions::default())
            .unwrap();
        packed.write_all(text.as_bytes()).unwrap();
    };
    let each = |of: &dyn Fn(usize, &str) -> String| -> String {
        let numbered = sheets.iter().enumerate();
        numbered
            .map(|(index, (name, _))| of(index + 1, name))
            .collect()
    };
    add("[Content_Types].xml", "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"><Default Extension=\"xml\" ContentType=\"application/xml\"/></Types>".into());
    add(
        "_rels/.rels",
        "<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"><Relationship Id=\"r1\" Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>".into(),
    );
    add(
        "xl/workbook.xml",
        format!(
            "<workbook xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\" xmlns:r=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships\"><sheets>{}</sheets></workbook>",
            each(&|number, name| format!(
                "<sheet name=\"{name}\" sheetId=\"{number}\" r:id=\"r{number}\"/>"
            ))
        ),
    );
    add(
        "xl/_rels/workbook.xml.rels",
        format!(
            "<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\">{}</Relationships>",
            each(&|number, _| format!(
                "<Relationship Id=\"r{number}\" Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet\" Target=\"worksheets/sheet{number}.xml\"/>"
            ))
        ),
    );
    for (index, (_, rows)) in sheets.iter().enumerate() {
        let number = index + 1;
        add(
            &format!("xl/worksheets/sheet{number}.xml"),
            format!(
                "<worksheet xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\"><sheetData>{rows}</sheetData></worksheet>"
            ),
        );
    }
    packed.finish().unwrap().into_inner()
}

const TEXT_ROW: &str = "<row r=\"1\"><c r=\"A1\" t=\"str\"><v>name</v></c><c r=\"B1\" t=\"str\"><v>password</v></c></row>";

#[test]
fn a_sheet_is_chosen_and_what_a_spreadsheet_does_to_values_is_told() {
    let rows = format!(
        "{TEXT_ROW}<row r=\"2\"><c r=\"A2\" t=\"str\"><v>a</v></c><c r=\"B2\"><v>12345678901234567890</v></c></row><row r=\"3\"><c r=\"A3\" t=\"b\"><v>1</v></c><c r=\"B3\"><v>42</v></c></row><row r=\"4\"><c r=\"A4\" t=\"e\"><v>#N/A</v></c></row><row r=\"5\"><c r=\"A5\" t=\"str\"><f>1+1</f><v>two</v></c></row>"
    );
    let bytes = book(&[("Old", TEXT_ROW), ("Logins", &rows)]);
    let with = |sheet: Option<&str>| {
        let options = ReadOptions {
            sheet: sheet.map(str::to_owned),
            ..ReadOptions::default()
        };
        Grid::read(&bytes, &options)
    };
    for chosen in ["Logins", "2"] {
        let sheet = with(Some(chosen))
            .unwrap()
            .into_sheet(Some(1), |_| true)
            .unwrap();
        assert_eq!(sheet.read_as.sheets, ["Old", "Logins"]);
        assert_eq!(problems(&sheet), [(4, Some(0), "its formula has an error")]);
        let told: Vec<(Option<usize>, &[usize])> = changes(&sheet)
            .into_iter()
            .map(|(column, _, lines)| (column, lines))
            .collect();
        assert_eq!(
            told,
            [
                (Some(0), &[5][..]),
                (Some(0), &[3]),
                (Some(1), &[2]),
                (Some(1), &[3])
            ]
        );
        assert!(sheet.rows[0].cells[1].starts_with("12345678901234567"));
    }
    assert!(
        with(Some("3"))
            .unwrap_err()
            .to_string()
            .contains("no such sheet")
    );
    assert!(
        with(None)
            .unwrap()
            .changes
            .iter()
            .any(|(_, change, _)| change == "1 other sheets are left out")
    );
}

#[test]
fn a_spreadsheet_that_blows_up_is_stopped() {
    let mut packed = zip::ZipWriter::new(Cursor::new(vec![]));
    packed
        .start_file(
            "xl/worksheets/sheet1.xml",
            zip::write::SimpleFileOptions::default(),
        )
        .unwrap();
    let zeros = vec![b' '; 1 << 20];
    for _ in 0..300 {
        packed.write_all(&zeros).unwrap();
    }
    let bytes = packed.finish().unwrap().into_inner();
    assert!(bytes.len() < 1 << 20);
    assert!(refused(&bytes).contains("128 MiB"));
    let far = book(&[(
        "Far",
        "<row r=\"1048576\"><c r=\"XFD1048576\" t=\"str\"><v>x</v></c></row>",
    )]);
    assert!(refused(&far).contains("column 16384"));
}

proptest! {
    #[test]
    fn what_is_written_as_csv_comes_back(rows in prop::collection::vec(prop::collection::vec("[^\0]{0,12}", 3), 1..8)) {
        let mut writer = csv::Writer::from_writer(vec![]);
        writer.write_record(["name", "user", "password"]).unwrap();
        for row in &rows {
            writer.write_record(row).unwrap();
        }
        let text = writer.into_inner().unwrap();
        let expected: Vec<&Vec<String>> = rows.iter().filter(|row| row.iter().any(|cell| !cell.trim().is_empty())).collect();
        let options = ReadOptions { format: Some(Format::Separated), separator: Some(Separator::Comma), ..ReadOptions::default() };
        match Grid::read(&text, &options).unwrap().into_sheet(Some(1), |_| true) {
            Ok(sheet) => {
                prop_assert_eq!(sheet.rows.iter().map(|row| &row.cells).collect::<Vec<_>>(), expected);
                prop_assert!(sheet.problems.is_empty());
            }
            Err(_) => prop_assert!(expected.is_empty()),
        }
    }

    #[test]
    fn one_broken_line_leaves_the_others(before in 0..5_usize, after in 0..5_usize, broken in "(\"[a-z]{1,5}|\"[a-z]{1,5}\"[a-z]{1,5}),[a-z]{1,5}") {
        let good = |count: usize| "a,b\n".repeat(count);
        let text = format!("name,password\n{}{broken}\n{}", good(before), good(after));
        let sheet = grid(text.as_bytes()).into_sheet(Some(1), |_| true).unwrap();
        prop_assert_eq!((sheet.rows.len(), sheet.problems.len()), (before + after, 1));
        prop_assert_eq!(sheet.problems[0].line, before + 2);
    }

    #[test]
    fn nothing_makes_the_readers_stumble(bytes in prop::collection::vec(any::<u8>(), 0..400), line in 0..4_usize) {
        for format in [Format::Separated, Format::JsonLines, Format::Xlsx, Format::Exchange] {
            let options = ReadOptions { format: Some(format), ..ReadOptions::default() };
            if let Ok(grid) = Grid::read(&bytes, &options) {
                let _ = grid.into_sheet(Some(line), |_| true);
            }
        }
    }
}
