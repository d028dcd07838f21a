//! Gates, requests and checkouts.

use clap::builder::BoolishValueParser;
use clap::{Args, Subcommand};
use jexlin_api::words::{RequestState, SubjectType, Word};
use jexlin_api::{
    Checkout as CheckoutItem, Decide, Gate as GateItem, Me, NewCheckout, NewGate, NewRequest,
    Request as RequestItem,
};
use serde_json::json;
use uuid::Uuid;

use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Gates.
#[derive(Debug, Subcommand)]
pub enum Gate {
    /// List gates
    List,
    /// Show the gate of a folder, a device or a credential
    Show {
        #[command(flatten)]
        place: GateAt,
    },
    /// Add a gate to a folder, a device or a credential that has none of its own
    #[command(
        after_help = "EXAMPLE\n  jexlin gate add --folder /Works --needs-reason --approver-group \"Shift leads\" --minutes 60 --one-holder --rotate-on-return"
    )]
    Add {
        #[command(flatten)]
        place: GateAt,
        #[command(flatten)]
        conditions: GateArgs,
    },
    /// Edit the gate of a folder, a device or a credential; what is not given stays as it is
    #[command(after_help = "EXAMPLES
  jexlin gate edit --folder \"/Control room\" --minutes 90
  jexlin gate edit --folder \"/Control room\" --one-holder=no")]
    Edit {
        #[command(flatten)]
        place: GateAt,
        #[command(flatten)]
        conditions: GateArgs,
        /// No approval is needed any more
        #[arg(long, conflicts_with_all = ["approver", "approver_group"])]
        no_approval: bool,
    },
    /// Remove the gate of a folder, a device or a credential
    Remove {
        #[command(flatten)]
        place: GateAt,
    },
}

/// The conditions of a gate.
#[derive(Debug, Args)]
pub struct GateArgs {
    /// Whether a reason is required
    #[arg(long, value_name = "yes|no", num_args = 0..=1, require_equals = true, default_missing_value = "yes", value_parser = BoolishValueParser::new())]
    pub needs_reason: Option<bool>,
    /// A person who may approve (repeatable); one approval is then needed. All approvers are given
    #[arg(long, value_name = "NAME")]
    pub approver: Vec<String>,
    /// A group whose members may approve (repeatable)
    #[arg(long, value_name = "NAME")]
    pub approver_group: Vec<String>,
    /// The maximum duration of a checkout, in minutes [default: 60]
    #[arg(long)]
    pub minutes: Option<i32>,
    /// Whether one holder at a time is allowed
    #[arg(long, value_name = "yes|no", num_args = 0..=1, require_equals = true, default_missing_value = "yes", value_parser = BoolishValueParser::new())]
    pub one_holder: Option<bool>,
    /// Whether the password is rotated when a checkout ends
    #[arg(long, value_name = "yes|no", num_args = 0..=1, require_equals = true, default_missing_value = "yes", value_parser = BoolishValueParser::new())]
    pub rotate_on_return: Option<bool>,
}

/// Requests.
#[derive(Debug, Subcommand)]
pub enum Request {
    /// List your requests, and those that you may decide
    List {
        /// waiting, approved, refused, withdrawn or expired
        #[arg(long)]
        state: Option<RequestState>,
    },
    /// Show a request
    Show {
        /// The request, as `request list --wide` shows it
        id: uuid::Uuid,
    },
    /// Ask to pass a gate
    Ask {
        /// The credential
        path: String,
        /// The reason
        #[arg(long, default_value = "")]
        reason: String,
        /// For how many minutes
        #[arg(long, default_value_t = 60)]
        minutes: i32,
    },
    /// Approve a request
    Approve {
        /// The request, as `request list --wide` shows it
        id: uuid::Uuid,
        /// A comment for the requester
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Refuse a request
    Refuse {
        /// The request, as `request list --wide` shows it
        id: uuid::Uuid,
        /// A comment for the requester
        #[arg(long, default_value = "")]
        comment: String,
    },
    /// Withdraw your request
    Withdraw {
        /// The request, as `request list --wide` shows it
        id: uuid::Uuid,
    },
}

/// What a gate is on: exactly one of these.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub struct GateAt {
    /// A folder, for everything in and below it
    #[arg(long, value_name = "PATH")]
    pub folder: Option<String>,
    /// A device, for all its accounts
    #[arg(long, value_name = "PATH")]
    pub device: Option<String>,
    /// A credential
    #[arg(long, value_name = "PATH")]
    pub credential: Option<String>,
}

