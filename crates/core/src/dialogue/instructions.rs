//! What a device is talked to by: a dialogue or a recipe.

use super::{Dialogue, Finding, Head, Placeholder, Purpose, Rehearsal};
use crate::recipe::{self, Recipe};
use crate::words::word_enum;

word_enum! {
    /// Which of the two it is.
    pub enum InstructionsKind {
        /// A dialogue with a command line.
        Dialogue,
        /// A recipe of HTTP requests.
        Recipe,
    }
}

/// A dialogue or a recipe. The file says which, by its first entry.
#[derive(Clone, Debug)]
pub enum Instructions {
    /// A dialogue with a command line.
    Dialogue(Dialogue),
    /// A recipe of HTTP requests.
    Recipe(Recipe),
}

/// Whether a file means to be a recipe.
fn is_recipe(text: &str) -> bool {
    text.lines()
        .map(str::trim)
        .find(|line| !line.is_empty() && !line.starts_with('#'))
        .is_some_and(|line| line.split('=').next().map(str::trim) == Some("recipe"))
}

impl Instructions {
    /// Reads a file and looks for all that is wrong with it.
    #[must_use]
    pub fn inspect(text: &str) -> (Option<Self>, Vec<Finding>) {
        if is_recipe(text) {
            let (read, findings) = recipe::inspect(text);
            (read.map(Self::Recipe), findings)
        } else {
            let (read, findings) = super::inspect(text);
            (read.map(Self::Dialogue), findings)
        }
    }

    /// Reads a file.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(text: &str) -> Result<Self, Vec<Finding>> {
        if is_recipe(text) {
            Recipe::read(text).map(Self::Recipe)
        } else {
            Dialogue::read(text).map(Self::Dialogue)
        }
    }

    /// Whether it may say the enable password of the credential that signs in.
    #[must_use]
    pub fn enables(&self) -> bool {
        match self {
            Self::Dialogue(dialogue) => dialogue.says(Placeholder::EnablePassword),
            Self::Recipe(recipe) => recipe.says(Placeholder::EnablePassword),
        }
    }

    /// Which of the two it is.
    #[must_use]
    pub const fn kind(&self) -> InstructionsKind {
        match self {
            Self::Dialogue(_) => InstructionsKind::Dialogue,
            Self::Recipe(_) => InstructionsKind::Recipe,
        }
    }

    /// What it is called, and what it is for.
    #[must_use]
    pub const fn head(&self) -> &Head {
        match self {
            Self::Dialogue(dialogue) => dialogue.head(),
            Self::Recipe(recipe) => recipe.head(),
        }
    }

    /// Talks to a transcript as if it were a device.
    #[must_use]
    pub fn rehearse(&self, purpose: Purpose, account: &str, transcript: &str) -> Rehearsal {
        match self {
            Self::Dialogue(dialogue) => super::rehearse(dialogue, purpose, account, transcript),
            Self::Recipe(recipe) => recipe::rehearse(recipe, purpose, account, transcript),
        }
    }
}

impl PartialEq for Instructions {
    fn eq(&self, other: &Self) -> bool {
        self.head().digest() == other.head().digest()
    }
}

impl Eq for Instructions {}
