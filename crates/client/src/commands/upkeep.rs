//! Upkeep plans, accounts and jobs.

use std::collections::BTreeMap;

use clap::{Args, Subcommand};
use jexlin_api::words::{ChangeMethod, JobOutcome, JobState, OutOfSync, Topic, Word};
use jexlin_api::{Job, NewJob, NewPlan, Plan as PlanItem, PlanRules, Upkeep as UpkeepItem};
use serde_json::json;
use uuid::Uuid;

use crate::args::Place;
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Upkeep plans.
#[derive(Debug, Subcommand)]
pub enum Plan {
    /// List upkeep plans
    List,
    /// Set the plan of a folder or a credential, replacing the current one
    #[command(
        after_help = "EXAMPLE\n  jexlin plan set --folder /Pumping --check \"FREQ=DAILY;BYHOUR=3;BYMINUTE=0\" --out-of-sync report --every-days 30 --hours 01:00-04:00 --time-zone Europe/London"
    )]
    Set(PlanArgs),
    /// Remove the plan of a folder or a credential
    Remove {
        #[command(flatten)]
        place: Place,
    },
}

/// Options of `plan set`.
#[derive(Debug, Args)]
pub struct PlanArgs {
    #[command(flatten)]
    pub place: Place,
    /// When to check: an RFC 5545 recurrence rule
    #[arg(long, value_name = "RRULE")]
    pub check: Option<String>,
    /// What to do when out of sync: report, rotate or both
    #[arg(long, default_value = "report", value_name = "WHAT")]
    pub out_of_sync: OutOfSync,
    /// When to rotate: an RFC 5545 recurrence rule
    #[arg(long, value_name = "RRULE", conflicts_with = "every_days")]
    pub rotate: Option<String>,
    /// Rotate this many days after the last rotation
    #[arg(long, value_name = "DAYS")]
    pub every_days: Option<u16>,
    /// Rotate only in these hours, such as 22:00-04:00
    #[arg(long, value_name = "FROM-TO")]
    pub hours: Option<String>,
    /// The time zone of rules and hours
    #[arg(long, default_value = "UTC", value_name = "ZONE")]
    pub time_zone: String,
    /// The password policy for new passwords [default: the default policy]
    #[arg(long, value_name = "NAME")]
    pub policy: Option<String>,
}

/// Accounts and jobs.
#[derive(Debug, Subcommand)]
pub enum Upkeep {
    /// List the accounts under upkeep
    List,
    /// Check now whether the stored password opens the account
    Check {
        /// The credential
        path: String,
        /// Wait until the job has ended
        #[arg(long)]
        wait: bool,
    },
    /// Rotate the password now, on the device and in the vault
    Rotate {
        /// The credential
        path: String,
        /// Change the password as the account itself, not with the operator
        #[arg(long)]
        as_itself: bool,
        /// Wait until the job has ended
        #[arg(long)]
        wait: bool,
    },
    /// List jobs, newest first
    Jobs {
        /// Of this credential
        #[arg(long, value_name = "PATH")]
        credential: Option<String>,
        /// queued, running, done or failed
        #[arg(long)]
        state: Option<JobState>,
    },
    /// Cancel a waiting job
    Cancel {
        /// Its identifier: jexlin -o json upkeep jobs
        job: Uuid,
    },
    /// Follow the jobs as they run
    Watch,
}

const JOB: [Column; 8] = [
    ("queued", "queued_at"),
    ("task", "task"),
    ("credential", "credential_path"),
    ("device", "device"),
    ("state", "state"),
    ("outcome", "outcome"),
    ("cause", "cause"),
    ("message", "message"),
];

impl Run {
    pub fn plan(&self, command: Plan) -> Done {
        let columns: [Column; 8] = [
            ("on", "place"),
            ("check", "check"),
            ("out of sync", "out_of_sync"),
            ("rotate", "rotate"),
            ("every days", "rotate_days"),
            ("from", "hours_from"),
            ("to", "hours_to"),
            ("zone", "time_zone"),
        ];
        let all = || self.connection.list::<PlanItem>("/api/v1/plans", None);
        match command {
            Plan::List => output::list(
                self.format,
                &all()?,
                &columns,
                "There is no upkeep plan that you have access to. Set one: jexlin plan set",
            ),
            Plan::Set(PlanArgs {
                place,
                check,
                out_of_sync,
                rotate,
                every_days,
                hours,
                time_zone,
                policy,
            }) => {
                let (folder, credential) = self.place(&place)?;
                let (hours_from, hours_to) = match hours.as_deref().map(|text| text.split_once('-'))
                {
                    None => (None, None),
                    Some(Some((from, to))) => {
                        (Some(from.trim().to_owned()), Some(to.trim().to_owned()))
                    }
                    Some(None) => {
                        return Err(ClientError::input(
                            "The hours have no start and end.",
                            "Write them as 22:00-04:00.",
                        ));
                    }
                };
                let policy = policy
                    .map(|name| self.policy_id(&name))
                    .transpose()?
                    .map(|policy| policy.id);
                let rules = PlanRules {
                    check,
                    out_of_sync,
                    rotate,
                    rotate_days: every_days,
                    hours_from,
                    hours_to,
                    time_zone,
                    policy,
                };
                let target = folder.or(credential);
                let shown: PlanItem =
                    match all()?.into_iter().find(|plan| Some(plan.target) == target) {
                        Some(present) => self.connection.change(
                            "PUT",
                            &format!("/api/v1/plans/{}", present.id),
                            &rules,
                            present.revision,
                        )?,
                        None => self.connection.post(
                            "/api/v1/plans",
                            &NewPlan {
                                folder,
                                credential,
                                rules,
                            },
                        )?,
                    };
                output::one(self.format, &shown, &columns)
            }
            Plan::Remove { place } => {
                let (folder, credential) = self.place(&place)?;
                let target = folder.or(credential);
                let present = all()?
                    .into_iter()
                    .find(|plan| Some(plan.target) == target)
                    .ok_or_else(|| {
                        ClientError::unknown(
                            "It has no plan of its own.",
                            "List plans: jexlin plan list",
                        )
                    })?;
                self.connection.delete(
                    &format!("/api/v1/plans/{}", present.id),
                    Some(present.revision),
                )?;
                say(&format!("The plan of {} is removed.", present.place))
            }
        }
    }

