//! Migrations are part of the program: it is built again when one is added.

fn main() {
    println!("cargo::rerun-if-changed=migrations");
}
