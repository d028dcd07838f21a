//! The fast questions in PostgreSQL against the plain definition in core, on random worlds.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::collections::BTreeSet;
use strum::VariantArray as _;

use jexlin_core::access::preview::{Beside, Moved, narrowings, preview};
use jexlin_core::access::reference::{Credential, Folder, Grant, Only, World};
use jexlin_core::access::{Level, in_force};
use jexlin_core::vault::CredentialSort;
use jexlin_store::{
    CredentialRow, GrantRow, GroupRow, ListQuery, MemberRow, Store, TablePart, Target, Tx,
};
use proptest::prelude::*;
use uuid::Uuid;

use rig::{add_person, at, folder, organisation, world};

/// A recipe for a world: numbers that pick among what is there.
#[derive(Clone, Debug)]
struct Recipe {
    folders: Vec<(Option<prop::sample::Index>, bool)>,
    credentials: Vec<prop::sample::Index>,
    groups: usize,
    members: Vec<(prop::sample::Index, prop::sample::Index)>,
    grants: Vec<(
        prop::sample::Index,
        prop::sample::Index,
        usize,
        Option<i64>,
        usize,
    )>,
    moved: Option<(prop::sample::Index, prop::sample::Index)>,
}

fn recipes() -> impl Strategy<Value = Recipe> {
    let index = any::<prop::sample::Index>;
    (
        prop::collection::vec(
            (
                prop::option::weighted(0.8, index()),
                prop::bool::weighted(0.2),
            ),
            1..9,
        ),
        prop::collection::vec(index(), 0..8),
        0usize..5,
        prop::collection::vec((index(), index()), 0..10),
        prop::collection::vec(
            (
                index(),
                index(),
                0usize..5,
                prop::option::weighted(0.4, -50i64..50),
                0usize..6,
            ),
            0..12,
        ),
        prop::option::of((index(), index())),
    )
        .prop_map(
            |(folders, credentials, groups, members, grants, moved)| Recipe {
                folders,
                credentials,
                groups,
                members,
                grants,
                moved,
            },
        )
}

