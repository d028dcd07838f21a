//! Parts of tables that the service sorts and narrows, for whoever looks at a screenful of a long
//! list. Each call looks at every row of its table: to read all, use the list.

use jexlin_api::{AccountTable, Checkout, Device, Job, Person, Request, Table};
use jexlin_app::commands;
use jexlin_app::paging::MOST_ITEMS;
use jexlin_core::gate::{CheckoutEnd, CheckoutSort, RequestSort, RequestState};
use jexlin_core::names::composed;
use jexlin_core::people::{Duty, PersonSort, PersonState, PersonType};
use jexlin_core::upkeep::{
    AccountSort, CheckOutcome, ConnectorKind, DeviceIdentityState, DevicePause, DeviceSort,
    JobCause, JobOutcome, JobSort, JobState, Task,
};
use jexlin_core::words::Word;
use jexlin_store::{TableFilter, TableOrder};
use rocket::{FromForm, Route, get, routes};

use super::payload::{Sent, maybe_id, word};
use crate::error::ApiResult;
use crate::guards::Unit;

pub fn routes() -> Vec<Route> {
    routes![accounts, jobs, people, devices, checkouts, requests]
}

/// Which part of a table is wanted, in which order, and the words that its rows hold.
#[derive(Debug, FromForm)]
pub struct Wanted<'r> {
    find: Option<&'r str>,
    sort: Option<&'r str>,
    from: Option<i64>,
    limit: Option<i64>,
}

impl Wanted<'_> {
    /// The order that is asked for, such as `-checked`; `first` when nothing is.
    fn order<S: Word>(&self, first: (S, bool)) -> ApiResult<TableOrder<S>> {
        let named = self.sort.map(|sort| sort.trim_start_matches('-'));
        let (sort, down) = match word("sort", named)? {
            Some(sort) => (sort, self.sort.is_some_and(|sort| sort.starts_with('-'))),
            None => first,
        };
        Ok(TableOrder {
            sort,
            down,
            from: self.from.unwrap_or(0).max(0),
            limit: self.limit.unwrap_or(100).clamp(1, MOST_ITEMS),
        })
    }

    /// What rows must hold: a part of a text in any case, or exactly a word.
    fn filter(
        &self,
        parts: &[(&'static str, Option<&str>)],
        exactly: &[(&'static str, Option<&str>)],
    ) -> TableFilter {
        TableFilter {
            find: commands::credential_lists::words_of(self.find),
            parts: given(parts)
                .map(|(name, text)| (name, composed(text)))
                .collect(),
            exactly: given(exactly)
                .map(|(name, text)| (name, text.to_owned()))
                .collect(),
        }
    }
}

/// Those that have a value.
fn given<'a>(
    named: &'a [(&'static str, Option<&'a str>)],
) -> impl Iterator<Item = (&'static str, &'a str)> {
    named
        .iter()
        .filter_map(|(name, value)| Some((*name, (*value)?)))
}

/// A word of `W`, or this other one, as it was written.
fn word_or<'r, W: Word>(
    name: &'static str,
    text: Option<&'r str>,
    other: &str,
) -> ApiResult<Option<&'r str>> {
    if text != Some(other) {
        let _: Option<W> = word(name, text)?;
    }
    Ok(text)
}

/// A part of the table of the accounts that the caller may list, from any row on, with the number
/// of all rows. `sort` is `credential`, `device`, `state`, `checked`, `rotated`, `next-check` or
/// `next-rotation`; with `-` before it the last come first. `check` is an outcome, or
/// `never-checked`.
#[utoipa::path(operation_id = "upkeep_account_table", context_path = "", params(
    ("credential" = Option<String>, Query), ("device" = Option<String>, Query), ("check" = Option<String>, Query), ("find" = Option<String>, Query), ("sort" = Option<String>, Query), ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = AccountTable)))]
