//! Keys, and the boxes they close.

use aes_gcm::aead::{Aead, Payload};
use aes_gcm::{Aes256Gcm, KeyInit, Nonce};
use hmac::{Hmac, Mac};
use rand::CryptoRng;
use sha2::Sha256;
use subtle::ConstantTimeEq as _;
use uuid::Uuid;
use zeroize::{Zeroize, ZeroizeOnDrop};

use crate::secret::Secret;

const NONCE: usize = 12;

/// 32 bytes of key, wiped on drop.
#[derive(Clone, Zeroize, ZeroizeOnDrop)]
pub struct Key([u8; 32]);

impl std::fmt::Debug for Key {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Key(…)")
    }
}

/// A sealed value: nonce, ciphertext and tag.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sealed(pub Vec<u8>);

/// A key sealed under another key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrappedKey(pub Vec<u8>);

/// Where a secret version lives; all of it is associated data.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Place<'a> {
    /// The organisation.
    pub organisation: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// The name of the field.
    pub field: &'a str,
    /// The number of the version, from 1.
    pub version: i32,
}

/// Where a piece of an attachment lives; all of it is associated data, so that no piece can be left
/// out, moved or put elsewhere unseen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PiecePlace {
    /// The organisation.
    pub organisation: Uuid,
    /// The credential.
    pub credential: Uuid,
    /// The attachment.
    pub attachment: Uuid,
    /// The number of the piece, from 0.
    pub number: i32,
    /// Whether it is the last one.
    pub last: bool,
}

/// Why a box stays closed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SealProblem {
    /// Wrong key, wrong place or changed bytes; which of them cannot be told.
    #[error("the value cannot be opened: its bytes, its key or its place have changed")]
    Refused,
    /// The pass is for another credential.
    #[error("the pass is for another credential")]
    OtherCredential,
    /// A private key would be sent as a password.
    #[error("a private key is sent to no device of this type")]
    KeyNotTaken,
}

impl Key {
    /// A new random key.
    pub fn generate(rng: &mut dyn CryptoRng) -> Self {
        let mut bytes = [0; 32];
        rng.fill_bytes(&mut bytes);
        Self(bytes)
    }

    /// A key of given bytes.
    #[must_use]
    pub const fn from_bytes(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }

    /// The bytes, for a key file or for wrapping.
    #[must_use]
    pub const fn expose_key(&self) -> &[u8; 32] {
        &self.0
    }

    /// A key derived from this one for another purpose (HMAC-SHA-256 as the PRF of RFC 5869's
    /// expand step with a single block).
    #[must_use]
    pub fn derive(&self, purpose: &str) -> Self {
        Self(self.mac(&[b"jexlin derive\0", purpose.as_bytes(), b"\x01"]))
    }

    /// HMAC-SHA-256 over the parts, one after the other.
    #[must_use]
    pub fn mac(&self, parts: &[&[u8]]) -> [u8; 32] {
        // HMAC takes keys of any length, so this cannot fail for 32 bytes.
        let Ok(mut mac) = <Hmac<Sha256> as hmac::KeyInit>::new_from_slice(&self.0) else {
            return [0; 32];
        };
        for part in parts {
            mac.update(part);
        }
        mac.finalize().into_bytes().into()
    }

    /// Seals bytes under this key with a fresh random nonce.
    ///
    /// # Errors
    /// [`SealProblem::Refused`] only for inputs of more than 64 GiB.
    pub fn seal(
        &self,
        rng: &mut dyn CryptoRng,
        aad: &[u8],
        plain: &[u8],
    ) -> Result<Vec<u8>, SealProblem> {
        let mut nonce = [0; NONCE];
        rng.fill_bytes(&mut nonce);
        let cipher = Aes256Gcm::new(&self.0.into());
        let sealed = cipher
            .encrypt(&Nonce::from(nonce), Payload { msg: plain, aad })
            .map_err(|_| SealProblem::Refused)?;
        Ok([nonce.as_slice(), &sealed].concat())
    }

