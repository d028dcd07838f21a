//! The events that there are, and what they are about.

use strum::EnumMessage;

use crate::access::Level;
use crate::people::Duty;
use crate::words::word_enum;

word_enum! {
    /// What was done. The sentence of each is also in the catalogue of events.
    #[derive(EnumMessage)]
    pub enum Action {
        /// Access issues are fixed.
        #[serde(rename = "access-issue.fix")]
        #[strum(serialize = "access-issue.fix")]
        AccessIssueFix,
        /// The access issues are read.
        #[serde(rename = "access-issue.list")]
        #[strum(serialize = "access-issue.list")]
        AccessIssueList,
        /// A level on a credential is requested.
        #[serde(rename = "access-request.ask")]
        #[strum(serialize = "access-request.ask")]
        AccessRequestAsk,
        /// An access request is granted.
        #[serde(rename = "access-request.grant")]
        #[strum(serialize = "access-request.grant")]
        AccessRequestGrant,
        /// An access request is refused.
        #[serde(rename = "access-request.refuse")]
        #[strum(serialize = "access-request.refuse")]
        AccessRequestRefuse,
        /// An access request is withdrawn by the requester.
        #[serde(rename = "access-request.withdraw")]
        #[strum(serialize = "access-request.withdraw")]
        AccessRequestWithdraw,
        /// An access file is applied.
        #[serde(rename = "access.apply")]
        #[strum(serialize = "access.apply")]
        AccessApply,
        /// An access file is compared with the current state.
        #[serde(rename = "access.compare")]
        #[strum(serialize = "access.compare")]
        AccessCompare,
        /// Why a person has access, or none, is explained.
        #[serde(rename = "access.explain")]
        #[strum(serialize = "access.explain")]
        AccessExplain,
        /// Access is exported as a file.
        #[serde(rename = "access.export")]
        #[strum(serialize = "access.export")]
        AccessExport,
        /// A person's stewardship is transferred to another.
        #[serde(rename = "access.transfer-stewardship")]
        #[strum(serialize = "access.transfer-stewardship")]
        AccessTransferStewardship,
        /// Who has access to a folder or a credential is read, or what a person has access to.
        #[serde(rename = "access.who")]
        #[strum(serialize = "access.who")]
        AccessWho,
        /// The audit log is exported.
        #[serde(rename = "audit.export")]
        #[strum(serialize = "audit.export")]
        AuditExport,
        /// A proof that an event is in the log is made.
        #[serde(rename = "audit.proof")]
        #[strum(serialize = "audit.proof")]
        AuditProof,
        /// The audit log is read.
        #[serde(rename = "audit.read")]
        #[strum(serialize = "audit.read")]
        AuditRead,
        /// What was removed is deleted permanently.
        #[serde(rename = "bin.purge")]
        #[strum(serialize = "bin.purge")]
        BinPurge,
        /// What was removed is restored.
        #[serde(rename = "bin.restore")]
        #[strum(serialize = "bin.restore")]
        BinRestore,
        /// A binding is confirmed.
        #[serde(rename = "binding.confirm")]
        #[strum(serialize = "binding.confirm")]
        BindingConfirm,
        /// A checkout is checked in by its holder.
        #[serde(rename = "checkout.check-in")]
        #[strum(serialize = "checkout.check-in")]
        CheckoutCheckIn,
        /// A checkout is ended by a steward.
        #[serde(rename = "checkout.recall")]
        #[strum(serialize = "checkout.recall")]
        CheckoutRecall,
        /// A credential is checked out.
        #[serde(rename = "checkout.take")]
        #[strum(serialize = "checkout.take")]
        CheckoutTake,
        /// A checkout ends at its time.
        #[serde(rename = "checkout.expire")]
        #[strum(serialize = "checkout.expire")]
        CheckoutExpire,
        /// A client is added.
        #[serde(rename = "client.add")]
        #[strum(serialize = "client.add")]
        ClientAdd,
        /// A client gets a new secret.
        #[serde(rename = "client.renew")]
        #[strum(serialize = "client.renew")]
        ClientRenew,
        /// A credential is added.
        #[serde(rename = "credential.add")]
        #[strum(serialize = "credential.add")]
        CredentialAdd,
        /// An attachment is added to a credential.
        #[serde(rename = "credential.add-attachment")]
        #[strum(serialize = "credential.add-attachment")]
        CredentialAddAttachment,
        /// A one-time code of a credential is shown.
        #[serde(rename = "credential.code")]
        #[strum(serialize = "credential.code")]
        CredentialCode,
        /// A credential is copied.
        #[serde(rename = "credential.copy")]
        #[strum(serialize = "credential.copy")]
        CredentialCopy,
        /// An attachment of a credential is removed.
        #[serde(rename = "credential.remove-attachment")]
        #[strum(serialize = "credential.remove-attachment")]
        CredentialRemoveAttachment,
        /// A credential is edited.
        #[serde(rename = "credential.edit")]
        #[strum(serialize = "credential.edit")]
        CredentialEdit,
        /// A credential's values leave the vault in an export.
        #[serde(rename = "credential.export")]
        #[strum(serialize = "credential.export")]
        CredentialExport,
        /// A credential is added to favourites.
        #[serde(rename = "credential.add-favourite")]
        #[strum(serialize = "credential.add-favourite")]
        CredentialAddFavourite,
        /// The former values of a credential are listed.
        #[serde(rename = "credential.history")]
        #[strum(serialize = "credential.history")]
        CredentialHistory,
        /// Where a credential may be used as an operator is changed.
        #[serde(rename = "credential.operator-scope")]
        #[strum(serialize = "credential.operator-scope")]
        CredentialOperatorScope,
        /// A credential is moved to the bin.
        #[serde(rename = "credential.remove")]
        #[strum(serialize = "credential.remove")]
        CredentialRemove,
        /// A former value of a credential becomes the current one.
        #[serde(rename = "credential.restore")]
        #[strum(serialize = "credential.restore")]
        CredentialRestore,
        /// A value of a credential is shown.
        #[serde(rename = "credential.reveal")]
        #[strum(serialize = "credential.reveal")]
        CredentialReveal,
        /// A credential is removed from favourites.
        #[serde(rename = "credential.remove-favourite")]
        #[strum(serialize = "credential.remove-favourite")]
        CredentialRemoveFavourite,
        /// Who revealed or used a credential is read.
        #[serde(rename = "credential.uses")]
        #[strum(serialize = "credential.uses")]
        CredentialUses,
        /// A device is added.
        #[serde(rename = "device.add")]
        #[strum(serialize = "device.add")]
        DeviceAdd,
        /// The bindings of a device are confirmed.
        #[serde(rename = "device.confirm-bindings")]
        #[strum(serialize = "device.confirm-bindings")]
        DeviceConfirmBindings,
        /// A dialogue is added, or another version of one.
        #[serde(rename = "dialogue.add")]
        #[strum(serialize = "dialogue.add")]
        DialogueAdd,
        /// A device is edited.
        #[serde(rename = "device.edit")]
        #[strum(serialize = "device.edit")]
        DeviceEdit,
        /// Upkeep of a device is paused, since it does not prove its identity.
        #[serde(rename = "device.pause")]
        #[strum(serialize = "device.pause")]
        DevicePause,
        /// The accounts of a device are asked for.
        #[serde(rename = "device.read-accounts")]
        #[strum(serialize = "device.read-accounts")]
        DeviceReadAccounts,
        /// The identity of a device is read over the network.
        #[serde(rename = "device.read-identity")]
        #[strum(serialize = "device.read-identity")]
        DeviceReadIdentity,
        /// A device is moved to the bin.
        #[serde(rename = "device.remove")]
        #[strum(serialize = "device.remove")]
        DeviceRemove,
        /// Upkeep of a device is resumed.
        #[serde(rename = "device.resume")]
        #[strum(serialize = "device.resume")]
        DeviceResume,
        /// The identity that a device showed at first contact is trusted.
        #[serde(rename = "device.trust-first-contact")]
        #[strum(serialize = "device.trust-first-contact")]
        DeviceTrustFirstContact,
        /// Credentials are exported.
        #[serde(rename = "export.run")]
        #[strum(serialize = "export.run")]
        ExportRun,
        /// A folder is added.
        #[serde(rename = "folder.add")]
        #[strum(serialize = "folder.add")]
        FolderAdd,
        /// A folder is edited.
        #[serde(rename = "folder.edit")]
        #[strum(serialize = "folder.edit")]
        FolderEdit,
        /// The password policy of a folder is changed.
        #[serde(rename = "folder.password-rule")]
        #[strum(serialize = "folder.password-rule")]
        FolderPasswordRule,
        /// A folder is moved to the bin.
        #[serde(rename = "folder.remove")]
        #[strum(serialize = "folder.remove")]
        FolderRemove,
        /// A gate is added.
        #[serde(rename = "gate.add")]
        #[strum(serialize = "gate.add")]
        GateAdd,
        /// A gate is edited.
        #[serde(rename = "gate.edit")]
        #[strum(serialize = "gate.edit")]
        GateEdit,
        /// A gate is removed.
        #[serde(rename = "gate.remove")]
        #[strum(serialize = "gate.remove")]
        GateRemove,
        /// A grant is added.
        #[serde(rename = "grant.add")]
        #[strum(serialize = "grant.add")]
        GrantAdd,
        /// A grant is edited.
        #[serde(rename = "grant.edit")]
        #[strum(serialize = "grant.edit")]
        GrantEdit,
        /// The grants on a folder or a credential are read.
        #[serde(rename = "grant.list")]
        #[strum(serialize = "grant.list")]
        GrantList,
        /// A grant is removed.
        #[serde(rename = "grant.remove")]
        #[strum(serialize = "grant.remove")]
        GrantRemove,
        /// A group is added.
        #[serde(rename = "group.add")]
        #[strum(serialize = "group.add")]
        GroupAdd,
        /// A group is edited.
        #[serde(rename = "group.edit")]
        #[strum(serialize = "group.edit")]
        GroupEdit,
        /// A member is added to a group.
        #[serde(rename = "group.add-member")]
        #[strum(serialize = "group.add-member")]
        GroupAddMember,
        /// A member is removed from a group.
        #[serde(rename = "group.remove-member")]
        #[strum(serialize = "group.remove-member")]
        GroupRemoveMember,
        /// A group is removed.
        #[serde(rename = "group.remove")]
        #[strum(serialize = "group.remove")]
        GroupRemove,
        /// A file is imported.
        #[serde(rename = "import.run")]
        #[strum(serialize = "import.run")]
        ImportRun,
        /// An import is undone.
        #[serde(rename = "import.undo")]
        #[strum(serialize = "import.undo")]
        ImportUndo,
        /// The state of the vault's keys is read.
        #[serde(rename = "keys.read")]
        #[strum(serialize = "keys.read")]
        KeysRead,
        /// A kind is added.
        #[serde(rename = "kind.add")]
        #[strum(serialize = "kind.add")]
        KindAdd,
        /// A kind is edited.
        #[serde(rename = "kind.edit")]
        #[strum(serialize = "kind.edit")]
        KindEdit,
        /// A kind is removed.
        #[serde(rename = "kind.remove")]
        #[strum(serialize = "kind.remove")]
        KindRemove,
        /// The organisation's key is changed.
        #[serde(rename = "organisation-key.change")]
        #[strum(serialize = "organisation-key.change")]
        OrganisationKeyChange,
        /// All data keys use the organisation's new key.
        #[serde(rename = "organisation-key.moved")]
        #[strum(serialize = "organisation-key.moved")]
        OrganisationKeyMoved,
        /// The organisation is set up.
        #[serde(rename = "organisation.setup")]
        #[strum(serialize = "organisation.setup")]
        OrganisationSetup,
        /// A second person confirms an act.
        #[serde(rename = "pending-act.confirm")]
        #[strum(serialize = "pending-act.confirm")]
        PendingActConfirm,
        /// An act that waited for a second person expires.
        #[serde(rename = "pending-act.expire")]
        #[strum(serialize = "pending-act.expire")]
        PendingActExpire,
        /// An act waits for a second person.
        #[serde(rename = "pending-act.propose")]
        #[strum(serialize = "pending-act.propose")]
        PendingActPropose,
        /// A second person refuses an act.
        #[serde(rename = "pending-act.refuse")]
        #[strum(serialize = "pending-act.refuse")]
        PendingActRefuse,
        /// An act that waits for a second person is withdrawn.
        #[serde(rename = "pending-act.withdraw")]
        #[strum(serialize = "pending-act.withdraw")]
        PendingActWithdraw,
        /// A person is added.
        #[serde(rename = "person.add")]
        #[strum(serialize = "person.add")]
        PersonAdd,
        /// A person is edited.
        #[serde(rename = "person.edit")]
        #[strum(serialize = "person.edit")]
        PersonEdit,
        /// What somebody has seen is listed.
        #[serde(rename = "person.seen")]
        #[strum(serialize = "person.seen")]
        PersonSeen,
        /// A person changes their own sign-in password.
        #[serde(rename = "person.change-password")]
        #[strum(serialize = "person.change-password")]
        PersonChangePassword,
        /// Something is added to a personal folder.
        #[serde(rename = "personal.add")]
        #[strum(serialize = "personal.add")]
        PersonalAdd,
        /// A personal folder is created.
        #[serde(rename = "personal.create")]
        #[strum(serialize = "personal.create")]
        PersonalCreate,
        /// Something in a personal folder is edited.
        #[serde(rename = "personal.edit")]
        #[strum(serialize = "personal.edit")]
        PersonalEdit,
        /// A credential is moved into a personal folder.
        #[serde(rename = "personal.move-in")]
        #[strum(serialize = "personal.move-in")]
        PersonalMoveIn,
        /// Something is moved out of a personal folder.
        #[serde(rename = "personal.move-out")]
        #[strum(serialize = "personal.move-out")]
        PersonalMoveOut,
        /// A personal folder is opened.
        #[serde(rename = "personal.open")]
        #[strum(serialize = "personal.open")]
        PersonalOpen,
        /// The passphrase of a personal folder is changed.
        #[serde(rename = "personal.passphrase")]
        #[strum(serialize = "personal.passphrase")]
        PersonalPassphrase,
        /// Something in a personal folder is removed.
        #[serde(rename = "personal.remove")]
        #[strum(serialize = "personal.remove")]
        PersonalRemove,
        /// A value in a personal folder is shown.
        #[serde(rename = "personal.reveal")]
        #[strum(serialize = "personal.reveal")]
        PersonalReveal,
        /// An upkeep plan is added.
        #[serde(rename = "plan.add")]
        #[strum(serialize = "plan.add")]
        PlanAdd,
        /// An upkeep plan is edited.
        #[serde(rename = "plan.edit")]
        #[strum(serialize = "plan.edit")]
        PlanEdit,
        /// An upkeep plan is removed.
        #[serde(rename = "plan.remove")]
        #[strum(serialize = "plan.remove")]
        PlanRemove,
        /// The password of a person is reset on the machine of the service, with the root key.
        #[serde(rename = "person.recover")]
        #[strum(serialize = "person.recover")]
        PersonRecover,
        /// A password policy is added.
        #[serde(rename = "policy.add")]
        #[strum(serialize = "policy.add")]
        PolicyAdd,
        /// Another password policy becomes the default.
        #[serde(rename = "policy.make-default")]
        #[strum(serialize = "policy.make-default")]
        PolicyMakeDefault,
        /// A password policy is edited.
        #[serde(rename = "policy.edit")]
        #[strum(serialize = "policy.edit")]
        PolicyEdit,
        /// A password policy is removed.
        #[serde(rename = "policy.remove")]
        #[strum(serialize = "policy.remove")]
        PolicyRemove,
        /// A request to pass a gate is approved.
        #[serde(rename = "request.approve")]
        #[strum(serialize = "request.approve")]
        RequestApprove,
        /// Somebody asks to pass a gate.
        #[serde(rename = "request.ask")]
        #[strum(serialize = "request.ask")]
        RequestAsk,
        /// A request to pass a gate expires.
        #[serde(rename = "request.expire")]
        #[strum(serialize = "request.expire")]
        RequestExpire,
        /// A request to pass a gate is refused.
        #[serde(rename = "request.refuse")]
        #[strum(serialize = "request.refuse")]
        RequestRefuse,
        /// A request to pass a gate is withdrawn by the requester.
        #[serde(rename = "request.withdraw")]
        #[strum(serialize = "request.withdraw")]
        RequestWithdraw,
        /// A change of the root key is abandoned.
        #[serde(rename = "root-key.abandon")]
        #[strum(serialize = "root-key.abandon")]
        RootKeyAbandon,
        /// A change of the root key begins.
        #[serde(rename = "root-key.change")]
        #[strum(serialize = "root-key.change")]
        RootKeyChange,
        /// A change of the root key is finished.
        #[serde(rename = "root-key.finish")]
        #[strum(serialize = "root-key.finish")]
        RootKeyFinish,
        /// The passphrase of a root key file is changed.
        #[serde(rename = "root-key.passphrase")]
        #[strum(serialize = "root-key.passphrase")]
        RootKeyPassphrase,
        /// A saved search is removed.
        #[serde(rename = "search.remove")]
        #[strum(serialize = "search.remove")]
        SearchRemove,
        /// A search is saved.
        #[serde(rename = "search.save")]
        #[strum(serialize = "search.save")]
        SearchSave,
        /// A session is ended from another one.
        #[serde(rename = "session.end")]
        #[strum(serialize = "session.end")]
        SessionEnd,
        /// Somebody signs in.
        #[serde(rename = "session.sign-in")]
        #[strum(serialize = "session.sign-in")]
        SessionSignIn,
        /// Somebody signs out.
        #[serde(rename = "session.sign-out")]
        #[strum(serialize = "session.sign-out")]
        SessionSignOut,
        /// The organisation's settings are changed.
        #[serde(rename = "settings.edit")]
        #[strum(serialize = "settings.edit")]
        SettingsEdit,
        /// A waiting job is cancelled.
        #[serde(rename = "upkeep.cancel")]
        #[strum(serialize = "upkeep.cancel")]
        UpkeepCancel,
        /// A new password for an account is generated and stored, before it is sent to a device.
        #[serde(rename = "upkeep.candidate")]
        #[strum(serialize = "upkeep.candidate")]
        UpkeepCandidate,
        /// A check is asked for.
        #[serde(rename = "upkeep.check")]
        #[strum(serialize = "upkeep.check")]
        UpkeepCheck,
        /// A check has ended.
        #[serde(rename = "upkeep.checked")]
        #[strum(serialize = "upkeep.checked")]
        UpkeepChecked,
        /// A rotation is asked for.
        #[serde(rename = "upkeep.rotate")]
        #[strum(serialize = "upkeep.rotate")]
        UpkeepRotate,
        /// The accounts of a device were read, or could not be.
        #[serde(rename = "upkeep.listed")]
        #[strum(serialize = "upkeep.listed")]
        UpkeepListed,
        /// A rehearsal of a rotation is requested.
        #[serde(rename = "upkeep.rehearse")]
        #[strum(serialize = "upkeep.rehearse")]
        UpkeepRehearse,
        /// A rehearsal of a rotation has ended.
        #[serde(rename = "upkeep.rehearsed")]
        #[strum(serialize = "upkeep.rehearsed")]
        UpkeepRehearsed,
        /// A rotation has ended.
        #[serde(rename = "upkeep.rotated")]
        #[strum(serialize = "upkeep.rotated")]
        UpkeepRotated,
        /// A password is sent to a device.
        #[serde(rename = "upkeep.sign-in")]
        #[strum(serialize = "upkeep.sign-in")]
        UpkeepSignIn,
        /// The passwords of a credential are assessed.
        #[serde(rename = "vault.assess")]
        #[strum(serialize = "vault.assess")]
        VaultAssess,
        /// The vault is locked.
        #[serde(rename = "vault.lock")]
        #[strum(serialize = "vault.lock")]
        VaultLock,
        /// The vault is unlocked.
        #[serde(rename = "vault.unlock")]
        #[strum(serialize = "vault.unlock")]
        VaultUnlock,
    }
}