async fn build(store: &Store, recipe: &Recipe) -> (Uuid, Vec<Uuid>, World) {
    let (org, first) = organisation(store).await;
    let mut tx = store.begin(org).await.unwrap();
    let mut plain = World::default();
    let people = vec![first, Uuid::now_v7(), Uuid::now_v7()];
    for person in &people[1..] {
        add_person(&mut tx, *person).await;
    }
    let mut folders: Vec<Uuid> = vec![];
    for (parent, closed) in &recipe.folders {
        let id = Uuid::now_v7();
        let parent = parent
            .as_ref()
            .filter(|_| !folders.is_empty())
            .map(|index| folders[index.index(folders.len())]);
        tx.add_folder(&folder(org, id, parent, *closed))
            .await
            .unwrap();
        plain.folders.insert(
            id,
            Folder {
                parent,
                closed: *closed,
            },
        );
        folders.push(id);
    }
    let mut places: Vec<(Uuid, bool)> = folders.iter().map(|id| (*id, true)).collect();
    for index in &recipe.credentials {
        let (id, folder_id) = (Uuid::now_v7(), folders[index.index(folders.len())]);
        let (kind, tags) = (
            ["login", "ssh-key"][plain.credentials.len() % 2],
            [vec![], vec!["night".to_owned()]][plain.credentials.len() / 2 % 2].clone(),
        );
        let row = CredentialRow {
            id,
            kind: kind.into(),
            tags: tags.clone(),
            ..rig::credential(org, folder_id, &id.to_string())
        };
        tx.add_credential(&row).await.unwrap();
        plain.credentials.insert(
            id,
            Credential {
                folder: folder_id,
                kind: kind.into(),
                tags,
            },
        );
        places.push((id, false));
    }
    let mut subjects: Vec<(Uuid, bool)> = people.iter().map(|id| (*id, false)).collect();
    let mut groups = vec![];
    for _ in 0..recipe.groups {
        let id = Uuid::now_v7();
        tx.add_group(&GroupRow {
            id,
            organisation: org,
            name: id.to_string(),
            created_at: at(0),
            revision: 1,
        })
        .await
        .unwrap();
        plain.groups.insert(id, BTreeSet::new());
        subjects.push((id, true));
        groups.push(id);
    }
    for (group, member) in recipe.members.iter().filter(|_| !groups.is_empty()) {
        let (group, (member, member_is_group)) = (
            groups[group.index(groups.len())],
            subjects[member.index(subjects.len())],
        );
        tx.add_member(&MemberRow {
            organisation: org,
            group_id: group,
            member,
            member_is_group,
        })
        .await
        .unwrap();
        plain.groups.entry(group).or_default().insert(member);
    }
    for (subject, place, level, ends, narrow) in &recipe.grants {
        let ((subject, is_group), (place, is_folder)) = (
            subjects[subject.index(subjects.len())],
            places[place.index(places.len())],
        );
        if plain
            .grants
            .iter()
            .any(|grant| grant.subject == subject && grant.target == place)
        {
            continue;
        }
        // Half of those on folders are narrowed.
        let only = Only {
            kind: (is_folder && matches!(narrow, 1 | 3)).then(|| "login".to_owned()),
            tag: (is_folder && matches!(narrow, 2 | 3)).then(|| "night".to_owned()),
        };
        let row = GrantRow {
            only_kind: only.kind.clone(),
            only_tag: only.tag.clone(),
            history: true,
            id: Uuid::now_v7(),
            organisation: org,
            folder_id: is_folder.then_some(place),
            credential_id: (!is_folder).then_some(place),
            person_id: (!is_group).then_some(subject),
            group_id: is_group.then_some(subject),
            held: Level::VARIANTS[*level].number(),
            ends_at: ends.map(at),
            note: String::new(),
            created_at: at(0),
            created_by: None,
        };
        tx.add_grant(&row).await.unwrap();
        plain.grants.push(Grant {
            id: row.id,
            subject,
            target: place,
            level: Level::VARIANTS[*level],
            ends_at: row.ends_at,
            only,
        });
    }
    if let Some((which, under)) = &recipe.moved {
        let (which, under) = (
            folders[which.index(folders.len())],
            folders[under.index(folders.len())],
        );
        let rings = tx.would_ring(which, under).await.unwrap();
        assert_eq!(rings, plain.would_ring(which, under), "the ring test");
        if !rings {
            let row = tx.folder(which).await.unwrap();
            tx.edit_folder(&jexlin_store::FolderRow {
                parent_id: Some(under),
                ..row
            })
            .await
            .unwrap();
            plain.folders.get_mut(&which).unwrap().parent = Some(under);
        }
    }
    tx.commit().await.unwrap();
    (org, people, plain)
}

/// The table in each order has what the list has, each row once, and says how many there are.
async fn compare_tables(tx: &mut Tx, person: Uuid, expected: &[(Uuid, Option<Level>)]) {
    for (sort, down) in CredentialSort::VARIANTS
        .iter()
        .flat_map(|sort| [(*sort, false), (*sort, true)])
    {
        let (mut listed, mut names, mut from) = (vec![], vec![], 0);
        loop {
            let query = ListQuery {
                part: Some(TablePart { sort, down, from }),
                limit: 3,
                ..ListQuery::default()
            };
            let part = tx.list_credentials(person, at(0), &query).await.unwrap();
            from += 3;
            if part.is_empty() {
                break;
            }
            for row in part {
                assert_eq!(row.total, i64::try_from(expected.len()).ok());
                names.push(row.name.to_lowercase());
                listed.push((row.id, Level::from_number(row.held)));
            }
        }
        if sort == CredentialSort::Name {
            assert!(
                names.is_sorted_by(|one, other| if down { one >= other } else { one <= other }),
                "{names:?}"
            );
        }
        listed.sort();
        assert_eq!(listed, expected, "the table by {sort:?}, down {down}");
    }
}

/// Those of these credentials that the tables of accounts and jobs would show to somebody.
async fn reached(org: Uuid, person: Uuid, credentials: &[Uuid]) -> Vec<Uuid> {
    let (client, connection) =
        tokio_postgres::connect(&rig::world().1.service, tokio_postgres::NoTls)
            .await
            .unwrap();
    tokio::spawn(connection);
    let (ids, now): (Vec<_>, _) = (
        credentials.iter().map(Uuid::to_string).collect(),
        at(0).to_rfc3339(),
    );
    let ids = ids.join(",");
    let query = format!("SELECT reached_of('{person}', '{now}', '{{{ids}}}')::text");
    client
        .batch_execute(&format!("SET jexlin.organisation = '{org}'"))
        .await
        .unwrap();
    let rows = client.query(&query, &[]).await.unwrap();
    rows.iter()
        .map(|row| row.get::<_, String>(0).parse().unwrap())
        .collect()
}

