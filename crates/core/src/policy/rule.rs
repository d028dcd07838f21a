//! Which password policies count where.

use crate::words::word_enum;

word_enum! {
    /// How the policies of a folder count.
    pub enum RuleMode {
        /// A password that breaks the policy is reported.
        Advise,
        /// A password that breaks the policy is refused.
        Enforce,
        /// One of several policies is chosen, and enforced.
        Choose,
    }
}
