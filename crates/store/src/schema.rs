//! What the database has, as the migrations and `sql/` make it: tables, views, functions, and the
//! rows that functions return.

#![allow(
    missing_docs,
    reason = "the columns are described where the migration makes them"
)]

diesel::table! {
    organisation (id) {
        id -> Uuid,
        name -> Text,
        wrapped_key -> Binary,
        log_origin -> Text,
        log_key_sealed -> Binary,
        log_verifier -> Text,
        created_at -> Timestamptz,
        locked_at -> Nullable<Timestamptz>,
        root_key -> Text,
        next_wrapped_key -> Nullable<Binary>,
        next_root_key -> Nullable<Text>,
        key_number -> Int4,
        former_key -> Nullable<Binary>,
    }
}

diesel::table! {
    person (id) {
        id -> Uuid,
        organisation -> Uuid,
        sign_in_name -> Text,
        display_name -> Text,
        password_phc -> Nullable<Text>,
        state -> Text,
        duties -> Array<Text>,
        created_at -> Timestamptz,
        revision -> Int4,
        person_type -> Text,
        secret_hash -> Nullable<Binary>,
        sign_in_by -> Nullable<Uuid>,
    }
}

diesel::table! {
    session (id) {
        id -> Uuid,
        organisation -> Uuid,
        person_id -> Uuid,
        token_hash -> Binary,
        channel -> Text,
        assurance -> Text,
        created_at -> Timestamptz,
        last_used_at -> Timestamptz,
        ends_at -> Timestamptz,
        ended_at -> Nullable<Timestamptz>,
        origin -> Text,
    }
}

diesel::table! {
    sign_in_place (organisation, name, origin) {
        organisation -> Uuid,
        name -> Text,
        origin -> Text,
        signed_in_at -> Timestamptz,
    }
}

diesel::table! {
    stranger_refusal (organisation, action) {
        organisation -> Uuid,
        action -> Text,
        since -> Timestamptz,
        count -> Int8,
        origins -> Array<Text>,
    }
}

diesel::table! {
    throttle (organisation, key) {
        organisation -> Uuid,
        key -> Text,
        failures -> Int4,
        last_failure_at -> Timestamptz,
    }
}

diesel::table! {
    people_group (id) {
        id -> Uuid,
        organisation -> Uuid,
        name -> Text,
        created_at -> Timestamptz,
        revision -> Int4,
    }
}

diesel::table! {
    group_member (group_id, member) {
        organisation -> Uuid,
        group_id -> Uuid,
        member -> Uuid,
        member_is_group -> Bool,
    }
}

diesel::table! {
    folder (id) {
        id -> Uuid,
        organisation -> Uuid,
        parent_id -> Nullable<Uuid>,
        name -> Text,
        closed -> Bool,
        created_at -> Timestamptz,
        created_by -> Nullable<Uuid>,
        removed_at -> Nullable<Timestamptz>,
        revision -> Int4,
        removal_id -> Nullable<Uuid>,
        import_id -> Nullable<Uuid>,
    }
}

diesel::table! {
    device (id) {
        id -> Uuid,
        organisation -> Uuid,
        folder_id -> Uuid,
        name -> Text,
        connector -> Text,
        address -> Text,
        port -> Int4,
        identity -> Text,
        created_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
        revision -> Int4,
        removal_id -> Nullable<Uuid>,
        paused_at -> Nullable<Timestamptz>,
        paused_why -> Text,
        dialogue_id -> Nullable<Uuid>,
        dialogue_digest -> Text,
        platform -> Text,
        description -> Text,
        family_of -> Nullable<Uuid>,
        import_id -> Nullable<Uuid>,
        jump_host_id -> Nullable<Uuid>,
    }
}

diesel::table! {
    found_account (device_id, login) {
        organisation -> Uuid,
        device_id -> Uuid,
        login -> Text,
        facts -> Jsonb,
    }
}

diesel::table! {
    credential (id) {
        id -> Uuid,
        organisation -> Uuid,
        folder_id -> Uuid,
        kind -> Text,
        name -> Text,
        fields -> Jsonb,
        device_id -> Nullable<Uuid>,
        data_key -> Binary,
        created_at -> Timestamptz,
        created_by -> Nullable<Uuid>,
        changed_at -> Timestamptz,
        changed_by -> Nullable<Uuid>,
        removed_at -> Nullable<Timestamptz>,
        revision -> Int4,
        removal_id -> Nullable<Uuid>,
        purged_at -> Nullable<Timestamptz>,
        extra -> Jsonb,
        tags -> Array<Text>,
        key_number -> Int4,
    }
}