async fn compare(store: &Store, recipe: &Recipe) {
    let (org, people, plain) = build(store, recipe).await;
    let now = at(0);
    let mut tx = store.begin(org).await.unwrap();
    for person in people {
        for folder in plain.folders.keys() {
            assert_eq!(
                tx.reach_folder(person, *folder, now).await.unwrap().level(),
                plain.level(person, *folder, now),
                "a folder's level"
            );
        }
        for credential in plain.credentials.keys() {
            assert_eq!(
                tx.reach_credential(person, *credential, now)
                    .await
                    .unwrap()
                    .level(),
                plain.level(person, *credential, now),
                "a credential's level"
            );
        }
        let seen: BTreeSet<Uuid> = tx
            .visible_folders(person, now)
            .await
            .unwrap()
            .iter()
            .map(|folder| folder.id)
            .collect();
        assert_eq!(seen, plain.visible_folders(person, now), "the folders seen");
        let mut expected: Vec<_> = plain
            .credentials
            .keys()
            .map(|id| (*id, plain.level(person, *id, now)))
            .filter(|(_, level)| level.is_some())
            .collect();
        expected.sort();
        let all: Vec<Uuid> = plain.credentials.keys().copied().collect();
        let mut shown = reached(org, person, &all).await;
        shown.sort();
        let named: Vec<Uuid> = expected.iter().map(|(id, _)| *id).collect();
        assert_eq!(shown, named, "what is looked for together");
        // Folder by folder, name by name, and with a condition that everything meets.
        let ways = [
            ListQuery {
                many_folders: Some(1000),
                ..ListQuery::default()
            },
            ListQuery {
                many_folders: Some(1),
                ..ListQuery::default()
            },
            ListQuery {
                find: vec!["-".into()],
                ..ListQuery::default()
            },
            ListQuery {
                name: Some("-".into()),
                ..ListQuery::default()
            },
        ];
        for way in ways {
            let mut listed = vec![];
            let mut after = None;
            loop {
                let page = tx
                    .list_credentials(
                        person,
                        now,
                        &ListQuery {
                            after,
                            limit: 3,
                            ..way.clone()
                        },
                    )
                    .await
                    .unwrap();
                let Some(last) = page.last() else { break };
                after = Some((last.name.clone(), last.id));
                listed.extend(
                    page.iter()
                        .map(|row| (row.id, Level::from_number(row.held))),
                );
            }
            listed.sort();
            assert_eq!(listed, expected, "the list over all pages: {way:?}");
        }
        compare_tables(&mut tx, person, &expected).await;
        if let Some(id) = plain.credentials.keys().next() {
            let spot = tx.spot(Target::Credential(*id)).await.unwrap();
            assert_eq!(
                spot.around(person).level(person, *id, now),
                plain.level(person, *id, now),
                "the part of the world that explains"
            );
            let reached = spot
                .reached_by(now)
                .into_iter()
                .find(|(reached, _)| *reached == person)
                .map(|(_, level)| level);
            assert_eq!(
                reached,
                plain.level(person, *id, now),
                "everybody who has access"
            );
        }
    }
    assert!(
        plain
            .grants
            .iter()
            .all(|grant| grant.ends_at.is_none() || in_force(grant.ends_at, at(-60)))
    );
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]
    #[test]
    fn postgresql_and_the_plain_definition_agree(recipe in recipes()) {
        let (_, database) = world();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let store = Store::open(&database.service, 2).unwrap();
            compare(&store, &recipe).await;
        });
    }
}

/// A change to preview, with numbers that pick among what is there.
#[derive(Clone, Debug)]
struct Turn {
    sort: usize,
    one: prop::sample::Index,
    other: prop::sample::Index,
    level: usize,
    /// Credentials that get a gate, and folders.
    gates: Vec<prop::sample::Index>,
}

