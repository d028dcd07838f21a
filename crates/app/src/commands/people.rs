//! People: list, add, edit.

use jexlin_api::ErrorCode;
use jexlin_api::{EditPerson, NewPerson, Person};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::auth::{check_password, hash_password};
use jexlin_core::names::composed;
use jexlin_core::people::Duty;
use jexlin_core::people::PersonState;
use jexlin_core::people::PersonType;
use jexlin_core::words::Word as _;
use jexlin_store::PersonRow;
use jexlin_store::Stored;
use uuid::Uuid;

use super::auth::secret;
use super::names::named;
use super::second_person::Act;
use super::second_person::MaybePending;
use super::second_person::needs_second;
use super::second_person::propose;
use crate::error::{AppError, AppResult};
use crate::paging::{Paged, Paging, Versioned};
use crate::unit_of_work::UnitOfWork;

/// A person or a client as the interface shows it.
pub fn show(row: PersonRow) -> Person {
    Person {
        id: row.id,
        person_type: row.person_type.0,
        sign_in_name: row.sign_in_name,
        display_name: row.display_name,
        state: row.state.0,
        duties: row.duties.into_iter().map(|duty| duty.0).collect(),
        revision: row.revision,
    }
}

/// The duties that are asked for, each once and in order.
fn duties(wanted: &[Duty]) -> Vec<Duty> {
    let mut wanted = wanted.to_vec();
    wanted.sort();
    wanted.dedup();
    wanted
}

/// Duties, for a sentence.
#[must_use]
pub fn words(duties: &[Duty]) -> String {
    let words: Vec<&str> = duties.iter().map(|duty| duty.word()).collect();
    words.join(", ")
}

/// The people of the organisation. Everybody may know their colleagues' names, to share with them.
pub async fn list(
    unit: &mut UnitOfWork,
    name: Option<&str>,
    paging: Paging<String>,
) -> AppResult<Paged<Person, String>> {
    let name = name.map(composed);
    let rows = unit
        .tx()?
        .people(name.as_deref(), paging.after.as_deref(), paging.limit + 1)
        .await?;
    unit.commit().await?;
    Ok(Paged::of(
        rows,
        paging.limit,
        |row| row.sign_in_name.clone(),
        show,
    ))
}

