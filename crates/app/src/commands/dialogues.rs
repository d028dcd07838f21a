//! Dialogues and recipes: added, inspected, rehearsed.

use jexlin_api::{
    Dialogue, DialogueFile, DialogueFinding, DialogueRehearsal, DialogueTurn, InspectDialogue,
    NewDialogue, Page, RehearseDialogue,
};
use jexlin_core::audit::{Action, TargetType};
use jexlin_core::dialogue::{Ending, Finding, Instructions, Rehearsal, Severity, Turn};
use jexlin_store::{DialogueRow, DialogueView};
use uuid::Uuid;

use super::names::named;
use crate::error::{AppError, AppResult};
use crate::paging::Versioned;
use crate::unit_of_work::UnitOfWork;

/// A name has at most so many versions.
const MOST_VERSIONS: i32 = 1000;

fn show(view: DialogueView, newest: bool) -> Dialogue {
    let read = Instructions::read(&view.row.text).ok();
    Dialogue {
        id: view.row.id,
        name: view.row.name,
        kind: read.as_ref().map(Instructions::kind),
        number: view.row.number,
        newest,
        title: read
            .as_ref()
            .map_or_else(String::new, |it| it.head().title().into()),
        about: read
            .as_ref()
            .map_or_else(String::new, |it| it.head().about().into()),
        purposes: read.map_or_else(Vec::new, |it| it.head().purposes().collect()),
        devices: view.devices,
        added_at: view.row.added_at,
        added_by_name: view.added_by_name,
    }
}

/// All versions of all dialogues, by name, the newest of each first. Everybody may read them, as
/// they may read what types of devices there are.
pub async fn list(unit: &mut UnitOfWork) -> AppResult<Page<Dialogue>> {
    let views = unit.tx()?.dialogues().await?;
    unit.commit().await?;
    let mut items: Vec<Dialogue> = vec![];
    for view in views {
        let newest = items
            .last()
            .is_none_or(|last| last.name.to_lowercase() != view.row.name.to_lowercase());
        items.push(show(view, newest));
    }
    Ok(Page { items, next: None })
}

/// One version of a dialogue with its file.
pub async fn read(unit: &mut UnitOfWork, id: Uuid) -> AppResult<DialogueFile> {
    let all = unit.tx()?.dialogues().await?;
    unit.commit().await?;
    let view = all
        .iter()
        .find(|view| view.row.id == id)
        .ok_or_else(|| AppError::unknown("dialogue"))?;
    let same =
        |other: &&DialogueView| other.row.name.to_lowercase() == view.row.name.to_lowercase();
    let newest = all.iter().filter(same).map(|other| other.row.number).max();
    Ok(DialogueFile {
        text: view.row.text.clone(),
        dialogue: show(view.clone(), newest == Some(view.row.number)),
    })
}

/// The findings of a file that keep it from being used, as one sentence.
fn errors(findings: &[Finding]) -> Option<String> {
    let wrong: Vec<String> = findings
        .iter()
        .filter(|finding| finding.severity == Severity::Error)
        .map(ToString::to_string)
        .collect();
    (!wrong.is_empty()).then(|| wrong.join("; "))
}

/// Adds a dialogue or recipe, or another version of one. Devices keep the version that they have.
pub async fn add(unit: &mut UnitOfWork, body: NewDialogue) -> AppResult<Versioned<Dialogue>> {
    unit.begin(Action::DialogueAdd, TargetType::Dialogue, None, &body.name)?;
    let (read, findings) = Instructions::inspect(&body.text);
    if let Some(wrong) = errors(&findings) {
        return Err(AppError::field("text", wrong));
    }
    let read = read.ok_or_else(|| AppError::internal("no dialogue and no error"))?;
    let name = named("name", &body.name)?;
    let number = unit.tx()?.next_dialogue_number(&name).await?;
    if number > MOST_VERSIONS {
        return Err(AppError::field(
            "name",
            format!("a dialogue has at most {MOST_VERSIONS} versions"),
        ));
    }
    let row = DialogueRow {
        id: Uuid::now_v7(),
        organisation: unit.organisation(),
        name,
        number,
        text: body.text,
        digest: read.head().digest().to_owned(),
        added_at: unit.now,
        added_by: Some(unit.person.id),
    };
    unit.tx()?.add_dialogue(&row).await?;
    unit.set_target(row.id, &row.name);
    unit.add_detail("version", row.number.to_string());
    unit.add_detail("sha256", row.digest.clone());
    let added_by_name = unit.person.display_name.clone();
    unit.commit_audited().await?;
    let view = DialogueView {
        row,
        added_by_name,
        devices: 0,
    };
    Ok(Versioned(number, show(view, true)))
}

/// What is wrong with a file. Nothing is kept.
pub async fn inspect(
    unit: &mut UnitOfWork,
    body: InspectDialogue,
) -> AppResult<Page<DialogueFinding>> {
    unit.commit().await?;
    let items = Instructions::inspect(&body.text)
        .1
        .into_iter()
        .map(|finding| DialogueFinding {
            severity: finding.severity,
            line: finding.line,
            step: finding.step,
            message: finding.message,
        })
        .collect();
    Ok(Page { items, next: None })
}

/// How a rehearsal ended, in words.
#[must_use]
pub fn result_of(rehearsal: &Rehearsal) -> String {
    match (&rehearsal.problem, &rehearsal.ending) {
        (Some(problem), _) => problem.clone(),
        (None, Some(Ending::Done)) => "done".into(),
        (None, Some(Ending::Refused(why))) => format!("refused: {why}"),
        (None, Some(Ending::WrongPassword)) => "the password is wrong".into(),
        (None, Some(Ending::Locked(why))) => format!("the account is locked: {why}"),
        (None, Some(Ending::GaveUp(why))) => format!("given up: {why}"),
        (None, None) => "it did not end".into(),
    }
}

/// Talks to a transcript instead of a device. Nothing is kept.
pub async fn rehearse(
    unit: &mut UnitOfWork,
    body: RehearseDialogue,
) -> AppResult<DialogueRehearsal> {
    unit.commit().await?;
    let (read, findings) = Instructions::inspect(&body.text);
    let read = match (read, errors(&findings)) {
        (Some(read), None) => read,
        (_, wrong) => return Err(AppError::field("text", wrong.unwrap_or_default())),
    };
    let rehearsal = read.rehearse(body.purpose, &body.account, &body.transcript);
    Ok(DialogueRehearsal {
        done: rehearsal.problem.is_none() && rehearsal.ending == Some(Ending::Done),
        result: result_of(&rehearsal),
        accounts: rehearsal.found,
        turns: rehearsal
            .turns
            .into_iter()
            .map(|turn| match turn {
                Turn::Heard(text) => DialogueTurn { typed: false, text },
                Turn::Said(text) => DialogueTurn { typed: true, text },
            })
            .collect(),
    })
}