fn turns() -> impl Strategy<Value = Turn> {
    let index = any::<prop::sample::Index>;
    (
        0usize..6,
        index(),
        index(),
        0usize..5,
        prop::collection::vec(index(), 0..3),
    )
        .prop_map(|(sort, one, other, level, gates)| Turn {
            sort,
            one,
            other,
            level,
            gates,
        })
}

/// Makes the change in the database and in the plain world; what it moves.
async fn turn(
    tx: &mut jexlin_store::Tx,
    plain: &mut World,
    people: &[Uuid],
    turn: &Turn,
) -> Option<Vec<Uuid>> {
    let now = at(0);
    let folders: Vec<Uuid> = plain.folders.keys().copied().collect();
    let groups: Vec<Uuid> = plain.groups.keys().copied().collect();
    let credentials: Vec<Uuid> = plain.credentials.keys().copied().collect();
    let folder = folders[turn.one.index(folders.len())];
    let subjects: Vec<Uuid> = people.iter().chain(&groups).copied().collect();
    let subject = subjects[turn.other.index(subjects.len())];
    match turn.sort {
        0 => {
            if plain
                .grants
                .iter()
                .any(|grant| grant.subject == subject && grant.target == folder)
            {
                return None;
            }
            let is_group = plain.groups.contains_key(&subject);
            let row = GrantRow {
                id: Uuid::now_v7(),
                organisation: tx.organisation(),
                folder_id: Some(folder),
                credential_id: None,
                person_id: (!is_group).then_some(subject),
                group_id: is_group.then_some(subject),
                held: Level::VARIANTS[turn.level].number(),
                ends_at: None,
                note: String::new(),
                created_at: now,
                created_by: None,
                only_kind: (turn.level == 2).then(|| "login".into()),
                only_tag: None,
                history: true,
            };
            tx.add_grant(&row).await.unwrap();
            plain.grants.push(row.to_plain().unwrap());
        }
        1 => {
            let which = turn.one.index(plain.grants.len().max(1));
            if plain.grants.is_empty() {
                return None;
            }
            let grant = plain.grants.remove(which);
            tx.remove_grant(grant.id).await.unwrap();
        }
        2 => {
            let group = *groups.get(turn.one.index(groups.len().max(1)))?;
            if plain.groups[&group].contains(&subject) {
                return None;
            }
            let row = MemberRow {
                organisation: tx.organisation(),
                group_id: group,
                member: subject,
                member_is_group: groups.contains(&subject),
            };
            tx.add_member(&row).await.unwrap();
            plain.groups.get_mut(&group).unwrap().insert(subject);
        }
        3 => {
            let group = *groups.get(turn.one.index(groups.len().max(1)))?;
            if !plain.groups.get_mut(&group).unwrap().remove(&subject) {
                return None;
            }
            tx.remove_member(group, subject).await.unwrap();
        }
        4 => {
            let under = folders[turn.other.index(folders.len())];
            let row = tx.folder(folder).await.unwrap();
            let closed = turn.level.is_multiple_of(2);
            let parent = if plain.would_ring(folder, under) {
                row.parent_id
            } else {
                Some(under)
            };
            tx.edit_folder(&jexlin_store::FolderRow {
                parent_id: parent,
                closed,
                ..row
            })
            .await
            .unwrap();
            *plain.folders.get_mut(&folder).unwrap() = Folder { parent, closed };
        }
        _ => {
            let moved: Vec<Uuid> = credentials.iter().take(2).copied().collect();
            tx.place_credentials(&moved, folder).await.unwrap();
            for id in moved {
                plain.credentials.get_mut(&id).unwrap().folder = folder;
            }
        }
    }
    Some(if turn.sort > 4 {
        credentials.into_iter().take(2).collect()
    } else {
        vec![]
    })
}

