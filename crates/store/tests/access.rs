//! The fast questions in PostgreSQL against the plain definition in core, on random worlds.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::indexing_slicing, reason = "what cannot be set up ends the test")]

mod rig;

use std::collections::BTreeSet;

use jexlin_core::access::plain::{Folder, Grant, World};
use jexlin_core::access::{Level, in_force};
use jexlin_store::{CredentialRow, GrantRow, GroupRow, ListQuery, MemberRow, Store};
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
    grants: Vec<(prop::sample::Index, prop::sample::Index, usize, Option<i64>)>,
    moved: Option<(prop::sample::Index, prop::sample::Index)>,
}

fn recipes() -> impl Strategy<Value = Recipe> {
    let index = any::<prop::sample::Index>;
    (
        prop::collection::vec((prop::option::weighted(0.8, index()), prop::bool::weighted(0.2)), 1..9),
        prop::collection::vec(index(), 0..8),
        0usize..5,
        prop::collection::vec((index(), index()), 0..10),
        prop::collection::vec((index(), index(), 0usize..5, prop::option::weighted(0.4, -50i64..50)), 0..12),
        prop::option::of((index(), index())),
    )
        .prop_map(|(folders, credentials, groups, members, grants, moved)| Recipe { folders, credentials, groups, members, grants, moved })
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
        let parent = parent.as_ref().filter(|_| !folders.is_empty()).map(|index| folders[index.index(folders.len())]);
        tx.add_folder(&folder(org, id, parent, *closed)).await.unwrap();
        plain.folders.insert(id, Folder { parent, closed: *closed });
        folders.push(id);
    }
    let mut places: Vec<(Uuid, bool)> = folders.iter().map(|id| (*id, true)).collect();
    for index in &recipe.credentials {
        let (id, folder_id) = (Uuid::now_v7(), folders[index.index(folders.len())]);
        let row = CredentialRow { id, ..rig::credential(org, folder_id, &id.to_string()) };
        tx.add_credential(&row).await.unwrap();
        plain.credentials.insert(id, folder_id);
        places.push((id, false));
    }
    let mut subjects: Vec<(Uuid, bool)> = people.iter().map(|id| (*id, false)).collect();
    let mut groups = vec![];
    for _ in 0..recipe.groups {
        let id = Uuid::now_v7();
        tx.add_group(&GroupRow { id, organisation: org, name: id.to_string(), created_at: at(0), version: 1 }).await.unwrap();
        plain.groups.insert(id, BTreeSet::new());
        subjects.push((id, true));
        groups.push(id);
    }
    for (group, member) in recipe.members.iter().filter(|_| !groups.is_empty()) {
        let (group, (member, member_is_group)) = (groups[group.index(groups.len())], subjects[member.index(subjects.len())]);
        tx.add_member(&MemberRow { organisation: org, group_id: group, member, member_is_group }).await.unwrap();
        plain.groups.entry(group).or_default().insert(member);
    }
    for (subject, place, level, ends) in &recipe.grants {
        let ((subject, is_group), (place, is_folder)) = (subjects[subject.index(subjects.len())], places[place.index(places.len())]);
        if plain.grants.iter().any(|grant| grant.subject == subject && grant.target == place) {
            continue;
        }
        let row = GrantRow {
            id: Uuid::now_v7(),
            organisation: org,
            folder_id: is_folder.then_some(place),
            credential_id: (!is_folder).then_some(place),
            person_id: (!is_group).then_some(subject),
            group_id: is_group.then_some(subject),
            held: Level::ALL[*level].number(),
            ends_at: ends.map(at),
            note: String::new(),
            created_at: at(0),
            created_by: None,
        };
        tx.add_grant(&row).await.unwrap();
        plain.grants.push(Grant { id: row.id, subject, target: place, level: Level::ALL[*level], ends_at: row.ends_at });
    }
    if let Some((which, under)) = &recipe.moved {
        let (which, under) = (folders[which.index(folders.len())], folders[under.index(folders.len())]);
        let rings = tx.would_ring(which, under).await.unwrap();
        assert_eq!(rings, plain.would_ring(which, under), "the ring test");
        if !rings {
            let row = tx.folder(which).await.unwrap();
            tx.change_folder(&jexlin_store::FolderRow { parent_id: Some(under), ..row }).await.unwrap();
            plain.folders.get_mut(&which).unwrap().parent = Some(under);
        }
    }
    tx.commit().await.unwrap();
    (org, people, plain)
}

async fn compare(store: &Store, recipe: &Recipe) {
    let (org, people, plain) = build(store, recipe).await;
    let now = at(0);
    let mut tx = store.begin(org).await.unwrap();
    for person in people {
        for folder in plain.folders.keys() {
            assert_eq!(tx.reach_folder(person, *folder, now).await.unwrap().level, plain.level(person, *folder, now), "a folder's level");
        }
        for credential in plain.credentials.keys() {
            assert_eq!(tx.reach_credential(person, *credential, now).await.unwrap().level, plain.level(person, *credential, now), "a credential's level");
        }
        let seen: BTreeSet<Uuid> = tx.visible_folders(person, now).await.unwrap().iter().map(|folder| folder.id).collect();
        assert_eq!(seen, plain.visible_folders(person, now), "the folders seen");
        let mut expected: Vec<_> = plain.credentials.keys().map(|id| (*id, plain.level(person, *id, now))).filter(|(_, level)| level.is_some()).collect();
        expected.sort();
        // Folder by folder, name by name, and with a condition that everything meets.
        let ways = [
            ListQuery { many_folders: Some(1000), ..ListQuery::default() },
            ListQuery { many_folders: Some(1), ..ListQuery::default() },
            ListQuery { kind: Some("login".into()), ..ListQuery::default() },
        ];
        for way in ways {
            let mut listed = vec![];
            let mut after = None;
            loop {
                let page = tx.list_credentials(person, now, &ListQuery { after, most: 3, ..way.clone() }).await.unwrap();
                let Some(last) = page.last() else { break };
                after = Some((last.name.clone(), last.id));
                listed.extend(page.iter().map(|row| (row.id, Level::from_number(row.held))));
            }
            listed.sort();
            assert_eq!(listed, expected, "the list over all pages: {way:?}");
        }
        let part = match plain.credentials.keys().next() {
            Some(id) => Some((*id, tx.world_around(person, jexlin_store::Target::Credential(*id)).await.unwrap())),
            None => None,
        };
        if let Some((id, part)) = part {
            assert_eq!(part.world.level(person, id, now), plain.level(person, id, now), "the part of the world that explains");
        }
    }
    assert!(plain.grants.iter().all(|grant| grant.ends_at.is_none() || in_force(grant.ends_at, at(-60))));
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
