//! The records: PostgreSQL through Diesel, and nothing else writes SQL.
//!
//! Everything happens in a [`Tx`], which is bound to one organisation from its first statement:
//! row-level security shows nothing of any other (promise 5), and a transaction that forgot its
//! organisation would see no row at all. The action and its audit event commit together
//! (promise 3): [`Tx::record`] puts the event in, [`Tx::commit_recorded`] makes both durable and
//! returns the [`Receipt`] without which a [`Withheld`] secret cannot be read (promise 1).

mod access;
mod access_index;
mod access_issues;
mod access_requests;
mod accounts;
mod assessments;
mod attachments;
mod audit;
mod credential_lists;
mod credentials;
mod devices;
mod dialogues;
mod error;
mod favourites;
mod folders;
mod found_accounts;
mod gates;
mod groups;
mod imports;
mod keys;
mod kinds;
mod listener;
mod lookup;
mod metrics;
mod migrations;
mod organisations;
mod password_rules;
mod pending_acts;
mod people;
mod personal;
mod policies;
mod removal;
mod rows_of;
pub mod schema;
mod sessions;
mod set_up;
mod settings;
mod stored;
mod tables;
mod tx;
mod upkeep;

pub use access::{Approach, GrantRow, GrantView, Subject, Target};
pub use access_index::Spot;
pub use access_issues::{CredentialPlace, IdleGrant, Orphan};
pub use access_requests::{AccessRequestRow, AccessRequestView, DiscoverableView};
pub use accounts::{AccountRow, BindingView, ScopeEntry};
pub use assessments::{AssessmentRow, ToAssess};
pub use attachments::AttachmentRow;
pub use audit::{EventFilter, EventRow, ExportChunk, SealOutcome, Sealer};
pub use credential_lists::{CredentialListing, ListQuery, TablePart, Thresholds};
pub use credentials::{CredentialChange, CredentialRow, NewVersion, SealedVersion, VersionRow};
pub use devices::{DeviceRow, FamilyRow};
pub use dialogues::{DialogueRow, DialogueView};
pub use error::{Conflict, StoreError};
pub use favourites::{SavedSearchRow, SeenRow};
pub use folders::{FolderRow, VisibleFolder};
pub use found_accounts::LastListing;
pub use gates::{
    ApproverRow, CheckoutRow, CheckoutView, GateRow, GateView, OpenPassage, RequestGateRow,
    RequestRow, RequestView,
};
pub use groups::{GroupRow, MemberRow};
pub use imports::{ImportRow, ImportedRow};
pub use keys::{Fingerprinted, ServiceRow, ToRewrap};
pub use kinds::KindRow;
pub use listener::{LiveNews, listen};
pub use metrics::Counts;
pub use migrations::migrate;
pub use organisations::OrganisationRow;
pub use password_rules::RuleRow;
pub use pending_acts::{PendingActRow, PendingActView};
pub use people::PersonRow;
pub use personal::{PersonalFolderRow, PersonalItemRow};
pub use policies::PolicyRow;
pub use removal::{RemovalRow, RemovalView};
pub use sessions::{SessionRow, Throttle};
pub use set_up::{DATABASE, OWNER, SERVICE, set_up_database};
pub use settings::SettingsRow;
pub use stored::Stored;
pub use tables::{TableFilter, TableOrder};
pub use tx::{OpenOrganisation, Receipt, Store, Tx, Withheld, addresses_of};
pub use upkeep::{JobFacts, JobFilter, JobRow, JobView, LeasedJob, PlanRow, UpkeepView};

/// The result of everything here.
pub type Result<T> = std::result::Result<T, StoreError>;
