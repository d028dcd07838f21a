//! Attachments, piece by piece.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::schema::{attachment, attachment_piece, attachments_size, credential};
use crate::tx::Lock;
use crate::{Result, StoreError, Tx, Withheld};

/// An attachment without its bytes.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = attachment)]
#[allow(missing_docs, reason = "the columns are described in the migration")]
pub struct AttachmentRow {
    pub id: Uuid,
    pub organisation: Uuid,
    pub credential_id: Uuid,
    pub name: String,
    pub size: i64,
    pub pieces: i32,
    pub made_at: DateTime<Utc>,
    pub made_by: Option<Uuid>,
}

impl Tx {
    /// Adds an attachment that is whole.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the credential has one of this name.
    pub async fn add_attachment(&mut self, row: &AttachmentRow) -> Result<()> {
        diesel::insert_into(attachment::table)
            .values(row)
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Begins one whose pieces are on their way. Nobody sees it before [`Tx::finish_attachment`].
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn begin_attachment(&mut self, row: &AttachmentRow) -> Result<()> {
        diesel::insert_into(attachment::table)
            .values((row, attachment::heard_at.eq(row.made_at)))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Adds its next piece.
    ///
    /// # Errors
    /// [`StoreError`], also when it was given up meanwhile.
    pub async fn add_piece(&mut self, id: Uuid, number: i32, sealed: &[u8]) -> Result<()> {
        let organisation = self.organisation();
        diesel::insert_into(attachment_piece::table)
            .values((
                attachment_piece::organisation.eq(organisation),
                attachment_piece::attachment_id.eq(id),
                attachment_piece::number.eq(number),
                attachment_piece::sealed.eq(sealed),
            ))
            .execute(self.conn()?)
            .await?;
        Ok(())
    }

    /// Notes that a piece of it came at this time.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when it was given up meanwhile.
    pub async fn heard_of_attachment(&mut self, id: Uuid, now: DateTime<Utc>) -> Result<()> {
        let query = diesel::update(
            attachment::table
                .find(id)
                .filter(attachment::heard_at.is_not_null()),
        )
        .set(attachment::heard_at.eq(now));
        if query.execute(self.conn()?).await? == 1 {
            Ok(())
        } else {
            Err(StoreError::NotFound)
        }
    }

    /// All its pieces are there: from now on it is seen.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when the credential has one of this name by now;
    /// [`StoreError::NotFound`] when it was given up meanwhile.
    pub async fn finish_attachment(&mut self, id: Uuid, size: i64, pieces: i32) -> Result<()> {
        let query = diesel::update(
            attachment::table
                .find(id)
                .filter(attachment::heard_at.is_not_null()),
        )
        .set((
            attachment::size.eq(size),
            attachment::pieces.eq(pieces),
            attachment::heard_at.eq(None::<DateTime<Utc>>),
        ));
        if query.execute(self.conn()?).await? == 1 {
            Ok(())
        } else {
            Err(StoreError::NotFound)
        }
    }

    /// Gives up one whose pieces do not come any more.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn give_up_attachment(&mut self, id: Uuid) -> Result<()> {
        diesel::delete(
            attachment::table
                .find(id)
                .filter(attachment::heard_at.is_not_null()),
        )
        .execute(self.conn()?)
        .await?;
        Ok(())
    }

    /// Gives up all of which nothing was heard since a time. How many.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn give_up_attachments(&mut self, since: DateTime<Utc>) -> Result<usize> {
        Ok(
            diesel::delete(attachment::table.filter(attachment::heard_at.lt(since)))
                .execute(self.conn()?)
                .await?,
        )
    }

    /// The attachments of a credential, by name.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn attachments(&mut self, credential: Uuid) -> Result<Vec<AttachmentRow>> {
        let query = attachment::table
            .filter(attachment::credential_id.eq(credential))
            .filter(
                attachment::heard_at
                    .is_null()
                    .and(attachment::removed_at.is_null()),
            )
            .order(attachment::name)
            .select(AttachmentRow::as_select());
        Ok(query.load(self.conn()?).await?)
    }

    /// One attachment of a credential.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn attachment(&mut self, credential: Uuid, id: Uuid) -> Result<AttachmentRow> {
        let query = attachment::table
            .find(id)
            .filter(attachment::credential_id.eq(credential))
            .filter(
                attachment::heard_at
                    .is_null()
                    .and(attachment::removed_at.is_null()),
            )
            .select(AttachmentRow::as_select());
        Ok(query.first(self.conn()?).await?)
    }

    /// The wrapped key that opens the pieces of a credential's attachments, withheld until the
    /// event of the look is durable.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn key_of_pieces(&mut self, credential: Uuid) -> Result<Withheld<Vec<u8>>> {
        let key: Vec<u8> = credential::table
            .find(credential)
            .select(credential::data_key)
            .first(self.conn()?)
            .await?;
        Ok(self.withhold(key))
    }

    /// One sealed piece.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] when it has been removed meanwhile.
    pub async fn piece(&mut self, id: Uuid, number: i32) -> Result<Vec<u8>> {
        Ok(attachment_piece::table
            .find((id, number))
            .select(attachment_piece::sealed)
            .first(self.conn()?)
            .await?)
    }

    /// Moves an attachment to the bin, as an act of removing.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn remove_attachment(
        &mut self,
        id: Uuid,
        removal: Uuid,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let query = diesel::update(
            attachment::table
                .find(id)
                .filter(attachment::removed_at.is_null()),
        )
        .set((
            attachment::removed_at.eq(now),
            attachment::removal_id.eq(removal),
        ));
        if query.execute(self.conn()?).await? == 1 {
            Ok(())
        } else {
            Err(StoreError::NotFound)
        }
    }

    /// The bytes of all attachments of the organisation together; no other becomes whole until the
    /// transaction ends, so that two at once cannot pass the limit.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn attachments_size(&mut self) -> Result<i64> {
        self.hold(Lock::Attachments).await?;
        Ok(diesel::select(attachments_size())
            .get_result(self.conn()?)
            .await?)
    }
}