async fn previews(store: &Store, recipe: &Recipe, change: &Turn) {
    let (org, people, mut plain) = build(store, recipe).await;
    let mut tx = store.begin(org).await.unwrap();
    // A gate stands before what is in its folder and below it, and before one credential.
    let places: Vec<Uuid> = plain
        .folders
        .keys()
        .chain(plain.credentials.keys())
        .copied()
        .collect();
    let mut gates = BTreeSet::new();
    for gate in &change.gates {
        let place = places[gate.index(places.len())];
        if gates.insert(place) {
            tx.add_gate(
                &rig::gate(org, plain.folders.contains_key(&place), place),
                &[],
            )
            .await
            .unwrap();
        }
    }
    let old = plain.clone();
    let before = tx.access_index().await.unwrap();
    let all: Vec<Uuid> = plain.credentials.keys().copied().collect();
    let was = tx.single_entries(Some(&all)).await.unwrap();
    let Some(moving) = turn(&mut tx, &mut plain, &people, change).await else {
        return;
    };
    let after = tx.access_index_after(&before).await.unwrap();
    let mut beside = Beside::default();
    for entry in tx.single_entries(Some(&moving)).await.unwrap() {
        let from = was
            .iter()
            .find(|was| was.id == entry.id)
            .unwrap()
            .credential
            .folder;
        beside.moved.push(Moved {
            id: entry.id,
            from,
            credential: entry.credential,
            gate: entry.gate,
        });
    }
    if let Some(found) = narrowings(&before, &after, &beside.moved, at(0)) {
        let apart: BTreeSet<Uuid> = before
            .singles()
            .chain(after.singles())
            .chain(moving)
            .collect();
        beside.cells = tx
            .cells(&found, &apart.into_iter().collect::<Vec<_>>())
            .await
            .unwrap();
        beside.onlys = found.onlys;
    }
    let gated = |world: &World, credential: &Uuid| {
        let mut next = world
            .credentials
            .get(credential)
            .map(|credential| credential.folder);
        let mut found = gates.contains(credential);
        while let Some(folder) = next {
            found |= gates.contains(&folder);
            next = world.folders[&folder].parent;
        }
        u64::from(found)
    };
    let mut expected: std::collections::BTreeMap<_, (u64, u64, u64)> =
        std::collections::BTreeMap::new();
    for person in &people {
        for folder in plain.folders.keys() {
            let levels = (
                old.level(*person, *folder, at(0)),
                plain.level(*person, *folder, at(0)),
            );
            if levels.0 != levels.1 {
                expected.entry((*person, levels.0, levels.1)).or_default().2 += 1;
            }
        }
        for credential in plain.credentials.keys() {
            let levels = (
                old.level(*person, *credential, at(0)),
                plain.level(*person, *credential, at(0)),
            );
            if levels.0 != levels.1 {
                let sum = expected.entry((*person, levels.0, levels.1)).or_default();
                sum.0 += 1;
                sum.1 += gated(&plain, credential);
            }
        }
    }
    let told: std::collections::BTreeMap<_, _> = preview(&before, &after, &beside, at(0))
        .into_iter()
        .map(|shift| {
            (
                (shift.person, shift.before, shift.after),
                (shift.credentials, shift.gated, shift.folders),
            )
        })
        .collect();
    assert_eq!(told, expected, "{change:?}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]
    #[test]
    fn a_preview_is_what_the_plain_definition_says_before_and_after(recipe in recipes(), change in turns()) {
        let (_, database) = world();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let store = Store::open(&database.service, 2).unwrap();
            previews(&store, &recipe, &change).await;
        });
    }
}

/// What is to be done with the credentials of some folders: which sort of thing, with which, where.
fn comings() -> impl Strategy<Value = Vec<(u8, prop::sample::Index, prop::sample::Index)>> {
    prop::collection::vec(
        (
            0_u8..4,
            any::<prop::sample::Index>(),
            any::<prop::sample::Index>(),
        ),
        1..40,
    )
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 20, ..ProptestConfig::default() })]
    #[test]
    fn the_counts_of_credentials_in_folders_are_right(comings in comings()) {
        let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let store = Store::open(&rig::world().1.service, 2).unwrap();
            let (org, person) = rig::organisation(&store).await;
            let folders: Vec<Uuid> = (0..3).map(|_| Uuid::now_v7()).collect();
            let mut tx = store.begin(org).await.unwrap();
            for folder in &folders {
                tx.add_folder(&rig::folder(org, *folder, None, false)).await.unwrap();
            }
            tx.commit().await.unwrap();
            let mut there: Vec<(Uuid, usize)> = vec![];
            for (number, (sort, which, to)) in comings.iter().enumerate() {
                let mut tx = store.begin(org).await.unwrap();
                let to = to.index(folders.len());
                match sort {
                    0 | 1 => {
                        let row = rig::credential(org, folders[to], &format!("thing {number}"));
                        there.push((row.id, to));
                        tx.add_credentials(&[row]).await.unwrap();
                    }
                    2 if !there.is_empty() => {
                        let which = which.index(there.len());
                        tx.place_credentials(&[there[which].0], folders[to]).await.unwrap();
                        there[which].1 = to;
                    }
                    _ => {
                        // A whole folder goes to the bin and comes back.
                        let removal = rig::removal(org, folders[to], person);
                        tx.add_removal(&removal).await.unwrap();
                        tx.remove_folder_tree(&removal).await.unwrap();
                        tx.commit().await.unwrap();
                        tx = store.begin(org).await.unwrap();
                        tx.restore_removal(&removal, at(1)).await.unwrap();
                        tx.sum_credential_counts().await.unwrap();
                    }
                }
                tx.commit().await.unwrap();
            }
            let mut tx = store.begin(org).await.unwrap();
            let index = tx.access_index().await.unwrap();
            for (number, folder) in folders.iter().enumerate() {
                let lies = there.iter().filter(|(_, index)| *index == number).count();
                assert_eq!(index.credentials_in(*folder), u64::try_from(lies).unwrap());
            }
        });
    }
}

