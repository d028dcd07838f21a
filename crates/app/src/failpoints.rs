//! Places at which a test may hold the service, to kill it there. In a release build there is
//! nothing here.

/// Holds here when `JEXLIN_HOLD_AT` names this place, and says so by a file `held` in
/// `JEXLIN_FOLDER`, so that a test knows when to kill; goes on once there is a file `go`.
#[cfg(debug_assertions)]
pub async fn point(name: &str) {
    if std::env::var("JEXLIN_HOLD_AT").is_ok_and(|wanted| wanted == name)
        && let Ok(folder) = std::env::var("JEXLIN_FOLDER")
    {
        let folder = std::path::PathBuf::from(folder);
        let _ = std::fs::write(folder.join("held"), name);
        while !folder.join("go").exists() {
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
    }
}

/// Nothing.
#[cfg(not(debug_assertions))]
#[allow(
    clippy::unused_async,
    reason = "the same signature as in a debug build"
)]
pub async fn point(_name: &str) {}
