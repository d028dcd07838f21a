use super::*;
use crate::people::PersonState;
use crate::policy::RuleMode;
use proptest::prelude::*;
use strum::VariantArray as _;

fn name() -> impl Strategy<Value = String> {
    prop_oneof!["[a-z]{1,3}", "[a-z\"#=\\[\\]'ä .]{0,4}[a-z\"ß]"]
}

fn who() -> impl Strategy<Value = Who> {
    (0..3, name()).prop_map(|(kind, name)| {
        let name = name.trim().to_owned();
        match kind {
            0 => Who::Person(name),
            1 => Who::Client(name),
            _ => Who::Group(name),
        }
    })
}

fn terms() -> impl Strategy<Value = Terms> {
    (
        0..5_usize,
        proptest::option::of(1_800_000_000_i64..1_900_000_000),
        "[a-z\n\t\"\\\\ä]{0,5}",
        any::<bool>(),
    )
        .prop_map(|(level, until, note, history)| Terms {
            level: Level::VARIANTS[level],
            until: until.and_then(|time| DateTime::from_timestamp(time, 0)),
            note: note.trim().to_owned(),
            history,
        })
}

fn entry(folder: bool) -> impl Strategy<Value = Entry> {
    let key = (
        who(),
        proptest::option::of("[a-z]{1,3}"),
        proptest::option::of("[a-z]{1,3}"),
    )
        .prop_map(move |(to, kind, tag)| GrantKey {
            to,
            kind: kind.filter(|_| folder),
            tag: tag.filter(|_| folder),
        });
    let gate = (
        any::<bool>(),
        proptest::collection::btree_set(who(), 0..3),
        1..500_i32,
        any::<bool>(),
        any::<bool>(),
    )
        .prop_map(
            |(reason, approvers, minutes, one_holder, rotate)| GateTerms {
                reason,
                approvers,
                minutes,
                one_holder,
                rotate,
            },
        );
    let demand = proptest::collection::vec(name(), 1..3).prop_map(|policies| Demand {
        mode: RuleMode::Choose,
        policies,
    });
    (
        proptest::option::of(any::<u128>()),
        any::<bool>(),
        proptest::collection::btree_map(key, terms(), 0..4),
        proptest::option::of(gate),
        proptest::option::of(demand),
    )
        .prop_map(move |(id, closed, grants, gate, passwords)| Entry {
            id: id.map(Uuid::from_u128),
            closed: closed && folder,
            grants,
            gate,
            passwords: passwords.filter(|_| folder),
        })
}

fn path() -> impl Strategy<Value = String> {
    proptest::collection::vec("[a-c\"ä]{1,2}", 1..4)
        .prop_map(|names| names.iter().map(|name| format!("/{name}")).collect())
}

fn document() -> impl Strategy<Value = Document> {
    let policies = proptest::collection::btree_map(
        name(),
        (14..40_u16).prop_map(|length| PasswordPolicy {
            length,
            ..PasswordPolicy::default()
        }),
        0..3,
    );
    let groups =
        proptest::collection::btree_map(name(), proptest::collection::btree_set(who(), 0..4), 0..4);
    let folders = proptest::collection::btree_map(path(), entry(true), 0..5);
    let credentials = proptest::collection::btree_map(path(), entry(false), 0..3);
    (policies, groups, folders, credentials).prop_map(|(policies, groups, folders, credentials)| {
        Document {
            policies,
            groups,
            folders,
            credentials,
        }
    })
}

/// Does to a document what the changes say, as the store does it to the world.
fn done(now: &Document, wanted: &Document, changes: &[Change]) -> Document {
    let mut world = now.clone();
    for change in changes {
        let place = |world: &mut Document, spot: &Spot, act: &dyn Fn(&mut Entry, &Entry)| {
            let from = compare::entry(wanted, spot).unwrap().clone();
            let table = if matches!(spot, Spot::Folder(_)) {
                &mut world.folders
            } else {
                &mut world.credentials
            };
            act(table.entry(spot.name().to_owned()).or_default(), &from);
        };
        let spot = change.spot();
        match change {
            Change::AddPolicy(name) | Change::ChangePolicy(name) => {
                world
                    .policies
                    .insert(name.clone(), wanted.policies[name].clone());
            }
            Change::AddGroup(name) => {
                assert!(world.groups.insert(name.clone(), BTreeSet::new()).is_none())
            }
            Change::Join(name, who) => {
                assert!(world.groups.get_mut(name).unwrap().insert(who.clone()))
            }
            Change::Leave(name, who) => assert!(world.groups.get_mut(name).unwrap().remove(who)),
            Change::AddFolder(path) => assert!(
                world
                    .folders
                    .insert(path.clone(), Entry::default())
                    .is_none()
            ),
            Change::Close(_, closed) => {
                place(&mut world, &spot, &|entry, _| entry.closed = *closed)
            }
            Change::Grant(_, key) => place(&mut world, &spot, &|entry, from| {
                assert!(
                    entry
                        .grants
                        .insert(key.clone(), from.grants[key].clone())
                        .is_none()
                )
            }),
            Change::Alter(_, key) => place(&mut world, &spot, &|entry, from| {
                assert!(
                    entry
                        .grants
                        .insert(key.clone(), from.grants[key].clone())
                        .is_some()
                )
            }),
            Change::Withdraw(_, key) => place(&mut world, &spot, &|entry, _| {
                assert!(entry.grants.remove(key).is_some())
            }),
            Change::SetGate(_) => place(&mut world, &spot, &|entry, from| {
                entry.gate = Some(from.gate.clone().unwrap())
            }),
            Change::RemoveGate(_) => place(&mut world, &spot, &|entry, _| {
                assert!(entry.gate.take().is_some())
            }),
            Change::SetDemand(_) => place(&mut world, &spot, &|entry, from| {
                entry.passwords = Some(from.passwords.clone().unwrap())
            }),
            Change::RemoveDemand(_) => place(&mut world, &spot, &|entry, _| {
                assert!(entry.passwords.take().is_some())
            }),
        }
    }
    world
}

