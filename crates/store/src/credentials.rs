//! Credentials, their secret versions, and devices.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::people::one_row;
use crate::schema::{credential, device, lower, secret_version, upkeep_state};
use crate::sql::statement;
use crate::{Result, StoreError, Tx, Withheld};

/// A credential without its secrets.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = credential)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Uuid,
    pub kind: String,
    pub name: String,
    pub fields: serde_json::Value,
    pub device_id: Option<Uuid>,
    pub data_key: Vec<u8>,
    pub created_at: DateTime<Utc>,
    pub created_by: Option<Uuid>,
    pub changed_at: DateTime<Utc>,
    pub changed_by: Option<Uuid>,
    pub removed_at: Option<DateTime<Utc>>,
    pub version: i32,
    pub removal_id: Option<Uuid>,
    pub extra: serde_json::Value,
    pub tags: Vec<String>,
}

/// One version of a secret field, without its value.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = secret_version)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct VersionRow {
    pub field: String,
    pub number: i32,
    pub state: String,
    pub made_at: DateTime<Utc>,
    pub made_by: Option<Uuid>,
    pub made_how: String,
    pub why: String,
    pub facts: serde_json::Value,
}

/// A new version of a secret field.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct NewVersion<'a> {
    pub credential: Uuid,
    pub field: &'a str,
    pub number: i32,
    pub state: &'a str,
    pub sealed: &'a [u8],
    pub now: DateTime<Utc>,
    pub by: Option<Uuid>,
    pub how: &'a str,
    pub why: &'a str,
    pub facts: serde_json::Value,
}

/// One version of a secret field, sealed, with the wrapped key that opens it.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct SealedVersion {
    pub credential: Uuid,
    pub field: String,
    pub number: i32,
    pub sealed: Vec<u8>,
    pub data_key: Vec<u8>,
    pub facts: serde_json::Value,
}

/// A device.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = device)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct DeviceRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub folder_id: Uuid,
    pub name: String,
    pub connector: String,
    pub address: String,
    pub port: i32,
    pub host_key: Option<String>,
    pub operator_id: Option<Uuid>,
    pub created_at: DateTime<Utc>,
    pub removed_at: Option<DateTime<Utc>>,
    pub version: i32,
}

/// A credential in a list.
#[derive(Clone, Debug, QueryableByName)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialListing {
    #[diesel(sql_type = sql_types::Uuid)]
    pub id: Uuid,
    #[diesel(sql_type = sql_types::Uuid)]
    pub folder_id: Uuid,
    #[diesel(sql_type = sql_types::Text)]
    pub kind: String,
    #[diesel(sql_type = sql_types::Text)]
    pub name: String,
    #[diesel(sql_type = sql_types::Jsonb)]
    pub fields: serde_json::Value,
    #[diesel(sql_type = sql_types::SmallInt)]
    pub held: i16,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Uuid>)]
    pub device_id: Option<Uuid>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub device_name: Option<String>,
    #[diesel(sql_type = sql_types::Nullable<sql_types::Text>)]
    pub check_outcome: Option<String>,
    #[diesel(sql_type = sql_types::Bool)]
    pub gated: bool,
    #[diesel(sql_type = sql_types::Text)]
    pub place: String,
    #[diesel(sql_type = sql_types::Array<sql_types::Text>)]
    pub tags: Vec<String>,
    #[diesel(sql_type = sql_types::Bool)]
    pub favourite: bool,
    /// In the core's words; empty for whoever may not see the password.
    #[diesel(sql_type = sql_types::Array<sql_types::Text>)]
    pub findings: Vec<String>,
    #[diesel(sql_type = sql_types::Timestamptz)]
    pub changed_at: DateTime<Utc>,
}

/// From where on something is a finding.
#[derive(Clone, Copy, Debug, Default)]
#[allow(missing_docs, reason = "the settings in the core describe them")]
pub struct Thresholds {
    pub weak_below: i32,
    pub old_days: i32,
    pub soon_days: i32,
}

