//! The interpreter of dialogues on a megabyte of a device's output, against `grep` for the same.

use std::io::Write as _;
use std::process::{Command, Stdio};
use std::time::Instant;

use jexlin_core::dialogue::{Act, Dialogue, Ending, Purpose, Talk, Values};

use crate::figure;

/// How many times each measurement is repeated.
const ROUNDS: u32 = 20;
const DIALOGUE: &str = r#"dialogue = 1
title = "A megabyte"
[begin]
check = "listen"
[step.listen]
seconds = 25
hear = [
    { text = "password changed", done = true },
    { text = "no such user", refused = true },
    { line = '^% .*', refused = true },
    { line = '^the end of [0-9]+ lines$', done = true },
]
"#;

/// Nearly a megabyte of lines in which nothing is found but the last.
fn output() -> Vec<u8> {
    let mut text = String::new();
    let mut lines = 0;
    while text.len() < 1_000_000 {
        lines += 1;
        text.push_str(&format!(
            "interface {lines}: up, password-protected, 1000 Mb/s, no errors since Monday\r\n"
        ));
    }
    text.push_str(&format!("the end of {lines} lines\r\n"));
    text.into_bytes()
}

/// Milliseconds for the whole output in pieces of this size.
fn heard(dialogue: &Dialogue, output: &[u8], piece: usize) -> f64 {
    let begin = Instant::now();
    for _ in 0..ROUNDS {
        let (mut talk, mut act) = Talk::begin(dialogue, Purpose::Check, Values::default());
        for part in output.chunks(piece) {
            act = talk.hear(part);
        }
        assert!(matches!(act, Act::End(Ending::Done)), "{act:?}");
    }
    begin.elapsed().as_secs_f64() * 1000.0 / f64::from(ROUNDS)
}

/// Milliseconds that `grep` takes, and those that it takes for nothing.
fn grepped(output: &[u8]) -> f64 {
    let once = |input: &[u8]| {
        let begin = Instant::now();
        for _ in 0..ROUNDS {
            let mut grep = Command::new("grep")
                .args([
                    "-c",
                    "-i",
                    "-E",
                    "password changed|no such user|^% .*|^the end of [0-9]+ lines",
                ])
                .stdin(Stdio::piped())
                .stdout(Stdio::null())
                .spawn()
                .unwrap();
            grep.stdin.take().unwrap().write_all(input).unwrap();
            let _ = grep.wait().unwrap();
        }
        begin.elapsed().as_secs_f64() * 1000.0 / f64::from(ROUNDS)
    };
    (once(output) - once(b"")).max(0.1)
}

pub fn run() {
    let dialogue = Dialogue::read(DIALOGUE).unwrap();
    let output = output();
    let grep = grepped(&output);
    for (name, piece) in [("pieces of 4 KiB", 4096), ("pieces of 1 byte", 1)] {
        let took = heard(&dialogue, &output, piece);
        figure(
            &format!("a dialogue on 1 MB of output, {name}"),
            took,
            "ms",
            "grep for the same patterns, without its start",
            grep,
            "told",
            true,
        );
    }
}
