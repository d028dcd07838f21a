//! Personal folders: sealed under their owner's own passphrase.
//!
//! The folder has a random key, and that key is sealed under one that Argon2id (RFC 9106) makes
//! from the passphrase. Neither is kept: with the root key, the database and every backup, nobody
//! but the owner opens it. Items are sealed whole, names included, so that nobody learns even what
//! they are. The price is said before the passphrase is chosen: a forgotten one cannot be
//! recovered.

use argon2::{Algorithm, Argon2, Params, Version};
use rand::CryptoRng;
use serde::{Deserialize, Serialize};
use uuid::Uuid;
use zeroize::{Zeroize, Zeroizing};

use super::envelope::bind;
use super::{Key, OrganisationKey, Pass, Place, SealProblem, Sealed, WrappedKey};
use crate::names::{Name, check_line, check_note};
use crate::secret::Secret;

/// The fewest characters of a passphrase.
pub const SHORTEST_PASSPHRASE: usize = 12;
/// Memory in KiB, passes, lanes.
const COST: (u32, u32, u32) = (65_536, 3, 1);
const SALT: usize = 16;

/// What a passphrase protects, as it is stored: nothing in it helps without the passphrase.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Protected {
    /// The salt of the derivation.
    pub salt: Vec<u8>,
    /// The folder's key, sealed under the derived one.
    pub sealed_key: Vec<u8>,
}

/// The open key of somebody's personal folder. It lives only in their open session.
#[derive(Clone, Debug)]
pub struct PersonalKey {
    key: Key,
    organisation: Uuid,
    person: Uuid,
}

/// One thing in a personal folder.
#[derive(Clone, Default, Serialize, Deserialize, Zeroize)]
#[zeroize(drop)]
pub struct PersonalFields {
    /// Its name.
    pub name: String,
    /// The user name.
    #[serde(default)]
    pub user_name: String,
    /// Where it is used.
    #[serde(default)]
    pub url: String,
    /// A note, as secret as the rest.
    #[serde(default)]
    pub note: String,
    /// The secret.
    #[serde(default)]
    pub password: String,
}

impl std::fmt::Debug for PersonalFields {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("PersonalFields(…)")
    }
}

/// Checks a new passphrase.
///
/// # Errors
/// A sentence.
pub fn check_passphrase(passphrase: &Secret) -> Result<(), String> {
    let text = passphrase
        .expose_secret_text()
        .map_err(|_| "the passphrase is not valid UTF-8".to_owned())?;
    check_line(text)?;
    let length = text.chars().count();
    if length < SHORTEST_PASSPHRASE {
        Err(format!(
            "the passphrase has {length} characters; at least {SHORTEST_PASSPHRASE} are needed"
        ))
    } else {
        Ok(())
    }
}

fn derive(passphrase: &Secret, salt: &[u8]) -> Result<Key, SealProblem> {
    let params = Params::new(COST.0, COST.1, COST.2, Some(32)).map_err(|_| SealProblem::Refused)?;
    let mut bytes = Zeroizing::new([0; 32]);
    Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
        .hash_password_into(passphrase.expose_secret(), salt, bytes.as_mut_slice())
        .map_err(|_| SealProblem::Refused)?;
    Ok(Key::from_bytes(*bytes))
}

impl PersonalKey {
    /// Makes somebody's personal folder.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for passphrases that pass [`check_passphrase`].
    pub fn create(
        rng: &mut dyn CryptoRng,
        organisation: Uuid,
        person: Uuid,
        passphrase: &Secret,
    ) -> Result<(Self, Protected), SealProblem> {
        let this = Self {
            key: Key::generate(rng),
            organisation,
            person,
        };
        let protected = this.protect(rng, passphrase)?;
        Ok((this, protected))
    }

    /// Protects it with another passphrase; no item is touched.
    ///
    /// # Errors
    /// As [`PersonalKey::create`].
    pub fn protect(
        &self,
        rng: &mut dyn CryptoRng,
        passphrase: &Secret,
    ) -> Result<Protected, SealProblem> {
        let mut salt = vec![0; SALT];
        rng.fill_bytes(&mut salt);
        let sealed_key =
            derive(passphrase, &salt)?.seal(rng, &self.place(), self.key.expose_key())?;
        Ok(Protected { salt, sealed_key })
    }

    /// Opens it.
    ///
    /// # Errors
    /// [`SealProblem::Refused`] for another passphrase.
    pub fn open(
        organisation: Uuid,
        person: Uuid,
        protected: &Protected,
        passphrase: &Secret,
    ) -> Result<Self, SealProblem> {
        let mut this = Self {
            key: Key::from_bytes([0; 32]),
            organisation,
            person,
        };
        let plain =
            derive(passphrase, &protected.salt)?.open(&this.place(), &protected.sealed_key)?;
        this.key = Key::from_bytes(
            plain
                .expose_secret()
                .try_into()
                .map_err(|_| SealProblem::Refused)?,
        );
        Ok(this)
    }

    fn place(&self) -> Vec<u8> {
        bind(
            "jexlin personal folder",
            &[self.organisation.as_bytes(), self.person.as_bytes()],
        )
    }

    fn item_place(&self, item: Uuid, revision: i32) -> Vec<u8> {
        bind(
            "jexlin personal item",
            &[
                self.organisation.as_bytes(),
                self.person.as_bytes(),
                item.as_bytes(),
                &revision.to_be_bytes(),
            ],
        )
    }

