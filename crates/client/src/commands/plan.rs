//! Upkeep plans.

use clap::{Args, Subcommand};
use jexlin_api::words::OutOfSync;
use jexlin_api::{NewPlan, Plan as PlanItem, PlanRules, PlanTimes};
use serde_json::json;

use crate::args::{Format, Place};
use crate::error::ClientError;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};

/// Upkeep plans.
#[derive(Debug, Subcommand)]
pub enum Plan {
    /// List upkeep plans
    List,
    /// Show the plan of a folder or a credential, and when it comes next
    Show {
        #[command(flatten)]
        place: Place,
    },
    /// Add a plan to a folder or a credential that has none of its own
    #[command(after_help = "EXAMPLES
  jexlin plan add --folder /Works/Highfield --check \"FREQ=DAILY;BYHOUR=3;BYMINUTE=0\" --every-days 30 --hours 01:00-04:00 --time-zone Europe/London
  jexlin plan add --folder /Works/Highfield --rotate \"FREQ=MONTHLY;BYMONTHDAY=1;BYHOUR=2\" --preview")]
    Add {
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        rules: RuleArgs,
    },
    /// Edit the plan of a folder or a credential; what is not given stays as it is
    #[command(after_help = "EXAMPLES
  jexlin plan edit --folder /Pumping --every-days 60
  jexlin plan edit --folder /Pumping --check \"FREQ=WEEKLY;BYDAY=MO;BYHOUR=4\" --no-rotation --preview")]
    Edit {
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        rules: RuleArgs,
        /// No checks any more
        #[arg(long, conflicts_with = "check")]
        no_check: bool,
        /// No rotations any more
        #[arg(long, conflicts_with_all = ["rotate", "every_days"])]
        no_rotation: bool,
        /// Rotate at any hour
        #[arg(long, conflicts_with = "hours")]
        any_hour: bool,
        /// The default password policy
        #[arg(long, conflicts_with = "policy")]
        default_policy: bool,
    },
    /// Remove the plan of a folder or a credential; the nearest one above applies then
    Remove {
        #[command(flatten)]
        place: Place,
    },
}

/// The rules of a plan.
#[derive(Debug, Args)]
pub struct RuleArgs {
    /// When to check: an RFC 5545 recurrence rule
    #[arg(long, value_name = "RRULE")]
    check: Option<String>,
    /// What to do when out of sync: report, rotate or both [default: report]
    #[arg(long, value_name = "WHAT")]
    out_of_sync: Option<OutOfSync>,
    /// When to rotate: an RFC 5545 recurrence rule
    #[arg(long, value_name = "RRULE", conflicts_with = "every_days")]
    rotate: Option<String>,
    /// Rotate this many days after the last rotation
    #[arg(long, value_name = "DAYS")]
    every_days: Option<u16>,
    /// Rotate only in these hours, such as 22:00-04:00
    #[arg(long, value_name = "FROM-TO", value_parser = hours)]
    hours: Option<(String, String)>,
    /// The time zone of rules and hours [default: UTC]
    #[arg(long, value_name = "ZONE")]
    time_zone: Option<String>,
    /// The password policy for new passwords [default: the default policy]
    #[arg(long, value_name = "NAME")]
    policy: Option<String>,
    /// Change nothing; show when the rules come next
    #[arg(long)]
    preview: bool,
}

fn hours(text: &str) -> Result<(String, String), String> {
    text.split_once('-')
        .map(|(from, to)| (from.trim().to_owned(), to.trim().to_owned()))
        .ok_or_else(|| "write the hours as 22:00-04:00".to_owned())
}

const PLAN: [Column; 8] = [
    ("on", "place"),
    ("check", "check"),
    ("out of sync", "out_of_sync"),
    ("rotate", "rotate"),
    ("every days", "rotate_days"),
    ("from", "hours_from"),
    ("to", "hours_to"),
    ("zone", "time_zone"),
];

const NEXT: [Column; 2] = [
    ("next checks", "check_at"),
    ("next rotations", "rotation_at"),
];

impl Run {
    /// The plan that is set on a folder or a credential itself.
    fn own_plan(&self, place: &Place) -> Result<PlanItem, ClientError> {
        let (folder, credential) = self.place(place)?;
        let target = folder.or(credential);
        self.connection
            .list::<PlanItem>("/api/v1/plans", None)?
            .into_iter()
            .find(|plan| Some(plan.target) == target)
            .ok_or_else(|| {
                ClientError::unknown("It has no plan of its own.", "List plans: jexlin plan list")
            })
    }