/// A way of looking at what one reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum View {
    /// One's favourites.
    Favourites,
    /// What one is a steward of by a grant of one's own.
    Mine,
    /// The rest.
    SharedWithMe,
    /// What one has granted to somebody else.
    SharedByMe,
    /// What is one's own and nobody else reaches.
    WithNobody,
}

/// Which credentials to list. Texts are parts, in any case.
#[derive(Clone, Debug, Default)]
pub struct ListQuery {
    /// Only in this folder.
    pub folder: Option<Uuid>,
    /// Only in this folder or below it.
    pub below: Option<Uuid>,
    /// Only those that hold each of these words anywhere that is not secret, or in the name of their
    /// device or folder.
    pub find: Vec<String>,
    /// Words that are nearly like one of these do as well.
    pub nearly: bool,
    /// Only with this in their name.
    pub name: Option<String>,
    /// Only with this in their user name.
    pub user_name: Option<String>,
    /// Only of this kind.
    pub kind: Option<String>,
    /// Only with this tag.
    pub tag: Option<String>,
    /// Only with this in the name of their device.
    pub device: Option<String>,
    /// Only with this outcome of their last check.
    pub check: Option<String>,
    /// Only with this finding, or with `any`.
    pub finding: Option<String>,
    /// Only in this view.
    pub view: Option<View>,
    /// Only these.
    pub only: Option<Vec<Uuid>>,
    /// From where on something is a finding.
    pub thresholds: Thresholds,
    /// Whoever reaches so many folders has all names gone through in order for a page of everything,
    /// instead of what is in each folder; left out, it is weighed. It changes how long that takes, and
    /// nothing else.
    pub many_folders: Option<i32>,
    /// Only after this name and identifier, in order.
    pub after: Option<(String, Uuid)>,
    /// At most so many.
    pub most: i64,
}

/// What may be changed about a credential in one go.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialChange<'a> {
    pub id: Uuid,
    pub version: i32,
    pub name: &'a str,
    pub folder_id: Uuid,
    pub fields: &'a serde_json::Value,
    pub device_id: Option<Uuid>,
    pub extra: &'a serde_json::Value,
    pub tags: &'a [String],
    pub now: DateTime<Utc>,
    pub by: Option<Uuid>,
}

/// Texts of so many letters are looked up in the index.
const SHORTEST_INDEXED: usize = 3;

/// The conditions of a list and the values in them, from the eleventh on.
struct Conditions {
    text: String,
    values: Vec<Bound>,
}

enum Bound {
    Text(String),
    Ids(Vec<Uuid>),
}