/// Which of three transactions does what next: which, what, and with which of what is there.
fn doings() -> impl Strategy<Value = Vec<(usize, usize, Turn)>> {
    prop::collection::vec((0_usize..3, 0_usize..5, turns()), 1..12)
}

/// All that an index says of these people and credentials.
async fn said(
    tx: &mut jexlin_store::Tx,
    people: &[Uuid],
    plain: &World,
) -> Vec<(Uuid, Uuid, Option<Level>, u64, String)> {
    let mut all = vec![];
    for credential in plain.credentials.keys() {
        for person in people {
            let spot = tx.spot(Target::Credential(*credential)).await.unwrap();
            let (world, count) = (
                spot.around(*person),
                spot.index
                    .credentials_in(spot.credential.as_ref().unwrap().folder),
            );
            all.push((
                *person,
                *credential,
                world.level(*person, *credential, at(0)),
                count,
                spot.place,
            ));
        }
    }
    all
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 30, ..ProptestConfig::default() })]
    #[test]
    fn the_access_index_is_up_to_date_whoever_commits(recipe in recipes(), doings in doings()) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let store = Store::open(&rig::world().1.service, 6).unwrap();
            let (org, people, mut plain) = build(&store, &recipe).await;
            let mut open: Vec<Option<jexlin_store::Tx>> = vec![None, None, None];
            for (which, what, change) in &doings {
                let mut tx = match open[*which].take() {
                    Some(tx) => tx,
                    None => store.begin(org).await.unwrap(),
                };
                match what {
                    // A change waits for whoever changes the same: one that has changed something
                    // commits first.
                    0 | 1 => {
                        for other in &mut open {
                            if let Some(other) = other.take() {
                                other.commit().await.unwrap();
                            }
                        }
                        if *what == 0 {
                            let _ = turn(&mut tx, &mut plain, &people, change).await;
                            open[*which] = Some(tx);
                        } else {
                            // As a preview does: it sees its own change, and nobody else ever does.
                            tx.commit().await.unwrap();
                            let mut tx = store.begin(org).await.unwrap();
                            let _ = turn(&mut tx, &mut plain.clone(), &people, change).await;
                            tx.access_index().await.unwrap();
                        }
                    }
                    2 => tx.commit().await.unwrap(),
                    3 => {
                        tx.sum_credential_counts().await.unwrap();
                        tx.commit().await.unwrap();
                    }
                    _ => {
                        tx.access_index().await.unwrap();
                        open[*which] = Some(tx);
                    }
                }
            }
            for tx in open.into_iter().flatten() {
                tx.commit().await.unwrap();
            }
            let mut tx = store.begin(org).await.unwrap();
            let kept = said(&mut tx, &people, &plain).await;
            // Another service, which has kept nothing.
            let anew = Store::open(&rig::world().1.service, 2).unwrap();
            let mut tx = anew.begin(org).await.unwrap();
            let made = said(&mut tx, &people, &plain).await;
            assert_eq!(kept, made);
            for (person, credential, level, ..) in made {
                assert_eq!(plain.level(person, credential, at(0)), level);
            }
        });
    }
}
