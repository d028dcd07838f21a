use std::collections::BTreeMap;

use proptest::prelude::*;

use super::*;
use crate::secret::Secret;

const SWITCH: &str = include_str!("../../../../demo/dialogues/ridge-switch.toml");
const SESSION: &str = include_str!("../../../../demo/dialogues/ridge-switch-session.txt");
const FIREWALL: &str = include_str!("../../../../demo/dialogues/holloway-firewall.toml");

fn read(text: &str) -> Dialogue {
    match Dialogue::read(text) {
        Ok(dialogue) => dialogue,
        Err(findings) => panic!("{findings:?}"),
    }
}

fn messages(text: &str) -> Vec<String> {
    inspect(text).1.iter().map(ToString::to_string).collect()
}

/// A small dialogue with this instead of a part of it.
fn small(part: &str, other: &str) -> String {
    let text = r#"dialogue = 1
title = "Small"
commands = ["passwd", "exit"]
[begin]
check = "look"
account = "ask"
[step.look]
hear = [{ prompt = '[$]$', done = true }]
[step.ask]
say = "passwd"
hear = [{ text = "new:", next = "new" }]
[step.new]
say = "{new}"
hidden = true
changes = true
hear = [{ text = "done", done = true }, { text = "no", refused = true }]
"#;
    assert!(text.contains(part), "{part} is not in it");
    text.replace(part, other)
}

/// Lets a device speak in these pieces, and returns what was typed and how it ended. An empty piece
/// is silence.
fn played(
    dialogue: &Dialogue,
    purpose: Purpose,
    pieces: &[&[u8]],
) -> (Vec<String>, Option<Ending>, Vec<Turn>) {
    let [current, new, operator, enable] = [
        "old-tide-1",
        "new-tide-2",
        "keeper-tide-3",
        "changes-tide-4",
    ]
    .map(|text| Secret::from_text(text.into()));
    let fields = BTreeMap::from([("context".to_owned(), "edge".to_owned())]);
    let values = Values {
        account: "duty",
        device: "ridge",
        operator: "keeper",
        current: Some(&current),
        new: Some(&new),
        operator_password: Some(&operator),
        enable_password: Some(&enable),
        fields: Some(&fields),
    };
    let (mut talk, mut act) = Talk::begin(dialogue, purpose, values);
    let (mut typed, mut pieces) = (vec![], pieces.iter());
    loop {
        act = match act {
            Act::End(ending) => return (typed, Some(ending), talk.transcript().to_vec()),
            Act::Type(line, _) => {
                typed.push(line.expose_secret_text().expect("text").to_owned());
                talk.typed()
            }
            Act::Listen(_) => match pieces.next() {
                None => return (typed, None, talk.transcript().to_vec()),
                Some(&[]) => talk.silence(false),
                Some(piece) => talk.hear(piece),
            },
        };
    }
}

#[test]
fn the_ready_made_dialogues_have_no_findings() {
    assert_eq!(messages(SWITCH), Vec::<String>::new());
    for text in [
        include_str!("../../../../demo/dialogues/linux-sudo.toml"),
        include_str!("../../../../demo/dialogues/frr.toml"),
        include_str!("../../../../demo/dialogues/tarn-telemetry.toml"),
        FIREWALL,
    ] {
        assert_eq!(messages(text), Vec::<String>::new());
    }
    let passwd = include_str!("linux-passwd.toml");
    assert_eq!(
        messages(passwd),
        Vec::<String>::new(),
        "what passwd asks, read from its own file"
    );
    assert_eq!(LINUX_PASSWD.head().title(), "passwd on Linux");
}

#[test]
fn a_password_is_changed_at_the_prompt_of_passwd() {
    let (typed, ending, _) = played(
        &LINUX_PASSWD,
        Purpose::Account,
        &[
            b"Changing password for duty.\r\nCurrent pass",
            b"word: ",
            b"\r\nNew password: ",
            b"\r\nRetype new password: ",
            b"\r\npasswd: password updated successfully\r\n",
        ],
    );
    assert_eq!(typed, ["old-tide-1\n", "new-tide-2\n", "new-tide-2\n"]);
    assert_eq!(ending, Some(Ending::Done));
}