diesel::table! {
    secret_version (credential_id, field, number) {
        organisation -> Uuid,
        credential_id -> Uuid,
        field -> Text,
        number -> Int4,
        state -> Text,
        sealed -> Binary,
        made_at -> Timestamptz,
        made_by -> Nullable<Uuid>,
        made_how -> Text,
        reason -> Text,
        facts -> Jsonb,
        fingerprint -> Nullable<Binary>,
        unanswered_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    access_grant (id) {
        id -> Uuid,
        organisation -> Uuid,
        folder_id -> Nullable<Uuid>,
        credential_id -> Nullable<Uuid>,
        person_id -> Nullable<Uuid>,
        group_id -> Nullable<Uuid>,
        held -> Int2,
        ends_at -> Nullable<Timestamptz>,
        note -> Text,
        created_at -> Timestamptz,
        created_by -> Nullable<Uuid>,
        only_kind -> Nullable<Text>,
        only_tag -> Nullable<Text>,
        history -> Bool,
        revision -> Int4,
    }
}

diesel::table! {
    password_policy (id) {
        id -> Uuid,
        organisation -> Uuid,
        name -> Text,
        rules -> Jsonb,
        is_default -> Bool,
        revision -> Int4,
    }
}

diesel::table! {
    upkeep_plan (id) {
        id -> Uuid,
        organisation -> Uuid,
        folder_id -> Nullable<Uuid>,
        check_rule -> Nullable<Text>,
        out_of_sync -> Text,
        rotate_rule -> Nullable<Text>,
        rotate_days -> Nullable<Int4>,
        hours_from -> Nullable<Text>,
        hours_to -> Nullable<Text>,
        time_zone -> Text,
        policy_id -> Nullable<Uuid>,
        anchor -> Date,
        revision -> Int4,
        account_id -> Nullable<Uuid>,
    }
}

diesel::table! {
    account (id) {
        id -> Uuid,
        organisation -> Uuid,
        device_id -> Uuid,
        family -> Text,
        login -> Text,
        login_key -> Text,
        credential_id -> Nullable<Uuid>,
        created_at -> Timestamptz,
        stale -> Bool,
        next_check_at -> Nullable<Timestamptz>,
        next_rotation_at -> Nullable<Timestamptz>,
        checked_at -> Nullable<Timestamptz>,
        check_outcome -> Nullable<Text>,
        rotated_at -> Nullable<Timestamptz>,
        rotation_outcome -> Nullable<Text>,
        rotation_owed_at -> Nullable<Timestamptz>,
        owed_tries -> Int4,
        owed_next_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    binding (device_id, credential_id, role) {
        organisation -> Uuid,
        credential_id -> Uuid,
        device_id -> Uuid,
        role -> Text,
        address -> Text,
        port -> Int4,
        identity -> Text,
        confirmed_at -> Timestamptz,
        confirmed_by -> Nullable<Uuid>,
        dialogue -> Text,
        way -> Text,
    }
}

diesel::table! {
    operator_scope (credential_id) {
        organisation -> Uuid,
        credential_id -> Uuid,
        device_id -> Nullable<Uuid>,
        folder_id -> Nullable<Uuid>,
    }
}

diesel::table! {
    failed_login (account_id, at) {
        organisation -> Uuid,
        account_id -> Uuid,
        at -> Timestamptz,
    }
}

diesel::table! {
    job (id) {
        id -> Uuid,
        organisation -> Uuid,
        credential_id -> Uuid,
        device_id -> Uuid,
        task -> Text,
        method -> Text,
        state -> Text,
        step -> Text,
        outcome -> Nullable<Text>,
        message -> Text,
        asked_by -> Nullable<Uuid>,
        cause -> Text,
        queued_at -> Timestamptz,
        not_before -> Timestamptz,
        started_at -> Nullable<Timestamptz>,
        finished_at -> Nullable<Timestamptz>,
        attempts -> Int4,
        leased_until -> Nullable<Timestamptz>,
        account_id -> Uuid,
        fence -> Int8,
        faults -> Int4,
        transcript -> Text,
    }
}

diesel::table! {
    dialogue (id) {
        id -> Uuid,
        organisation -> Uuid,
        name -> Text,
        number -> Int4,
        text -> Text,
        digest -> Text,
        added_at -> Timestamptz,
        added_by -> Nullable<Uuid>,
    }
}

diesel::table! {
    gate (id) {
        id -> Uuid,
        organisation -> Uuid,
        folder_id -> Nullable<Uuid>,
        credential_id -> Nullable<Uuid>,
        needs_reason -> Bool,
        needs_approval -> Bool,
        max_minutes -> Int4,
        one_holder -> Bool,
        rotate_on_return -> Bool,
        revision -> Int4,
        device_id -> Nullable<Uuid>,
    }
}

diesel::table! {
    gate_approver (gate_id, subject) {
        organisation -> Uuid,
        gate_id -> Uuid,
        subject -> Uuid,
        subject_is_group -> Bool,
    }
}

diesel::table! {
    request (id) {
        id -> Uuid,
        organisation -> Uuid,
        credential_id -> Uuid,
        person_id -> Uuid,
        reason -> Text,
        minutes -> Int4,
        state -> Text,
        asked_at -> Timestamptz,
        expires_at -> Timestamptz,
        decided_at -> Nullable<Timestamptz>,
        decided_by -> Nullable<Uuid>,
        comment -> Text,
        checkout_id -> Nullable<Uuid>,
    }
}

diesel::table! {
    request_gate (request_id, gate_id) {
        organisation -> Uuid,
        request_id -> Uuid,
        gate_id -> Uuid,
        gate_revision -> Int4,
        needs_approval -> Bool,
        approved_by -> Nullable<Uuid>,
        approved_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    checkout_gate (checkout_id, gate_id) {
        organisation -> Uuid,
        checkout_id -> Uuid,
        gate_id -> Uuid,
        gate_revision -> Int4,
    }
}

diesel::table! {
    pending_act (id) {
        id -> Uuid,
        organisation -> Uuid,
        act -> Text,
        summary -> Text,
        target_type -> Text,
        target -> Uuid,
        target_name -> Text,
        body -> Jsonb,
        state -> Text,
        proposed_by -> Uuid,
        proposed_at -> Timestamptz,
        expires_at -> Timestamptz,
        decided_by -> Nullable<Uuid>,
        decided_at -> Nullable<Timestamptz>,
        comment -> Text,
    }
}

diesel::table! {
    checkout (id) {
        id -> Uuid,
        organisation -> Uuid,
        credential_id -> Uuid,
        person_id -> Uuid,
        request_id -> Nullable<Uuid>,
        reason -> Text,
        starts_at -> Timestamptz,
        ends_at -> Timestamptz,
        ended_at -> Nullable<Timestamptz>,
        ended_how -> Nullable<Text>,
        rotate_on_return -> Bool,
        one_holder -> Bool,
    }
}

diesel::table! {
    audit_event (id) {
        seq -> Int8,
        id -> Uuid,
        organisation -> Uuid,
        at -> Timestamptz,
        action -> Text,
        actor -> Nullable<Uuid>,
        actor_name -> Text,
        target -> Nullable<Uuid>,
        target_type -> Text,
        target_name -> Text,
        origin -> Text,
        outcome -> Text,
        detail -> Jsonb,
        mac -> Binary,
        key_number -> Int4,
    }
}

diesel::table! {
    audit_leaf (organisation, leaf) {
        organisation -> Uuid,
        leaf -> Int8,
        event_id -> Uuid,
        hash -> Binary,
    }
}

diesel::table! {
    audit_checkpoint (organisation, size) {
        organisation -> Uuid,
        size -> Int8,
        note -> Text,
        made_at -> Timestamptz,
    }
}

diesel::table! {
    service_seen (id) {
        id -> Uuid,
        name -> Text,
        root_keys -> Array<Text>,
        seen_at -> Timestamptz,
    }
}

diesel::table! {
    audit_frontier (organisation) {
        organisation -> Uuid,
        size -> Int8,
        roots -> Binary,
        highest -> Int8,
        gaps -> Array<Int8>,
    }
}

diesel::table! {
    settings (organisation) {
        organisation -> Uuid,
        body -> Jsonb,
        revision -> Int4,
    }
}

diesel::table! {
    one_time_counter (credential_id, number) {
        organisation -> Uuid,
        credential_id -> Uuid,
        number -> Int4,
        counter -> Int8,
    }
}

diesel::table! {
    removal (id) {
        id -> Uuid,
        organisation -> Uuid,
        target_type -> Text,
        target -> Uuid,
        path -> Text,
        folder_id -> Uuid,
        credentials -> Int4,
        removed_at -> Timestamptz,
        removed_by -> Nullable<Uuid>,
        restored_at -> Nullable<Timestamptz>,
        purged_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    kind (id) {
        id -> Uuid,
        organisation -> Uuid,
        name -> Text,
        label -> Text,
        fields -> Jsonb,
        generates -> Bool,
        retired_at -> Nullable<Timestamptz>,
        revision -> Int4,
    }
}

diesel::table! {
    favourite (person_id, credential_id) {
        organisation -> Uuid,
        person_id -> Uuid,
        credential_id -> Uuid,
    }
}

diesel::table! {
    saved_search (id) {
        id -> Uuid,
        organisation -> Uuid,
        person_id -> Uuid,
        name -> Text,
        body -> Jsonb,
        page -> Text,
    }
}

diesel::table! {
    password_rule (folder_id) {
        folder_id -> Uuid,
        organisation -> Uuid,
        mode -> Text,
        policies -> Array<Uuid>,
    }
}

diesel::table! {
    assessment (credential_id) {
        credential_id -> Uuid,
        organisation -> Uuid,
        number -> Int4,
        score -> Int2,
        fingerprint -> Binary,
        lacks -> Array<Text>,
        leaked -> Int8,
        made_at -> Timestamptz,
        stale -> Bool,
    }
}

diesel::table! {
    attachment (id) {
        id -> Uuid,
        organisation -> Uuid,
        credential_id -> Uuid,
        name -> Text,
        size -> Int8,
        pieces -> Int4,
        made_at -> Timestamptz,
        made_by -> Nullable<Uuid>,
        heard_at -> Nullable<Timestamptz>,
        removed_at -> Nullable<Timestamptz>,
        removal_id -> Nullable<Uuid>,
    }
}

diesel::table! {
    attachment_piece (attachment_id, number) {
        organisation -> Uuid,
        attachment_id -> Uuid,
        number -> Int4,
        sealed -> Binary,
    }
}

diesel::table! {
    personal_folder (person_id) {
        person_id -> Uuid,
        organisation -> Uuid,
        salt -> Binary,
        sealed_key -> Binary,
        made_at -> Timestamptz,
        revision -> Int4,
    }
}

diesel::table! {
    personal_item (id) {
        id -> Uuid,
        organisation -> Uuid,
        person_id -> Uuid,
        sealed -> Binary,
        changed_at -> Timestamptz,
        revision -> Int4,
    }
}

diesel::table! {
    access_request (id) {
        id -> Uuid,
        organisation -> Uuid,
        credential_id -> Uuid,
        person_id -> Uuid,
        held -> Int2,
        reason -> Text,
        state -> Text,
        asked_at -> Timestamptz,
        decided_at -> Nullable<Timestamptz>,
        decided_by -> Nullable<Uuid>,
        comment -> Text,
    }
}

diesel::table! {
    import (id) {
        id -> Uuid,
        organisation -> Uuid,
        name -> Text,
        folder_id -> Uuid,
        made_at -> Timestamptz,
        made_by -> Nullable<Uuid>,
        added -> Int4,
        updated -> Int4,
        skipped -> Int4,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    import_row (import_id, credential_id) {
        import_id -> Uuid,
        organisation -> Uuid,
        credential_id -> Uuid,
        former -> Nullable<Jsonb>,
    }
}

diesel::table! {
    folder_source (folder_id, source_id) {
        folder_id -> Uuid,
        source_id -> Uuid,
    }
}

diesel::table! {
    noted (organisation, name) {
        organisation -> Uuid,
        name -> Text,
        value -> Text,
    }
}

// Views.

diesel::table! {
    grant_view (id) {
        id -> Uuid,
        folder_id -> Nullable<Uuid>,
        credential_id -> Nullable<Uuid>,
        person_id -> Nullable<Uuid>,
        group_id -> Nullable<Uuid>,
        held -> Int2,
        ends_at -> Nullable<Timestamptz>,
        note -> Text,
        only_kind -> Nullable<Text>,
        only_tag -> Nullable<Text>,
        history -> Bool,
        revision -> Int4,
        place -> Text,
        subject_name -> Text,
    }
}

diesel::table! {
    checkout_view (id) {
        id -> Uuid,
        credential_id -> Uuid,
        credential_name -> Text,
        place -> Text,
        person_id -> Uuid,
        person_name -> Text,
        reason -> Text,
        starts_at -> Timestamptz,
        ends_at -> Timestamptz,
        ended_at -> Nullable<Timestamptz>,
        ended_how -> Nullable<Text>,
        rotate_on_return -> Bool,
    }
}

diesel::table! {
    job_view (id) {
        id -> Uuid,
        credential_id -> Uuid,
        credential_name -> Text,
        place -> Text,
        device_name -> Text,
        device_folder_id -> Uuid,
        task -> Text,
        method -> Text,
        state -> Text,
        step -> Text,
        outcome -> Nullable<Text>,
        message -> Text,
        asked_by_name -> Nullable<Text>,
        cause -> Text,
        queued_at -> Timestamptz,
        not_before -> Timestamptz,
        started_at -> Nullable<Timestamptz>,
        finished_at -> Nullable<Timestamptz>,
        attempts -> Int4,
        has_transcript -> Bool,
        latest -> Bool,
    }
}

diesel::table! {
    upkeep_view (credential_id) {
        credential_id -> Uuid,
        credential_name -> Text,
        place -> Text,
        device_name -> Text,
        next_check_at -> Nullable<Timestamptz>,
        next_rotation_at -> Nullable<Timestamptz>,
        checked_at -> Nullable<Timestamptz>,
        check_outcome -> Nullable<Text>,
        rotated_at -> Nullable<Timestamptz>,
        rotation_outcome -> Nullable<Text>,
        rotation_owed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    folder_index_entry (id) {
        id -> Uuid,
        parent_id -> Nullable<Uuid>,
        name -> Text,
        closed -> Bool,
        gate -> Bool,
        credentials -> Int8,
        own_gates -> Int8,
    }
}

diesel::table! {
    credential_index_entry (id) {
        id -> Uuid,
        folder_id -> Uuid,
        kind -> Text,
        tags -> Array<Text>,
        gate -> Bool,
    }
}

// Rows of functions; `rows_of` names the function where it asks for them.

diesel::table! {
    organisation_row (id) {
        id -> Uuid,
        name -> Text,
    }
}

diesel::table! {
    open_organisation_row (id) {
        id -> Uuid,
        key_number -> Int4,
        changing -> Bool,
    }
}

diesel::table! {
    idle_grant_row (id) {
        id -> Uuid,
        issue_type -> Text,
    }
}

diesel::table! {
    narrowed_count_row (folder_id) {
        folder_id -> Uuid,
        fits -> Array<Int4>,
        credentials -> Int8,
        own_gates -> Int8,
    }
}

diesel::table! {
    access_change_row (ids) {
        target_types -> Array<Text>,
        ids -> Array<Uuid>,
    }
}

diesel::table! {
    access_news_row (snapshot) {
        snapshot -> Text,
        server -> Timestamptz,
        complete -> Bool,
        writing -> Bool,
        target_types -> Array<Text>,
        ids -> Array<Uuid>,
    }
}

diesel::table! {
    credential_place_row (id) {
        id -> Uuid,
        name -> Text,
        folder_id -> Uuid,
    }
}

diesel::table! {
    access_request_row (id) {
        id -> Uuid,
        credential_id -> Uuid,
        place -> Text,
        person_id -> Uuid,
        person_name -> Text,
        held -> Int2,
        reason -> Text,
        state -> Text,
        asked_at -> Timestamptz,
        decided_by_name -> Nullable<Text>,
        comment -> Text,
        viewer -> Uuid,
        viewer_held -> Nullable<Int2>,
    }
}

diesel::table! {
    discoverable_row (id) {
        id -> Uuid,
        name -> Text,
        place -> Text,
        kind -> Text,
        asked -> Bool,
    }
}

diesel::table! {
    credential_page_row (id) {
        id -> Uuid,
        folder_id -> Uuid,
        kind -> Text,
        name -> Text,
        fields -> Jsonb,
        held -> Int2,
        device_id -> Nullable<Uuid>,
        tags -> Array<Text>,
        changed_at -> Timestamptz,
        device_name -> Nullable<Text>,
        check_outcome -> Nullable<Text>,
        gated -> Bool,
        place -> Text,
        favourite -> Bool,
        own_grants -> Bool,
        shared -> Bool,
        findings -> Array<Text>,
        total -> Nullable<BigInt>,
    }
}

diesel::table! {
    found_row (found) {
        found -> Uuid,
        total -> BigInt,
    }
}

diesel::table! {
    checks_row (accounts) {
        check_outcome -> Nullable<Text>,
        accounts -> BigInt,
    }
}

diesel::table! {
    rotations_row (day) {
        day -> Date,
        done -> BigInt,
        failed -> BigInt,
    }
}

diesel::table! {
    user_row (actor) {
        actor -> Uuid,
        last -> Timestamptz,
        times -> Int8,
    }
}

diesel::table! {
    seen_row (credential) {
        credential -> Uuid,
        last -> Timestamptz,
        times -> Int8,
        made_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    tag_row (tag) {
        tag -> Text,
        times -> Int8,
    }
}

diesel::table! {
    visible_folder_row (id) {
        id -> Uuid,
        parent_id -> Nullable<Uuid>,
        name -> Text,
        closed -> Bool,
        revision -> Int4,
        held -> Nullable<Int2>,
        own_grants -> Bool,
        to_others -> Bool,
    }
}

diesel::table! {
    request_row (id) {
        id -> Uuid,
        credential_id -> Uuid,
        credential_name -> Text,
        place -> Text,
        person_id -> Uuid,
        person_name -> Text,
        reason -> Text,
        minutes -> Int4,
        state -> Text,
        asked_at -> Timestamptz,
        expires_at -> Timestamptz,
        decided_at -> Nullable<Timestamptz>,
        decided_by_name -> Nullable<Text>,
        comment -> Text,
        checkout_id -> Nullable<Uuid>,
        viewer -> Uuid,
        approver_at -> Array<Uuid>,
        approvals_needed -> Int8,
        approvals_given -> Int8,
    }
}

diesel::table! {
    passage_row (id) {
        id -> Uuid,
        is_request -> Bool,
        credential_id -> Uuid,
        held -> Nullable<Int2>,
        active -> Bool,
        gates -> Array<Uuid>,
    }
}

diesel::allow_tables_to_appear_in_same_query!(
    organisation,
    person,
    session,
    throttle,
    sign_in_place,
    stranger_refusal,
    people_group,
    group_member,
    folder,
    device,
    credential,
    secret_version,
    access_grant,
    password_policy,
    dialogue,
    upkeep_plan,
    account,
    binding,
    operator_scope,
    failed_login,
    job,
    gate,
    gate_approver,
    request,
    request_gate,
    checkout,
    checkout_gate,
    pending_act,
    audit_event,
    audit_leaf,
    audit_checkpoint,
    audit_frontier,
    settings,
    one_time_counter,
    removal,
    kind,
    favourite,
    saved_search,
    password_rule,
    assessment,
    attachment,
    attachment_piece,
    personal_folder,
    personal_item,
    import,
    import_row,
    access_request,
    folder_source,
    grant_view,
    credential_index_entry,
);

/// What a function returns that returns rows: see [`crate::rows_of`].
#[derive(Clone, Copy, Debug, diesel::sql_types::SqlType, diesel::query_builder::QueryId)]
#[diesel(postgres_type(name = "record"))]
pub struct Rows;

/// What a function returns that returns nothing.
#[derive(Clone, Copy, Debug, diesel::sql_types::SqlType, diesel::query_builder::QueryId)]
#[diesel(postgres_type(name = "void"))]
pub struct Nothing;

#[allow(
    clippy::too_many_arguments,
    reason = "a function has what it has in the database"
)]
mod functions {
    use super::{Nothing, Rows};
    use diesel::sql_types::{
        Array, BigInt, Binary, Bool, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid,
    };

    #[diesel::declare_sql_function]
    extern "SQL" {
        /// The level that reaches a person on a credential.
        fn level_on_credential(
            person: Uuid,
            credential: Uuid,
            at: Timestamptz,
        ) -> Nullable<SmallInt>;
        /// The level that reaches a person on a folder.
        fn level_on_folder(person: Uuid, folder: Uuid, at: Timestamptz) -> Nullable<SmallInt>;
        /// The level that reaches a person on everything that an act of removing took away.
        fn level_on_removed(person: Uuid, removed: Uuid, at: Timestamptz) -> Nullable<SmallInt>;
        /// All gates on the way to a credential.
        fn gates_of(credential: Uuid) -> Array<Uuid>;
        /// All gates on the way to a folder, its own included.
        fn gates_on_folder(folder: Uuid) -> Array<Uuid>;
        /// The upkeep plan that counts for an account.
        fn plan_of(account: Uuid) -> Nullable<Uuid>;
        /// Whether a credential may be used as the operator of a device.
        fn in_operator_scope(credential: Uuid, device: Uuid) -> Bool;
        /// Whether the way to a device is another than a binding of it was made for.
        fn way_changed(device: Uuid) -> Bool;
        /// Whether a change of tags changes whom a narrowed grant reaches.
        fn tags_move_access(folder: Uuid, changed: Array<Text>, at: Timestamptz) -> Bool;
        /// The path of a folder.
        fn path_of(folder: Uuid) -> Nullable<Text>;
        /// Small letters.
        fn lower(text: Text) -> Text;
        /// The last characters.
        #[sql_name = "right"]
        fn last_of(text: Text, length: Integer) -> Text;
        /// The first time that is one.
        fn coalesce(first: Nullable<Timestamptz>, second: Timestamptz) -> Timestamptz;
        /// The groups of a person, and the person.
        fn subjects_of(person: Uuid) -> Array<Uuid>;
        /// A folder and all below it, one a row.
        fn subtree_of(top: Uuid) -> Uuid;
        /// How many folders are below each other in a folder.
        fn subtree_height(top: Uuid) -> Integer;
        /// Works out again what grants reach a folder and all below it.
        fn refresh_sources(top: Uuid) -> Nothing;
        /// Works out again what grants reach these folders, and none below them.
        fn refresh_sources_of(folders: Array<Uuid>) -> Nothing;
        /// Adds the folders of an import, with their sources.
        fn add_imported_folders(
            import: Uuid,
            ids: Array<Uuid>,
            parents: Array<Uuid>,
            names: Array<Text>,
            at: Timestamptz,
            added_by: Nullable<Uuid>,
            folders: Array<Uuid>,
            sources: Array<Uuid>,
            placed: Array<Uuid>,
            places: Array<Uuid>,
        ) -> Nothing;
        /// Moves the empty devices that an import added to the bin. How many.
        fn remove_imported_devices(
            import: Uuid,
            removed_by: Uuid,
            removal: Uuid,
            now: Timestamptz,
        ) -> Integer;
        /// Moves the empty folders that an import added to the bin. How many.
        fn remove_imported_folders(
            import: Uuid,
            removed_by: Uuid,
            removal: Uuid,
            now: Timestamptz,
        ) -> Integer;
        /// The number of an advisory lock of this organisation.
        fn organisation_lock(part: BigInt) -> BigInt;
        /// The number of the advisory lock that commits take.
        fn commit_lock() -> BigInt;
        /// Holds an advisory lock until the transaction ends.
        fn pg_advisory_xact_lock(number: BigInt) -> Nothing;
        /// Holds an advisory lock together with others until the transaction ends.
        fn pg_advisory_xact_lock_shared(number: BigInt) -> Nothing;
        /// Sets a variable of the session or the transaction.
        fn set_config(name: Text, value: Text, local: Bool) -> Text;
        /// The organisations that there are, by name.
        fn organisations() -> Rows;
        /// The organisations whose vault is not locked.
        fn open_organisations() -> Rows;
        /// What this transaction has changed of what access depends on.
        fn access_changed() -> Rows;
        /// What has changed since a snapshot of what access depends on.
        fn access_log_since(since: Nullable<Text>) -> Rows;
        /// How many credentials narrowings fit.
        fn limited_grant_counts(
            kinds: Array<Nullable<Text>>,
            tags: Array<Nullable<Text>>,
            folders: Array<Uuid>,
            without: Array<Uuid>,
        ) -> Rows;
        /// A part of the table of accounts.
        fn account_table(
            viewer: Uuid,
            at: Timestamptz,
            wanted: Jsonb,
            rows_before: BigInt,
            size: BigInt,
        ) -> Rows;
        /// A part of the table of jobs.
        fn job_table(
            viewer: Uuid,
            at: Timestamptz,
            wanted: Jsonb,
            rows_before: BigInt,
            size: BigInt,
        ) -> Rows;
        /// A part of the table of people.
        fn person_table(
            viewer: Uuid,
            at: Timestamptz,
            wanted: Jsonb,
            rows_before: BigInt,
            size: BigInt,
        ) -> Rows;
        /// A part of the table of devices.
        fn device_table(
            viewer: Uuid,
            at: Timestamptz,
            wanted: Jsonb,
            rows_before: BigInt,
            size: BigInt,
        ) -> Rows;
        /// A part of the table of somebody's checkouts.
        fn checkout_table(
            viewer: Uuid,
            at: Timestamptz,
            wanted: Jsonb,
            rows_before: BigInt,
            size: BigInt,
        ) -> Rows;
        /// A part of the table of the requests that concern somebody.
        fn request_table(
            viewer: Uuid,
            at: Timestamptz,
            wanted: Jsonb,
            rows_before: BigInt,
            size: BigInt,
        ) -> Rows;
        /// How many accounts have which outcome of their last check.
        fn checks_counted(viewer: Uuid, at: Timestamptz) -> Rows;
        /// How many rotations ended well and badly on each of the last seven days.
        fn rotations_by_day(viewer: Uuid, at: Timestamptz, minutes_ahead: Integer) -> Rows;
        /// Forgets what everybody has seen of changes.
        fn prune_access_log() -> Nothing;
        /// Makes one note of many about how many credentials are in a folder.
        fn sum_credential_counts() -> BigInt;
        /// The grants that are of no use, and why.
        fn idle_grants(at: Timestamptz) -> Rows;
        /// Credentials that have grants or a gate of their own, or are named.
        fn credentials_apart(folders: Array<Uuid>, names: Array<Text>) -> Rows;
        /// The folders without an active steward, one a row.
        fn without_steward(among: Nullable<Array<Uuid>>, at: Timestamptz) -> Uuid;
        /// Access requests, as somebody sees them.
        fn access_requests_for(
            viewer: Uuid,
            at: Timestamptz,
            wanted: Nullable<Uuid>,
            settled: Bool,
            before_at: Timestamptz,
            before_id: Uuid,
            size: BigInt,
        ) -> Rows;
        /// What somebody sees the name of and no more.
        fn discoverable_for(
            viewer: Uuid,
            at: Timestamptz,
            pattern: Text,
            after_name: Text,
            after_id: Uuid,
            size: BigInt,
        ) -> Rows;
        /// Whether somebody may see the name of a credential that they hold nothing on.
        fn is_discoverable(viewer: Uuid, credential: Uuid, at: Timestamptz) -> Bool;
        /// The bytes of all attachments together.
        fn attachments_size() -> BigInt;
        /// When logins to an account failed, one a row.
        fn failed_logins(wanted: Uuid, since: Timestamptz) -> Timestamptz;
        /// Takes back the last failed login of an account.
        fn forgive_login(wanted: Uuid) -> Nothing;
        /// A page of the credentials that somebody may know of.
        fn credential_page(
            viewer: Uuid,
            at: Timestamptz,
            size: BigInt,
            after_name: Text,
            after_id: Uuid,
            weak_below: Integer,
            old_days: Integer,
            soon_days: Integer,
            many_folders: Nullable<Integer>,
            wanted: Jsonb,
        ) -> Rows;
        /// What is wrong with a credential, for somebody who may see its password.
        fn findings_of(
            wanted: Uuid,
            viewer: Uuid,
            at: Timestamptz,
            weak_below: Integer,
            old_days: Integer,
            soon_days: Integer,
        ) -> Array<Text>;
        /// The credentials that somebody used, one a row.
        fn used_by(person: Uuid, most_often: Bool, size: BigInt) -> Uuid;
        /// Who used a credential last.
        fn users_of(credential: Uuid, size: BigInt) -> Rows;
        /// What somebody has seen.
        fn seen_by(person: Uuid, size: BigInt) -> Rows;
        /// The tags of the credentials that somebody may know of.
        fn tags_for(person: Uuid, at: Timestamptz) -> Rows;
        /// The assessments of these credentials no longer count.
        fn mark_assessments_stale(credentials: Array<Uuid>) -> Nothing;
        /// The credentials whose password rule comes from above a folder, one a row.
        fn ruled_from_above(folder: Uuid) -> Uuid;
        /// The rule that counts for the passwords in a folder.
        fn password_rule_for(folder: Uuid) -> Rows;
        /// The folders that somebody sees.
        fn visible_folders(person: Uuid, at: Timestamptz) -> Rows;
        /// The active people who may approve at a gate, one a row.
        fn approvers_at(gate: Uuid) -> Uuid;
        /// Requests, as somebody sees them.
        fn requests_for(
            viewer: Uuid,
            wanted: Nullable<Array<Uuid>>,
            in_state: Nullable<Text>,
            credential: Nullable<Uuid>,
            before_at: Timestamptz,
            before_id: Uuid,
            size: BigInt,
        ) -> Rows;
        /// Requests and checkouts that are open, with what they depend on now.
        fn open_passages(at: Timestamptz) -> Rows;
        /// Adds new credentials that are on no device.
        fn add_credentials(
            ids: Array<Uuid>,
            folders: Array<Uuid>,
            kinds: Array<Text>,
            names: Array<Text>,
            fields: Array<Jsonb>,
            data_keys: Array<Binary>,
            created_at: Array<Timestamptz>,
            created_by: Array<Nullable<Uuid>>,
            extra: Array<Jsonb>,
            tags: Array<Jsonb>,
        ) -> Nothing;
        /// Adds versions of secret fields of new credentials.
        fn add_first_versions(
            credentials: Array<Uuid>,
            fields: Array<Text>,
            numbers: Array<Integer>,
            states: Array<Text>,
            sealed: Array<Binary>,
            made_at: Array<Timestamptz>,
            made_by: Array<Nullable<Uuid>>,
            made_how: Array<Text>,
            reasons: Array<Text>,
            facts: Array<Jsonb>,
        ) -> Nothing;
        /// Records many events.
        fn record_events(
            ids: Array<Uuid>,
            at: Array<Timestamptz>,
            actions: Array<Text>,
            actors: Array<Nullable<Uuid>>,
            actor_names: Array<Text>,
            targets: Array<Nullable<Uuid>>,
            target_types: Array<Text>,
            target_names: Array<Text>,
            origins: Array<Text>,
            outcomes: Array<Text>,
            details: Array<Jsonb>,
            macs: Array<Binary>,
            key_number: Integer,
        ) -> Nothing;
        /// Notes what an import did to each credential.
        fn add_import_rows(
            import: Uuid,
            credentials: Array<Uuid>,
            former: Array<Nullable<Jsonb>>,
        ) -> Nothing;
        /// Has the database look at tables that have just grown.
        fn analyze_after_import() -> Nothing;
        /// Whether somebody is a steward or an approver where another is no steward.
        fn brings_power(subject: Uuid, without: Nullable<Uuid>, at: Timestamptz) -> Bool;
        /// Purges a credential that is in the bin.
        fn purge_credential(wanted: Uuid, at: Timestamptz) -> Nothing;
        /// Counts a refusal of a stranger.
        fn count_stranger_refusal(refused: Text, origin: Text, at: Timestamptz) -> Bool;
        /// The next job that may run, held until the transaction ends.
        fn next_job(
            at: Timestamptz,
            most_per_device: BigInt,
            most_per_asker: BigInt,
        ) -> Nullable<Uuid>;
    }
}

pub use functions::*;
