//! Password policies and the generator.

use clap::{Args, Subcommand};
use jexlin_api::{Generated, NewPasswordPolicy, PasswordPolicy, TryPolicy, TryResult};
use serde_json::json;

use crate::args::{Format, FromFile};
use crate::error::ClientError;
use crate::output::{self, Column, say};
use crate::run::{Done, Run};
use crate::secrets;

/// Password policies.
#[derive(Debug, Subcommand)]
pub enum Policy {
    /// List password policies
    List,
    /// Show a password policy
    Show {
        /// The policy
        name: String,
    },
    /// Add a password policy
    Add {
        /// Its name
        name: String,
        #[command(flatten)]
        rules: Box<PolicyRules>,
    },
    /// Edit a password policy; the rules replace all its rules
    Edit {
        /// Its name
        name: String,
        #[command(flatten)]
        rules: Box<PolicyRules>,
    },
    /// Generate a sample by a policy, or check a password against it; nothing is stored
    #[command(after_help = "EXAMPLES
  jexlin policy try                              five samples by the default policy
  jexlin policy try \"Pump controllers\" --password-file -
  jexlin policy try --by-rules --words 5 --length 20     rules that are not stored yet")]
    Try {
        /// A stored policy [default: the default policy]
        name: Option<String>,
        /// Use the rules given here instead of a stored policy
        #[arg(long, conflicts_with = "name")]
        by_rules: bool,
        /// The user name of the account that the password would be for
        #[arg(long, default_value = "")]
        user: String,
        /// Ask for a password to check
        #[arg(long)]
        type_password: bool,
        #[command(flatten)]
        password: FromFile,
        #[command(flatten)]
        rules: Box<PolicyRules>,
    },
    /// Make a policy the default
    MakeDefault {
        /// Its name
        name: String,
    },
    /// Remove a password policy that is not in use
    Remove {
        /// Its name
        name: String,
    },
}

/// What a password must look like.
#[derive(Debug, Args)]
pub struct PolicyRules {
    /// Characters of a generated password
    #[arg(long, default_value_t = 20)]
    pub length: u16,
    /// Minimum length of a typed password
    #[arg(long, default_value_t = 14)]
    pub min_length: u16,
    /// Minimum number of lower-case letters
    #[arg(long, default_value_t = 1)]
    pub min_lower: u16,
    /// Minimum number of upper-case letters
    #[arg(long, default_value_t = 1)]
    pub min_upper: u16,
    /// Minimum number of digits
    #[arg(long, default_value_t = 1)]
    pub min_digits: u16,
    /// Minimum number of symbols
    #[arg(long, default_value_t = 1)]
    pub min_symbols: u16,
    /// The symbols that may occur
    #[arg(long, default_value = "-_.+=#@%")]
    pub symbols: String,
    /// Allow characters that look alike, such as 0 and O
    #[arg(long)]
    pub look_alikes: bool,
    /// Maximum length of a typed password
    #[arg(long, default_value_t = 255)]
    pub max_length: u16,
    /// Allow only letters, digits and these symbols in typed passwords too
    #[arg(long)]
    pub only_these: bool,
    /// Characters that never occur
    #[arg(long, default_value = "", value_name = "CHARACTERS")]
    pub forbidden: String,
    /// The first character: any, letter or letter-or-digit
    #[arg(long, default_value = "any")]
    pub first: String,
    /// Maximum times in a row of the same character; 0: no limit
    #[arg(long, default_value_t = 0, value_name = "TIMES")]
    pub max_repeats: u16,
    /// Maximum length of a sequence such as abc or 321; 0: no limit
    #[arg(long, default_value_t = 0, value_name = "CHARACTERS")]
    pub max_sequence: u16,
    /// Do not allow the user name in the password
    #[arg(long)]
    pub not_user_name: bool,
    /// Do not allow this many former passwords
    #[arg(long, default_value_t = 0, value_name = "NUMBER")]
    pub not_last: u16,
    /// Generate a phrase of this many words; 0: characters
    #[arg(long, default_value_t = 0, value_name = "NUMBER")]
    pub words: u16,
    /// The separator between words
    #[arg(long, default_value = "-")]
    pub separator: String,
    /// Minimum entropy of generated passwords, in bits; 0: 48
    #[arg(long, default_value_t = 0, value_name = "BITS")]
    pub min_bits: u16,
}

impl PolicyRules {
    fn to_json(&self) -> serde_json::Value {
        json!({"length": self.length, "min_length": self.min_length, "max_length": self.max_length, "min_lower": self.min_lower, "min_upper": self.min_upper, "min_digits": self.min_digits,
            "min_symbols": self.min_symbols, "symbols": self.symbols, "only_these": self.only_these, "forbidden": self.forbidden, "first": self.first,
            "no_look_alikes": !self.look_alikes, "max_repeats": self.max_repeats, "max_sequence": self.max_sequence,
            "not_user_name": self.not_user_name, "not_last": self.not_last, "words": self.words, "separator": self.separator, "min_bits": self.min_bits})
    }
}

