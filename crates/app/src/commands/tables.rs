//! Parts of tables, as the asker sees them.

use jexlin_api::{
    AccountTable, CheckCount, Checkout, Device, Job, Person, Request as GateRequest, Table,
};
use jexlin_core::gate::{CheckoutSort, RequestSort};
use jexlin_core::people::PersonSort;
use jexlin_core::upkeep::{AccountSort, CheckOutcome, DeviceSort, JobSort};
use jexlin_core::words::Word as _;
use jexlin_store::{TableFilter, TableOrder};

use super::checkouts::show_checkout;
use super::devices::show_device;
use super::requests::show_request;
use super::upkeep::{show_job, show_view};
use crate::error::AppResult;
use crate::unit_of_work::UnitOfWork;

/// A part of a table from its rows.
fn part<R, T>((total, rows): (i64, Vec<R>), show: impl Fn(R) -> T) -> Table<T> {
    Table {
        total,
        items: rows.into_iter().map(show).collect(),
    }
}

/// The accounts that the asker may know of.
pub async fn accounts(
    unit: &mut UnitOfWork,
    filter: TableFilter,
    order: TableOrder<AccountSort>,
) -> AppResult<AccountTable> {
    let (person, now) = (unit.person.id, unit.now);
    let tx = unit.tx()?;
    let (total, rows) = tx.account_table(person, now, &filter, order).await?;
    let counted = tx.checks_counted(person, now).await?;
    unit.commit().await?;
    Ok(AccountTable {
        total,
        items: rows.into_iter().map(show_view).collect(),
        checks: show_checks(counted),
    })
}

/// How many accounts have which outcome.
pub fn show_checks(counted: Vec<(Option<String>, i64)>) -> Vec<CheckCount> {
    let counted = counted.into_iter();
    counted
        .map(|(outcome, accounts)| CheckCount {
            outcome: outcome.and_then(|word| CheckOutcome::find(&word)),
            accounts,
        })
        .collect()
}

/// The jobs of accounts that the asker may know of.
pub async fn jobs(
    unit: &mut UnitOfWork,
    filter: TableFilter,
    order: TableOrder<JobSort>,
) -> AppResult<Table<Job>> {
    let (person, now) = (unit.person.id, unit.now);
    let found = unit.tx()?.job_table(person, now, &filter, order).await?;
    unit.commit().await?;
    Ok(part(found, show_job))
}

/// The people and clients of the organisation. Everybody may know their colleagues' names.
pub async fn people(
    unit: &mut UnitOfWork,
    filter: TableFilter,
    order: TableOrder<PersonSort>,
) -> AppResult<Table<Person>> {
    let (person, now) = (unit.person.id, unit.now);
    let found = unit.tx()?.person_table(person, now, &filter, order).await?;
    unit.commit().await?;
    Ok(part(found, super::people::show))
}

/// The devices in folders that the asker may know of.
pub async fn devices(
    unit: &mut UnitOfWork,
    filter: TableFilter,
    order: TableOrder<DeviceSort>,
) -> AppResult<Table<Device>> {
    let (person, now) = (unit.person.id, unit.now);
    let (total, rows) = unit.tx()?.device_table(person, now, &filter, order).await?;
    let mut items = vec![];
    for row in rows {
        items.push(show_device(unit, row).await?);
    }
    unit.commit().await?;
    Ok(Table { total, items })
}

/// The asker's own checkouts.
pub async fn checkouts(
    unit: &mut UnitOfWork,
    filter: TableFilter,
    order: TableOrder<CheckoutSort>,
) -> AppResult<Table<Checkout>> {
    let (person, now) = (unit.person.id, unit.now);
    let found = unit
        .tx()?
        .checkout_table(person, now, &filter, order)
        .await?;
    unit.commit().await?;
    Ok(part(found, show_checkout))
}

/// The requests to pass a gate that the asker made or may decide.
pub async fn requests(
    unit: &mut UnitOfWork,
    filter: TableFilter,
    order: TableOrder<RequestSort>,
) -> AppResult<Table<GateRequest>> {
    let (person, now) = (unit.person.id, unit.now);
    let found = unit
        .tx()?
        .request_table(person, now, &filter, order)
        .await?;
    unit.commit().await?;
    Ok(part(found, show_request))
}
