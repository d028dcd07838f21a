//! The audit log: events in the action's own transaction, and the sealer that gives them their
//! places in the tree.
//!
//! Sequence numbers are given out before commit, so a lower one can become visible later. The
//! sealer therefore seals what is visible, in the order of the numbers, remembers the gaps, and
//! looks into them again; the order of the leaves is the order of the log. What it remembers is
//! a cache: a sealer that starts afresh, or finds that another service has sealed meanwhile, looks
//! through the whole log once.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::audit::Outcome;
use jexlin_core::audit::TargetType;
use jexlin_core::audit::{Event, Frontier, Hash, Signer};
use jexlin_core::vault::EventKey;
use jexlin_core::words::Word as _;
use uuid::Uuid;

use crate::credential_lists::literal;
use crate::schema::{audit_checkpoint, audit_event, audit_frontier, audit_leaf};
use crate::{Result, StoreError, Tx};

/// An event with its place in the tree.
#[derive(Clone, Debug)]
pub struct EventRow {
    /// Its number in the order of insertion.
    pub seq: i64,
    /// Its place in the tree, once sealed.
    pub leaf: Option<i64>,
    /// The event.
    pub event: Event,
}

/// Which events to list.
#[derive(Clone, Debug, Default)]
#[allow(missing_docs, reason = "each narrows by what its name says")]
pub struct EventFilter {
    pub action: Option<String>,
    pub actor: Option<Uuid>,
    pub target: Option<Uuid>,
    pub outcome: Option<Outcome>,
    pub since: Option<DateTime<Utc>>,
    pub until: Option<DateTime<Utc>>,
    /// Words found in the names of actor and target.
    pub find: Option<String>,
    /// Words found in the name of the actor.
    pub actor_name: Option<String>,
    /// Words found in the name of the target.
    pub target_name: Option<String>,
    /// Part of the address that it came from.
    pub origin: Option<String>,
    /// The oldest first.
    pub oldest: bool,
    /// Only events that come after the one of this number, in the order that is asked for.
    pub after: Option<i64>,
    pub limit: i64,
}

/// One stretch of an export.
#[derive(Clone, Debug)]
pub struct ExportChunk {
    /// Place, leaf hash, and the event if its row is there.
    pub leaves: Vec<(i64, Vec<u8>, Option<Event>)>,
}

/// What one round of sealing did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SealOutcome {
    /// How many events got a place.
    pub sealed: usize,
    /// Events whose MAC is wrong: somebody put them in past the service. They get no place.
    pub strays: Vec<Uuid>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = audit_event)]
pub(crate) struct Raw {
    pub(crate) seq: i64,
    id: Uuid,
    organisation: Uuid,
    at: DateTime<Utc>,
    action: String,
    actor: Option<Uuid>,
    actor_name: String,
    target: Option<Uuid>,
    target_type: String,
    target_name: String,
    origin: String,
    outcome: String,
    detail: serde_json::Value,
    mac: Vec<u8>,
    key_number: i32,
}

impl Raw {
    pub(crate) fn to_row(&self, leaf: Option<i64>) -> EventRow {
        EventRow {
            seq: self.seq,
            leaf,
            event: self.to_event(),
        }
    }

    /// Whether its MAC is right; none where the key is not available.
    fn confirmed(&self, key: &EventKey) -> Option<bool> {
        key.confirms(
            self.key_number,
            &[PURPOSE, &self.to_event().canonical()],
            &self.mac,
        )
    }

    fn to_event(&self) -> Event {
        let mut event = Event::recorded(self.id, self.organisation, self.at, &self.action);
        event.actor = self.actor.map(|id| id.to_string()).unwrap_or_default();
        event.actor_name.clone_from(&self.actor_name);
        event.target = self.target.map(|id| id.to_string()).unwrap_or_default();
        event.target_type.clone_from(&self.target_type);
        event.target_name.clone_from(&self.target_name);
        event.origin.clone_from(&self.origin);
        // An outcome that nobody wrote is no reason to hide the row: the hash will tell.
        event.outcome = self
            .outcome
            .parse()
            .unwrap_or(jexlin_core::audit::Outcome::Failed);
        event.detail = serde_json::from_value(self.detail.clone()).unwrap_or_default();
        event
    }
}

/// A pattern of what holds a text.
fn anywhere(text: &str) -> String {
    format!("%{}%", literal(text))
}

/// The first part of what an event's MAC is over.
const PURPOSE: &[u8] = b"jexlin audit event\0";

