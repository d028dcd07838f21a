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
        "# Events\n\nWhat the audit log records, by its name there. Where a duty is named, nobody does it without that duty. A refused try is recorded under the same name, with the outcome `refused`.\n\n| event | what it means | duty |\n|---|---|---|\n",
    );
    for action in Action::VARIANTS {
        let duty = action
            .needed_duty()
            .map_or(String::new(), |duty| format!("`{duty}`"));
        assert!(action.sentence().ends_with('.'), "{action} has no sentence");
        writeln!(
            page,
            "| `{}` | {} | {duty} |",
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