impl Action {
    /// What it means, in a sentence.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        self.get_documentation().unwrap_or_default()
    }
}

impl Action {
    /// The duty that whoever does this must hold, where one is needed in every case. A command that
    /// begins with such an action is refused without it.
    #[must_use]
    pub const fn needed_duty(self) -> Option<Duty> {
        match self {
            Self::AccessIssueFix | Self::AccessIssueList => Some(Duty::Access),
            Self::AuditExport | Self::AuditProof => Some(Duty::Audit),
            Self::ClientAdd
            | Self::ClientRenew
            | Self::GroupAdd
            | Self::GroupEdit
            | Self::GroupAddMember
            | Self::GroupRemoveMember
            | Self::GroupRemove
            | Self::PersonAdd
            | Self::PersonEdit => Some(Duty::People),
            Self::KindAdd
            | Self::KindEdit
            | Self::KindRemove
            | Self::DialogueAdd
            | Self::PolicyAdd
            | Self::PolicyMakeDefault
            | Self::PolicyEdit
            | Self::PolicyRemove
            | Self::SettingsEdit => Some(Duty::Policy),
            Self::KeysRead
            | Self::OrganisationKeyChange
            | Self::RootKeyAbandon
            | Self::RootKeyChange
            | Self::RootKeyFinish
            | Self::RootKeyPassphrase
            | Self::VaultLock => Some(Duty::Recovery),
            _ => None,
        }
    }

