//! Lists of credentials: narrowed, searched, page by page.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::sql::statement;
use crate::{Result, Tx};

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
}
