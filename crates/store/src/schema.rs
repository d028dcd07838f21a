//! The tables, as the migrations make them.

#![allow(
    missing_docs,
    reason = "the columns are described where the migration makes them"
)]

diesel::table! { organisation (id) { id -> Uuid, name -> Text, wrapped_key -> Binary, log_origin -> Text, log_key_sealed -> Binary, log_verifier -> Text, created_at -> Timestamptz, locked_at -> Nullable<Timestamptz>, root_key -> Text, next_wrapped_key -> Nullable<Binary>, next_root_key -> Nullable<Text>, key_number -> Int4, former_key -> Nullable<Binary>, } }
diesel::table! { person (id) { id -> Uuid, organisation -> Uuid, sign_in_name -> Text, display_name -> Text, password_phc -> Nullable<Text>, state -> Text, duties -> Array<Text>, created_at -> Timestamptz, version -> Int4, person_type -> Text, secret_hash -> Nullable<Binary>, sign_in_by -> Nullable<Uuid>, } }
diesel::table! { session (id) { id -> Uuid, organisation -> Uuid, person_id -> Uuid, token_hash -> Binary, channel -> Text, assurance -> Text, created_at -> Timestamptz, last_used_at -> Timestamptz, ends_at -> Timestamptz, ended_at -> Nullable<Timestamptz>, } }
diesel::table! { sign_in_place (organisation, name, origin) { organisation -> Uuid, name -> Text, origin -> Text, signed_in_at -> Timestamptz, } }
diesel::table! { stranger_refusal (organisation, action) { organisation -> Uuid, action -> Text, since -> Timestamptz, count -> Int8, origins -> Array<Text>, } }
diesel::table! { throttle (organisation, key) { organisation -> Uuid, key -> Text, failures -> Int4, last_failure_at -> Timestamptz, } }
diesel::table! { people_group (id) { id -> Uuid, organisation -> Uuid, name -> Text, created_at -> Timestamptz, version -> Int4, } }
diesel::table! { group_member (group_id, member) { organisation -> Uuid, group_id -> Uuid, member -> Uuid, member_is_group -> Bool, } }
diesel::table! { folder (id) { id -> Uuid, organisation -> Uuid, parent_id -> Nullable<Uuid>, name -> Text, closed -> Bool, created_at -> Timestamptz, created_by -> Nullable<Uuid>, removed_at -> Nullable<Timestamptz>, version -> Int4, removal_id -> Nullable<Uuid>, } }
diesel::table! { device (id) { id -> Uuid, organisation -> Uuid, folder_id -> Uuid, name -> Text, connector -> Text, address -> Text, port -> Int4, identity -> Text, created_at -> Timestamptz, removed_at -> Nullable<Timestamptz>, version -> Int4, removal_id -> Nullable<Uuid>, paused_at -> Nullable<Timestamptz>, paused_why -> Text, } }
diesel::table! { credential (id) { id -> Uuid, organisation -> Uuid, folder_id -> Uuid, kind -> Text, name -> Text, fields -> Jsonb, device_id -> Nullable<Uuid>, data_key -> Binary, created_at -> Timestamptz, created_by -> Nullable<Uuid>, changed_at -> Timestamptz, changed_by -> Nullable<Uuid>, removed_at -> Nullable<Timestamptz>, version -> Int4, removal_id -> Nullable<Uuid>, purged_at -> Nullable<Timestamptz>, extra -> Jsonb, tags -> Array<Text>, key_number -> Int4, } }
diesel::table! { secret_version (credential_id, field, number) { organisation -> Uuid, credential_id -> Uuid, field -> Text, number -> Int4, state -> Text, sealed -> Binary, made_at -> Timestamptz, made_by -> Nullable<Uuid>, made_how -> Text, why -> Text, facts -> Jsonb, fingerprint -> Nullable<Binary>, unanswered_at -> Nullable<Timestamptz>, } }
diesel::table! { access_grant (id) { id -> Uuid, organisation -> Uuid, folder_id -> Nullable<Uuid>, credential_id -> Nullable<Uuid>, person_id -> Nullable<Uuid>, group_id -> Nullable<Uuid>, held -> Int2, ends_at -> Nullable<Timestamptz>, note -> Text, created_at -> Timestamptz, created_by -> Nullable<Uuid>, only_kind -> Nullable<Text>, only_tag -> Nullable<Text>, history -> Bool, version -> Int4, } }
diesel::table! { password_policy (id) { id -> Uuid, organisation -> Uuid, name -> Text, rules -> Jsonb, is_default -> Bool, version -> Int4, } }
diesel::table! { upkeep_plan (id) { id -> Uuid, organisation -> Uuid, folder_id -> Nullable<Uuid>, check_rule -> Nullable<Text>, out_of_sync -> Text, rotate_rule -> Nullable<Text>, rotate_days -> Nullable<Int4>, hours_from -> Nullable<Text>, hours_to -> Nullable<Text>, time_zone -> Text, policy_id -> Nullable<Uuid>, anchor -> Date, version -> Int4, account_id -> Nullable<Uuid>, } }
diesel::table! { account (id) { id -> Uuid, organisation -> Uuid, device_id -> Uuid, family -> Text, login -> Text, login_key -> Text, credential_id -> Nullable<Uuid>, created_at -> Timestamptz, stale -> Bool, next_check_at -> Nullable<Timestamptz>, next_rotation_at -> Nullable<Timestamptz>, checked_at -> Nullable<Timestamptz>, check_outcome -> Nullable<Text>, rotated_at -> Nullable<Timestamptz>, rotation_outcome -> Nullable<Text>, rotation_owed_at -> Nullable<Timestamptz>, owed_tries -> Int4, owed_next_at -> Nullable<Timestamptz>, } }
diesel::table! { binding (device_id, credential_id, role) { organisation -> Uuid, credential_id -> Uuid, device_id -> Uuid, role -> Text, address -> Text, port -> Int4, identity -> Text, confirmed_at -> Timestamptz, confirmed_by -> Nullable<Uuid>, } }
diesel::table! { operator_scope (credential_id) { organisation -> Uuid, credential_id -> Uuid, device_id -> Nullable<Uuid>, folder_id -> Nullable<Uuid>, } }
diesel::table! { failed_login (account_id, at) { organisation -> Uuid, account_id -> Uuid, at -> Timestamptz, } }
diesel::table! { job (id) { id -> Uuid, organisation -> Uuid, credential_id -> Uuid, device_id -> Uuid, task -> Text, method -> Text, state -> Text, step -> Text, outcome -> Nullable<Text>, message -> Text, asked_by -> Nullable<Uuid>, cause -> Text, queued_at -> Timestamptz, not_before -> Timestamptz, started_at -> Nullable<Timestamptz>, finished_at -> Nullable<Timestamptz>, attempts -> Int4, leased_until -> Nullable<Timestamptz>, account_id -> Uuid, fence -> Int8, faults -> Int4, } }
diesel::table! { gate (id) { id -> Uuid, organisation -> Uuid, folder_id -> Nullable<Uuid>, credential_id -> Nullable<Uuid>, needs_reason -> Bool, needs_approval -> Bool, longest_minutes -> Int4, one_holder -> Bool, rotate_on_return -> Bool, version -> Int4, device_id -> Nullable<Uuid>, } }
diesel::table! { gate_approver (gate_id, subject) { organisation -> Uuid, gate_id -> Uuid, subject -> Uuid, subject_is_group -> Bool, } }
diesel::table! { request (id) { id -> Uuid, organisation -> Uuid, credential_id -> Uuid, person_id -> Uuid, reason -> Text, minutes -> Int4, state -> Text, asked_at -> Timestamptz, expires_at -> Timestamptz, decided_at -> Nullable<Timestamptz>, decided_by -> Nullable<Uuid>, comment -> Text, checkout_id -> Nullable<Uuid>, } }
diesel::table! { request_gate (request_id, gate_id) { organisation -> Uuid, request_id -> Uuid, gate_id -> Uuid, gate_version -> Int4, needs_approval -> Bool, approved_by -> Nullable<Uuid>, approved_at -> Nullable<Timestamptz>, } }
diesel::table! { checkout_gate (checkout_id, gate_id) { organisation -> Uuid, checkout_id -> Uuid, gate_id -> Uuid, gate_version -> Int4, } }
diesel::table! { pending_act (id) { id -> Uuid, organisation -> Uuid, act -> Text, summary -> Text, target_type -> Text, target -> Uuid, target_name -> Text, body -> Jsonb, state -> Text, proposed_by -> Uuid, proposed_at -> Timestamptz, expires_at -> Timestamptz, decided_by -> Nullable<Uuid>, decided_at -> Nullable<Timestamptz>, comment -> Text, } }
diesel::table! { checkout (id) { id -> Uuid, organisation -> Uuid, credential_id -> Uuid, person_id -> Uuid, request_id -> Nullable<Uuid>, reason -> Text, starts_at -> Timestamptz, ends_at -> Timestamptz, ended_at -> Nullable<Timestamptz>, ended_how -> Nullable<Text>, rotate_on_return -> Bool, one_holder -> Bool, } }
diesel::table! { audit_event (id) { seq -> Int8, id -> Uuid, organisation -> Uuid, at -> Timestamptz, action -> Text, actor -> Nullable<Uuid>, actor_name -> Text, target -> Nullable<Uuid>, target_type -> Text, target_name -> Text, origin -> Text, outcome -> Text, detail -> Jsonb, mac -> Binary, key_number -> Int4, } }
diesel::table! { audit_leaf (organisation, leaf) { organisation -> Uuid, leaf -> Int8, event_id -> Uuid, hash -> Binary, } }
diesel::table! { audit_checkpoint (organisation, size) { organisation -> Uuid, size -> Int8, note -> Text, made_at -> Timestamptz, } }
diesel::table! { service_seen (id) { id -> Uuid, name -> Text, root_keys -> Array<Text>, seen_at -> Timestamptz, } }
diesel::table! { audit_frontier (organisation) { organisation -> Uuid, size -> Int8, roots -> Binary, highest -> Int8, gaps -> Array<Int8>, } }
diesel::table! { settings (organisation) { organisation -> Uuid, body -> Jsonb, version -> Int4, } }
diesel::table! { one_time_counter (credential_id, number) { organisation -> Uuid, credential_id -> Uuid, number -> Int4, counter -> Int8, } }
diesel::table! { removal (id) { id -> Uuid, organisation -> Uuid, target_type -> Text, target -> Uuid, path -> Text, folder_id -> Uuid, credentials -> Int4, removed_at -> Timestamptz, removed_by -> Nullable<Uuid>, restored_at -> Nullable<Timestamptz>, purged_at -> Nullable<Timestamptz>, } }
diesel::table! { kind (id) { id -> Uuid, organisation -> Uuid, name -> Text, label -> Text, fields -> Jsonb, generates -> Bool, retired_at -> Nullable<Timestamptz>, version -> Int4, } }
diesel::table! { favourite (person_id, credential_id) { organisation -> Uuid, person_id -> Uuid, credential_id -> Uuid, } }
diesel::table! { saved_search (id) { id -> Uuid, organisation -> Uuid, person_id -> Uuid, name -> Text, body -> Jsonb, } }
diesel::table! { password_rule (folder_id) { folder_id -> Uuid, organisation -> Uuid, mode -> Text, policies -> Array<Uuid>, } }
diesel::table! { judgement (credential_id) { credential_id -> Uuid, organisation -> Uuid, number -> Int4, score -> Int2, fingerprint -> Binary, lacks -> Array<Text>, leaked -> Int8, made_at -> Timestamptz, stale -> Bool, } }
diesel::table! { attachment (id) { id -> Uuid, organisation -> Uuid, credential_id -> Uuid, name -> Text, size -> Int8, pieces -> Int4, made_at -> Timestamptz, made_by -> Nullable<Uuid>, heard_at -> Nullable<Timestamptz>, removed_at -> Nullable<Timestamptz>, removal_id -> Nullable<Uuid>, } }
diesel::table! { attachment_piece (attachment_id, number) { organisation -> Uuid, attachment_id -> Uuid, number -> Int4, sealed -> Binary, } }
diesel::table! { personal_folder (person_id) { person_id -> Uuid, organisation -> Uuid, salt -> Binary, sealed_key -> Binary, made_at -> Timestamptz, version -> Int4, } }
diesel::table! { personal_item (id) { id -> Uuid, organisation -> Uuid, person_id -> Uuid, sealed -> Binary, changed_at -> Timestamptz, version -> Int4, } }
diesel::table! { access_request (id) { id -> Uuid, organisation -> Uuid, credential_id -> Uuid, person_id -> Uuid, held -> Int2, reason -> Text, state -> Text, asked_at -> Timestamptz, decided_at -> Nullable<Timestamptz>, decided_by -> Nullable<Uuid>, comment -> Text, } }
diesel::table! { import (id) { id -> Uuid, organisation -> Uuid, name -> Text, folder_id -> Uuid, made_at -> Timestamptz, made_by -> Nullable<Uuid>, added -> Int4, updated -> Int4, skipped -> Int4, undone_at -> Nullable<Timestamptz>, } }
diesel::table! { import_row (import_id, credential_id) { import_id -> Uuid, organisation -> Uuid, credential_id -> Uuid, former -> Nullable<Jsonb>, } }

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
    judgement,
    attachment,
    attachment_piece,
    personal_folder,
    personal_item,
    import,
    import_row,
    access_request,
);