    /// Opens what [`Key::seal`] sealed with the same associated data.
    ///
    /// # Errors
    /// [`SealProblem::Refused`].
    pub(crate) fn open(&self, aad: &[u8], sealed: &[u8]) -> Result<Secret, SealProblem> {
        let (nonce, rest) = sealed
            .split_first_chunk::<NONCE>()
            .ok_or(SealProblem::Refused)?;
        let cipher = Aes256Gcm::new(&self.0.into());
        cipher
            .decrypt(&Nonce::from(*nonce), Payload { msg: rest, aad })
            .map(Secret::from_bytes)
            .map_err(|_| SealProblem::Refused)
    }

    /// Wraps another key.
    pub(super) fn wrap(
        &self,
        rng: &mut dyn CryptoRng,
        aad: &[u8],
        key: &Self,
    ) -> Result<WrappedKey, SealProblem> {
        self.seal(rng, aad, &key.0).map(WrappedKey)
    }

    /// Unwraps a key.
    pub(super) fn unwrap_key(&self, aad: &[u8], wrapped: &WrappedKey) -> Result<Self, SealProblem> {
        let plain = self.open(aad, &wrapped.0)?;
        plain
            .expose_secret()
            .try_into()
            .map(Self)
            .map_err(|_| SealProblem::Refused)
    }
}

/// Length-prefixed parts, so that no two different lists give the same bytes.
pub(super) fn bind(purpose: &str, parts: &[&[u8]]) -> Vec<u8> {
    let mut out = Vec::with_capacity(96);
    for part in std::iter::once(&purpose.as_bytes()).chain(parts) {
        out.extend_from_slice(&(part.len() as u64).to_be_bytes());
        out.extend_from_slice(part);
    }
    out
}

/// The key of one organisation, and, while the data keys move from the one before it, that one too.
///
/// A change makes a new key with the next number at once; the data keys follow one after the other
/// ([`OrganisationKey::rewrap`]), and until the last has moved, the former key is kept, wrapped
/// under the new one. Nothing that was sealed is touched.
#[derive(Clone, Debug)]
pub struct OrganisationKey {
    number: i32,
    current: Key,
    former: Option<Key>,
}

/// What a change of an organisation's key leads to.
#[derive(Debug)]
pub struct ChangedKey {
    /// The new key, with the former one.
    pub key: OrganisationKey,
    /// The new key under the root key.
    pub wrapped: WrappedKey,
    /// The former key under the new one.
    pub former: WrappedKey,
}

/// Authenticates audit events. Each event carries the number of the key that authenticated it.
#[derive(Clone, Debug)]
pub struct EventKey {
    number: i32,
    current: Key,
    former: Option<Key>,
}

impl EventKey {
    /// The number of the key that authenticates now.
    #[must_use]
    pub const fn number(&self) -> i32 {
        self.number
    }

    /// HMAC-SHA-256 over the parts, one after the other.
    #[must_use]
    pub fn mac(&self, parts: &[&[u8]]) -> [u8; 32] {
        self.current.mac(parts)
    }

    /// Whether a MAC is that of the key of this number; none where that key is not available.
    #[must_use]
    pub fn confirms(&self, number: i32, parts: &[&[u8]], mac: &[u8]) -> Option<bool> {
        let key = if number == self.number {
            Some(&self.current)
        } else {
            self.former.as_ref().filter(|_| number + 1 == self.number)
        };
        key.map(|key| bool::from(key.mac(parts).as_slice().ct_eq(mac)))
    }
}

impl OrganisationKey {
    /// A new one with the number 1, and the same wrapped under the root key.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for keys.
    pub fn generate(
        rng: &mut dyn CryptoRng,
        root: &super::RootKey,
        organisation: Uuid,
    ) -> Result<(Self, WrappedKey), SealProblem> {
        let current = Key::generate(rng);
        let wrapped = root.key().wrap(rng, &Self::place(organisation), &current)?;
        Ok((
            Self {
                number: 1,
                current,
                former: None,
            },
            wrapped,
        ))
    }