/// Checkouts.
#[derive(Debug, Subcommand)]
pub enum Checkout {
    /// List your checkouts, or everybody's for a credential
    List {
        /// Of this credential
        #[arg(long, value_name = "PATH")]
        credential: Option<String>,
        /// Only those that are open
        #[arg(long)]
        open: bool,
    },
    /// Check a credential out: with an approved request, or with a reason where no approval is
    /// needed
    Take {
        /// The credential
        path: String,
        /// The approved request [default: your newest for this credential]
        #[arg(long, value_name = "ID")]
        request: Option<uuid::Uuid>,
        /// The reason, where no approval is needed
        #[arg(long, default_value = "")]
        reason: String,
        /// For how many minutes, where no approval is needed
        #[arg(long)]
        minutes: Option<i32>,
    },
    /// Check a credential in
    CheckIn {
        /// The credential
        path: String,
    },
    /// Recall somebody's checkout, as a steward
    Recall {
        /// The checkout, as `checkout list --wide` shows it
        id: uuid::Uuid,
    },
}

const REQUEST: [Column; 8] = [
    ("id", "id"),
    ("state", "state"),
    ("credential", "credential_path"),
    ("who", "person_name"),
    ("minutes", "minutes"),
    ("reason", "reason"),
    ("asked", "asked_at"),
    ("comment", "comment"),
];
const CHECKOUT: [Column; 7] = [
    ("id", "id"),
    ("credential", "credential_path"),
    ("holder", "person_name"),
    ("from", "starts_at"),
    ("until", "ends_at"),
    ("ended", "ended_how"),
    ("reason", "reason"),
];

impl Run {
    /// What a gate is on: a folder, a device or a credential.
    fn gate_place(&self, place: &GateAt) -> Result<[Option<uuid::Uuid>; 3], ClientError> {
        let device = place
            .device
            .as_deref()
            .map(|path| lookup::device(&self.connection, path))
            .transpose()?;
        let folder = place
            .folder
            .as_deref()
            .map(|path| lookup::folder(&self.connection, path))
            .transpose()?
            .map(|folder| folder.id);
        let credential = place
            .credential
            .as_deref()
            .map(|path| lookup::credential(&self.connection, path))
            .transpose()?;
        Ok([folder, device, credential])
    }

    /// The gate that is on something itself.
    fn own_gate(&self, place: &GateAt) -> Result<GateItem, ClientError> {
        let [folder, device, credential] = self.gate_place(place)?;
        let target = folder.or(device).or(credential);
        self.connection
            .list::<GateItem>("/api/v1/gates", None)?
            .into_iter()
            .find(|gate| Some(gate.target) == target)
            .ok_or_else(|| {
                ClientError::unknown("It has no gate of its own.", "List gates: jexlin gate list")
            })
    }

    /// What is given takes the place of what was there. Approvers are given all at once.
    fn conditions(&self, mut gate: NewGate, given: &GateArgs) -> Result<NewGate, ClientError> {
        if !given.approver.is_empty() || !given.approver_group.is_empty() {
            gate.approver_people = given
                .approver
                .iter()
                .map(|name| lookup::person(&self.connection, name).map(|person| person.id))
                .collect::<Result<_, _>>()?;
            gate.approver_groups = given
                .approver_group
                .iter()
                .map(|name| lookup::group(&self.connection, name).map(|group| group.id))
                .collect::<Result<_, _>>()?;
        }
        gate.needs_reason = given.needs_reason.unwrap_or(gate.needs_reason);
        gate.max_minutes = given.minutes.unwrap_or(gate.max_minutes);
        gate.one_holder = given.one_holder.unwrap_or(gate.one_holder);
        gate.rotate_on_return = given.rotate_on_return.unwrap_or(gate.rotate_on_return);
        Ok(gate)
    }

    pub fn gate(&self, command: Gate) -> Done {
        let columns: [Column; 6] = [
            ("at", "place"),
            ("reason", "needs_reason"),
            ("approvers", "approvers"),
            ("minutes", "max_minutes"),
            ("one holder", "one_holder"),
            ("rotates", "rotate_on_return"),
        ];
        match command {
            Gate::List => output::list(
                self.format,
                &self.connection.list::<GateItem>("/api/v1/gates", None)?,
                &columns,
                "There is no gate that you have access to. Add one: jexlin gate add",
            ),
            Gate::Show { place } => output::one(self.format, &self.own_gate(&place)?, &columns),
            Gate::Add { place, conditions } => {
                let [folder, device, credential] = self.gate_place(&place)?;
                let none = NewGate {
                    folder,
                    device,
                    credential,
                    needs_reason: false,
                    approver_people: vec![],
                    approver_groups: vec![],
                    max_minutes: 60,
                    one_holder: false,
                    rotate_on_return: false,
                };
                let body = self.conditions(none, &conditions)?;
                self.confirm(
                    "Add this gate? People need to pass it before they see what is under it.",
                )?;
                let shown: GateItem = self.connection.post("/api/v1/gates", &body)?;
                output::one(self.format, &shown, &columns)
            }
            Gate::Edit {
                place,
                conditions,
                no_approval,
            } => {
                let present = self.own_gate(&place)?;
                let approvers = |wanted: SubjectType| {
                    let approvers = present.approvers.iter();
                    let of_type = approvers.filter(move |member| member.subject_type == wanted);
                    of_type.map(|member| member.id).collect()
                };
                let before = NewGate {
                    folder: None,
                    device: None,
                    credential: None,
                    needs_reason: present.needs_reason,
                    approver_people: approvers(SubjectType::Person),
                    approver_groups: approvers(SubjectType::Group),
                    max_minutes: present.max_minutes,
                    one_holder: present.one_holder,
                    rotate_on_return: present.rotate_on_return,
                };
                let mut body = self.conditions(before, &conditions)?;
                if no_approval {
                    body.approver_people.clear();
                    body.approver_groups.clear();
                }
                self.confirm(&format!("Edit the gate of {}?", present.place))?;
                let address = format!("/api/v1/gates/{}", present.id);
                let shown: GateItem =
                    self.connection
                        .change("PUT", &address, &body, present.revision)?;
                output::one(self.format, &shown, &columns)
            }
            Gate::Remove { place } => {
                let present = self.own_gate(&place)?;
                self.confirm(&format!(
                    "Remove the gate of {}? What was under it opens without it.",
                    present.place
                ))?;
                self.connection.delete(
                    &format!("/api/v1/gates/{}", present.id),
                    Some(present.revision),
                )?;
                say(&format!("The gate of {} is removed.", present.place))
            }
        }
    }