#[test]
fn a_refusal_keeps_the_devices_words_without_the_secret() {
    let (_, ending, turns) = played(
        &LINUX_PASSWD,
        Purpose::Account,
        &[
            b"Current password: ",
            b"New password: ",
            b"\r\nBAD PASSWORD: new-tide-2 is too similar to the old one\r\nNew password: ",
        ],
    );
    let Some(Ending::Refused(words)) = ending else {
        panic!("no refusal: {ending:?}")
    };
    assert_eq!(
        words,
        "BAD PASSWORD: ••• is too similar to the old one New password:"
    );
    assert!(turns.contains(&Turn::Said("{new}".into())));
    assert!(!format!("{turns:?}").contains("tide"), "{turns:?}");
}

#[test]
fn a_switch_takes_a_new_password_from_its_operator() {
    let (typed, ending, turns) = played(
        &read(SWITCH),
        Purpose::Operator,
        &[
            b"Ridge 3.2\r\n",
            b"keeper is signed in elsewhere. Take it over? [y/n] ",
            b"y\r\n-- more -- ",
            b"\rridge-3>",
            b"",
            b"enable\r\nPassword: ",
            b"\r\nridge-3#",
            b"",
            b"user duty password\r\nNew password: ",
            b"\r\nOnce more: ",
            b"\r\nPassword changed.\r\nridge-3#",
            b"",
            b"save\r\nSaved.\r\nridge-3#",
        ],
    );
    assert_eq!(
        typed,
        [
            "y\r",
            " ",
            "enable\r",
            "keeper-tide-3\r",
            "user duty password\r",
            "new-tide-2\r",
            "new-tide-2\r",
            "save\r"
        ]
    );
    assert_eq!(ending, Some(Ending::Done));
    assert!(!format!("{turns:?}").contains("tide"), "{turns:?}");
}

#[test]
fn a_firewall_gets_its_enable_password_and_the_context_of_the_account() {
    let greeting: &[u8] = b"holloway> ";
    let (typed, ending, turns) = played(
        &read(FIREWALL),
        Purpose::Operator,
        &[
            greeting,
            b"",
            b"context edge\r\nholloway [edge]> ",
            b"",
            b"changes open\r\nPassword for changes: ",
            b"\r\nholloway [edge]* ",
            b"",
            b"account duty secret\r\nNew secret: ",
            b"\r\nRepeat secret: ",
            b"\r\nSecret stored.\r\nholloway [edge]* ",
            b"",
            b"apply\r\nApplied.\r\n",
        ],
    );
    assert_eq!(typed[0], "context edge\r");
    assert_eq!(typed[2], "changes-tide-4\r");
    assert_eq!(ending, Some(Ending::Done));
    assert!(turns.contains(&Turn::Said("{enable_password}".into())));
    assert!(!format!("{turns:?}").contains("tide"), "{turns:?}");
}