impl Conditions {
    fn of(query: &ListQuery) -> Self {
        let mut this = Self { text: String::new(), values: vec![] };
        if query.folder.is_some() {
            this.text += " AND c.folder_id = $4";
        }
        if let Some(below) = query.below {
            this.add(" AND c.folder_id IN (SELECT subtree_of(($?::uuid[])[1]))", Bound::Ids(vec![below]));
        }
        for word in &query.find {
            // The index knows groups of three letters; with fewer nearly everything matches, and
            // going through the names in their order is soon done. In one folder likewise.
            if query.nearly {
                this.add(" AND c.id IN (SELECT resembling($?))", Bound::Text(word.to_lowercase()));
            } else if query.folder.is_none() && word.chars().count() >= SHORTEST_INDEXED {
                this.add(" AND c.id IN (SELECT matching($?))", Bound::Text(part(word)));
            } else {
                this.add(
                    " AND (c.search LIKE $? OR c.device_id IN (SELECT v.id FROM device v WHERE lower(v.name || ' ' || v.address) LIKE $?)
                           OR c.folder_id IN (SELECT f.id FROM folder f WHERE lower(f.name) LIKE $?))",
                    Bound::Text(part(word)),
                );
            }
        }
        for (condition, value) in [
            (" AND lower(c.name) LIKE $?", query.name.as_deref().map(part)),
            (" AND lower(coalesce(c.fields->>'user_name', '')) LIKE $?", query.user_name.as_deref().map(part)),
            (" AND c.kind = $?", query.kind.clone()),
            (" AND c.tags @> ARRAY[$?]", query.tag.clone()),
            (" AND c.device_id IN (SELECT v.id FROM device v WHERE lower(v.name) LIKE $?)", query.device.as_deref().map(part)),
            (" AND c.id IN (SELECT s.credential_id FROM upkeep_state s WHERE s.check_outcome = $?)", query.check.clone()),
        ] {
            if let Some(value) = value {
                this.add(condition, Bound::Text(value));
            }
        }
        if let Some(finding) = &query.finding {
            // What could be wrong at all is narrowed down first: asking of each takes longer.
            this.add(
                " AND (c.fields ? 'expires' OR c.id IN (SELECT s.credential_id FROM upkeep_state s WHERE s.check_outcome = 'out of step')
                       OR c.id IN (SELECT j.credential_id FROM judgement j
                                   WHERE j.score < $7 OR j.leaked > 0 OR cardinality(j.lacks) > 0 OR ($8 > 0 AND j.made_at < $2 - make_interval(days => $8))
                                      OR EXISTS (SELECT FROM judgement o WHERE o.organisation = j.organisation AND o.fingerprint = j.fingerprint AND o.credential_id <> j.credential_id)))
                  AND greatest(r.held, m.held) >= 3 AND CASE WHEN $? = 'any' THEN cardinality(findings_of(c.id, $1, $2, $7, $8, $9)) > 0
                  ELSE $? = ANY (findings_of(c.id, $1, $2, $7, $8, $9)) END",
                Bound::Text(finding.clone()),
            );
        }
        if let Some(only) = &query.only {
            this.add(" AND c.id = ANY ($?)", Bound::Ids(only.clone()));
        }
        if let Some(view) = query.view {
            let reach = "(g.ends_at IS NULL OR $2 < g.ends_at) AND (g.credential_id = c.id OR g.folder_id IN (SELECT s.source_id FROM folder_source s WHERE s.folder_id = c.folder_id))";
            let mine = format!("EXISTS (SELECT FROM access_grant g WHERE g.person_id = $1 AND g.held = 5 AND {reach})");
            let others = format!("EXISTS (SELECT FROM access_grant g WHERE g.person_id IS DISTINCT FROM $1 AND {reach})");
            this.text += &match view {
                View::Favourites => " AND c.id IN (SELECT v.credential_id FROM favourite v WHERE v.person_id = $1)".to_owned(),
                View::Mine => format!(" AND {mine}"),
                View::SharedWithMe => format!(" AND NOT {mine}"),
                View::SharedByMe => format!(" AND EXISTS (SELECT FROM access_grant g WHERE g.created_by = $1 AND g.person_id IS DISTINCT FROM $1 AND {reach})"),
                View::WithNobody => format!(" AND {mine} AND NOT {others}"),
            };
        }
        this
    }

    fn add(&mut self, condition: &str, value: Bound) {
        let number = format!("${}", self.values.len() + 11);
        self.text += &condition.replace("$?", &number);
        self.values.push(value);
    }
}