    /// Unwraps it with the root key, and the former one with it.
    ///
    /// # Errors
    /// [`SealProblem::Refused`] when this is not the root key it was wrapped under.
    pub fn unwrap_with(
        root: &super::RootKey,
        organisation: Uuid,
        number: i32,
        wrapped: &WrappedKey,
        former: Option<&WrappedKey>,
    ) -> Result<Self, SealProblem> {
        let current = root.key().unwrap_key(&Self::place(organisation), wrapped)?;
        let former = former
            .map(|former| current.unwrap_key(&Self::former_place(organisation, number), former))
            .transpose()?;
        Ok(Self {
            number,
            current,
            former,
        })
    }

    /// The same key under another root key.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for keys.
    pub fn wrap_with(
        &self,
        rng: &mut dyn CryptoRng,
        root: &super::RootKey,
        organisation: Uuid,
    ) -> Result<WrappedKey, SealProblem> {
        root.key()
            .wrap(rng, &Self::place(organisation), &self.current)
    }

    /// A new key in its place.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for keys.
    pub fn change(
        &self,
        rng: &mut dyn CryptoRng,
        root: &super::RootKey,
        organisation: Uuid,
    ) -> Result<ChangedKey, SealProblem> {
        let key = Self {
            number: self.number + 1,
            current: Key::generate(rng),
            former: Some(self.current.clone()),
        };
        let wrapped = key.wrap_with(rng, root, organisation)?;
        let former = key.current.wrap(
            rng,
            &Self::former_place(organisation, key.number),
            &self.current,
        )?;
        Ok(ChangedKey {
            key,
            wrapped,
            former,
        })
    }

    /// Its number: 1 at set-up, one more with each change.
    #[must_use]
    pub const fn number(&self) -> i32 {
        self.number
    }

    /// Whether data keys may still be under the former key.
    #[must_use]
    pub const fn is_changing(&self) -> bool {
        self.former.is_some()
    }

    fn place(organisation: Uuid) -> Vec<u8> {
        bind("jexlin organisation key", &[organisation.as_bytes()])
    }

    fn former_place(organisation: Uuid, number: i32) -> Vec<u8> {
        bind(
            "jexlin former organisation key",
            &[organisation.as_bytes(), &number.to_be_bytes()],
        )
    }

    /// A new data key for a credential, and the same wrapped.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for keys.
    pub fn generate_data_key(
        &self,
        rng: &mut dyn CryptoRng,
        organisation: Uuid,
        credential: Uuid,
    ) -> Result<(DataKey, WrappedKey), SealProblem> {
        let key = Key::generate(rng);
        let wrapped = self
            .current
            .wrap(rng, &Self::data_place(organisation, credential), &key)?;
        Ok((DataKey(key), wrapped))
    }

    /// Unwraps the data key of a credential. It can seal; opening takes [`super::open`] and a pass.
    ///
    /// # Errors
    /// [`SealProblem::Refused`].
    pub fn unwrap_data_key(
        &self,
        organisation: Uuid,
        credential: Uuid,
        wrapped: &WrappedKey,
    ) -> Result<DataKey, SealProblem> {
        let place = Self::data_place(organisation, credential);
        let opened = self.current.unwrap_key(&place, wrapped);
        // It is authenticated, so that the key that opens it is the one it is under.
        match (&self.former, opened) {
            (Some(former), Err(SealProblem::Refused)) => {
                former.unwrap_key(&place, wrapped).map(DataKey)
            }
            (_, opened) => opened.map(DataKey),
        }
    }

    /// Moves a data key from the former organisation key to this one; no secret is touched.
    ///
    /// # Errors
    /// [`SealProblem::Refused`].
    pub fn rewrap(
        &self,
        rng: &mut dyn CryptoRng,
        organisation: Uuid,
        credential: Uuid,
        wrapped: &WrappedKey,
    ) -> Result<WrappedKey, SealProblem> {
        let DataKey(key) = self.unwrap_data_key(organisation, credential, wrapped)?;
        self.current
            .wrap(rng, &Self::data_place(organisation, credential), &key)
    }

    fn data_place(organisation: Uuid, credential: Uuid) -> Vec<u8> {
        bind(
            "jexlin data key",
            &[organisation.as_bytes(), credential.as_bytes()],
        )
    }

    /// The key of the audit log's MACs.
    #[must_use]
    pub fn event_key(&self) -> EventKey {
        let derived = |key: &Key| key.derive("audit mac 1");
        EventKey {
            number: self.number,
            current: derived(&self.current),
            former: self.former.as_ref().map(derived),
        }
    }