#[get("/api/v1/upkeep/table?<credential>&<device>&<check>&<wanted..>")]
pub async fn accounts(
    mut unit: Unit,
    credential: Option<&str>,
    device: Option<&str>,
    check: Option<&str>,
    wanted: Wanted<'_>,
) -> ApiResult<Sent<AccountTable>> {
    let check = word_or::<CheckOutcome>("check", check, "never-checked")?;
    let parts = [("credential", credential), ("device", device)];
    let filter = wanted.filter(&parts, &[("check", check)]);
    let order = wanted.order((AccountSort::Credential, false))?;
    Ok(Sent(
        commands::tables::accounts(&mut unit, filter, order).await?,
    ))
}

/// A part of the table of the jobs that the caller may list, from any row on, with the number of
/// all rows. `sort` is `queued`, `task`, `credential`, `device`, `state` or `cause`; with `-` before
/// it the last come first. `state` is the outcome of a job that has ended, or the state of one that
/// has not; `on` is a device.
#[utoipa::path(operation_id = "upkeep_job_table", context_path = "", params(
    ("credential" = Option<String>, Query), ("device" = Option<String>, Query), ("on" = Option<String>, Query), ("task" = Option<Task>, Query), ("state" = Option<String>, Query), ("cause" = Option<JobCause>, Query), ("find" = Option<String>, Query), ("sort" = Option<String>, Query), ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = Table<Job>)))]
#[get("/api/v1/jobs/table?<credential>&<device>&<on>&<task>&<state>&<cause>&<wanted..>")]
pub async fn jobs(
    mut unit: Unit,
    credential: Option<&str>,
    device: Option<&str>,
    on: Option<&str>,
    task: Option<&str>,
    state: Option<&str>,
    cause: Option<&str>,
    wanted: Wanted<'_>,
) -> ApiResult<Sent<Table<Job>>> {
    let on = maybe_id(on)?.map(|device| device.to_string());
    let _: Option<Task> = word("task", task)?;
    let _: Option<JobCause> = word("cause", cause)?;
    if state.is_none_or(|state| JobState::find(state).is_none()) {
        let _: Option<JobOutcome> = word("state", state)?;
    }
    let parts = [("credential", credential), ("device", device)];
    let exactly = [
        ("on", on.as_deref()),
        ("task", task),
        ("state", state),
        ("cause", cause),
    ];
    let filter = wanted.filter(&parts, &exactly);
    let order = wanted.order((JobSort::Queued, true))?;
    Ok(Sent(
        commands::tables::jobs(&mut unit, filter, order).await?,
    ))
}

/// A part of the table of the people of the organisation, or with `kind=client` of its clients, from
/// any row on, with the number of all rows. `sort` is `name`, `sign-in-name`, `state` or `duties`;
/// with `-` before it the last come first. `name` is a part of either name, `group` of the name of a
/// group that they are directly in.
#[utoipa::path(operation_id = "people_table", context_path = "", params(
    ("name" = Option<String>, Query), ("group" = Option<String>, Query), ("kind" = Option<PersonType>, Query), ("state" = Option<PersonState>, Query), ("duty" = Option<Duty>, Query), ("find" = Option<String>, Query), ("sort" = Option<String>, Query), ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = Table<Person>)))]
#[get("/api/v1/people/table?<name>&<group>&<kind>&<state>&<duty>&<wanted..>")]
pub async fn people(
    mut unit: Unit,
    name: Option<&str>,
    group: Option<&str>,
    kind: Option<&str>,
    state: Option<&str>,
    duty: Option<&str>,
    wanted: Wanted<'_>,
) -> ApiResult<Sent<Table<Person>>> {
    let person_type = word("kind", kind)?.unwrap_or(PersonType::Person);
    let _: Option<PersonState> = word("state", state)?;
    let _: Option<Duty> = word("duty", duty)?;
    let parts = [("name", name), ("group", group)];
    let exactly = [
        ("type", Some(person_type.word())),
        ("state", state),
        ("duty", duty),
    ];
    let filter = wanted.filter(&parts, &exactly);
    let order = wanted.order((PersonSort::Name, false))?;
    Ok(Sent(
        commands::tables::people(&mut unit, filter, order).await?,
    ))
}