impl Run {
    pub fn policy_id(&self, name: &str) -> Result<PasswordPolicy, ClientError> {
        let all: Vec<PasswordPolicy> = self.connection.list("/api/v1/password-policies", None)?;
        all.into_iter()
            .find(|policy| policy.name.to_lowercase() == name.to_lowercase())
            .ok_or_else(|| {
                ClientError::unknown(
                    format!("There is no password policy {name}."),
                    "List password policies: jexlin policy list",
                )
            })
    }

    pub fn generate(&self, policy: Option<String>) -> Done {
        let id = policy
            .map(|name| self.policy_id(&name))
            .transpose()?
            .map(|policy| policy.id.to_string())
            .unwrap_or_default();
        let made: Generated = self
            .connection
            .post(&format!("/api/v1/generate?policy={id}"), &json!({}))?;
        if self.format == Format::Json {
            output::one(self.format, &made, &[])
        } else {
            say(made.password.expose_secret())
        }
    }

    pub fn policy(&self, command: Policy) -> Done {
        let columns: [Column; 9] = [
            ("name", "name"),
            ("default", "is_default"),
            ("length", "rules/length"),
            ("min length", "rules/min_length"),
            ("lower", "rules/min_lower"),
            ("upper", "rules/min_upper"),
            ("digits", "rules/min_digits"),
            ("symbols", "rules/min_symbols"),
            ("allowed symbols", "rules/symbols"),
        ];
        let body = |name: &str, rules: &PolicyRules| -> Result<NewPasswordPolicy, ClientError> {
            serde_json::from_value(json!({"name": name, "rules": rules.to_json()}))
                .map_err(|error| ClientError::input(error.to_string(), "Check the rules."))
        };
        let shown: PasswordPolicy = match command {
            Policy::List => {
                return output::list(
                    self.format,
                    &self
                        .connection
                        .list::<PasswordPolicy>("/api/v1/password-policies", None)?,
                    &columns,
                    "There are no password policies.",
                );
            }
            Policy::Show { name } => self.policy_id(&name)?,
            Policy::Add { name, rules } => self
                .connection
                .post("/api/v1/password-policies", &body(&name, &rules)?)?,
            Policy::Edit { name, rules } => {
                let present = self.policy_id(&name)?;
                self.connection.change(
                    "PUT",
                    &format!("/api/v1/password-policies/{}", present.id),
                    &body(&present.name, &rules)?,
                    present.revision,
                )?
            }
            Policy::Try {
                name,
                by_rules,
                user,
                type_password,
                password,
                rules,
            } => {
                let given = if type_password || password.password_file.is_some() {
                    Some(secrets::read(
                        "Password to check",
                        password.password_file.as_deref(),
                        false,
                    )?)
                } else {
                    None
                };
                let policy = name
                    .map(|name| self.policy_id(&name))
                    .transpose()?
                    .map(|policy| policy.id);
                let read = |rules| {
                    serde_json::from_value(rules)
                        .map_err(|error| ClientError::input(error.to_string(), "Check the rules."))
                };
                let rules = if by_rules {
                    Some(read(rules.to_json())?)
                } else {
                    None
                };
                return self.try_policy(&TryPolicy {
                    rules,
                    policy,
                    password: given,
                    user_name: user,
                });
            }
            Policy::MakeDefault { name } => self.connection.post(
                &format!(
                    "/api/v1/password-policies/{}/default",
                    self.policy_id(&name)?.id
                ),
                &json!({}),
            )?,
            Policy::Remove { name } => {
                let present = self.policy_id(&name)?;
                self.connection.delete(
                    &format!("/api/v1/password-policies/{}", present.id),
                    Some(present.revision),
                )?;
                return output::say(&format!("The policy {} is removed.", present.name));
            }
        };
        output::one(self.format, &shown, &columns)
    }

    fn try_policy(&self, body: &TryPolicy) -> Done {
        let tried: TryResult = self
            .connection
            .post("/api/v1/password-policies/try", body)?;
        if self.format != Format::Table {
            return output::one(
                self.format,
                &tried,
                &[
                    ("bits", "bits"),
                    ("samples", "samples"),
                    ("lacks", "lacks"),
                    ("score", "score"),
                ],
            );
        }
        if body.password.is_none() {
            for sample in &tried.samples {
                output::say(sample.expose_secret())?;
            }
            return output::say(&format!(
                "Each has {} bits of entropy; none is stored.",
                tried.bits
            ));
        }
        for lack in &tried.lacks {
            output::say(&format!("It does not comply: {lack}."))?;
        }
        if tried.lacks.is_empty() {
            output::say("It complies with the policy.")?;
        }
        output::say(&format!(
            "Its strength is {} of 4.",
            tried.score.unwrap_or(0)
        ))
    }
}
