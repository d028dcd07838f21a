//! The logs in `docs/audit-vectors`, for whoever writes a verifier: made here, and verified here by
//! this crate and by the verifier in Python that was written from `docs/audit-format.md` alone.
//! `JEXLIN_WRITE_GOLDEN=1 cargo test -p jexlin-core --test audit_vectors` writes them again.

#![allow(
    clippy::expect_used,
    clippy::panic,
    clippy::unwrap_used,
    clippy::indexing_slicing,
    reason = "what cannot be read ends the test"
)]

use std::path::{Path, PathBuf};
use std::process::Command;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jexlin_core::audit::{
    Action, Event, ExportLine, Frontier, Signer, verify_export, verify_from_checkpoint,
    verify_since,
};
use uuid::Uuid;

const ORIGIN: &str = "osmere.example/audit";

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

fn signer() -> Signer {
    Signer::new(ORIGIN, &[7; 32])
}

fn event(n: i64) -> Event {
    let time = chrono::DateTime::from_timestamp(n, 0).unwrap();
    let id = Uuid::from_u128(u128::try_from(n).unwrap());
    let mut event = Event::new(id, Uuid::nil(), time, Action::CredentialReveal);
    event.detail.insert("field".into(), "password".into());
    event
        .detail
        .insert("reason".into(), "pump 3 — stopped".into());
    event
}

/// A log: what is sealed, the signed notes after every fourth event, and its lines.
#[derive(Clone)]
struct Log {
    notes: Vec<String>,
    lines: Vec<ExportLine>,
}

fn leaf(index: u64, event: &Event) -> ExportLine {
    ExportLine::Leaf {
        index,
        hash: STANDARD.encode(event.leaf()),
        event: Some(event.clone()),
    }
}

fn log(events: &[Event]) -> Log {
    let (mut frontier, mut notes, mut lines) = (Frontier::default(), vec![], vec![]);
    lines.push(ExportLine::Log {
        format: "jexlin audit export 1".into(),
        origin: ORIGIN.into(),
        size: events.len() as u64,
    });
    for (index, event) in (0..).zip(events) {
        frontier.append(event.leaf());
        lines.push(leaf(index, event));
        if (index + 1) % 4 == 0 || index as usize + 1 == events.len() {
            notes.push(signer().sign(index + 1, frontier.root()));
        }
    }
    let checkpoints = notes
        .iter()
        .map(|note| ExportLine::Checkpoint { note: note.clone() });
    lines.extend(checkpoints.collect::<Vec<_>>());
    Log { notes, lines }
}

/// The events of a log numbered anew, under the checkpoints of another.
fn fitted(events: &[Event], checkpoints_of: &Log) -> Log {
    let mut lines = log(events).lines;
    lines.retain(|line| !matches!(line, ExportLine::Checkpoint { .. }));
    let notes = checkpoints_of.notes.clone();
    lines.extend(
        notes
            .iter()
            .map(|note| ExportLine::Checkpoint { note: note.clone() }),
    );
    Log { notes, lines }
}

fn text(log: &Log) -> String {
    let line = |line: &ExportLine| serde_json::to_string(line).unwrap() + "\n";
    log.lines.iter().map(line).collect()
}

/// Every file: its name, its text, and what is found in it (nothing, when it is right).
fn vectors() -> Vec<(&'static str, String, Option<&'static str>)> {
    let events: Vec<Event> = (0..10).map(event).collect();
    let good = log(&events);
    let with = |change: &dyn Fn(&mut Log)| {
        let mut log = good.clone();
        change(&mut log);
        text(&log)
    };
    let anew = |change: &dyn Fn(&mut Vec<Event>)| {
        let mut events = events.clone();
        change(&mut events);
        text(&fitted(&events, &good))
    };
    let changed = |log: &mut Log, index: usize| {
        if let ExportLine::Leaf {
            event: Some(event), ..
        } = &mut log.lines[index + 1]
        {
            event.actor_name = "Somebody else".into();
        }
    };
    let others: Vec<Event> = (100..112).map(event).collect();
    vec![
        ("good.jsonl", text(&good), None),
        (
            "later.jsonl",
            text(&log(&(0..14).map(event).collect::<Vec<_>>())),
            None,
        ),
        (
            "another-log-of-the-same-key.jsonl",
            text(&log(&others)),
            None,
        ),
        (
            "changed.jsonl",
            with(&|log| changed(log, 5)),
            Some("event 5 was changed"),
        ),
        (
            "removed.jsonl",
            with(&|log| drop(log.lines.remove(6))),
            Some("event 5 was removed"),
        ),
        (
            "removed-numbered-anew.jsonl",
            anew(&|events| drop(events.remove(5))),
            Some("1 event was removed from 4 to 7"),
        ),
        (
            "added-numbered-anew.jsonl",
            anew(&|events| events.insert(5, event(99))),
            Some("event 5 was added"),
        ),
        (
            "added-at-the-end.jsonl",
            with(&|log| log.lines.insert(11, leaf(10, &event(99)))),
            Some("event 10 was added"),
        ),
        (
            "stray.jsonl",
            with(&|log| log.lines.push(ExportLine::Stray { event: event(99) })),
            Some("an event was added that has no position"),
        ),
        (
            "swapped.jsonl",
            anew(&|events| events.swap(4, 6)),
            Some("events 4 and 6 were swapped"),
        ),
        (
            "moved.jsonl",
            anew(&|events| {
                let moved = events.remove(7);
                events.insert(4, moved);
            }),
            Some("event 7 was moved to 4"),
        ),
        (
            "cut-at-the-front.jsonl",
            with(&|log| drop(log.lines.drain(1..4))),
            Some("cut off at its beginning: events 0 to 2"),
        ),
        (
            "cut-in-the-middle.jsonl",
            with(&|log| drop(log.lines.drain(4..7))),
            Some("events 3 to 5 were removed"),
        ),
        (
            "cut-at-the-end.jsonl",
            with(&|log| drop(log.lines.drain(8..11))),
            Some("cut off at its end: 7 events"),
        ),
        (
            "rewritten.jsonl",
            with(&|log| log.lines[6] = leaf(5, &event(77))),
            Some("an event from 4 to 7 was rewritten"),
        ),
        (
            "forged-checkpoint.jsonl",
            with(&|log| {
                log.lines[11] = ExportLine::Checkpoint {
                    note: Signer::new(ORIGIN, &[8; 32]).sign(4, [0; 32]),
                }
            }),
            Some("checkpoint 0: "),
        ),
    ]
}