/// What an event is authenticated with, in the transaction that inserts it.
fn mac_of(key: &EventKey, event: &Event) -> [u8; 32] {
    key.mac(&[PURPOSE, &event.canonical()])
}

/// An event as it goes into its table. With `DEFAULT` for what is missing the statement would have
/// another text each time, and could not stay prepared.
#[derive(Insertable)]
#[diesel(table_name = audit_event, treat_none_as_default_value = false)]
pub(crate) struct Inserted<'a> {
    pub(crate) id: Uuid,
    pub(crate) organisation: Uuid,
    pub(crate) at: DateTime<Utc>,
    pub(crate) action: &'a str,
    pub(crate) actor: Option<Uuid>,
    pub(crate) actor_name: &'a str,
    pub(crate) target: Option<Uuid>,
    pub(crate) target_type: &'a str,
    pub(crate) target_name: &'a str,
    pub(crate) origin: &'a str,
    pub(crate) outcome: &'a str,
    pub(crate) detail: serde_json::Value,
    pub(crate) mac: Vec<u8>,
    pub(crate) key_number: i32,
}

/// An event as a row of its table.
fn row<'a>(event: &'a Event, key: &EventKey, organisation: Uuid) -> Result<Inserted<'a>> {
    Ok(Inserted {
        id: event
            .id
            .parse()
            .map_err(|_| StoreError::Broken("an event without an identifier".into()))?,
        organisation,
        at: event
            .at
            .parse()
            .map_err(|_| StoreError::Broken("an event without a time".into()))?,
        action: &event.action,
        actor: event.actor.parse().ok(),
        actor_name: &event.actor_name,
        target: event.target.parse().ok(),
        target_type: &event.target_type,
        target_name: &event.target_name,
        origin: &event.origin,
        outcome: event.outcome.word(),
        detail: serde_json::to_value(&event.detail)
            .map_err(|error| StoreError::Broken(error.to_string()))?,
        mac: mac_of(key, event).to_vec(),
        key_number: key.number(),
    })
}

/// The statement that records an event.
pub(crate) fn insertion<'a>(
    event: &'a Event,
    key: &EventKey,
    organisation: Uuid,
) -> Result<Insertion<'a>> {
    Ok(diesel::insert_into(audit_event::table).values(row(event, key, organisation)?))
}

/// What records many events at once.
pub(crate) fn insertions<'a>(
    events: &'a [Event],
    key: &EventKey,
    organisation: Uuid,
) -> Result<Vec<Inserted<'a>>> {
    events
        .iter()
        .map(|event| row(event, key, organisation))
        .collect()
}

type Insertion<'a> = diesel::query_builder::InsertStatement<
    audit_event::table,
    <Inserted<'a> as Insertable<audit_event::table>>::Values,
>;

