//! Somebody with the service's role in the database, or its owner, looks past row-level security.

use jexlin_standins::cluster::OWNER;
use serde_json::json;

use super::{login, strict};

#[test]
fn functions_with_the_owners_rights_and_tables_leave_no_way_round() {
    let service = strict(&[]);
    // A device to try it on.
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let _ = login(&ines, &folder, "root", "root", "Root-1");
    let _ = ines.make(
        "/api/v1/devices",
        &json!({"folder": folder, "name": "ridge", "address": "127.0.0.1", "port": 2222}),
    );
    let loose = service.sql(
        "SELECT string_agg(p.proname, ', ') FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
         WHERE p.prosecdef AND n.nspname = 'public' AND NOT EXISTS (SELECT FROM unnest(p.proconfig) c WHERE c = 'search_path=public, pg_temp')",
    );
    assert_eq!(loose, "");
    let unforced = service.sql(
        "SELECT string_agg(c.relname, ', ' ORDER BY c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
         WHERE n.nspname = 'public' AND c.relkind = 'r' AND c.relrowsecurity AND NOT c.relforcerowsecurity",
    );
    // What the functions that find read, they name themselves; what the owner writes there is bound
    // by a trigger.
    assert_eq!(unforced, "credential, device, folder");
    for table in unforced.split(", ") {
        service.sql(&format!(
            "SET ROLE {OWNER}; SELECT set_config('jexlin.organisation', gen_random_uuid()::text, false);
             DO $$ BEGIN
                 UPDATE {table} SET name = name;
                 RAISE EXCEPTION 'the owner changed {table} of another organisation';
             EXCEPTION WHEN raise_exception THEN
                 IF SQLERRM <> 'this belongs to another organisation' THEN RAISE; END IF;
             END $$"
        ));
    }
    let bare = service.sql(
        "SELECT string_agg(DISTINCT c.relname, ', ') FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid JOIN pg_namespace n ON n.oid = c.relnamespace
         WHERE n.nspname = 'public' AND c.relkind = 'r' AND a.attname = 'organisation' AND NOT c.relrowsecurity",
    );
    assert_eq!(bare, "");
}

#[test]
fn strangers_learn_nothing_from_the_status() {
    let service = strict(&[]);
    let status = service
        .call("GET", "/api/v1/status", None, None, None)
        .good();
    let names: Vec<_> = status.as_object().unwrap().keys().cloned().collect();
    assert_eq!(names, ["state", "version"]);
}