    /// The level that somebody must hold on what it is done to, if it takes one whatever the case
    /// is. The unit of work records no such action before the level was demanded.
    #[must_use]
    pub const fn needed_level(self) -> Option<Level> {
        match self {
            Self::CredentialAddFavourite | Self::RequestAsk => Some(Level::List),
            Self::CheckoutTake | Self::CredentialCode | Self::UpkeepCheck => Some(Level::Use),
            Self::CredentialCopy | Self::CredentialHistory | Self::CredentialReveal => {
                Some(Level::Reveal)
            }
            Self::CredentialAdd
            | Self::CredentialAddAttachment
            | Self::CredentialRemoveAttachment
            | Self::CredentialEdit
            | Self::CredentialRestore
            | Self::DeviceAdd
            | Self::FolderEdit
            | Self::PersonalMoveOut
            | Self::UpkeepCancel
            | Self::UpkeepRehearse
            | Self::UpkeepRotate => Some(Level::Edit),
            Self::CredentialOperatorScope
            | Self::CredentialRemove
            | Self::DeviceConfirmBindings
            | Self::DeviceEdit
            | Self::DevicePause
            | Self::DeviceReadAccounts
            | Self::DeviceRemove
            | Self::DeviceResume
            | Self::FolderPasswordRule
            | Self::FolderRemove
            | Self::GateAdd
            | Self::GateEdit
            | Self::GateRemove
            | Self::GrantAdd
            | Self::GrantEdit
            | Self::GrantList
            | Self::GrantRemove
            | Self::PersonalMoveIn
            | Self::PlanAdd
            | Self::PlanEdit
            | Self::PlanRemove => Some(Level::Steward),
            _ => None,
        }
    }
}

word_enum! {
    /// What an event is about.
    pub enum TargetType {
        /// Access as a whole.
        Access,
        /// An attachment.
        Attachment,
        /// An audit event.
        AuditEvent,
        /// An audit log.
        AuditLog,
        /// A checkout.
        Checkout,
        /// A client.
        Client,
        /// A credential.
        Credential,
        /// A device.
        Device,
        /// A dialogue.
        Dialogue,
        /// A folder.
        Folder,
        /// A gate.
        Gate,
        /// A grant.
        Grant,
        /// A group.
        Group,
        /// An import.
        Import,
        /// A job.
        Job,
        /// A kind.
        Kind,
        /// An organisation.
        Organisation,
        /// A password policy.
        PasswordPolicy,
        /// A pending act.
        PendingAct,
        /// A person.
        Person,
        /// A personal folder.
        PersonalFolder,
        /// A plan.
        Plan,
        /// A removal.
        Removal,
        /// A request.
        Request,
        /// A search.
        Search,
        /// The settings.
        Settings,
    }
}
