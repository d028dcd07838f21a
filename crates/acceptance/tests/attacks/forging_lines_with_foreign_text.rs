//! Names, reasons and words of devices forge lines of the log, looks of a terminal or formulas.

use serde_json::json;

use super::{grant, login, strict};

const FORGED: &str = "x\n2026-11-28 09:00  Ines Calder  grant.add  everything\u{1b}[2J\u{202e}";

#[test]
fn a_refused_request_makes_one_line_of_the_auditors_list() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let target = login(&ines, &safe, "root", "root", "Root-1");
    let pim = ines.person("pim", &[]);
    grant(&ines, "folder", &safe, &pim, "list");
    let pim = service.sign_in("pim");
    // In the name of what is refused, and in words that are kept.
    pim.post("/api/v1/folders", &json!({"name": FORGED}))
        .refused(422, "bad-input");
    let _ = service.call(
        "POST",
        "/api/v1/sign-in",
        None,
        Some(&json!({"sign_in_name": FORGED, "password": "x", "channel": "client"})),
        None,
    );
    let _ = pim.post(
        "/api/v1/requests",
        &json!({"credential": target, "reason": FORGED, "minutes": 5}),
    );
    let client = service.client("ines");
    for format in ["table", "csv", "json"] {
        let shown = client.good(&["-o", format, "audit", "list"]);
        assert!(
            !shown.contains('\u{1b}') && !shown.contains('\u{202e}'),
            "{format}: {shown}"
        );
        assert!(
            !shown
                .lines()
                .any(|line| line.starts_with("2026-11-28 09:00  Ines Calder  grant.add")),
            "{format}: {shown}"
        );
    }
    let (_, words) = client.bad(&["credential", "show", "/Safe/\u{202e}x\u{1b}[2J"]);
    assert!(
        !words.contains('\u{1b}') && !words.contains('\u{202e}'),
        "{words}"
    );
}

#[test]
fn no_csv_holds_a_formula() {
    let service = strict(&[]);
    let ines = service.sign_in("ines");
    let safe = ines.folder("Safe");
    let _ = login(
        &ines,
        &safe,
        "=HYPERLINK(\"http://evil.example\")"
            .replace('/', "|")
            .as_str(),
        "@SUM(1)",
        "Root-1",
    );
    let client = service.client("ines");
    let shown = client.good(&["-o", "csv", "credential", "list"]);
    assert!(
        !shown
            .split([',', '\n'])
            .any(|cell| cell.trim_matches('"').starts_with(['=', '@'])),
        "{shown}"
    );
}
