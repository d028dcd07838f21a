//! Dialogues, each version for itself.

use chrono::{DateTime, Utc};
use diesel::dsl::{count_star, max};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::schema::{device, dialogue, lower, person};
use crate::{Result, Tx};

/// A version of a dialogue.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = dialogue)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct DialogueRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub name: String,
    pub number: i32,
    pub text: String,
    pub digest: String,
    pub added_at: DateTime<Utc>,
    pub added_by: Option<Uuid>,
}

/// A version of a dialogue, with who added it and how many devices use it.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "each says what its name says")]
pub struct DialogueView {
    pub row: DialogueRow,
    pub added_by_name: String,
    pub devices: i64,
}

impl Tx {
    /// Adds a version of a dialogue.
    ///
    /// # Errors
    /// [`crate::StoreError::Conflict`] when the number is taken.
    pub async fn add_dialogue(&mut self, row: &DialogueRow) -> Result<()> {
        diesel::insert_into(dialogue::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// The number of the next version of a name.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn next_dialogue_number(&mut self, name: &str) -> Result<i32> {
        let last: Option<i32> = dialogue::table
            .filter(lower(dialogue::name).eq(lower(name)))
            .select(max(dialogue::number))
            .first(self.conn()?)
            .await?;
        Ok(last.unwrap_or(0) + 1)
    }

    /// A version of a dialogue.
    ///
    /// # Errors
    /// [`crate::StoreError::NotFound`].
    pub async fn dialogue(&mut self, id: Uuid) -> Result<DialogueRow> {
        Ok(dialogue::table
            .find(id)
            .select(DialogueRow::as_select())
            .first(self.conn()?)
            .await?)
    }

    /// All versions of all dialogues, by name, the newest version of each first.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn dialogues(&mut self) -> Result<Vec<DialogueView>> {
        let rows: Vec<(DialogueRow, Option<String>)> = dialogue::table
            .left_join(person::table.on(dialogue::added_by.eq(person::id.nullable())))
            .order((lower(dialogue::name), dialogue::number.desc()))
            .select((DialogueRow::as_select(), person::display_name.nullable()))
            .load(self.conn()?)
            .await?;
        let used: Vec<(Option<Uuid>, i64)> = device::table
            .filter(device::removed_at.is_null())
            .filter(device::dialogue_id.is_not_null())
            .group_by(device::dialogue_id)
            .select((device::dialogue_id, count_star()))
            .load(self.conn()?)
            .await?;
        let devices = |id: Uuid| {
            used.iter()
                .find(|(dialogue, _)| *dialogue == Some(id))
                .map_or(0, |(_, devices)| *devices)
        };
        Ok(rows
            .into_iter()
            .map(|(row, name)| DialogueView {
                devices: devices(row.id),
                added_by_name: name.unwrap_or_default(),
                row,
            })
            .collect())
    }
}