    /// Seals an item.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for items that pass [`PersonalFields::check`].
    pub fn seal(
        &self,
        rng: &mut dyn CryptoRng,
        id: Uuid,
        revision: i32,
        item: &PersonalFields,
    ) -> Result<Vec<u8>, SealProblem> {
        let text = Zeroizing::new(serde_json::to_vec(item).map_err(|_| SealProblem::Refused)?);
        self.key.seal(rng, &self.item_place(id, revision), &text)
    }

    /// Seals an item with the value of a shared field as its password. Nobody sees the value here,
    /// but the owner could from now on: it takes the pass of a reveal.
    ///
    /// # Errors
    /// As [`super::open`].
    #[allow(clippy::too_many_arguments, reason = "two places, each with its key")]
    pub fn take_in(
        &self,
        rng: &mut dyn CryptoRng,
        id: Uuid,
        item: &mut PersonalFields,
        pass: &impl Pass,
        key: &OrganisationKey,
        wrapped: &WrappedKey,
        place: &Place<'_>,
        sealed: &Sealed,
    ) -> Result<Vec<u8>, SealProblem> {
        let value = super::open(pass, key, wrapped, place, sealed)?;
        value
            .expose_secret_text()
            .map_err(|_| SealProblem::Refused)?
            .clone_into(&mut item.password);
        let kept = self.seal(rng, id, 1, item);
        item.password.zeroize();
        kept
    }

    /// Opens an item.
    ///
    /// # Errors
    /// [`SealProblem::Refused`] when it is another's, has been moved, or an older one was restored.
    pub fn open_item(
        &self,
        id: Uuid,
        revision: i32,
        sealed: &[u8],
    ) -> Result<PersonalFields, SealProblem> {
        let plain = self.key.open(&self.item_place(id, revision), sealed)?;
        serde_json::from_slice(plain.expose_secret()).map_err(|_| SealProblem::Refused)
    }
}

impl PersonalFields {
    /// Checks it.
    ///
    /// # Errors
    /// The field, and a sentence that repeats nothing.
    pub fn check(&self) -> Result<(), (&'static str, String)> {
        Name::parse(&self.name).map_err(|problem| ("name", problem.to_string()))?;
        check_line(&self.user_name).map_err(|problem| ("user_name", problem))?;
        check_note(&self.url).map_err(|problem| ("url", problem))?;
        check_note(&self.note).map_err(|problem| ("note", problem))?;
        check_note(&self.password).map_err(|problem| ("password", problem))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn secret(text: &str) -> Secret {
        Secret::from_text(text.into())
    }

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    /// The fields of an item as they were given, for a form.
    #[allow(
        clippy::field_reassign_with_default,
        reason = "what wipes itself cannot be taken apart"
    )]
    fn item() -> PersonalFields {
        let mut item = PersonalFields::default();
        item.name = "Canteen".into();
        item.password = "Winter-tide-41".into();
        item
    }

    #[test]
    fn only_the_owners_passphrase_opens_it_and_a_new_one_keeps_every_item() {
        let mut rng = rand::rng();
        let (key, protected) =
            PersonalKey::create(&mut rng, id(1), id(2), &secret("tide tables by heart")).unwrap();
        let sealed = key.seal(&mut rng, id(7), 1, &item()).unwrap();
        assert!(
            PersonalKey::open(id(1), id(2), &protected, &secret("tide tables by head")).is_err()
        );
        assert!(
            PersonalKey::open(id(1), id(3), &protected, &secret("tide tables by heart")).is_err(),
            "another person"
        );
        let open =
            PersonalKey::open(id(1), id(2), &protected, &secret("tide tables by heart")).unwrap();
        assert_eq!(
            open.open_item(id(7), 1, &sealed).unwrap().password,
            "Winter-tide-41"
        );
        let other = open
            .protect(&mut rng, &secret("another long phrase"))
            .unwrap();
        assert!(PersonalKey::open(id(1), id(2), &other, &secret("tide tables by heart")).is_err());
        assert!(
            PersonalKey::open(id(1), id(2), &other, &secret("another long phrase"))
                .unwrap()
                .open_item(id(7), 1, &sealed)
                .is_ok()
        );
    }

    #[test]
    fn an_item_moved_or_set_back_does_not_open_and_tells_nothing_by_its_bytes() {
        let mut rng = rand::rng();
        let (key, _) =
            PersonalKey::create(&mut rng, id(1), id(2), &secret("tide tables by heart")).unwrap();
        let sealed = key.seal(&mut rng, id(7), 2, &item()).unwrap();
        assert!(
            key.open_item(id(8), 2, &sealed).is_err() && key.open_item(id(7), 3, &sealed).is_err()
        );
        assert!(!sealed.windows(7).any(|bytes| bytes == b"Canteen"));
        assert_eq!(format!("{:?}", item()), "PersonalFields(…)");
    }

    #[test]
    fn what_cannot_be_kept_is_named_by_its_field() {
        assert!(item().check().is_ok());
        let with = |change: &dyn Fn(&mut PersonalFields)| {
            let mut item = item();
            change(&mut item);
            item.check().unwrap_err().0
        };
        assert_eq!(with(&|item| item.name = "a/b".into()), "name");
        assert_eq!(
            with(&|item| item.user_name = "two\nlines".into()),
            "user_name"
        );
        assert_eq!(with(&|item| item.note = "\u{7}".into()), "note");
        assert!(
            check_passphrase(&secret("short")).is_err()
                && check_passphrase(&secret("tide tables by heart")).is_ok()
        );
    }
}