    /// The key of the fingerprints that find reuse.
    #[must_use]
    pub fn fingerprint_key(&self) -> Key {
        self.current.derive("reuse fingerprint 1")
    }

    /// Seals the audit log's signing key.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for keys.
    pub fn seal_signing_key(
        &self,
        rng: &mut dyn CryptoRng,
        organisation: Uuid,
        seed: &[u8; 32],
    ) -> Result<Sealed, SealProblem> {
        self.current
            .seal(
                rng,
                &bind("jexlin audit signing key", &[organisation.as_bytes()]),
                seed,
            )
            .map(Sealed)
    }

    /// Opens the audit log's signing key.
    ///
    /// # Errors
    /// [`SealProblem::Refused`].
    pub fn open_signing_key(
        &self,
        organisation: Uuid,
        sealed: &Sealed,
    ) -> Result<Secret, SealProblem> {
        self.current.open(
            &bind("jexlin audit signing key", &[organisation.as_bytes()]),
            &sealed.0,
        )
    }
}

/// The key of one credential. Anybody may seal with it; only [`super::open`] opens.
#[derive(Clone, Debug)]
pub struct DataKey(Key);

impl DataKey {
    /// Seals one version of one field.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for values within the limits of a field.
    pub fn seal(
        &self,
        rng: &mut dyn CryptoRng,
        place: &Place<'_>,
        plain: &Secret,
    ) -> Result<Sealed, SealProblem> {
        self.0
            .seal(rng, &place.bytes(), plain.expose_secret())
            .map(Sealed)
    }

    pub(crate) fn open(&self, place: &Place<'_>, sealed: &Sealed) -> Result<Secret, SealProblem> {
        self.0.open(&place.bytes(), &sealed.0)
    }
}

impl DataKey {
    /// Seals one piece of an attachment.
    ///
    /// # Errors
    /// [`SealProblem`], which does not happen for pieces of any sensible size.
    pub fn seal_piece(
        &self,
        rng: &mut dyn CryptoRng,
        place: &PiecePlace,
        plain: &[u8],
    ) -> Result<Sealed, SealProblem> {
        self.0.seal(rng, &place.bytes(), plain).map(Sealed)
    }

    pub(super) fn open_piece(
        &self,
        place: &PiecePlace,
        sealed: &Sealed,
    ) -> Result<Secret, SealProblem> {
        self.0.open(&place.bytes(), &sealed.0)
    }
}

impl PiecePlace {
    fn bytes(&self) -> Vec<u8> {
        let parts: [&[u8]; 5] = [
            self.organisation.as_bytes(),
            self.credential.as_bytes(),
            self.attachment.as_bytes(),
            &self.number.to_be_bytes(),
            &[u8::from(self.last)],
        ];
        bind("jexlin attachment piece", &parts)
    }
}

impl Place<'_> {
    fn bytes(&self) -> Vec<u8> {
        bind(
            "jexlin secret version",
            &[
                self.organisation.as_bytes(),
                self.credential.as_bytes(),
                self.field.as_bytes(),
                &self.version.to_be_bytes(),
            ],
        )
    }
}

#[cfg(test)]
mod tests {
    use super::super::RootKey;
    use super::*;
    use proptest::prelude::*;