/// Adds a person.
pub async fn add(unit: &mut UnitOfWork, body: NewPerson) -> AppResult<MaybePending<Person>> {
    unit.begin(
        Action::PersonAdd,
        TargetType::Person,
        None,
        &body.sign_in_name,
    )?;
    let password_phc = match &body.password {
        None => None,
        Some(password) => {
            let password = secret(password);
            check_password(&password).map_err(|problem| AppError::field("password", problem))?;
            Some(hash_password(&mut unit.app.rng()?, &password).map_err(AppError::internal)?)
        }
    };
    let wanted = duties(&body.duties);
    allow_giving(unit, &[], &wanted)?;
    let row = PersonRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        sign_in_name: named("sign_in_name", &body.sign_in_name)?,
        display_name: named("display_name", &body.display_name)?,
        state: if password_phc.is_some() {
            PersonState::Active
        } else {
            PersonState::Invited
        }
        .into(),
        sign_in_by: password_phc.is_some().then_some(unit.person.id),
        password_phc,
        duties: vec![],
        created_at: unit.now,
        revision: 1,
        person_type: PersonType::Person.into(),
        secret_hash: None,
    };
    unit.tx()?.add_person(&row).await?;
    unit.set_target(row.id, &row.sign_in_name);
    unit.add_detail("state", row.state.0.word());
    if wanted.is_empty() {
        unit.commit_audited().await?;
        return Ok(MaybePending::Done(1, show(row)));
    }
    // The person is there in any case; the duties may wait for a second person.
    let act = Act::GiveDuties {
        person: row.id,
        revision: 1,
        duties: wanted.clone(),
    };
    if needs_second(unit, &act).await? {
        unit.record().await?;
        let summary = format!("Give {} the duties {}", row.display_name, words(&wanted));
        if let Some(pending) = propose(unit, act, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    let row = PersonRow {
        duties: wanted.into_iter().map(Stored).collect(),
        ..row
    };
    unit.tx()?.edit_person(&row).await?;
    unit.add_detail("duties", words(&row.held_duties()));
    unit.commit_audited().await?;
    Ok(MaybePending::Done(
        2,
        show(PersonRow { revision: 2, ..row }),
    ))
}

/// Nobody gives a duty that they lack.
pub fn allow_giving(unit: &UnitOfWork, before: &[Duty], after: &[Duty]) -> AppResult<()> {
    match after
        .iter()
        .find(|duty| !before.contains(duty) && unit.duty(**duty).is_err())
    {
        None => Ok(()),
        Some(duty) => Err(AppError::forbidden(
            format!("You lack the duty `{duty}`, so you cannot give it."),
            "Ask a person who holds both that duty and `people`.",
        )),
    }
}

/// One person.
pub async fn read(unit: &mut UnitOfWork, person: Uuid) -> AppResult<Versioned<Person>> {
    let row = unit.tx()?.person(person).await?;
    unit.commit().await?;
    Ok(Versioned(row.revision, show(row)))
}

/// Sets the duties that are wanted; giving one may need a second person.
fn edit_duties(
    unit: &mut UnitOfWork,
    row: &mut PersonRow,
    body: &EditPerson,
    revision: i32,
) -> AppResult<Option<(Act, String)>> {
    let Some(wanted) = body.duties.as_deref().map(duties) else {
        return Ok(None);
    };
    allow_giving(unit, &row.held_duties(), &wanted)?;
    let gives = wanted
        .iter()
        .any(|duty| !row.duties.contains(&Stored(*duty)));
    let pending = gives.then(|| {
        let act = Act::GiveDuties {
            person: row.id,
            revision,
            duties: wanted.clone(),
        };
        let summary = format!("Give {} the duties {}", row.display_name, words(&wanted));
        (act, summary)
    });
    row.duties = wanted.into_iter().map(Stored).collect();
    unit.add_detail("duties", words(&row.held_duties()));
    Ok(pending)
}

/// Sets a password; resetting that of a person with power may need a second person.
async fn edit_password(
    unit: &mut UnitOfWork,
    row: &mut PersonRow,
    password: &jexlin_api::SecretText,
    revision: i32,
) -> AppResult<Option<(Act, String)>> {
    let password = secret(password);
    check_password(&password).map_err(|problem| AppError::field("password", problem))?;
    let phc = hash_password(&mut unit.app.rng()?, &password).map_err(AppError::internal)?;
    let now = unit.now;
    let powerful = !row.duties.is_empty() || unit.tx()?.brings_power(row.id, None, now).await?;
    let resets = row.password_phc.is_some() && powerful && row.id != unit.person.id;
    let pending = resets.then(|| {
        let act = Act::ResetPassword {
            person: row.id,
            revision,
            phc: phc.clone(),
        };
        (act, format!("Reset the password of {}", row.display_name))
    });
    row.password_phc = Some(phc);
    row.sign_in_by = Some(unit.person.id);
    if row.state == PersonState::Invited {
        row.state = PersonState::Active.into();
    }
    unit.add_detail("password", "set");
    Ok(pending)
}

fn edit_state(unit: &mut UnitOfWork, row: &mut PersonRow, state: PersonState) -> AppResult<()> {
    if row.state.0 == PersonState::Left && state != PersonState::Left {
        return Err(AppError::field(
            "state",
            "whoever has left does not come back; add them anew",
        ));
    }
    if state == PersonState::Invited {
        return Err(AppError::field(
            "state",
            "must be active, suspended or left",
        ));
    }
    if state == PersonState::Active
        && row.password_phc.is_none()
        && row.person_type != PersonType::Client
    {
        return Err(AppError::field("state", "set a password first"));
    }
    row.state = state.into();
    unit.add_detail("state", state.word());
    Ok(())
}

/// Changes a person: name, state, duties, password.
pub async fn edit(
    unit: &mut UnitOfWork,
    person: Uuid,
    revision: i32,
    body: EditPerson,
) -> AppResult<MaybePending<Person>> {
    let target = person;
    unit.begin(Action::PersonEdit, TargetType::Person, Some(target), "")?;
    let mut row = unit.tx()?.person(target).await?;
    unit.set_target(target, &row.sign_in_name);
    if target == unit.person.id && (body.state.is_some() || body.duties.is_some()) {
        return Err(AppError::forbidden(
            "You cannot change your own state or duties.",
            "Ask another holder of the duty `people`.",
        ));
    }
    if let Some(name) = &body.display_name {
        row.display_name = named("display_name", name)?;
        unit.add_detail("display_name", row.display_name.clone());
    }
    if row.person_type == PersonType::Client
        && (body.password.is_some()
            || body
                .duties
                .as_ref()
                .is_some_and(|duties| !duties.is_empty()))
    {
        return Err(AppError::field(
            "password",
            "a client has a secret instead, and no duties",
        ));
    }
    let mut pending = edit_duties(unit, &mut row, &body, revision)?;
    if let Some(password) = &body.password {
        pending = edit_password(unit, &mut row, password, revision)
            .await?
            .or(pending);
    }
    if let Some((act, summary)) = pending
        && needs_second(unit, &act).await?
    {
        if body.display_name.is_some()
            || body.state.is_some()
            || (body.duties.is_some() && body.password.is_some())
        {
            return Err(AppError::conflict(
                ErrorCode::NeedsSecondPerson,
                "This change waits for a second person, and must be sent alone.",
                "Send it again without the other changes.",
            ));
        }
        if let Some(pending) = propose(unit, act, &summary).await? {
            return Ok(MaybePending::Pending(pending));
        }
    }
    if let Some(state) = body.state {
        edit_state(unit, &mut row, state)?;
    }
    row.revision = revision;
    let now = unit.now;
    unit.tx()?.edit_person(&row).await?;
    if row.state != PersonState::Active || body.password.is_some() {
        unit.tx()?.end_sessions_of(target, None, now).await?;
    }
    unit.commit_audited().await?;
    row.revision += 1;
    Ok(MaybePending::Done(row.revision, show(row)))
}