    /// What is given takes the place of what was there.
    fn rules(&self, before: PlanRules, given: &RuleArgs) -> Result<PlanRules, ClientError> {
        let mut rules = before;
        if given.check.is_some() {
            rules.check.clone_from(&given.check);
        }
        if given.rotate.is_some() || given.every_days.is_some() {
            rules.rotate.clone_from(&given.rotate);
            rules.rotate_days = given.every_days;
        }
        if let Some((from, to)) = &given.hours {
            rules.hours_from = Some(from.clone());
            rules.hours_to = Some(to.clone());
        }
        if let Some(name) = &given.policy {
            rules.policy = Some(self.policy_id(name)?.id);
        }
        rules.out_of_sync = given.out_of_sync.unwrap_or(rules.out_of_sync);
        if let Some(zone) = &given.time_zone {
            rules.time_zone.clone_from(zone);
        }
        Ok(rules)
    }

    /// Says when rules come next.
    fn next_times(
        &self,
        rules: &PlanRules,
        plan: Option<&PlanItem>,
    ) -> Result<PlanTimes, ClientError> {
        let query = plan.map_or_else(String::new, |plan| format!("?plan={}", plan.id));
        self.connection
            .post(&format!("/api/v1/plans/next-times{query}"), rules)
    }

    fn say_times(&self, times: &PlanTimes) -> Done {
        let rows: Vec<_> = (0..times.checks.len().max(times.rotations.len()))
            .map(|row| json!({"check_at": times.checks.get(row), "rotation_at": times.rotations.get(row)}))
            .collect();
        say("")?;
        output::list(self.format, &rows, &NEXT, "The rules do not come any more.")
    }

    fn preview_plan(&self, rules: &PlanRules, plan: Option<&PlanItem>) -> Done {
        let times = self.next_times(rules, plan)?;
        if self.format == Format::Table {
            self.say_times(&times)?;
            return say("Nothing was changed.");
        }
        output::one(
            self.format,
            &times,
            &[("checks", "checks"), ("rotations", "rotations")],
        )
    }

    pub fn plan(&self, command: Plan) -> Done {
        match command {
            Plan::List => output::list(
                self.format,
                &self.connection.list::<PlanItem>("/api/v1/plans", None)?,
                &PLAN,
                "There is no upkeep plan that you have access to. Add one: jexlin plan add",
            ),
            Plan::Show { place } => {
                let plan = self.own_plan(&place)?;
                let times = self
                    .next_times(&plan.rules, Some(&plan))
                    .unwrap_or_default();
                if self.format != Format::Table {
                    return output::one(self.format, &json!({"plan": plan, "next": times}), &[]);
                }
                output::one(self.format, &plan, &PLAN)?;
                self.say_times(&times)
            }
            Plan::Add {
                place,
                rules: given,
            } => {
                let (folder, credential) = self.place(&place)?;
                let none = PlanRules {
                    check: None,
                    out_of_sync: OutOfSync::Report,
                    rotate: None,
                    rotate_days: None,
                    hours_from: None,
                    hours_to: None,
                    time_zone: "UTC".to_owned(),
                    policy: None,
                };
                let rules = self.rules(none, &given)?;
                if given.preview {
                    return self.preview_plan(&rules, None);
                }
                let body = NewPlan {
                    folder,
                    credential,
                    rules,
                };
                let shown: PlanItem = self.connection.post("/api/v1/plans", &body)?;
                output::one(self.format, &shown, &PLAN)
            }
            Plan::Edit {
                place,
                rules: given,
                no_check,
                no_rotation,
                any_hour,
                default_policy,
            } => {
                let present = self.own_plan(&place)?;
                let mut rules = self.rules(present.rules.clone(), &given)?;
                if no_check {
                    rules.check = None;
                }
                if no_rotation {
                    (rules.rotate, rules.rotate_days) = (None, None);
                }
                if any_hour {
                    (rules.hours_from, rules.hours_to) = (None, None);
                }
                if default_policy {
                    rules.policy = None;
                }
                if given.preview {
                    return self.preview_plan(&rules, Some(&present));
                }
                let address = format!("/api/v1/plans/{}", present.id);
                let shown: PlanItem =
                    self.connection
                        .change("PUT", &address, &rules, present.revision)?;
                output::one(self.format, &shown, &PLAN)
            }
            Plan::Remove { place } => {
                let present = self.own_plan(&place)?;
                let address = format!("/api/v1/plans/{}", present.id);
                self.connection.delete(&address, Some(present.revision))?;
                say(&format!("The plan of {} is removed.", present.place))
            }
        }
    }
}