/// A pattern that finds a text anywhere; its own signs stand for themselves.
fn part(text: &str) -> String {
    format!("%{}%", text.to_lowercase().replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"))
}

impl Tx {
    /// Adds a credential.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken in its folder.
    pub async fn add_credential(&mut self, row: &CredentialRow) -> Result<()> {
        diesel::insert_into(credential::table).values(row).execute(self.conn()?).await?;
        self.follow_device(row.id, row.device_id).await
    }

    /// A credential on a device has a state of upkeep; one without has none to be scheduled.
    async fn follow_device(&mut self, id: Uuid, device: Option<Uuid>) -> Result<()> {
        let organisation = self.organisation();
        if device.is_some() {
            diesel::insert_into(upkeep_state::table)
                .values((upkeep_state::credential_id.eq(id), upkeep_state::organisation.eq(organisation), upkeep_state::stale.eq(true)))
                .on_conflict(upkeep_state::credential_id)
                .do_update()
                .set(upkeep_state::stale.eq(true))
                .execute(self.conn()?)
                .await?;
        } else {
            diesel::update(upkeep_state::table.find(id)).set(upkeep_state::stale.eq(true)).execute(self.conn()?).await?;
        }
        Ok(())
    }

    /// A credential that is not removed.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn credential(&mut self, id: Uuid) -> Result<CredentialRow> {
        let query = credential::table.find(id).filter(credential::removed_at.is_null()).select(CredentialRow::as_select());
        Ok(query.first(self.conn()?).await?)
    }

    /// A credential, kept from changes until the transaction ends.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn credential_locked(&mut self, id: Uuid) -> Result<CredentialRow> {
        let query = credential::table.find(id).filter(credential::removed_at.is_null()).select(CredentialRow::as_select()).for_update();
        Ok(query.first(self.conn()?).await?)
    }

    /// Writes a credential back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn change_credential(&mut self, change: &CredentialChange<'_>) -> Result<()> {
        let query = diesel::update(credential::table.find(change.id).filter(credential::version.eq(change.version))).set((
            credential::name.eq(change.name),
            credential::folder_id.eq(change.folder_id),
            credential::fields.eq(change.fields),
            credential::device_id.eq(change.device_id),
            credential::extra.eq(change.extra),
            credential::tags.eq(change.tags),
            credential::changed_at.eq(change.now),
            credential::changed_by.eq(change.by),
            credential::version.eq(change.version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        self.follow_device(change.id, change.device_id).await
    }

    /// Notes that a credential has changed, if nobody else has changed it in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`].
    pub async fn touch_credential(&mut self, id: Uuid, version: i32, now: DateTime<Utc>, by: Uuid) -> Result<()> {
        let query = diesel::update(credential::table.find(id).filter(credential::version.eq(version))).set((
            credential::changed_at.eq(now),
            credential::changed_by.eq(by),
            credential::version.eq(version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Gives a new copy the extra fields and tags of what it was copied from.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn label_copy(&mut self, id: Uuid, extra: &serde_json::Value, tags: &[String]) -> Result<()> {
        diesel::update(credential::table.find(id)).set((credential::extra.eq(extra), credential::tags.eq(tags))).execute(self.conn()?).await?;
        Ok(())
    }

    /// Removes a credential; its versions stay. Refused while a job or a checkout is under way.
    ///
    /// # Errors
    /// [`StoreError::Stale`]; [`StoreError::Conflict`] with `job_under_way`, `checked_out` or
    /// `is_operator`.
    pub async fn remove_credential(&mut self, id: Uuid, version: i32, removal: Uuid, now: DateTime<Utc>) -> Result<()> {
        use crate::schema::{checkout, job};
        self.credential_locked(id).await?;
        let active = ["queued", "running"];
        let jobs: i64 = job::table.filter(job::credential_id.eq(id)).filter(job::state.eq_any(active)).count().get_result(self.conn()?).await?;
        let held: i64 = checkout::table.filter(checkout::credential_id.eq(id)).filter(checkout::ended_at.is_null()).count().get_result(self.conn()?).await?;
        let operates: i64 = device::table.filter(device::operator_id.eq(id)).filter(device::removed_at.is_null()).count().get_result(self.conn()?).await?;
        for (count, why) in [(jobs, "job_under_way"), (held, "checked_out"), (operates, "is_operator")] {
            if count > 0 {
                return Err(StoreError::Conflict(why.into()));
            }
        }
        let query = diesel::update(credential::table.find(id).filter(credential::version.eq(version))).set((
            credential::removed_at.eq(now),
            credential::removal_id.eq(removal),
            credential::version.eq(version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)?;
        diesel::update(upkeep_state::table.find(id)).set(upkeep_state::stale.eq(true)).execute(self.conn()?).await?;
        Ok(())
    }

    /// The credentials that somebody may know of, in the order of their names.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn list_credentials(&mut self, person: Uuid, now: DateTime<Utc>, query: &ListQuery) -> Result<Vec<CredentialListing>> {
        let (after_name, after_id) = query.after.clone().unwrap_or_default();
        let conditions = Conditions::of(query);
        // The page is chosen before anything is looked up for it. The level of each candidate is
        // the highest of the grants on it and on the sources of its folder.
        let chosen = if conditions.text.is_empty() {
            // Everything: the page is found through the index.
            "page AS MATERIALIZED (
                SELECT c.id, c.folder_id, c.kind, c.name, c.fields, c.device_id, c.tags, c.changed_at, a.level AS held
                FROM page_of_all($1, $2, $5, $6, $3, $10) a JOIN credential c ON c.id = a.found WHERE $4::uuid IS NULL
            )"
            .to_owned()
        } else {
            format!(
                "mine AS MATERIALIZED (
                    SELECT g.folder_id, g.credential_id, max(g.held) AS held FROM access_grant g
                    WHERE (g.person_id = $1 OR g.group_id = ANY ((SELECT subjects_of($1))::uuid[])) AND (g.ends_at IS NULL OR $2 < g.ends_at)
                    GROUP BY 1, 2
                ), reached AS MATERIALIZED (
                    SELECT s.folder_id AS id, max(m.held) AS held FROM mine m JOIN folder_source s ON s.source_id = m.folder_id
                    WHERE $4::uuid IS NULL OR s.folder_id = $4 GROUP BY 1
                ), page AS MATERIALIZED (
                    SELECT c.id, c.folder_id, c.kind, c.name, c.fields, c.device_id, c.tags, c.changed_at, greatest(r.held, m.held) AS held
                    FROM credential c LEFT JOIN reached r ON r.id = c.folder_id LEFT JOIN mine m ON m.credential_id = c.id
                    WHERE c.organisation = (SELECT scope()) AND c.removed_at IS NULL AND (r.held IS NOT NULL OR m.held IS NOT NULL)
                      AND (lower(c.name), c.id) > ($5, $6) AND coalesce($10, 1) > 0{}
                    ORDER BY lower(c.name), c.id LIMIT $3
                )",
                conditions.text
            )
        };
        // What `findings_of` says of one is said here of a whole page at once.
        let sql = format!(
            "WITH RECURSIVE {chosen}, up(folder_id, id, parent_id, name, depth) AS (
                SELECT f.id, f.id, f.parent_id, f.name, 0 FROM (SELECT DISTINCT p.folder_id FROM page p) v
                CROSS JOIN LATERAL (SELECT * FROM folder f WHERE f.id = v.folder_id OFFSET 0) f
                UNION ALL
                SELECT up.folder_id, f.id, f.parent_id, f.name, up.depth + 1 FROM up
                CROSS JOIN LATERAL (SELECT * FROM folder f WHERE f.id = up.parent_id OFFSET 0) f WHERE up.depth < 1000
            ), places AS MATERIALIZED (
                SELECT up.folder_id, string_agg('/' || up.name, '' ORDER BY up.depth DESC) AS place, bool_or(g.id IS NOT NULL) AS gated
                FROM up LEFT JOIN gate g ON g.folder_id = up.id AND g.credential_id IS NULL GROUP BY 1
            )
            SELECT p.id, p.folder_id, p.kind, p.name, p.fields, p.held, p.device_id, p.tags, p.changed_at, d.name AS device_name, u.check_outcome,
                   l.gated OR EXISTS (SELECT FROM gate g WHERE g.credential_id = p.id) AS gated, l.place,
                   EXISTS (SELECT FROM favourite v WHERE v.person_id = $1 AND v.credential_id = p.id) AS favourite,
                   CASE WHEN p.held < 3 THEN '{{}}'::text[] ELSE array_remove(ARRAY[
                       CASE WHEN j.leaked > 0 THEN 'leaked' END,
                       CASE WHEN u.check_outcome = 'out of step' THEN 'out-of-step' END,
                       CASE WHEN j.score < $7 THEN 'weak' END,
                       CASE WHEN EXISTS (SELECT FROM judgement o JOIN credential c ON c.id = o.credential_id
                                         WHERE o.organisation = j.organisation AND o.fingerprint = j.fingerprint AND o.credential_id <> p.id AND c.removed_at IS NULL
                                           AND level_on_credential($1, c.id, $2) >= 3) THEN 'reused' END,
                       CASE WHEN x.ends < $2::date THEN 'expired' END,
                       CASE WHEN cardinality(j.lacks) > 0 THEN 'breaks-policy' END,
                       CASE WHEN x.ends >= $2::date AND x.ends < $2::date + $9 THEN 'expires-soon' END,
                       CASE WHEN $8 > 0 AND j.made_at < $2 - make_interval(days => $8) THEN 'old' END], NULL) END AS findings
            FROM page p JOIN places l ON l.folder_id = p.folder_id LEFT JOIN device d ON d.id = p.device_id LEFT JOIN upkeep_state u ON u.credential_id = p.id
            LEFT JOIN judgement j ON j.credential_id = p.id
            CROSS JOIN LATERAL (SELECT CASE WHEN p.fields->>'expires' ~ '^[0-9]{{4}}-[0-9]{{2}}-[0-9]{{2}}$' THEN to_date(p.fields->>'expires', 'YYYY-MM-DD') END AS ends) x
            ORDER BY lower(p.name), p.id"
        );
        let mut rows = statement(sql)
            .bind::<sql_types::Uuid, _>(person)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::BigInt, _>(query.most)
            .bind::<sql_types::Nullable<sql_types::Uuid>, _>(query.folder)
            .bind::<sql_types::Text, _>(after_name.to_lowercase())
            .bind::<sql_types::Uuid, _>(after_id)
            .bind::<sql_types::Int4, _>(query.thresholds.weak_below)
            .bind::<sql_types::Int4, _>(query.thresholds.old_days)
            .bind::<sql_types::Int4, _>(query.thresholds.soon_days)
            .bind::<sql_types::Nullable<sql_types::Int4>, _>(query.many_folders);
        for value in conditions.values {
            rows = match value {
                Bound::Text(text) => rows.bind::<sql_types::Text, _>(text),
                Bound::Ids(ids) => rows.bind::<sql_types::Array<sql_types::Uuid>, _>(ids),
            };
        }
        Ok(rows.load(self.conn()?).await?)
    }

    /// What is wrong with a credential, for somebody who may see its password.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn findings_of(&mut self, credential: Uuid, viewer: Uuid, now: DateTime<Utc>, from: Thresholds) -> Result<Vec<String>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = sql_types::Array<sql_types::Text>)]
            findings: Vec<String>,
        }
        let row: Row = statement("SELECT findings_of($1, $2, $3, $4, $5, $6) AS findings")
            .bind::<sql_types::Uuid, _>(credential)
            .bind::<sql_types::Uuid, _>(viewer)
            .bind::<sql_types::Timestamptz, _>(now)
            .bind::<sql_types::Int4, _>(from.weak_below)
            .bind::<sql_types::Int4, _>(from.old_days)
            .bind::<sql_types::Int4, _>(from.soon_days)
            .get_result(self.conn()?)
            .await?;
        Ok(row.findings)
    }

    /// Adds a version of a secret field. A former current one becomes previous when the new one is
    /// current.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when there is a candidate already.
    pub async fn add_version(&mut self, new: &NewVersion<'_>) -> Result<()> {
        let organisation = self.organisation();
        if new.state == "current" {
            diesel::update(
                secret_version::table
                    .filter(secret_version::credential_id.eq(new.credential))
                    .filter(secret_version::field.eq(new.field))
                    .filter(secret_version::state.eq("current")),
            )
            .set(secret_version::state.eq("previous"))
            .execute(self.conn()?)
            .await?;
        }
        diesel::insert_into(secret_version::table)
            .values((
                secret_version::organisation.eq(organisation),
                secret_version::credential_id.eq(new.credential),
                secret_version::field.eq(new.field),
                secret_version::number.eq(new.number),
                secret_version::state.eq(new.state),
                secret_version::sealed.eq(new.sealed),
                secret_version::made_at.eq(new.now),
                secret_version::made_by.eq(new.by),
                secret_version::made_how.eq(new.how),
                secret_version::why.eq(new.why),
                secret_version::facts.eq(&new.facts),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// A sealed version by its number, for putting it back.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn sealed_version(&mut self, credential: Uuid, field: &str, number: i32) -> Result<(Vec<u8>, serde_json::Value)> {
        let query = secret_version::table.find((credential, field.to_owned(), number)).select((secret_version::sealed, secret_version::facts));
        Ok(query.first(self.conn()?).await?)
    }

    /// The number at which a seed that counts goes on, which is taken with this.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn next_count(&mut self, credential: Uuid, number: i32, from: i64) -> Result<i64> {
        use crate::schema::one_time_counter as counter;
        let organisation = self.organisation();
        let query = diesel::insert_into(counter::table)
            .values((counter::organisation.eq(organisation), counter::credential_id.eq(credential), counter::number.eq(number), counter::counter.eq(from)))
            .on_conflict((counter::credential_id, counter::number))
            .do_update()
            .set(counter::counter.eq(counter::counter + 1))
            .returning(counter::counter);
        Ok(query.get_result(self.conn()?).await?)
    }

    /// The number that the next version of a field gets.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn next_number(&mut self, credential: Uuid, field: &str) -> Result<i32> {
        let query = secret_version::table
            .filter(secret_version::credential_id.eq(credential))
            .filter(secret_version::field.eq(field))
            .select(diesel::dsl::max(secret_version::number));
        let last: Option<i32> = query.first(self.conn()?).await?;
        Ok(last.unwrap_or(0) + 1)
    }

    /// The candidate becomes current, the current previous.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when there is no candidate.
    pub async fn promote_candidate(&mut self, credential: Uuid, field: &str) -> Result<()> {
        let of = |state: &'static str| {
            secret_version::table
                .filter(secret_version::credential_id.eq(credential).and(secret_version::field.eq(field.to_owned())).and(secret_version::state.eq(state)))
        };
        diesel::update(of("current")).set(secret_version::state.eq("previous")).execute(self.conn()?).await?;
        let count = diesel::update(of("candidate")).set(secret_version::state.eq("current")).execute(self.conn()?).await?;
        if count == 1 { Ok(()) } else { Err(StoreError::NotFound) }
    }

    /// The candidate is not on the device: it becomes discarded.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn discard_candidate(&mut self, credential: Uuid, field: &str) -> Result<()> {
        let of = secret_version::table
            .filter(secret_version::credential_id.eq(credential).and(secret_version::field.eq(field)).and(secret_version::state.eq("candidate")));
        diesel::update(of).set(secret_version::state.eq("discarded")).execute(self.conn()?).await?;
        Ok(())
    }

    /// The versions of a credential's secret fields, newest first.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn versions(&mut self, credential: Uuid) -> Result<Vec<VersionRow>> {
        let query = secret_version::table
            .filter(secret_version::credential_id.eq(credential))
            .order((secret_version::field, secret_version::number.desc()))
            .select(VersionRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// A sealed version by its state, withheld until this transaction and its audit event are
    /// durable.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn sealed_by_state(&mut self, credential: Uuid, field: &str, state: &str) -> Result<Withheld<SealedVersion>> {
        let query = secret_version::table
            .inner_join(credential::table.on(credential::id.eq(secret_version::credential_id)))
            .filter(secret_version::credential_id.eq(credential))
            .filter(secret_version::field.eq(field))
            .filter(secret_version::state.eq(state))
            .select((secret_version::number, secret_version::sealed, credential::data_key, secret_version::facts));
        let (number, sealed, data_key, facts): (i32, Vec<u8>, Vec<u8>, serde_json::Value) = query.first(self.conn()?).await?;
        Ok(self.withhold(SealedVersion { credential, field: field.to_owned(), number, sealed, data_key, facts }))
    }

    /// Whether a candidate is stored.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn has_candidate(&mut self, credential: Uuid) -> Result<bool> {
        Ok(self.versions(credential).await?.iter().any(|version| version.state == "candidate"))
    }

    /// Adds a device.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the name is taken in its folder.
    pub async fn add_device(&mut self, row: &DeviceRow) -> Result<()> {
        diesel::insert_into(device::table).values(row).execute(self.conn()?).await?;
        Ok(())
    }

    /// A device that is not removed.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn device(&mut self, id: Uuid) -> Result<DeviceRow> {
        Ok(device::table.find(id).filter(device::removed_at.is_null()).select(DeviceRow::as_select()).first(self.conn()?).await?)
    }

    /// The devices in folders that somebody holds a level on, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn devices(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        folder: Option<Uuid>,
        after: Option<(String, Uuid)>,
        most: i64,
    ) -> Result<Vec<DeviceRow>> {
        use crate::schema::level_on_folder;
        let (after_name, after_id) = after.unwrap_or_default();
        let mut query = device::table
            .filter(device::removed_at.is_null())
            .filter(level_on_folder(person, device::folder_id, now).is_not_null())
            .filter(lower(device::name).gt(after_name.to_lowercase()).or(lower(device::name).eq(after_name.to_lowercase()).and(device::id.gt(after_id))))
            .order((lower(device::name), device::id))
            .limit(most)
            .select(DeviceRow::as_select())
            .into_boxed();
        if let Some(folder) = folder {
            query = query.filter(device::folder_id.eq(folder));
        }
        Ok(query.load(self.conn()?).await?)
    }

    /// Writes a device back, if nobody else has in the meantime.
    ///
    /// # Errors
    /// [`StoreError::Stale`], [`StoreError::Conflict`].
    pub async fn change_device(&mut self, row: &DeviceRow) -> Result<()> {
        let query = diesel::update(device::table.find(row.id).filter(device::version.eq(row.version))).set((
            device::folder_id.eq(row.folder_id),
            device::name.eq(&row.name),
            device::address.eq(&row.address),
            device::port.eq(row.port),
            device::host_key.eq(&row.host_key),
            device::operator_id.eq(row.operator_id),
            device::removed_at.eq(row.removed_at),
            device::version.eq(row.version + 1),
        ));
        one_row(query.execute(self.conn()?).await?)
    }

    /// Notes the host key met at first contact, unless one is pinned already.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn pin_host_key(&mut self, id: Uuid, key: &str) -> Result<bool> {
        let query =
            diesel::update(device::table.find(id).filter(device::host_key.is_null())).set((device::host_key.eq(key), device::version.eq(device::version + 1)));
        Ok(query.execute(self.conn()?).await? == 1)
    }

    /// How many credentials that are not removed are on a device.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn accounts_on(&mut self, id: Uuid) -> Result<i64> {
        Ok(credential::table.filter(credential::device_id.eq(id)).filter(credential::removed_at.is_null()).count().get_result(self.conn()?).await?)
    }
}
