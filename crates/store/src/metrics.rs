//! Numbers for monitoring.

use chrono::{DateTime, Utc};
use diesel::dsl::count_star;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use jexlin_core::upkeep::JobState;

use crate::schema::{audit_event, audit_leaf, checkout, job, session};
use crate::stored::Stored;
use crate::{Result, Tx};

/// How much of what there is in one organisation.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Jobs that have not ended, by their state.
    pub jobs: Vec<(JobState, i64)>,
    /// Sessions that have not ended.
    pub sessions: i64,
    /// Checkouts that have not ended.
    pub checkouts: i64,
    /// Events that are not in the tree of the log yet.
    pub events_to_sign: i64,
}

impl Tx {
    /// Counts what monitoring shows.
    ///
    /// # Errors
    /// [`crate::StoreError`].
    pub async fn counts(&mut self, now: DateTime<Utc>) -> Result<Counts> {
        let mut counts = Counts::default();
        for state in [JobState::Queued, JobState::Running] {
            let number = job::table
                .filter(job::state.eq(Stored(state)))
                .select(count_star())
                .get_result(self.conn()?)
                .await?;
            counts.jobs.push((state, number));
        }
        counts.sessions = session::table
            .filter(session::ended_at.is_null())
            .filter(session::ends_at.gt(now))
            .select(count_star())
            .get_result(self.conn()?)
            .await?;
        counts.checkouts = checkout::table
            .filter(checkout::ended_at.is_null())
            .select(count_star())
            .get_result(self.conn()?)
            .await?;
        let sealed = audit_leaf::table
            .filter(audit_leaf::event_id.eq(audit_event::id))
            .select(audit_leaf::event_id);
        // Those of the last day: what has not been sealed for longer is a stray, and told as such.
        counts.events_to_sign = audit_event::table
            .filter(audit_event::at.gt(now - chrono::TimeDelta::days(1)))
            .filter(diesel::dsl::not(diesel::dsl::exists(sealed)))
            .select(count_star())
            .get_result(self.conn()?)
            .await?;
        Ok(counts)
    }
}
