//! Builds the store again when a migration or a function changes, and lists the files of `sql/`.

use std::fmt::Write as _;
use std::path::Path;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    println!("cargo:rerun-if-changed=migrations");
    println!("cargo:rerun-if-changed=sql");
    let folder = Path::new(&std::env::var("CARGO_MANIFEST_DIR")?).join("sql");
    let mut files: Vec<_> = std::fs::read_dir(folder)?
        .map(|entry| entry.map(|entry| entry.path()))
        .collect::<Result<_, _>>()?;
    files.sort();
    let mut list = String::from("[");
    for file in files {
        let name = file
            .file_stem()
            .and_then(|name| name.to_str())
            .unwrap_or("");
        write!(list, "({name:?}, include_str!({file:?})),")?;
    }
    list.push(']');
    std::fs::write(
        Path::new(&std::env::var("OUT_DIR")?).join("sql_files.rs"),
        list,
    )?;
    Ok(())
}