impl Tx {
    /// Records an event in this transaction; it commits with the action or not at all.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn record(&mut self, event: &Event, key: &EventKey) -> Result<()> {
        let insert = insertion(event, key, self.organisation())?;
        insert.execute(self.conn()?).await?;
        self.mark_recorded(key.number());
        Ok(())
    }

    /// The name of something that an event is about, for one who had no right to learn it and so
    /// could not bring it along.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn name_for_event(&mut self, kind: TargetType, id: Uuid) -> Result<Option<String>> {
        use crate::schema::{credential, device, path_of, people_group, person};
        let conn = self.conn()?;
        let name = match kind {
            TargetType::Credential => {
                credential::table
                    .find(id)
                    .select(
                        path_of(credential::folder_id)
                            .assume_not_null()
                            .concat("/")
                            .concat(credential::name),
                    )
                    .first(conn)
                    .await
            }
            TargetType::Folder => {
                return Ok(Some(self.path_of(id).await?).filter(|path| !path.is_empty()));
            }
            TargetType::Device => {
                device::table
                    .find(id)
                    .select(
                        path_of(device::folder_id)
                            .assume_not_null()
                            .concat("/")
                            .concat(device::name),
                    )
                    .first(conn)
                    .await
            }
            TargetType::Person => {
                person::table
                    .find(id)
                    .select(person::sign_in_name)
                    .first(conn)
                    .await
            }
            TargetType::Group => {
                people_group::table
                    .find(id)
                    .select(people_group::name)
                    .first(conn)
                    .await
            }
            _ => return Ok(None),
        };
        Ok(name.optional()?)
    }

    /// Lists events, newest first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn events(&mut self, filter: &EventFilter) -> Result<Vec<EventRow>> {
        let mut query = audit_event::table
            .left_join(audit_leaf::table.on(audit_leaf::event_id.eq(audit_event::id)))
            .limit(filter.limit)
            .select((Raw::as_select(), audit_leaf::leaf.nullable()))
            .into_boxed();
        query = if filter.oldest {
            query.order(audit_event::seq.asc())
        } else {
            query.order(audit_event::seq.desc())
        };
        if let Some(action) = &filter.action {
            // `credential` finds `credential.reveal` and its like.
            let below = format!("{}.%", literal(action));
            query = query.filter(
                audit_event::action
                    .eq(action.clone())
                    .or(audit_event::action.like(below)),
            );
        }
        if let Some(actor) = filter.actor {
            query = query.filter(audit_event::actor.eq(actor));
        }
        if let Some(target) = filter.target {
            query = query.filter(audit_event::target.eq(target));
        }
        if let Some(outcome) = &filter.outcome {
            query = query.filter(audit_event::outcome.eq(outcome.word()));
        }
        if let Some(since) = filter.since {
            query = query.filter(audit_event::at.ge(since));
        }
        if let Some(until) = filter.until {
            query = query.filter(audit_event::at.lt(until));
        }
        if let Some(find) = &filter.find {
            let text = anywhere(find);
            query = query.filter(
                audit_event::actor_name
                    .ilike(text.clone())
                    .or(audit_event::target_name.ilike(text)),
            );
        }
        if let Some(name) = &filter.actor_name {
            query = query.filter(audit_event::actor_name.ilike(anywhere(name)));
        }
        if let Some(name) = &filter.target_name {
            query = query.filter(audit_event::target_name.ilike(anywhere(name)));
        }
        if let Some(origin) = &filter.origin {
            query = query.filter(audit_event::origin.ilike(anywhere(origin)));
        }
        if let Some(after) = filter.after {
            query = if filter.oldest {
                query.filter(audit_event::seq.gt(after))
            } else {
                query.filter(audit_event::seq.lt(after))
            };
        }
        let rows: Vec<(Raw, Option<i64>)> = query.load(self.conn()?).await?;
        Ok(rows.iter().map(|(raw, leaf)| raw.to_row(*leaf)).collect())
    }

    /// A stretch of the log in the order of the tree.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn export_leaves(&mut self, from: i64, limit: i64) -> Result<ExportChunk> {
        let rows: Vec<(i64, Vec<u8>, Option<Raw>)> = audit_leaf::table
            .left_join(audit_event::table.on(audit_event::id.eq(audit_leaf::event_id)))
            .filter(audit_leaf::leaf.ge(from))
            .order(audit_leaf::leaf)
            .limit(limit)
            .select((
                audit_leaf::leaf,
                audit_leaf::hash,
                Option::<Raw>::as_select(),
            ))
            .load(self.conn()?)
            .await?;
        Ok(ExportChunk {
            leaves: rows
                .into_iter()
                .map(|(leaf, hash, raw)| (leaf, hash, raw.map(|raw| raw.to_event())))
                .collect(),
        })
    }

    /// Events without a place whose MAC is wrong: the sealer will never take them.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn stray_events(&mut self, key: &EventKey) -> Result<Vec<Event>> {
        Ok(self
            .without_leaf(None)
            .await?
            .iter()
            .filter(|raw| raw.confirmed(key) != Some(true))
            .map(Raw::to_event)
            .collect())
    }

    /// Whether an event has no place yet that the former key authenticated.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn awaits_former_key(&mut self, key: &EventKey) -> Result<bool> {
        let rows = self.without_leaf(None).await?;
        Ok(rows
            .iter()
            .any(|raw| raw.key_number < key.number() && raw.confirmed(key) == Some(true)))
    }

    async fn without_leaf(&mut self, among: Option<(i64, Vec<i64>)>) -> Result<Vec<Raw>> {
        let sealed = audit_leaf::table.filter(audit_leaf::event_id.eq(audit_event::id));
        let query = audit_event::table
            .order(audit_event::seq)
            .limit(i64::try_from(MOST_PER_ROUND).unwrap_or(i64::MAX))
            .select(Raw::as_select())
            .into_boxed();
        let query = match among {
            None => query.filter(diesel::dsl::not(diesel::dsl::exists(sealed))),
            // The lower bound lets the index scan begin at the new events, and the subquery looks up
            // one leaf at a time. Otherwise each round would read the whole log.
            Some((above, gaps)) => {
                let before = gaps.iter().min().map_or(above, |gap| above.min(gap - 1));
                query
                    .filter(audit_event::seq.gt(before))
                    .filter(audit_event::seq.gt(above).or(audit_event::seq.eq_any(gaps)))
                    .filter(sealed.select(audit_leaf::leaf).single_value().is_null())
            }
        };
        Ok(query.load(self.conn()?).await?)
    }

    /// The signed checkpoints, oldest first; after a size, at most so many.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn checkpoints(&mut self, after: i64, limit: i64) -> Result<Vec<(i64, String)>> {
        let query = audit_checkpoint::table
            .filter(audit_checkpoint::size.gt(after))
            .order(audit_checkpoint::size)
            .limit(limit)
            .select((audit_checkpoint::size, audit_checkpoint::note));
        Ok(query.load(self.conn()?).await?)
    }

    /// The newest signed checkpoint.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn last_checkpoint(&mut self) -> Result<Option<String>> {
        let query = audit_checkpoint::table
            .order(audit_checkpoint::size.desc())
            .select(audit_checkpoint::note);
        Ok(query.first(self.conn()?).await.optional()?)
    }

    /// The first `size` leaf hashes.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn leaf_hashes(&mut self, size: i64) -> Result<Vec<Hash>> {
        let query = audit_leaf::table
            .filter(audit_leaf::leaf.lt(size))
            .order(audit_leaf::leaf)
            .select(audit_leaf::hash);
        let rows: Vec<Vec<u8>> = query.load(self.conn()?).await?;
        rows.into_iter()
            .map(|row| {
                row.try_into()
                    .map_err(|_| StoreError::Broken("a leaf hash has not 32 bytes".into()))
            })
            .collect()
    }

    /// The place of an event in the tree.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when it is not sealed.
    pub async fn leaf_of(&mut self, event: Uuid) -> Result<i64> {
        Ok(audit_leaf::table
            .filter(audit_leaf::event_id.eq(event))
            .select(audit_leaf::leaf)
            .first(self.conn()?)
            .await?)
    }
}