proptest! {
    #[test]
    fn what_is_written_is_read_as_the_same(document in document()) {
        let text = write(&document);
        let (read, lines) = read(&text).unwrap_or_else(|wrong| panic!("{wrong:?}\n{text}"));
        prop_assert_eq!(&read, &document);
        // Each thing is at the line that the reading says.
        for path in document.folders.keys() {
            let line = lines.of(&Spot::Folder(path.clone())).unwrap();
            prop_assert_eq!(text.lines().nth(line - 1).unwrap(), format!("[folder.{}]", quoted(path)));
        }
    }

    #[test]
    fn doing_the_changes_makes_it_so_and_then_there_is_nothing_to_do(now in document(), wanted in document()) {
        let world = done(&now, &wanted, &compare(&now, &wanted));
        prop_assert_eq!(compare(&world, &wanted), vec![]);
        // What the file does not name is as it was.
        for (path, entry) in &now.folders {
            if !wanted.folders.contains_key(path) {
                prop_assert_eq!(world.folders.get(path), Some(entry));
            }
        }
        prop_assert_eq!(compare(&now, &now), vec![]);
    }

    #[test]
    fn any_text_is_read_or_refused_and_nothing_worse(text in "\\PC{0,200}", cut in 0..2000_usize, document in document()) {
        let _ = read(&text);
        let whole = write(&document);
        let _ = read(&whole.chars().take(cut).collect::<String>());
    }
}

const SMALL: &str = r#"format = 1

[group."Duty"]
members = ["person marek", "group Leads"]

[folder."/Pumping"]
id = "00000000-0000-0000-0000-000000000001"
grants = [
  { to = "person marek", level = "steward" },
  { to = "group Duty", level = "use", until = 2027-01-31T18:00:00Z },
]
gate = { minutes = 60, reason = true }

[folder."/Pumping/Ridge"]
closed = true
grants = [{ to = "group Leads", level = "steward" }]
"#;

fn known() -> Known {
    Known {
        people: [
            ("marek", PersonState::Active),
            ("olena", PersonState::Suspended),
            ("pim", PersonState::Left),
        ]
        .map(|(name, state)| (name.to_owned(), state))
        .into(),
        groups: [("Leads".to_owned(), BTreeSet::new())].into(),
        folders: [
            (Uuid::from_u128(1), ("/Pumping".to_owned(), true)),
            (Uuid::from_u128(2), ("/Office".to_owned(), false)),
        ]
        .into(),
        kinds: ["login".to_owned()].into(),
        changes_groups: true,
        changes_policies: true,
        adds_at_top: true,
        ..Known::default()
    }
}

fn now() -> Document {
    Document {
        folders: [(
            "/Pumping".to_owned(),
            Entry {
                id: Some(Uuid::from_u128(1)),
                ..Entry::default()
            },
        )]
        .into(),
        ..Document::default()
    }
}

fn said(known: &Known, text: &str) -> Vec<String> {
    let (wanted, lines) = match read(text) {
        Ok(read) => read,
        Err(wrong) => {
            return wrong
                .into_iter()
                .map(|problem| format!("{}: {}", problem.line.unwrap_or(0), problem.text))
                .collect();
        }
    };
    let index = "2026-11-23T12:00:00Z".parse().unwrap();
    problems(known, &now(), &wanted, &lines, index)
        .into_iter()
        .map(|problem| format!("{}: {}", problem.line.unwrap_or(0), problem.text))
        .collect()
}

