//! Accounts under upkeep, and jobs.

use std::collections::BTreeMap;

use clap::Subcommand;
use jexlin_api::words::{ChangeMethod, JobOutcome, JobState, Task, Topic, Word};
use jexlin_api::{Job, JobResult, JobResults, JobTranscript, NewJobs, Upkeep as UpkeepItem};
use serde_json::json;
use uuid::Uuid;

use crate::args::{Format, Selection};
use crate::error::ClientError;
use crate::lookup;
use crate::output::{self, Column, say};
use crate::run::{Done, Run, Selected};

/// Accounts and jobs.
#[derive(Debug, Subcommand)]
pub enum Upkeep {
    /// List the accounts under upkeep
    List,
    /// Check now whether the stored password opens the account
    #[command(after_help = "EXAMPLES
  jexlin upkeep check \"/Pumping/North ridge/duty\" --wait
  jexlin upkeep check --below /Pumping")]
    Check {
        #[command(flatten)]
        selection: Selection,
        /// Wait until the job has ended
        #[arg(long)]
        wait: bool,
    },
    /// Rotate the password now, on the device and in the vault
    #[command(after_help = "EXAMPLES
  jexlin upkeep rotate \"/Pumping/North ridge/duty\" --wait
  jexlin upkeep rotate --below /Pumping --tag storm
  jexlin upkeep rotate --seen-by marek")]
    Rotate {
        #[command(flatten)]
        selection: Selection,
        /// Change the password as the account itself, not with the operator
        #[arg(long)]
        as_itself: bool,
        /// Wait until the job has ended
        #[arg(long)]
        wait: bool,
    },
    /// Rehearse a rotation on the device: go up to the change, without changing anything
    #[command(after_help = "EXAMPLES
  jexlin upkeep rehearse \"/Works/Highfield/filter hall duty\" --wait")]
    Rehearse {
        #[command(flatten)]
        selection: Selection,
        /// Rehearse the change that the account makes itself, not the operator
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
    /// Print what was said and heard in a job that talked to a device by a dialogue or recipe
    Transcript {
        /// Its identifier, as `upkeep jobs --wide` shows it
        job: Uuid,
    },
    /// Cancel a waiting job
    Cancel {
        /// Its identifier, as `upkeep jobs --wide` shows it
        job: Uuid,
    },
    /// Follow the jobs as they run
    Watch,
}

/// The most credentials that the service takes in one request.
const MAX_CREDENTIALS: usize = 1_000;

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
            Upkeep::Check { selection, wait } => {
                let many = self.selected_accounts(&selection)?;
                self.jobs(&selection, &many, wait, Task::Check, None)
            }
            Upkeep::Rotate {
                selection,
                as_itself,
                wait,
            } => {
                let many = self.selected_accounts(&selection)?;
                self.confirm_many(&selection, &many, "Rotate the passwords of")?;
                let method = as_itself.then_some(ChangeMethod::Own);
                self.jobs(&selection, &many, wait, Task::Rotation, method)
            }
            Upkeep::Rehearse {
                selection,
                as_itself,
                wait,
            } => {
                let many = self.selected_accounts(&selection)?;
                let method = as_itself.then_some(ChangeMethod::Own);
                self.jobs(&selection, &many, wait, Task::Rehearsal, method)
            }
            Upkeep::Transcript { job } => {
                let found: JobTranscript = self
                    .connection
                    .get(&format!("/api/v1/jobs/{job}/transcript"))?;
                if self.format != Format::Table {
                    return output::one(self.format, &found, &[("text", "text")]);
                }
                say(match found.text.trim_end() {
                    "" => "The job had no dialogue or recipe.",
                    text => text,
                })
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

    /// Starts a job for each credential, and follows them when that is wanted. The job of the one
    /// credential that was named is shown with all that there is to know of it.
    fn jobs(
        &self,
        selection: &Selection,
        many: &[Selected],
        wait: bool,
        task: Task,
        method: Option<ChangeMethod>,
    ) -> Done {
        let found = many.iter().map(|one| {
            let id = lookup::credential(&self.connection, &one.key);
            (one.key.clone(), id)
        });
        let mut found: BTreeMap<String, Result<Uuid, ClientError>> = found.collect();
        let ids: Vec<Uuid> = found
            .values()
            .filter_map(|id| id.as_ref().ok().copied())
            .collect();
        // All are queued before the first is waited for.
        let mut results = self.add_jobs(task, &ids, method)?;
        let mut job_of = |key: &str| {
            let unknown = || ClientError::local("The job was not started.");
            let id = found.remove(key).unwrap_or_else(|| Err(unknown()))?;
            results.remove(&id).unwrap_or_else(|| Err(unknown()))
        };
        if let ([one], 1) = (many, selection.paths.len()) {
            let job = job_of(&one.key)?;
            return self.follow(job, wait);
        }
        self.each(many, |key| {
            let job = job_of(key)?;
            if !wait {
                return Ok(format!("{} queued", job.task));
            }
            let job = self.settled(job)?;
            match ended(&job) {
                Ok(()) => Ok(format!("{} done", job.task)),
                Err(trouble) if job.message.is_empty() => Err(trouble),
                Err(trouble) => Err(ClientError::failed(
                    format!("{} {}", trouble.what(), job.message),
                    "Show the jobs: jexlin upkeep jobs",
                )),
            }
        })
    }

    /// Adds a job for each credential, in as few requests as the service allows.
    fn add_jobs(
        &self,
        task: Task,
        ids: &[Uuid],
        method: Option<ChangeMethod>,
    ) -> Result<BTreeMap<Uuid, Result<Job, ClientError>>, ClientError> {
        let mut results = BTreeMap::new();
        for part in ids.chunks(MAX_CREDENTIALS) {
            let body = NewJobs {
                task,
                credentials: part.to_vec(),
                method,
            };
            let answer: JobResults = self.connection.post("/api/v1/jobs", &body)?;
            for JobResult {
                credential,
                job,
                problem,
            } in answer.items
            {
                let unanswered =
                    || ClientError::local("The service gave neither a job nor a problem.");
                let refused = problem.map_or_else(unanswered, |problem| {
                    ClientError::Service(Box::new(problem))
                });
                results.insert(credential, job.ok_or(refused));
            }
        }
        Ok(results)
    }

    /// Shows a job, once it has ended when that is wanted.
    pub fn follow(&self, job: Job, wait: bool) -> Done {
        if !wait {
            return output::one(self.format, &job, &JOB);
        }
        let last = self.settled(job)?;
        output::one(self.format, &last, &JOB)?;
        ended(&last)
    }

    /// Waits until a job has ended.
    fn settled(&self, job: Job) -> Result<Job, ClientError> {
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
        Ok(last)
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

/// How a job that has ended came out.
fn ended(job: &Job) -> Done {
    if job.state == JobState::Done {
        return Ok(());
    }
    Err(ClientError::failed(
        match job.outcome {
            Some(JobOutcome::Refused) => format!("The device refused the {}.", job.task),
            Some(JobOutcome::Unreachable) => {
                format!("The device of the {} is unreachable.", job.task)
            }
            Some(outcome) => {
                let outcome = outcome.to_string().replace('-', " ");
                format!("The {} ended {outcome}.", job.task)
            }
            None => format!("The {} failed.", job.task),
        },
        "The message above says why; jexlin upkeep jobs shows it again.",
    ))
}