    pub fn request(&self, command: Request) -> Done {
        let settle = |id: Uuid, what: &str, comment: String| {
            self.connection.post::<RequestItem>(
                &format!("/api/v1/requests/{id}/{what}"),
                &Decide { comment },
            )
        };
        let shown = match command {
            Request::List { state } => {
                let address = format!("/api/v1/requests?state={}", state.map_or("", Word::word));
                return output::list(
                    self.format,
                    &self.connection.list::<RequestItem>(&address, None)?,
                    &REQUEST,
                    "There are no such requests.",
                );
            }
            Request::Show { id } => self.connection.get(&format!("/api/v1/requests/{id}"))?,
            Request::Ask {
                path,
                reason,
                minutes,
            } => self.connection.post(
                "/api/v1/requests",
                &NewRequest {
                    credential: lookup::credential(&self.connection, &path)?,
                    reason,
                    minutes,
                },
            )?,
            Request::Approve { id, comment } => settle(id, "approve", comment)?,
            Request::Refuse { id, comment } => settle(id, "refuse", comment)?,
            Request::Withdraw { id } => settle(id, "withdraw", String::new())?,
        };
        output::one(self.format, &shown, &REQUEST)
    }

    pub fn checkout(&self, command: Checkout) -> Done {
        let shown: CheckoutItem = match command {
            Checkout::List { credential, open } => {
                let credential = credential
                    .map(|path| lookup::credential(&self.connection, &path))
                    .transpose()?
                    .map(|id| id.to_string())
                    .unwrap_or_default();
                let rows: Vec<CheckoutItem> = self.connection.list(
                    &format!("/api/v1/checkouts?credential={credential}&open={open}"),
                    None,
                )?;
                return output::list(
                    self.format,
                    &rows,
                    &CHECKOUT,
                    "There are no such checkouts.",
                );
            }
            Checkout::Take {
                path,
                request,
                reason,
                minutes,
            } => {
                let credential = lookup::credential(&self.connection, &path)?;
                let approved = || -> Result<Option<Uuid>, ClientError> {
                    let mine: Vec<RequestItem> = self.connection.list(
                        &format!("/api/v1/requests?state=approved&credential={credential}"),
                        None,
                    )?;
                    let me: Me = self.connection.get("/api/v1/me")?;
                    Ok(mine
                        .into_iter()
                        .find(|asked| asked.person == me.id && asked.checkout.is_none())
                        .map(|asked| asked.id))
                };
                let request = match request {
                    Some(request) => Some(request),
                    None => approved()?,
                };
                self.connection.post(
                    "/api/v1/checkouts",
                    &NewCheckout {
                        request,
                        credential: Some(credential),
                        reason,
                        minutes,
                    },
                )?
            }
            Checkout::CheckIn { path } => {
                let credential = lookup::credential(&self.connection, &path)?;
                let open: Vec<CheckoutItem> =
                    self.connection.list("/api/v1/checkouts?open=true", None)?;
                let held = open
                    .into_iter()
                    .find(|held| held.credential == credential)
                    .ok_or_else(|| {
                        ClientError::unknown(
                            format!("You have not checked {path} out."),
                            "List checkouts: jexlin checkout list --open",
                        )
                    })?;
                self.connection.post(
                    &format!("/api/v1/checkouts/{}/check-in", held.id),
                    &json!({}),
                )?
            }
            Checkout::Recall { id } => self
                .connection
                .post(&format!("/api/v1/checkouts/{id}/recall"), &json!({}))?,
        };
        output::one(self.format, &shown, &CHECKOUT)
    }
}