    pub fn upkeep(&self, command: Upkeep) -> Done {
        match command {
            Upkeep::List => {
                let columns: [Column; 8] = [
                    ("credential", "credential_path"),
                    ("device", "device"),
                    ("last check", "check_outcome"),
                    ("checked", "checked_at"),
                    ("rotated", "rotated_at"),
                    ("next check", "next_check_at"),
                    ("next rotation", "next_rotation_at"),
                    ("rotation pending since", "rotation_owed_at"),
                ];
                output::list(
                    self.format,
                    &self.connection.list::<UpkeepItem>("/api/v1/upkeep", None)?,
                    &columns,
                    "There is no account on a device that you have access to.",
                )
            }
            Upkeep::Check { path, wait } => {
                let id = lookup::credential(&self.connection, &path)?;
                let job = self
                    .connection
                    .post(&format!("/api/v1/credentials/{id}/check"), &json!({}))?;
                self.follow(job, wait)
            }
            Upkeep::Rotate {
                path,
                as_itself,
                wait,
            } => {
                let id = lookup::credential(&self.connection, &path)?;
                let job = self.connection.post(
                    &format!("/api/v1/credentials/{id}/rotate"),
                    &NewJob {
                        method: as_itself.then_some(ChangeMethod::Own),
                    },
                )?;
                self.follow(job, wait)
            }
            Upkeep::Jobs { credential, state } => {
                let credential = credential
                    .map(|path| lookup::credential(&self.connection, &path))
                    .transpose()?
                    .map(|id| id.to_string())
                    .unwrap_or_default();
                let address = format!(
                    "/api/v1/jobs?credential={credential}&state={}",
                    state.map_or("", Word::word)
                );
                output::list(
                    self.format,
                    &self.connection.list::<Job>(&address, Some(50))?,
                    &JOB,
                    "There are no such jobs.",
                )
            }
            Upkeep::Cancel { job } => {
                let job: Job = self
                    .connection
                    .post(&format!("/api/v1/jobs/{job}/cancel"), &json!({}))?;
                output::one(self.format, &job, &JOB)
            }
            Upkeep::Watch => self.watch(),
        }
    }

    /// Says what a job does until it has ended, when that is wanted.
    pub fn follow(&self, job: Job, wait: bool) -> Done {
        if !wait {
            return output::one(self.format, &job, &JOB);
        }
        let address = format!("/api/v1/jobs/{}", job.id);
        let settled = |job: &Job| {
            matches!(job.state, JobState::Done | JobState::Failed)
                || (job.state == JobState::Queued && job.outcome.is_some())
        };
        let mut last = job;
        // The first news comes after listening has begun; what happened before is asked for.
        while !settled(&last) {
            self.connection.listen(|event, data| {
                if event == "hello"
                    || event == "all"
                    || (event == Topic::Job.word() && data == last.id.to_string())
                {
                    last = self.connection.get(&address)?;
                }
                Ok(!settled(&last))
            })?;
        }
        output::one(self.format, &last, &JOB)?;
        if last.state == JobState::Done {
            Ok(())
        } else {
            Err(ClientError::failed(
                match last.outcome {
                    Some(JobOutcome::Refused) => format!("The device refused the {}.", last.task),
                    Some(JobOutcome::Unreachable) => {
                        format!("The device of the {} is unreachable.", last.task)
                    }
                    Some(outcome) => {
                        let outcome = outcome.to_string().replace('-', " ");
                        format!("The {} ended {outcome}.", last.task)
                    }
                    None => format!("The {} failed.", last.task),
                },
                "The message above says why; jexlin upkeep jobs shows it again.",
            ))
        }
    }

    pub fn watch(&self) -> Done {
        eprintln!("Following jobs. Press Ctrl-C to stop.");
        let mut shown: BTreeMap<Uuid, (JobState, String)> = BTreeMap::new();
        loop {
            self.connection.listen(|event, data| {
                if event != Topic::Job.word() {
                    return Ok(true);
                }
                match self.connection.get::<Job>(&format!("/api/v1/jobs/{data}")) {
                    Ok(job) => {
                        let state = (job.state, job.step.clone());
                        if shown.insert(job.id, state.clone()) != Some(state) {
                            let time = chrono::Utc::now().format("%H:%M:%S");
                            let more = [
                                Some(job.step),
                                job.outcome.map(|outcome| outcome.to_string()),
                                Some(job.message),
                            ]
                            .into_iter()
                            .flatten()
                            .filter(|text| !text.is_empty())
                            .collect::<Vec<_>>()
                            .join(": ");
                            say(&format!(
                                "{time}  {:<8} {:<8} {}  {more}",
                                job.task.word(),
                                job.state.word(),
                                job.credential_path
                            ))?;
                        }
                        Ok(true)
                    }
                    // A job on something that the listener may not know of.
                    Err(ClientError::Service(problem)) if problem.status == 404 => Ok(true),
                    Err(other) => Err(other),
                }
            })?;
        }
    }
}
