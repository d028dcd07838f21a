//! Lists of credentials: filtered, searched, page by page.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::access::{Level, Reach};
use jexlin_core::upkeep::CheckOutcome;
use jexlin_core::vault::{CredentialSort, CredentialView};
use jexlin_core::words::Word as _;
use serde::Serialize;
use uuid::Uuid;

use crate::rows_of::rows_of;
use crate::schema::{credential_page, credential_page_row, findings_of};
use crate::stored::Stored;
use crate::{Result, StoreError, Tx};

/// A credential in a list.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = credential_page_row)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct CredentialListing {
    pub id: Uuid,
    pub folder_id: Uuid,
    pub kind: String,
    pub name: String,
    pub fields: serde_json::Value,
    pub held: i16,
    pub device_id: Option<Uuid>,
    pub device_name: Option<String>,
    pub check_outcome: Option<Stored<CheckOutcome>>,
    pub gated: bool,
    pub place: String,
    pub tags: Vec<String>,
    pub favourite: bool,
    /// In the core's words; empty for whoever may not see the password.
    pub findings: Vec<String>,
    pub changed_at: DateTime<Utc>,
    /// It has grants of its own.
    pub own_grants: bool,
    /// A grant to somebody else reaches it.
    pub shared: bool,
    /// In a part of a table: how many rows the whole table has.
    pub total: Option<i64>,
}

impl CredentialListing {
    /// What reaches the one whose list it is in.
    #[must_use]
    pub fn reach(&self, viewer: Uuid) -> Reach {
        crate::access::read_reach(viewer, self.id, Level::from_number(self.held))
    }
}

/// A part of a table of credentials: where it begins, and by what all of it is sorted.
#[derive(Clone, Copy, Debug)]
pub struct TablePart {
    /// By this, and where it is the same by name.
    pub sort: CredentialSort,
    /// The last first.
    pub down: bool,
    /// After so many rows.
    pub from: i64,
}

/// From where on something is a finding.
#[derive(Clone, Copy, Debug, Default)]
#[allow(missing_docs, reason = "the settings in the core describe them")]
pub struct Thresholds {
    pub weak_below: i32,
    pub old_days: i32,
    pub soon_days: i32,
}

/// Which credentials to list. Texts are parts, in any case.
#[derive(Clone, Debug, Default)]
pub struct ListQuery {
    /// Only in this folder.
    pub folder: Option<Uuid>,
    /// Only in this folder or below it.
    pub below: Option<Uuid>,
    /// Only those that hold each of these words anywhere that is not secret, or in the name of
    /// their device or folder.
    pub find: Vec<String>,
    /// Whatever resembles these words instead, the nearest first; there is one page of it.
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
    /// Only accounts on this device.
    pub on: Option<Uuid>,
    /// Only with this outcome of their last check.
    pub check: Option<String>,
    /// Only with this finding, or with `any`.
    pub finding: Option<String>,
    /// Only in this view.
    pub view: Option<CredentialView>,
    /// Only these.
    pub only: Option<Vec<Uuid>>,
    /// From where on something is a finding.
    pub thresholds: Thresholds,
    /// Whoever reaches so many folders has all names gone through in order for a page of
    /// everything, instead of what is in each folder; left out, it is weighed. It changes how long
    /// that takes, and nothing else.
    pub many_folders: Option<i32>,
    /// A part of a table, instead of the page after a name.
    pub part: Option<TablePart>,
    /// Only after this name and identifier, in order.
    pub after: Option<(String, Uuid)>,
    /// At most so many.
    pub limit: i64,
}

/// What `page_of` is told to look for; the migration says what each is.
#[derive(Serialize)]
struct Wanted<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    folder: Option<Uuid>,
    #[serde(skip_serializing_if = "Option::is_none")]
    below: Option<Uuid>,
    words: Vec<String>,
    nearly: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    name: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    user_name: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    device: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    on: Option<Uuid>,
    #[serde(skip_serializing_if = "Option::is_none")]
    kind: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    tag: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    check: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    finding: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    view: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    only: Option<&'a [Uuid]>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sort: Option<&'static str>,
    down: bool,
    from: i64,
    weak_below: i32,
    old_days: i32,
    soon_days: i32,
}

impl ListQuery {
    fn wanted(&self) -> Wanted<'_> {
        let part = |text: &Option<String>| text.as_deref().map(part);
        Wanted {
            folder: self.folder,
            below: self.below,
            words: if self.nearly {
                vec![]
            } else {
                self.find
                    .iter()
                    .map(|word| crate::credential_lists::part(word))
                    .collect()
            },
            nearly: if self.nearly {
                self.find.iter().map(|word| word.to_lowercase()).collect()
            } else {
                vec![]
            },
            name: part(&self.name),
            user_name: part(&self.user_name),
            device: part(&self.device),
            on: self.on,
            kind: self.kind.as_deref(),
            tag: self.tag.as_deref(),
            check: self.check.as_deref(),
            finding: self.finding.as_deref(),
            view: self.view.map(CredentialView::word),
            only: self.only.as_deref(),
            sort: self.part.map(|part| part.sort.word()),
            down: self.part.is_some_and(|part| part.down),
            from: self.part.map_or(0, |part| part.from),
            weak_below: self.thresholds.weak_below,
            old_days: self.thresholds.old_days,
            soon_days: self.thresholds.soon_days,
        }
    }
}

/// A pattern that finds a text anywhere; its own signs stand for themselves.
pub(crate) fn part(text: &str) -> String {
    format!("%{}%", literal(&text.to_lowercase()))
}

/// A text in a pattern, whose own signs stand for themselves.
pub(crate) fn literal(text: &str) -> String {
    text.replace('\\', "\\\\")
        .replace('%', "\\%")
        .replace('_', "\\_")
}

impl Tx {
    /// The credentials that somebody may know of, in the order of their names.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn list_credentials(
        &mut self,
        person: Uuid,
        now: DateTime<Utc>,
        query: &ListQuery,
    ) -> Result<Vec<CredentialListing>> {
        let (after_name, after_id) = query.after.clone().unwrap_or_default();
        let wanted = serde_json::to_value(query.wanted())
            .map_err(|error| StoreError::Broken(error.to_string()))?;
        let from = query.thresholds;
        let rows = rows_of(
            credential_page(
                person,
                now,
                query.limit,
                after_name.to_lowercase(),
                after_id,
                from.weak_below,
                from.old_days,
                from.soon_days,
                query.many_folders,
                wanted,
            ),
            credential_page_row::table,
            CredentialListing::as_select(),
        );
        Ok(rows.load(self.conn()?).await?)
    }

    /// What is wrong with a credential, for somebody who may see its password.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn findings_of(
        &mut self,
        credential: Uuid,
        viewer: Uuid,
        now: DateTime<Utc>,
        from: Thresholds,
    ) -> Result<Vec<String>> {
        let findings = findings_of(
            credential,
            viewer,
            now,
            from.weak_below,
            from.old_days,
            from.soon_days,
        );
        Ok(diesel::select(findings).get_result(self.conn()?).await?)
    }
}
