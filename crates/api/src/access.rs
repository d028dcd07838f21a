//! Grants and explanations.

use chrono::{DateTime, Utc};
use jexlin_core::access::Level;
use jexlin_core::access::{AccessRequestState, IssueType};
use jexlin_core::audit::TargetType;
use jexlin_core::people::{PersonState, SubjectType};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A grant.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Grant {
    /// Identifier.
    pub id: Uuid,
    /// What it stands on.
    pub target_type: TargetType,
    /// What it stands on.
    pub target: Uuid,
    /// The path of what it stands on.
    pub place: String,
    /// To what it is given.
    pub subject_type: SubjectType,
    /// Who it is for.
    pub subject: Uuid,
    /// Their name.
    pub subject_name: String,
    /// What it gives.
    pub level: Level,
    /// When it ends, if ever.
    #[schema(required)]
    pub ends_at: Option<DateTime<Utc>>,
    /// Why it was given.
    pub note: String,
    /// Of what is in the folder, only this kind.
    #[schema(required)]
    pub only_kind: Option<String>,
    /// Of what is in the folder, only what has this tag.
    #[schema(required)]
    pub only_tag: Option<String>,
    /// Whether former values may be seen as well, where values may.
    pub history: bool,
    /// For `If-Match`.
    pub version: i32,
}

/// Other terms of a grant that is there; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EditGrant {
    /// What it gives.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level: Option<Level>,
    /// When it ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends_at: Option<DateTime<Utc>>,
    /// It does not end any more.
    #[serde(default)]
    pub without_end: bool,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// Whether former values may be seen as well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub history: Option<bool>,
}

/// Grants something. Exactly one of `folder` and `credential`, one of `person` and `group`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewGrant {
    /// On a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<Uuid>,
    /// On a credential.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<Uuid>,
    /// To a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub person: Option<Uuid>,
    /// To a group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<Uuid>,
    /// What it gives.
    pub level: Level,
    /// When it ends, if ever.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends_at: Option<DateTime<Utc>>,
    /// Why.
    #[serde(default)]
    pub note: String,
    /// Of what is in the folder, only this kind.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only_kind: Option<String>,
    /// Of what is in the folder, only what has this tag.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only_tag: Option<String>,
    /// Without a look at former values.
    #[serde(default)]
    pub without_history: bool,
}

/// A change whose preview is wanted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Change {
    /// A new grant.
    Grant(NewGrant),
    /// Other terms of a grant.
    Terms(GrantTerms),
    /// A grant that is removed.
    Withdraw(Uuid),
    /// Somebody who joins a group.
    Join(Membership),
    /// Somebody who leaves a group.
    Leave(Membership),
    /// A folder that is moved, closed or opened.
    Folder(FolderChange),
    /// Credentials that are moved.
    Credentials(CredentialsMoved),
    /// What one person is a steward of, transferred to another.
    TransferStewardship(TransferStewardship),
    /// Credentials that get or lose tags.
    Tags(TagsChanged),
}

/// Credentials that get or lose tags: grants for one tag alone may reach them then, or no longer.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TagsChanged {
    /// Which; at most 200.
    pub ids: Vec<Uuid>,
    /// Tags that they get.
    #[serde(default)]
    pub add: Vec<String>,
    /// Tags that they lose.
    #[serde(default)]
    pub take_away: Vec<String>,
}

/// A grant and its other terms.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GrantTerms {
    /// The grant.
    pub id: Uuid,
    /// What becomes of it.
    pub to: EditGrant,
}

/// A person or group in a group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Membership {
    /// The group.
    pub group: Uuid,
    /// The person or group in it.
    pub member: Uuid,
}

/// What changes about the place of a folder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FolderChange {
    /// The folder.
    pub id: Uuid,
    /// Into this one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<Uuid>,
    /// To the top.
    #[serde(default)]
    pub to_top: bool,
    /// Closed or opened.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed: Option<bool>,
}

/// Credentials and where they go.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CredentialsMoved {
    /// Which.
    pub ids: Vec<Uuid>,
    /// Into this folder.
    pub to: Uuid,
}

/// Who would gain or lose what by a change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// A sentence that says it.
    pub sentence: String,
    /// How many people gain access or a higher level.
    pub gaining: usize,
    /// How many people lose access or get a lower level.
    pub losing: usize,
    /// What changes, by person; the first 500.
    pub shifts: Vec<Shift>,
    /// Whether there are more than these.
    pub more: bool,
}

/// What changes for one person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Shift {
    /// Who.
    pub person: Uuid,
    /// Their name.
    pub name: String,
    /// Whether they can sign in.
    pub state: PersonState,
    /// What they hold before.
    #[schema(required)]
    pub before: Option<Level>,
    /// What they hold after.
    #[schema(required)]
    pub after: Option<Level>,
    /// On how many credentials.
    pub credentials: u64,
    /// How many of these are under a gate.
    pub gated: u64,
}