/// What the verifier in Python says of a log.
fn in_python(arguments: &[&str]) -> (bool, String) {
    let output = Command::new("python3")
        .arg(docs().join("verify_audit.py"))
        .args(arguments)
        .current_dir(docs().join("audit-vectors"))
        .output()
        .expect("python3");
    let errors = String::from_utf8_lossy(&output.stderr);
    assert!(errors.is_empty(), "{errors}");
    (
        output.status.success(),
        String::from_utf8(output.stdout).unwrap(),
    )
}

#[test]
fn the_vectors_are_those_in_the_documents_and_each_is_called_what_it_is() {
    let folder = docs().join("audit-vectors");
    let verifier = signer().verifier();
    let mut files = vec![("key".to_owned(), verifier.to_text() + "\n")];
    let events: Vec<Event> = (0..10).map(event).collect();
    files.push(("checkpoint-of-8".to_owned(), log(&events).notes[1].clone()));
    let mut table = String::from("file\twhat is found\n");
    for (name, text, wanted) in vectors() {
        let found = verify_export(text.lines(), &verifier)
            .first
            .map(|found| found.to_string());
        match (&found, wanted) {
            (None, None) => {}
            (Some(found), Some(wanted)) => assert!(found.contains(wanted), "{name}: {found}"),
            _ => panic!("{name}: {found:?}"),
        }
        table += &format!("{name}\t{}\n", found.unwrap_or_else(|| "nothing".into()));
        files.push((name.to_owned(), text));
    }
    files.push(("found.tsv".to_owned(), table));
    for (name, text) in files {
        let path = folder.join(&name);
        if std::env::var_os("JEXLIN_WRITE_GOLDEN").is_some() {
            std::fs::write(&path, &text).unwrap();
        }
        assert_eq!(
            std::fs::read_to_string(&path).unwrap_or_default(),
            text,
            "{name}"
        );
    }
}

#[test]
fn a_verifier_that_was_written_from_the_page_alone_finds_the_same() {
    for (name, _, wanted) in vectors() {
        let (good, said) = in_python(&[name, "key"]);
        assert_eq!(good, wanted.is_none(), "{name}: {said}");
    }
    assert!(in_python(&["later.jsonl", "key", "--since", "good.jsonl"]).0);
    assert!(in_python(&["later.jsonl", "key", "--checkpoint", "checkpoint-of-8"]).0);
    let other = "another-log-of-the-same-key.jsonl";
    assert!(!in_python(&[other, "key", "--since", "good.jsonl"]).0);
    assert!(!in_python(&[other, "key", "--checkpoint", "checkpoint-of-8"]).0);
}

#[test]
fn a_log_that_is_no_continuation_of_an_earlier_one_is_found() {
    let all = vectors();
    let of = |name: &str| &all.iter().find(|(known, ..)| *known == name).unwrap().1;
    let verifier = signer().verifier();
    let (good, later) = (of("good.jsonl"), of("later.jsonl"));
    let other = of("another-log-of-the-same-key.jsonl");
    let events: Vec<Event> = (0..10).map(event).collect();
    let note = log(&events).notes[1].clone();
    let since = |text: &str| verify_since(text.lines(), good.lines(), &verifier).first;
    let from = |text: &str| verify_from_checkpoint(text.lines(), &note, &verifier).first;
    assert_eq!((since(later), from(later)), (None, None));
    assert!(
        since(other)
            .unwrap()
            .to_string()
            .contains("event 0 was changed")
    );
    assert!(from(other).unwrap().to_string().contains("no continuation"));
    let removed = since(of("removed-numbered-anew.jsonl"))
        .unwrap()
        .to_string();
    assert_eq!(removed, "event 5 was removed");
}