    struct Test(Uuid);
    impl super::super::sealed::Sealed for Test {}
    impl super::super::Pass for Test {
        fn credential(&self) -> Uuid {
            self.0
        }
    }

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    #[test]
    fn a_value_moved_to_another_row_field_version_or_organisation_does_not_open() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (key, _) = OrganisationKey::generate(&mut rng, &root, id(1)).unwrap();
        let (data, wrapped) = key.generate_data_key(&mut rng, id(1), id(2)).unwrap();
        let place = Place {
            organisation: id(1),
            credential: id(2),
            field: "password",
            version: 3,
        };
        let sealed = data
            .seal(
                &mut rng,
                &place,
                &Secret::from_text("winter-tide-41".into()),
            )
            .unwrap();
        let opened = super::super::open(&Test(id(2)), &key, &wrapped, &place, &sealed).unwrap();
        assert_eq!(opened.expose_secret(), b"winter-tide-41");
        for moved in [
            Place {
                credential: id(9),
                ..place
            },
            Place {
                field: "note",
                ..place
            },
            Place {
                version: 4,
                ..place
            },
            Place {
                organisation: id(9),
                ..place
            },
        ] {
            assert!(data.open(&moved, &sealed).is_err(), "{moved:?}");
            let pass = Test(moved.credential);
            assert!(
                super::super::open(&pass, &key, &wrapped, &moved, &sealed).is_err(),
                "{moved:?}"
            );
        }
        assert_eq!(
            super::super::open(&Test(id(9)), &key, &wrapped, &place, &sealed).unwrap_err(),
            SealProblem::OtherCredential
        );
    }

    #[test]
    fn a_piece_of_an_attachment_moved_cut_off_or_of_another_does_not_open() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (key, _) = OrganisationKey::generate(&mut rng, &root, id(1)).unwrap();
        let (data, wrapped) = key.generate_data_key(&mut rng, id(1), id(2)).unwrap();
        let place = PiecePlace {
            organisation: id(1),
            credential: id(2),
            attachment: id(5),
            number: 0,
            last: false,
        };
        let sealed = data.seal_piece(&mut rng, &place, b"drawing").unwrap();
        let open = |place: &PiecePlace| {
            super::super::open_piece(&Test(id(2)), &key, &wrapped, place, &sealed)
        };
        assert_eq!(open(&place).unwrap().expose_secret(), b"drawing");
        for moved in [
            PiecePlace {
                attachment: id(6),
                ..place
            },
            PiecePlace { number: 1, ..place },
            PiecePlace {
                last: true,
                ..place
            },
        ] {
            assert_eq!(open(&moved).unwrap_err(), SealProblem::Refused, "{moved:?}");
        }
        assert_eq!(
            open(&PiecePlace {
                credential: id(3),
                ..place
            })
            .unwrap_err(),
            SealProblem::OtherCredential
        );
    }

    #[test]
    fn a_former_version_is_restore_without_being_seen_and_only_in_its_own_field() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (key, _) = OrganisationKey::generate(&mut rng, &root, id(1)).unwrap();
        let (data, wrapped) = key.generate_data_key(&mut rng, id(1), id(2)).unwrap();
        let from = Place {
            organisation: id(1),
            credential: id(2),
            field: "password",
            version: 1,
        };
        let to = Place { version: 4, ..from };
        let sealed = data
            .seal(&mut rng, &from, &Secret::from_text("winter-tide-41".into()))
            .unwrap();
        let again = super::super::restore(&mut rng, &key, &wrapped, &from, &to, &sealed).unwrap();
        let opened = super::super::open(&Test(id(2)), &key, &wrapped, &to, &again).unwrap();
        assert_eq!(opened.expose_secret(), b"winter-tide-41");
        let elsewhere = Place {
            field: "note",
            ..to
        };
        assert!(
            super::super::restore(&mut rng, &key, &wrapped, &from, &elsewhere, &sealed).is_err()
        );
    }

    #[test]
    fn another_root_key_opens_nothing() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (_, wrapped) = OrganisationKey::generate(&mut rng, &root, id(1)).unwrap();
        assert!(
            OrganisationKey::unwrap_with(&RootKey::generate(&mut rng), id(1), 1, &wrapped, None)
                .is_err()
        );
    }

    #[test]
    fn a_wrapped_key_does_not_serve_another_credential_or_organisation() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (key, wrapped_organisation) =
            OrganisationKey::generate(&mut rng, &root, id(1)).unwrap();
        let (_, wrapped) = key.generate_data_key(&mut rng, id(1), id(2)).unwrap();
        assert!(key.unwrap_data_key(id(1), id(3), &wrapped).is_err());
        assert!(key.unwrap_data_key(id(2), id(2), &wrapped).is_err());
        assert!(
            OrganisationKey::unwrap_with(&root, id(2), 1, &wrapped_organisation, None).is_err()
        );
    }

    #[test]
    fn a_changed_key_keeps_every_secret_before_and_after_its_data_key_has_moved() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (old, _) = OrganisationKey::generate(&mut rng, &root, id(1)).unwrap();
        let (data, wrapped) = old.generate_data_key(&mut rng, id(1), id(2)).unwrap();
        let place = Place {
            organisation: id(1),
            credential: id(2),
            field: "password",
            version: 1,
        };
        let sealed = data
            .seal(&mut rng, &place, &Secret::from_text("kept".into()))
            .unwrap();
        let opens = |key: &OrganisationKey, wrapped: &WrappedKey| {
            super::super::open(&Test(id(2)), key, wrapped, &place, &sealed)
                .is_ok_and(|value| value.expose_secret() == b"kept")
        };
        let changed = old.change(&mut rng, &root, id(1)).unwrap();
        let read = |former| {
            OrganisationKey::unwrap_with(&root, id(1), 2, &changed.wrapped, former).unwrap()
        };
        let (during, after) = (read(Some(&changed.former)), read(None));
        assert!(during.is_changing() && during.number() == 2 && !after.is_changing());
        assert!(
            opens(&during, &wrapped) && opens(&changed.key, &wrapped) && !opens(&after, &wrapped)
        );
        let moved = during.rewrap(&mut rng, id(1), id(2), &wrapped).unwrap();
        assert!(opens(&during, &moved) && opens(&after, &moved) && !opens(&old, &moved));
        assert!(
            OrganisationKey::unwrap_with(&root, id(1), 3, &changed.wrapped, Some(&changed.former))
                .is_err(),
            "the former key of another number"
        );
    }

    #[test]
    fn an_event_says_by_which_key_it_is_authenticated() {
        let mut rng = rand::rng();
        let root = RootKey::generate(&mut rng);
        let (old, _) = OrganisationKey::generate(&mut rng, &root, id(1)).unwrap();
        let new = old.change(&mut rng, &root, id(1)).unwrap().key;
        let (before, after) = (
            old.event_key().mac(&[b"event"]),
            new.event_key().mac(&[b"event"]),
        );
        assert_ne!(before, after);
        let key = new.event_key();
        assert_eq!(
            (
                key.confirms(1, &[b"event"], &before),
                key.confirms(2, &[b"event"], &after)
            ),
            (Some(true), Some(true))
        );
        assert_eq!(
            (
                key.confirms(2, &[b"event"], &before),
                key.confirms(1, &[b"event"], &after)
            ),
            (Some(false), Some(false))
        );
        assert_eq!(
            (
                key.confirms(3, &[b"event"], &after),
                old.event_key().confirms(2, &[b"event"], &after)
            ),
            (None, None)
        );
    }

    #[test]
    fn another_root_key_holds_the_same_organisation_key() {
        let mut rng = rand::rng();
        let (root, next) = (RootKey::generate(&mut rng), RootKey::generate(&mut rng));
        let (key, wrapped) = OrganisationKey::generate(&mut rng, &root, id(1)).unwrap();
        let again = key.wrap_with(&mut rng, &next, id(1)).unwrap();
        let (_, data) = key.generate_data_key(&mut rng, id(1), id(2)).unwrap();
        assert!(
            OrganisationKey::unwrap_with(&next, id(1), 1, &again, None)
                .unwrap()
                .unwrap_data_key(id(1), id(2), &data)
                .is_ok()
        );
        assert!(OrganisationKey::unwrap_with(&next, id(1), 1, &wrapped, None).is_err());
    }

    proptest! {
        #[test]
        fn any_changed_byte_is_refused(plain in prop::collection::vec(any::<u8>(), 0..80), index in any::<prop::sample::Index>(), flip in 1u8..) {
            let mut rng = rand::rng();
            let key = Key::generate(&mut rng);
            let mut sealed = key.seal(&mut rng, b"here", &plain).unwrap();
            let opened = key.open(b"here", &sealed).unwrap();
            prop_assert_eq!(opened.expose_secret(), plain.as_slice());
            prop_assert!(key.open(b"there", &sealed).is_err());
            let index = index.index(sealed.len());
            sealed[index] ^= flip;
            prop_assert!(key.open(b"here", &sealed).is_err());
        }
    }
}
