//! `docs/events.md` lists the events that there are; it is compared with the code.
//! `JEXLIN_WRITE_GOLDEN=1 cargo test -p jexlin-core --test event_catalogue` writes it again.

use std::fmt::Write as _;
use std::path::Path;

use jexlin_core::audit::Action;
use jexlin_core::words::Word as _;
use strum::VariantArray as _;

#[test]
fn the_catalogue_of_events_is_complete() {
    let mut page = String::from(
        "# Events\n\nWhat the audit log records. Where a duty or a level is named, the event is never recorded without it: the duty, and the level on the target. Some events need more than that, for example moving something to a folder where more people have access. A refused attempt is recorded under the same name, with the outcome `refused`.\n\n| event | meaning | duty or level |\n|---|---|---|\n",
    );
    for action in Action::VARIANTS {
        let duty = action.needed_duty().map(|duty| format!("duty `{duty}`"));
        let level = action.needed_level().map(|level| format!("`{level}`"));
        assert!(duty.is_none() || level.is_none(), "{action} has one column");
        let takes = duty.or(level).unwrap_or_default();
        assert!(action.sentence().ends_with('.'), "{action} has no sentence");
        writeln!(
            page,
            "| `{}` | {} | {takes} |",
            action.word(),
            action.sentence()
        )
        .unwrap();
    }
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/events.md");
    if std::env::var("JEXLIN_WRITE_GOLDEN").is_ok() {
        std::fs::write(&file, &page).unwrap();
    }
    assert_eq!(std::fs::read_to_string(&file).unwrap(), page);
}