/// What a sealer remembers between its rounds.
#[derive(Debug, Default)]
pub struct Sealer {
    size: Option<u64>,
    seen: Seen,
    strays: BTreeSet<Uuid>,
}

/// Up to which number the log was looked at.
#[derive(Clone, Debug, Default)]
struct Seen {
    highest: i64,
    /// Numbers below that were not to be seen yet, and in how many rounds they were missed.
    gaps: BTreeMap<i64, u32>,
}

/// How many rounds a gap is looked into before it is taken for a transaction that was rolled back.
/// At five rounds a second this is longer than any transaction of the service lives; the next
/// sealer to start looks again all the same.
const GAP_ROUNDS: u32 = 3000;
/// How many events a round looks at.
const MOST_PER_ROUND: usize = 5000;
/// How far below the highest number a sealer that starts afresh expects transactions under way.
const GAPS_AT_START: i64 = 1000;

impl Sealer {
    /// One round: gives places to what is visible and signs a checkpoint when there is news. Two
    /// sealers on one log wait for each other, and each goes on where the other was.
    ///
    /// # Errors
    /// [`StoreError::KeysChanged`] when an event is authenticated by a newer key than this;
    /// [`StoreError`]; then nothing was sealed.
    pub async fn seal(
        &mut self,
        mut tx: Tx,
        key: &EventKey,
        signer: &Signer,
        now: DateTime<Utc>,
    ) -> Result<SealOutcome> {
        let (mut frontier, highest, gaps) = Self::load_frontier(&mut tx).await?;
        let fresh = self.size.is_none();
        let mut seen = if fresh {
            Self::look_around(&mut tx).await?
        } else if self.size == Some(frontier.size()) {
            self.seen.clone()
        } else {
            // Another sealer was here: what it has sealed is not read again.
            Seen {
                highest,
                gaps: gaps
                    .into_iter()
                    .map(|gap| (gap, self.seen.gaps.get(&gap).copied().unwrap_or(0)))
                    .collect(),
            }
        };
        let among = if fresh {
            None
        } else {
            Some((seen.highest, seen.gaps.keys().copied().collect()))
        };
        let rows = tx.without_leaf(among).await?;
        let mut outcome = SealOutcome::default();
        let mut leaves = vec![];
        for raw in &rows {
            match raw.confirmed(key) {
                Some(true) => {}
                None if raw.key_number > key.number()
                    && tx.organisation_row().await?.key_number > key.number() =>
                {
                    return Err(StoreError::KeysChanged);
                }
                _ => {
                    if self.strays.insert(raw.id) {
                        outcome.strays.push(raw.id);
                    }
                    continue;
                }
            }
            let hash = raw.to_event().leaf();
            leaves.push((
                audit_leaf::organisation.eq(tx.organisation()),
                audit_leaf::leaf.eq(i64::try_from(frontier.size()).unwrap_or(i64::MAX)),
                audit_leaf::event_id.eq(raw.id),
                audit_leaf::hash.eq(hash.to_vec()),
            ));
            frontier.append(hash);
        }
        seen.pass(&rows);
        outcome.sealed = leaves.len();
        if !leaves.is_empty() {
            for chunk in leaves.chunks(1000) {
                diesel::insert_into(audit_leaf::table)
                    .values(chunk)
                    .execute(tx.conn()?)
                    .await?;
            }
            let organisation = tx.organisation();
            let size = i64::try_from(frontier.size()).unwrap_or(i64::MAX);
            let note = signer.sign(frontier.size(), frontier.root());
            diesel::insert_into(audit_checkpoint::table)
                .values((
                    audit_checkpoint::organisation.eq(organisation),
                    audit_checkpoint::size.eq(size),
                    audit_checkpoint::note.eq(note),
                    audit_checkpoint::made_at.eq(now),
                ))
                .execute(tx.conn()?)
                .await?;
            diesel::update(audit_frontier::table.find(organisation))
                .set((
                    audit_frontier::size.eq(size),
                    audit_frontier::roots.eq(frontier.roots().concat()),
                    audit_frontier::highest.eq(seen.highest),
                    audit_frontier::gaps.eq(seen.gaps.keys().copied().collect::<Vec<_>>()),
                ))
                .execute(tx.conn()?)
                .await?;
        }
        tx.commit().await?;
        self.seen = seen;
        // When there is more below what was looked at, the next round looks afresh as well.
        self.size = (!fresh || rows.len() < MOST_PER_ROUND).then_some(frontier.size());
        Ok(outcome)
    }