/// An editor of the credential sets the field, and it is typed at the operator's prompt.
#[test]
fn a_field_that_would_be_a_command_or_is_missing_is_refused_before_anything_is_said() {
    let new = Secret::from_text("new-tide-2".into());
    let began = |context: Option<&str>| {
        let dialogue = read(FIREWALL);
        let fields = context
            .map(|text| ("context".to_owned(), text.to_owned()))
            .into_iter()
            .collect();
        let values = Values {
            account: "duty",
            operator_password: Some(&new),
            enable_password: Some(&new),
            new: Some(&new),
            fields: Some(&fields),
            ..Values::default()
        };
        match Talk::begin(&dialogue, Purpose::Operator, values).1 {
            Act::End(Ending::Refused(why)) => why,
            Act::Listen(_) => String::new(),
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(began(Some("edge")), "");
    for text in ["edge; changes open", "edge\rapply", "-x", "a b"] {
        assert!(began(Some(text)).contains("would not take"), "{text}");
    }
    for nothing in [None, Some("")] {
        assert!(began(nothing).contains("no field “context”"));
    }
}

#[test]
fn a_device_that_asks_for_an_enable_password_which_there_is_not_is_left_as_it_is() {
    let new = Secret::from_text("new-tide-2".into());
    let fields = BTreeMap::from([("context".to_owned(), "edge".to_owned())]);
    let values = Values {
        account: "duty",
        operator_password: Some(&new),
        new: Some(&new),
        fields: Some(&fields),
        ..Values::default()
    };
    let dialogue = read(FIREWALL);
    let (mut talk, _) = Talk::begin(&dialogue, Purpose::Operator, values);
    let _ = talk.hear(b"holloway> ");
    let _ = talk.silence(false);
    let _ = talk.typed();
    let _ = talk.hear(b"context edge\r\nholloway [edge]> ");
    let _ = talk.silence(false);
    let _ = talk.typed();
    let Act::End(Ending::GaveUp(why)) = talk.hear(b"changes open\r\nPassword for changes: ") else {
        panic!("it goes on")
    };
    assert!(
        why.contains("the credential that signs in has none"),
        "{why}"
    );
    assert!(!talk.is_changing());
}

#[test]
fn the_leaving_line_is_never_the_answer_to_a_question_that_nobody_expected() {
    let new = Secret::from_text("new-tide-2".into());
    let dialogue = read(SWITCH);
    let values = Values {
        account: "duty",
        operator_password: Some(&new),
        new: Some(&new),
        ..Values::default()
    };
    let left_at = |question: &[u8]| {
        let (mut talk, _) = Talk::begin(&dialogue, Purpose::Operator, values);
        let _ = talk.hear(b"ridge-3#");
        let _ = talk.silence(false);
        let _ = talk.typed();
        let _ = talk.hear(question);
        assert!(matches!(talk.silence(true), Act::End(Ending::GaveUp(_))));
        talk.farewell().is_some()
    };
    assert!(left_at(b"user duty password\r\nridge-3>"));
    assert!(!left_at(b"user duty password\r\nSecret for duty: "));
    // What would change the password is held back at the question for it.
    let (mut talk, _) = Talk::begin(&dialogue, Purpose::Operator, values);
    let _ = talk.hear(b"ridge-3#");
    let _ = talk.silence(false);
    let _ = talk.typed();
    assert!(matches!(
        talk.hear(b"user duty password\r\nNew password: "),
        Act::Type(_, true)
    ));
    talk.held_back();
    assert!(talk.farewell().is_none());
    assert!(!talk.transcript().contains(&Turn::Said("{new}".into())));
}

#[test]
fn what_a_device_writes_back_is_not_its_answer() {
    // The echo of the line holds the very text that is listened for.
    let text = small(r#"say = "passwd""#, r#"say = "passwd new: now""#);
    let dialogue = read(&text);
    let (typed, _, _) = played(
        &dialogue,
        Purpose::Account,
        &[b"pass", b"wd new: now", b"\r\n"],
    );
    assert_eq!(typed.len(), 1, "the echo is skipped: {typed:?}");
    let (typed, _, _) = played(&dialogue, Purpose::Account, &[b"passwd new: now\r\nNew: "]);
    assert_eq!(typed.len(), 2, "what comes after it counts");
    let (typed, _, _) = played(&dialogue, Purpose::Account, &[b"Enter new: "]);
    assert_eq!(typed.len(), 2, "a device that writes nothing back");
}

#[test]
fn a_name_that_would_be_a_command_and_a_password_that_cannot_be_typed_are_refused() {
    let new = Secret::from_text("new-tide-2".into());
    let begin = |account: &str, new: &Secret| {
        let dialogue = read(SWITCH);
        let values = Values {
            account,
            operator_password: Some(new),
            new: Some(new),
            ..Values::default()
        };
        match Talk::begin(&dialogue, Purpose::Operator, values).1 {
            Act::End(Ending::Refused(why)) => why,
            other => panic!("{other:?}"),
        }
    };
    for name in ["duty password; reload", "duty\rreload", "-duty", "duty|all"] {
        assert!(begin(name, &new).contains("would not take"), "{name}");
    }
    for (password, why) in [
        ("what?now", "character ?"),
        ("two words", "character space"),
        ("line\nfeed", "control character"),
        (&"x".repeat(49), "at most 48"),
    ] {
        let password = Secret::from_text(password.to_owned());
        assert!(begin("duty", &password).contains(why), "{why}");
    }
}

#[test]
fn a_device_that_asks_for_ever_floods_or_says_nothing_is_left() {
    let dialogue = read(SWITCH);
    let asks: Vec<&[u8]> = vec![b"-- more -- "; 200];
    let (typed, ending, _) = played(&dialogue, Purpose::Check, &asks);
    assert!(matches!(ending, Some(Ending::GaveUp(_))), "{ending:?}");
    assert!(typed.len() <= 60);
    let flood = vec![b'x'; 100_000];
    let floods: Vec<&[u8]> = vec![&flood; 20];
    let (_, ending, turns) = played(&dialogue, Purpose::Check, &floods);
    let Some(Ending::GaveUp(why)) = ending else {
        panic!("not left")
    };
    assert!(why.contains("more than the limit"));
    assert!(format!("{turns:?}").len() < 6000, "little of it is kept");
    let values = Values {
        account: "duty",
        ..Values::default()
    };
    let (mut talk, act) = Talk::begin(&dialogue, Purpose::Check, values);
    assert!(matches!(act, Act::Listen(_)));
    let _ = talk.hear(b"Ridge 3.2");
    let Act::End(Ending::GaveUp(why)) = talk.silence(true) else {
        panic!("still listening")
    };
    assert_eq!(why, "the device did not go on: Ridge 3.2");
}

#[test]
fn what_is_wrong_with_a_dialogue_is_found() {
    for (part, other, expected) in [
        (
            "dialogue = 1",
            "dialogue = 2",
            "is the version of the format",
        ),
        (r#"title = "Small""#, r#"title = """#, "needs a short title"),
        (
            r#"check = "look""#,
            r#"check = "nowhere""#,
            "which is no step",
        ),
        (r#"next = "new""#, r#"next = "newer""#, "“newer” is no step"),
        (
            "done = true }]\n[step.ask]",
            "}]\n[step.ask]",
            "leads to one of",
        ),
        ("prompt = '[$]$'", "prompt = '[$'", "is no pattern"),
        (
            r#"text = "new:""#,
            r#"text = """#,
            "one of `text`, `line` and `prompt`",
        ),
        ("{new}", "{newest}", "“{newest}” stands for nothing"),
        (
            "{new}",
            "{operator}",
            "`account` comes to this step, and does not know {operator}",
        ),
        ("changes = true\n", "", "the new password is said here"),
        (
            "changes = true\n",
            "",
            "`account` has no step with `changes = true`",
        ),
        ("hidden = true\n", "", "the device shows this line"),
        (
            r#"say = "passwd""#,
            r#"say = "paswd""#,
            "is “passwd” meant?",
        ),
        (
            r#"say = "passwd""#,
            r#"say = "reboot now""#,
            "is not in the list",
        ),
        (
            r#"{ text = "done", done = true }, { text = "no", refused = true }"#,
            r#"{ text = "o", next = "new" }, { text = "no", next = "new" }"#,
            "“no” is never reached: “o” is heard before it",
        ),
        (
            r#"{ text = "done", done = true }, { text = "no", refused = true }"#,
            r#"{ text = "done", next = "new" }"#,
            "nothing that is heard from here on ends the dialogue",
        ),
        (
            r#"check = "look""#,
            r#"check = "ask""#,
            "which changes something",
        ),
        (
            r#"check = "look""#,
            r#"check = "ask""#,
            "nothing leads to this step",
        ),
        (
            "hear = [{ text = \"new:\"",
            "hear = [{ txt = \"new:\"",
            "unknown field",
        ),
    ] {
        let found = messages(&small(part, other));
        assert!(
            found.iter().any(|message| message.contains(expected)),
            "{other:?} should say {expected:?}: {found:?}"
        );
    }
    assert_eq!(
        messages(&small("dialogue = 1", "dialogue = 1")),
        Vec::<String>::new()
    );
    let (_, found) = inspect(&small("hidden = true\n", ""));
    assert_eq!(found.first().and_then(|finding| finding.line), Some(12));
    assert!(
        messages("dialogue = ")
            .first()
            .is_some_and(|message| message.starts_with("line 1: error"))
    );
}

#[test]
fn a_list_of_accounts_is_read_line_by_line_over_every_screenful() {
    let dialogue = read(SWITCH);
    let transcript = "< ridge-3>\n> users\n< USER             ROLE\n< duty             view\n< keeper           keeper\n< -- more --\n>  \n< night            view\n< keeper-tide      boss\n< ridge-3>\n";
    let rehearsal = rehearse(&dialogue, Purpose::List, "", transcript);
    assert_eq!(
        (rehearsal.problem, rehearsal.ending),
        (None, Some(Ending::Done))
    );
    let found: Vec<(&str, Option<&str>)> = rehearsal
        .found
        .iter()
        .map(|one| (one.login.as_str(), one.privileged.as_deref()))
        .collect();
    assert_eq!(
        found,
        [("duty", None), ("keeper", Some("keeper")), ("night", None)]
    );
    // Nothing is listed for another purpose, or where nobody may see it.
    let refused = "< ridge-3>\n> users\n< Not allowed.\n";
    let rehearsal = rehearse(&dialogue, Purpose::List, "", refused);
    assert!(matches!(rehearsal.ending, Some(Ending::GaveUp(why)) if why.contains("role keeper")));
    assert_eq!(rehearsal.found, []);
}

#[test]
fn a_device_that_lists_the_passwords_it_was_given_gives_none_away() {
    let (dialogue, operator) = (read(SWITCH), Secret::from_text("keeper-tide-3".into()));
    let values = Values {
        operator: "keeper",
        operator_password: Some(&operator),
        ..Values::default()
    };
    let (mut talk, _) = Talk::begin(&dialogue, Purpose::List, values);
    let _ = talk.hear(b"ridge-3>");
    let _ = talk.silence(false);
    let _ = talk.typed();
    let _ = talk.hear(b"users\r\nkeeper-tide-3    view\r\nduty    view\r\nridge-3>");
    assert!(matches!(talk.silence(false), Act::End(Ending::Done)));
    let found = format!("{:?}", talk.take_found());
    assert!(found.contains("duty") && !found.contains("tide"), "{found}");
}

#[test]
fn what_is_wrong_with_a_list_is_found() {
    let list = |step: &str| {
        small("check = \"look\"", "check = \"look\"\nlist = \"users\"")
            + &format!(
                "[step.users]\nsay = \"users\"\n{step}\nhear = [{{ prompt = '[$]$', done = true }}]\n"
            )
    };
    for (text, expected) in [
        (list(""), "`list` has no step with `lists`"),
        (list("lists = '^(\\S+)$'"), "(?<name>…)"),
        (
            list("lists = '^(?<name>\\S+) (?<age>.*)$'"),
            "no use for the group “age”",
        ),
        (
            list("changes = true\nlists = '^(?<name>\\S+)$'"),
            "`list` comes to this step, which changes something",
        ),
        (
            list("lists = '^(?<name>\\S+)$'")
                .replace("\"users\"\nlists", "\"users {account}\"\nlists"),
            "`list` comes to this step, and does not know {account}",
        ),
        (
            small(
                "say = \"passwd\"",
                "say = \"passwd\"\nlists = '^(?<name>a)$'",
            ),
            "`list` does not come to this step",
        ),
    ] {
        let all = messages(&text).join("; ");
        assert!(all.contains(expected), "{expected}: {all}");
    }
}

#[test]
fn a_dialogue_is_rehearsed_against_a_transcript() {
    let dialogue = read(SWITCH);
    let rehearsal = rehearse(&dialogue, Purpose::Operator, "duty", SESSION);
    assert_eq!(rehearsal.problem, None, "{rehearsal:?}");
    assert_eq!(rehearsal.ending, Some(Ending::Done));
    let part = |from: &str, to: &str| {
        rehearse(
            &dialogue,
            Purpose::Operator,
            "duty",
            &SESSION.replace(from, to),
        )
    };
    let problem = |from: &str, to: &str| part(from, to).problem.expect("a problem");
    assert_eq!(
        problem("> enable", "> enabel"),
        "line 4 of the transcript types “enabel”, and the dialogue says “enable”"
    );
    assert!(
        problem("< Once more:", "< And again:").contains("still listens; it heard: And again:")
    );
    assert!(matches!(
        part("< Saved.\n", "").ending,
        Some(Ending::GaveUp(why)) if why.contains("ended the connection")
    ));
    assert_eq!(
        part(
            "< Password changed.\n< ridge-3#\n> save\n< Saved.\n",
            "< % Too short.\n< ridge-3#\n"
        )
        .ending,
        Some(Ending::Refused("% Too short.".into()))
    );
    assert!(
        rehearse(&dialogue, Purpose::Check, "duty", "ridge")
            .problem
            .is_some_and(|why| why.contains("neither < nor >"))
    );
}

proptest! {
    #[test]
    fn no_file_makes_reading_panic(text in "\\PC{0,400}") {
        let _ = inspect(&text);
        let _ = inspect(&small("hidden = true\n", &text.replace(['\'', '"'], "")));
    }

    #[test]
    fn no_bytes_make_it_panic_or_show_a_secret(pieces in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..200), 0..20)) {
        let pieces: Vec<Vec<u8>> = pieces.into_iter().map(|piece| [piece.as_slice(), b" new-tide-2 old-tide-1 Current password: "].concat()).collect();
        let pieces: Vec<&[u8]> = pieces.iter().map(Vec::as_slice).collect();
        let (_, ending, turns) = played(&LINUX_PASSWD, Purpose::Account, &pieces);
        let shown = format!("{ending:?} {turns:?}");
        prop_assert!(!shown.contains("tide"), "{}", shown);
    }

    /// What is heard does not depend on how the bytes come, but for prompts, which need silence.
    #[test]
    fn pieces_of_any_size_lead_to_the_same(cuts in prop::collection::vec(1usize..30, 1..60)) {
        let all: &[u8] = b"Changing password for duty.\r\n\x1b[1mCurrent password: \x1b[0m\r\nNew password: \r\nRetype new password: \r\npasswd: password updated successfully\r\n";
        let mut pieces = vec![];
        let mut rest = all;
        for cut in cuts.iter().cycle() {
            if rest.is_empty() {
                break;
            }
            let (piece, more) = rest.split_at((*cut).min(rest.len()));
            pieces.push(piece);
            rest = more;
        }
        let (typed, ending, _) = played(&LINUX_PASSWD, Purpose::Account, &pieces);
        prop_assert_eq!(typed.len(), 3);
        prop_assert_eq!(ending, Some(Ending::Done));
    }
}

#[test]
fn what_a_device_takes_in_no_password_is_something_that_a_password_could_have() {
    let told = |without: &str| {
        messages(&small(
            "[begin]",
            &format!("[password]\nwithout = \"{without}\"\n[begin]"),
        ))
    };
    assert!(told("? !#\\\\").is_empty());
    for wrong in ["a\\tb", &"x".repeat(301)] {
        let told = told(wrong);
        assert!(told.iter().any(|one| one.contains("`without`")), "{told:?}");
    }
}
