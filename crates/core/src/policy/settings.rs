//! What an organisation sets for all its folders.

use serde::{Deserialize, Serialize};

use crate::upkeep::ConnectRules;

/// The settings of an organisation. What was never set has its default.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Settings {
    /// What is in the bin is purged after so many days; 0: never by itself.
    pub bin_days: u16,
    /// A password older than so many days is a finding; 0: none is.
    pub old_days: u16,
    /// A day in an `expires` field is a finding from so many days before.
    pub expires_soon_days: u16,
    /// A password whose strength is below this, 0 to 4, is a finding.
    pub weak_below: u8,
    /// The largest attachment, in MiB.
    pub attachment_mib: u16,
    /// The largest sum of all attachments, in MiB.
    pub attachments_total_mib: u32,
    /// New credentials are of the organisation's own kinds alone.
    pub only_own_kinds: bool,
    /// People may keep personal folders. When this is taken back, they can still take things out.
    pub personal_folders: bool,
    /// People may export, encrypted, what they may see.
    pub exports: bool,
    /// Anyone may add top-level folders. Otherwise it takes the duty `folders`.
    pub adds_at_top: bool,
    /// Stewards may grant what they are stewards of. Otherwise it takes the duty `access` as well.
    pub shares: bool,
    /// People see the names of what they cannot open, but for what is in closed folders, and may
    /// ask its stewards for it.
    pub discoverable_names: bool,
    /// Where the service may connect to: networks and ports, as
    /// [`ConnectRule`](crate::upkeep::ConnectRule) reads them. Empty: everywhere but to the machine
    /// itself and to link-local addresses.
    pub connect_to: Vec<String>,
    /// A device without a confirmed identity is trusted at first contact: a password is sent to
    /// whatever answers at its address.
    pub trust_first_contact: bool,
    /// Passwords may go to devices that prove no identity, as over Telnet, where a steward of the
    /// device has accepted it.
    #[serde(default)]
    pub unproven_devices: bool,
    /// Weakening or removing a gate waits for a second steward, where there is one.
    pub two_people_gates: bool,
    /// Giving a duty waits for a second holder of `people` and of that duty, where there is one.
    pub two_people_duties: bool,
    /// Resetting the password of somebody with a duty, a stewardship or approvals waits for a
    /// second holder of `people`, where there is one.
    pub two_people_passwords: bool,
    /// Renewing a client's secret waits for a second holder of `people`, where there is one.
    pub two_people_clients: bool,
    /// Adding somebody to a group that brings stewardship or approvals in places where the adder is
    /// no steward waits for a second holder of `people`, where there is one.
    pub two_people_groups: bool,
    /// Switching one of these off, trusting devices at first contact, or allowing those that prove no
    /// identity, waits for a second holder of `policy`, where there is one.
    pub two_people_settings: bool,
    /// An approver does not decide requests of whoever set the password that they sign in with,
    /// where another approver could.
    pub independent_approvers: bool,
    /// A revealed secret hides itself after so many seconds.
    pub hide_seconds: u16,
    /// The clipboard is cleared after so many seconds.
    pub clipboard_seconds: u16,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            bin_days: 30,
            old_days: 365,
            expires_soon_days: 30,
            weak_below: 3,
            attachment_mib: 25,
            attachments_total_mib: 10_240,
            only_own_kinds: false,
            personal_folders: true,
            exports: true,
            adds_at_top: false,
            shares: true,
            discoverable_names: false,
            connect_to: vec![],
            trust_first_contact: false,
            unproven_devices: false,
            two_people_gates: true,
            two_people_duties: true,
            two_people_passwords: true,
            two_people_clients: true,
            two_people_groups: true,
            two_people_settings: true,
            independent_approvers: true,
            hide_seconds: 30,
            clipboard_seconds: 30,
        }
    }
}

impl Settings {
    /// Whether a change to `after` lets one person do alone what two were needed for, or sends
    /// passwords where nobody looked.
    #[must_use]
    pub const fn is_loosened_by(&self, after: &Self) -> bool {
        (self.two_people_gates && !after.two_people_gates)
            || (self.two_people_duties && !after.two_people_duties)
            || (self.two_people_passwords && !after.two_people_passwords)
            || (self.two_people_clients && !after.two_people_clients)
            || (self.two_people_groups && !after.two_people_groups)
            || (self.two_people_settings && !after.two_people_settings)
            || (self.independent_approvers && !after.independent_approvers)
            || (!self.trust_first_contact && after.trust_first_contact)
            || (!self.unproven_devices && after.unproven_devices)
    }

    /// Whether the numbers can be meant.
    ///
    /// # Errors
    /// The field, and a sentence.
    pub fn check(&self) -> Result<(), (&'static str, String)> {
        let within = |name: &'static str, value: u32, least: u32, limit: u32| {
            if (least..=limit).contains(&value) {
                Ok(())
            } else {
                Err((name, format!("{value} is not between {least} and {limit}")))
            }
        };
        if self.connect_to.len() > 200 {
            return Err(("connect_to", "at most 200 rules are possible".to_owned()));
        }
        ConnectRules::new(&self.connect_to, vec![]).map_err(|problem| ("connect_to", problem))?;
        within("bin_days", self.bin_days.into(), 0, 3650)?;
        within("old_days", self.old_days.into(), 0, 3650)?;
        within("expires_soon_days", self.expires_soon_days.into(), 0, 365)?;
        within("weak_below", self.weak_below.into(), 0, 4)?;
        within("attachment_mib", self.attachment_mib.into(), 0, 1024)?;
        within(
            "attachments_total_mib",
            self.attachments_total_mib,
            0,
            10_485_760,
        )?;
        within("hide_seconds", self.hide_seconds.into(), 5, 600)?;
        within("clipboard_seconds", self.clipboard_seconds.into(), 5, 600)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_never_set_has_its_default_and_what_cannot_be_meant_is_named() {
        assert_eq!(
            serde_json::from_str::<Settings>(r#"{"bin_days": 7}"#).unwrap(),
            Settings {
                bin_days: 7,
                ..Settings::default()
            }
        );
        assert!(serde_json::from_str::<Settings>(r#"{"bin_dyas": 7}"#).is_err());
        assert!(Settings::default().check().is_ok());
        assert_eq!(
            Settings {
                weak_below: 5,
                ..Settings::default()
            }
            .check()
            .unwrap_err()
            .0,
            "weak_below"
        );
        assert_eq!(
            Settings {
                hide_seconds: 0,
                ..Settings::default()
            }
            .check()
            .unwrap_err()
            .0,
            "hide_seconds"
        );
    }
}