    async fn load_frontier(tx: &mut Tx) -> Result<(Frontier, i64, Vec<i64>)> {
        let organisation = tx.organisation();
        diesel::insert_into(audit_frontier::table)
            .values((
                audit_frontier::organisation.eq(organisation),
                audit_frontier::size.eq(0_i64),
                audit_frontier::roots.eq(Vec::<u8>::new()),
            ))
            .on_conflict_do_nothing()
            .execute(tx.conn()?)
            .await?;
        let columns = (
            audit_frontier::size,
            audit_frontier::roots,
            audit_frontier::highest,
            audit_frontier::gaps,
        );
        let query = audit_frontier::table
            .find(organisation)
            .select(columns)
            .for_update();
        let (size, roots, highest, gaps): (i64, Vec<u8>, i64, Vec<i64>) =
            query.first(tx.conn()?).await?;
        let roots = roots
            .chunks(32)
            .filter_map(|root| root.try_into().ok())
            .collect();
        let frontier = Frontier::restore(u64::try_from(size).unwrap_or(0), roots);
        let frontier = frontier.ok_or_else(|| {
            StoreError::Broken("the audit log's frontier does not fit its size".into())
        })?;
        Ok((frontier, highest, gaps))
    }

    /// What a sealer that starts afresh must know: the highest number, and which of the numbers
    /// just below are not to be seen yet.
    async fn look_around(tx: &mut Tx) -> Result<Seen> {
        let highest: Option<i64> = audit_event::table
            .select(diesel::dsl::max(audit_event::seq))
            .first(tx.conn()?)
            .await?;
        let highest = highest.unwrap_or(0);
        let from = (highest - GAPS_AT_START).max(0);
        let seen: BTreeSet<i64> = audit_event::table
            .filter(audit_event::seq.gt(from))
            .select(audit_event::seq)
            .load(tx.conn()?)
            .await?
            .into_iter()
            .collect();
        Ok(Seen {
            highest,
            gaps: ((from + 1)..=highest)
                .filter(|number| !seen.contains(number))
                .map(|number| (number, 0))
                .collect(),
        })
    }
}

impl Seen {
    /// These were looked at.
    fn pass(&mut self, rows: &[Raw]) {
        for raw in rows {
            for gap in (self.highest + 1)..raw.seq {
                self.gaps.insert(gap, 0);
            }
            self.highest = self.highest.max(raw.seq);
            self.gaps.remove(&raw.seq);
        }
        for rounds in self.gaps.values_mut() {
            *rounds += 1;
        }
        self.gaps.retain(|_, rounds| *rounds < GAP_ROUNDS);
    }
}