#[test]
fn a_good_file_has_no_problems_and_its_changes_have_words_and_lines() {
    assert_eq!(said(&known(), SMALL), Vec::<String>::new());
    let (wanted, lines) = read(SMALL).unwrap();
    let changes = compare(&now(), &wanted);
    let words: Vec<String> = changes
        .iter()
        .map(|change| {
            format!(
                "{} {}: {}",
                change.line(&lines).unwrap(),
                change.spot().name(),
                change.words(&now(), &wanted)
            )
        })
        .collect();
    assert_eq!(
        words,
        [
            "3 Duty: a new group",
            "3 Duty: add person marek",
            "3 Duty: add group Leads",
            "14 /Pumping/Ridge: a new folder",
            "9 /Pumping: person marek gets `steward`",
            "10 /Pumping: group Duty gets `use` until 2027-01-31 18:00 UTC",
            "16 /Pumping/Ridge: group Leads gets `steward`",
            "14 /Pumping/Ridge: stop inheriting grants",
            "6 /Pumping: a gate",
        ]
    );
}

#[test]
fn each_error_is_named_with_its_line() {
    for (from, to, says) in [
        (
            "members = [\"person marek\"",
            "memebrs = [\"person marek\"",
            "4: unknown field `memebrs`",
        ),
        (
            "level = \"steward\" },\n  {",
            "level = \"owner\" },\n  {",
            "9: `owner` is not a level",
        ),
        (
            "to = \"person marek\"",
            "to = \"marek\"",
            "9: \"marek\" is none of",
        ),
        (
            "to = \"person marek\"",
            "to = \"person ghost\"",
            "9: no person has the sign-in name \"ghost\"",
        ),
        (
            "to = \"person marek\"",
            "to = \"client marek\"",
            "9: there is no client \"marek\"",
        ),
        (
            "to = \"person marek\"",
            "to = \"person pim\"",
            "9: pim has left",
        ),
        (
            "to = \"person marek\"",
            "to = \"person olena\"",
            "9: olena is suspended",
        ),
        (
            "to = \"group Duty\"",
            "to = \"group Night\"",
            "10: there is no group \"Night\"",
        ),
        (
            "2027-01-31T18:00:00Z",
            "2026-01-31T18:00:00Z",
            "10: the grant to group Duty would already have expired",
        ),
        (
            "2027-01-31T18:00:00Z",
            "2027-01-31",
            "10: 2027-01-31 is not a time",
        ),
        (
            "level = \"use\"",
            "level = \"use\", kind = \"spoon\"",
            "10: there is no kind \"spoon\"",
        ),
        (
            "group Duty\", level = \"use\", until = 2027-01-31T18:00:00Z",
            "person marek\", level = \"use\"",
            "10: person marek already has a grant here, at line 9",
        ),
        ("minutes = 60", "minutes = 0", "12: the maximum duration"),
        ("minutes = 60", "minutes = \"an hour\"", "12: invalid type"),
        (
            "[folder.\"/Pumping/Ridge\"]",
            "[folder.\"/Pumping/../Ridge\"]",
            "14: ",
        ),
        (
            "[folder.\"/Pumping/Ridge\"]",
            "[folder.\"Ridge\"]",
            "14: \"Ridge\" is not a path",
        ),
        (
            "[folder.\"/Pumping/Ridge\"]",
            "[folder.\"/Nowhere/Ridge\"]",
            "14: there is no folder /Nowhere",
        ),
        (
            "[folder.\"/Pumping/Ridge\"]",
            "[folder.\"/Office\"]",
            "14: you are not a steward of this folder",
        ),
        (
            "group Leads\", level = \"steward\"",
            "group Leads\", level = \"edit\"",
            "14: the new folder",
        ),
        (
            "[folder.\"/Pumping\"]",
            "[folder.\"/Pumps\"]",
            "6: this folder is now /Pumping",
        ),
        (
            "000000000001",
            "000000000009",
            "6: the folder with this identifier is gone",
        ),
        (
            "\"group Leads\"]",
            "\"group Duty\"]",
            "3: a group cannot be a member of itself",
        ),
        ("format = 1", "format = 2", "1: this is format 2"),
    ] {
        let text = SMALL.replacen(from, to, 1);
        assert_ne!(text, SMALL, "{from}");
        let found = said(&known(), &text);
        assert!(
            found.iter().any(|problem| problem.starts_with(says)),
            "{to}: {found:?}"
        );
    }
    let ring = Known {
        groups: [(
            "Leads".to_owned(),
            BTreeSet::from([Who::Group("Duty".to_owned())]),
        )]
        .into(),
        ..known()
    };
    assert!(
        said(&ring, SMALL)[0].contains("would be a member of itself, through Leads"),
        "{:?}",
        said(&ring, SMALL)
    );
    let weaker = Known {
        changes_groups: false,
        ..known()
    };
    assert!(said(&weaker, SMALL)[0].contains("duty `people`"));
}