/// Somebody who reaches a folder or a credential.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Reacher {
    /// Who.
    pub person: Uuid,
    /// Their name.
    pub name: String,
    /// Whether they can sign in.
    pub state: PersonState,
    /// What they hold.
    pub level: Level,
    /// The place of the grant by which they hold it, or `the credential itself`.
    pub stands_on: String,
    /// The groups from the person to the grant's subject.
    pub through: Vec<String>,
    /// How many other grants reach them as well.
    pub others: usize,
}

/// By which ways somebody holds a level on a folder or a credential, or why not.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// The person's name.
    pub person: String,
    /// The path of the folder or the credential.
    pub place: String,
    /// The level held.
    #[schema(required)]
    pub level: Option<Level>,
    /// A sentence that says the same.
    pub sentence: String,
    /// Every grant that reaches or would reach them; those that count first.
    pub ways: Vec<Way>,
}

/// One way.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Way {
    /// The grant.
    pub grant: Uuid,
    /// What it gives.
    pub level: Level,
    /// Where it stands.
    pub stands_on: String,
    /// The groups between the person and the grant.
    pub through: Vec<String>,
    /// Why it does not count, if it does not.
    #[schema(required)]
    pub stopped: Option<String>,
}

/// What would change if an access file were made so.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessCompared {
    /// The changes, in the order in which they would be made; the first 1,000.
    pub changes: Vec<AccessChange>,
    /// How many there are.
    pub count: usize,
    /// Stands for the present state of what the file is about; `apply` takes it as `expect`.
    pub state: String,
    /// Who would gain or lose what.
    pub preview: Preview,
}

/// One change that an access file asks for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessChange {
    /// The line of the file that says so.
    #[schema(required)]
    pub line: Option<usize>,
    /// What changes.
    pub target_type: TargetType,
    /// Its path or name.
    pub place: String,
    /// The change in words.
    pub text: String,
}

/// What came of making an access file so.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessMade {
    /// How many changes were made.
    pub count: usize,
}

/// An access issue: something wrong with who has access.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessIssue {
    /// What is wrong.
    #[serde(rename = "type")]
    pub issue_type: IssueType,
    /// The folder without a steward, or the grant.
    pub id: Uuid,
    /// The path of the folder, or of what the grant stands on.
    pub place: String,
    /// Whom the grant is for.
    #[serde(default)]
    pub subject_name: String,
    /// What it gives.
    #[schema(required)]
    pub level: Option<Level>,
    /// What to do.
    pub advice: String,
}

/// Fixes access issues, all of it or nothing.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FixAccessIssues {
    /// Takes these grants away.
    #[serde(default)]
    pub withdraw: Vec<Uuid>,
    /// Makes a person or a group a steward of these folders that have none.
    #[serde(default)]
    pub folders: Vec<Uuid>,
    /// The person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub person: Option<Uuid>,
    /// The group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<Uuid>,
}

/// What was fixed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessIssuesFixed {
    /// How many grants were taken away.
    pub withdrawn: usize,
    /// How many folders have a steward again.
    pub appointed: usize,
}

/// Hands over what one person is a steward of, by grants that name them, to another.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TransferStewardship {
    /// Whose it is.
    pub from: Uuid,
    /// Who gets it.
    pub to: Uuid,
    /// Only what stands on this folder, below it, or on credentials in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub below: Option<Uuid>,
    /// Whoever hands over keeps theirs as well.
    #[serde(default)]
    pub keep: bool,
}

/// What came of handing over.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StewardshipTransferred {
    /// The paths of what was transferred.
    pub places: Vec<String>,
}

/// Something of which the asker sees the name alone.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Discoverable {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The path of its folder.
    pub place: String,
    /// Its kind.
    pub kind: String,
    /// Whether an access request of the asker's for it waits.
    pub asked: bool,
}

/// Asks the stewards of something for a level on it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAccessRequest {
    /// The credential.
    pub credential: Uuid,
    /// `list`, `use`, `reveal` or `edit`.
    pub level: Level,
    /// What for.
    pub reason: String,
}

/// An access request for a level on something.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessRequest {
    /// Identifier.
    pub id: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// Its path.
    pub place: String,
    /// Who asked.
    pub person: Uuid,
    /// Their name.
    pub person_name: String,
    /// The level that is asked for.
    pub level: Level,
    /// What for.
    pub reason: String,
    /// Its state.
    pub state: AccessRequestState,
    /// When it was asked.
    pub asked_at: DateTime<Utc>,
    /// Who settled it.
    #[schema(required)]
    pub decided_by: Option<String>,
    /// What they said.
    pub comment: String,
    /// Whether the asker of this list may settle it.
    pub may_decide: bool,
}