/// A part of the table of the devices in folders that the caller may list, from any row on, with
/// the number of all rows. `sort` is `name`, `type`, `folder`, `address`, `accounts`, `identity` or
/// `state`; with `-` before it the last come first. `identity` is `confirmed` or `not-confirmed`,
/// `state` is `paused` or `not-paused`.
#[utoipa::path(operation_id = "devices_table", context_path = "", params(
    ("name" = Option<String>, Query), ("folder" = Option<String>, Query), ("address" = Option<String>, Query), ("kind" = Option<ConnectorKind>, Query), ("identity" = Option<String>, Query), ("state" = Option<String>, Query), ("find" = Option<String>, Query), ("sort" = Option<String>, Query), ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = Table<Device>)))]
#[get("/api/v1/devices/table?<name>&<folder>&<address>&<kind>&<identity>&<state>&<wanted..>")]
pub async fn devices(
    mut unit: Unit,
    name: Option<&str>,
    folder: Option<&str>,
    address: Option<&str>,
    kind: Option<&str>,
    identity: Option<&str>,
    state: Option<&str>,
    wanted: Wanted<'_>,
) -> ApiResult<Sent<Table<Device>>> {
    let _: Option<ConnectorKind> = word("kind", kind)?;
    let _: Option<DeviceIdentityState> = word("identity", identity)?;
    let _: Option<DevicePause> = word("state", state)?;
    let parts = [("name", name), ("folder", folder), ("address", address)];
    let exactly = [("type", kind), ("identity", identity), ("state", state)];
    let filter = wanted.filter(&parts, &exactly);
    let order = wanted.order((DeviceSort::Name, false))?;
    Ok(Sent(
        commands::tables::devices(&mut unit, filter, order).await?,
    ))
}

/// A part of the table of the caller's own checkouts, from any row on, with the number of all rows.
/// `sort` is `from`, `until`, `credential`, `ended` or `reason`; with `-` before it the last come
/// first. `ended` is how one ended, or `held-now`.
#[utoipa::path(operation_id = "checkouts_table", context_path = "", params(
    ("credential" = Option<String>, Query), ("reason" = Option<String>, Query), ("ended" = Option<String>, Query), ("find" = Option<String>, Query), ("sort" = Option<String>, Query), ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = Table<Checkout>)))]
#[get("/api/v1/checkouts/table?<credential>&<reason>&<ended>&<wanted..>")]
pub async fn checkouts(
    mut unit: Unit,
    credential: Option<&str>,
    reason: Option<&str>,
    ended: Option<&str>,
    wanted: Wanted<'_>,
) -> ApiResult<Sent<Table<Checkout>>> {
    let ended = word_or::<CheckoutEnd>("ended", ended, "held-now")?;
    let parts = [("credential", credential), ("reason", reason)];
    let filter = wanted.filter(&parts, &[("ended", ended)]);
    let order = wanted.order((CheckoutSort::From, true))?;
    Ok(Sent(
        commands::tables::checkouts(&mut unit, filter, order).await?,
    ))
}

/// A part of the table of the requests that the caller made or may decide, from any row on, with the
/// number of all rows. `sort` is `asked`, `state`, `credential`, `who`, `minutes` or `reason`; with
/// `-` before it the last come first.
#[utoipa::path(operation_id = "requests_table", context_path = "", params(
    ("credential" = Option<String>, Query), ("who" = Option<String>, Query), ("reason" = Option<String>, Query), ("state" = Option<RequestState>, Query), ("find" = Option<String>, Query), ("sort" = Option<String>, Query), ("from" = Option<i64>, Query), ("limit" = Option<i64>, Query)
), responses((status = 200, body = Table<Request>)))]
#[get("/api/v1/requests/table?<credential>&<who>&<reason>&<state>&<wanted..>")]
pub async fn requests(
    mut unit: Unit,
    credential: Option<&str>,
    who: Option<&str>,
    reason: Option<&str>,
    state: Option<&str>,
    wanted: Wanted<'_>,
) -> ApiResult<Sent<Table<Request>>> {
    let _: Option<RequestState> = word("state", state)?;
    let parts = [("credential", credential), ("who", who), ("reason", reason)];
    let filter = wanted.filter(&parts, &[("state", state)]);
    let order = wanted.order((RequestSort::Asked, true))?;
    Ok(Sent(
        commands::tables::requests(&mut unit, filter, order).await?,
    ))
}