#[diesel::declare_sql_function]
extern "SQL" {
    /// Whether somebody who may see a credential's values may see former ones too.
    fn history_of(
        person: diesel::sql_types::Uuid,
        credential: diesel::sql_types::Uuid,
        at: diesel::sql_types::Timestamptz,
    ) -> diesel::sql_types::Bool;
    /// The level that reaches a person on a credential.
    fn level_on_credential(
        person: diesel::sql_types::Uuid,
        credential: diesel::sql_types::Uuid,
        at: diesel::sql_types::Timestamptz,
    ) -> diesel::sql_types::Nullable<diesel::sql_types::SmallInt>;
    /// The level that reaches a person on a folder.
    fn level_on_folder(
        person: diesel::sql_types::Uuid,
        folder: diesel::sql_types::Uuid,
        at: diesel::sql_types::Timestamptz,
    ) -> diesel::sql_types::Nullable<diesel::sql_types::SmallInt>;
    /// The level that reaches a person on everything that an act of removing took away.
    fn level_on_removed(
        person: diesel::sql_types::Uuid,
        removed: diesel::sql_types::Uuid,
        at: diesel::sql_types::Timestamptz,
    ) -> diesel::sql_types::Nullable<diesel::sql_types::SmallInt>;
    /// All gates on the way to a credential.
    fn gates_of(
        credential: diesel::sql_types::Uuid,
    ) -> diesel::sql_types::Array<diesel::sql_types::Uuid>;
    /// All gates on the way to a folder, its own included.
    fn gates_on_folder(
        folder: diesel::sql_types::Uuid,
    ) -> diesel::sql_types::Array<diesel::sql_types::Uuid>;
    /// The upkeep plan that counts for an account.
    fn plan_of(
        account: diesel::sql_types::Uuid,
    ) -> diesel::sql_types::Nullable<diesel::sql_types::Uuid>;
    /// Whether a credential may be used as the operator of a device.
    fn in_operator_scope(
        credential: diesel::sql_types::Uuid,
        device: diesel::sql_types::Uuid,
    ) -> diesel::sql_types::Bool;
    /// Whether a grant that reaches somebody on a folder lets them see former values there.
    fn history_on_folder(
        person: diesel::sql_types::Uuid,
        folder: diesel::sql_types::Uuid,
        at: diesel::sql_types::Timestamptz,
    ) -> diesel::sql_types::Bool;
    /// Whether a change of tags changes whom a narrowed grant reaches.
    fn tags_move_access(
        folder: diesel::sql_types::Uuid,
        changed: diesel::sql_types::Array<diesel::sql_types::Text>,
        at: diesel::sql_types::Timestamptz,
    ) -> diesel::sql_types::Bool;
    /// The path of a folder.
    fn path_of(
        folder: diesel::sql_types::Uuid,
    ) -> diesel::sql_types::Nullable<diesel::sql_types::Text>;
    /// Small letters.
    fn lower(text: diesel::sql_types::Text) -> diesel::sql_types::Text;
    /// The groups of a person, and the person.
    fn subjects_of(
        person: diesel::sql_types::Uuid,
    ) -> diesel::sql_types::Array<diesel::sql_types::Uuid>;
}
