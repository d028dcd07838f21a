//! How output is shown, as the global options say: set once, before the command runs.

use std::sync::OnceLock;

use clap::Args;

use crate::args::Format;

/// The global options about output.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Global options")]
pub struct View {
    /// Output format
    #[arg(
        long,
        short,
        global = true,
        value_enum,
        default_value = "table",
        value_name = "FORMAT"
    )]
    pub output: Format,
    /// Show identifiers, and cells in full however long they are
    #[arg(long, global = true)]
    pub wide: bool,
    /// Show these columns of a list, by their headings or their names in JSON
    #[arg(long, global = true, value_name = "NAME", value_delimiter = ',')]
    pub columns: Vec<String>,
    /// Sort a list by this column; -NAME for the other way round
    #[arg(long, global = true, value_name = "NAME", allow_hyphen_values = true)]
    pub sort: Option<String>,
    /// Show at most so many rows of a list
    #[arg(long, global = true, value_name = "NUMBER")]
    pub limit: Option<usize>,
    /// Do not show long lists in a pager
    #[arg(long, global = true)]
    pub no_pager: bool,
}

static VIEW: OnceLock<View> = OnceLock::new();

/// Sets the view of this process.
pub fn set(view: View) {
    let _ = VIEW.set(view);
}

/// The view of this process.
pub fn get() -> &'static View {
    VIEW.get_or_init(|| View {
        output: Format::Table,
        wide: false,
        columns: vec![],
        sort: None,
        limit: None,
        no_pager: true,
    })
}

/// So many items a list has to read: what was asked for, else what the list shows by itself. A list
/// that is sorted is read whole.
pub fn items_to_read(by_itself: Option<usize>) -> Option<usize> {
    let view = get();
    match (&view.sort, view.limit) {
        (Some(_), Some(_)) => None,
        (_, Some(limit)) => Some(limit),
        (_, None) => by_itself,
    }
}
