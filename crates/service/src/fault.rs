//! Places at which a test may hold the service, to kill it there. In a release build there is
//! nothing here.

/// Holds here for ever when `JEXLIN_HOLD_AT` names this place, and says so by a file in
/// `JEXLIN_FOLDER`, so that a test knows when to kill.
#[cfg(debug_assertions)]
pub async fn point(name: &str) {
    if std::env::var("JEXLIN_HOLD_AT").is_ok_and(|wanted| wanted == name)
        && let Ok(folder) = std::env::var("JEXLIN_FOLDER")
    {
        let _ = std::fs::write(std::path::Path::new(&folder).join("held"), name);
        std::future::pending::<()>().await;
    }
}

/// Nothing.
#[cfg(not(debug_assertions))]
#[allow(clippy::unused_async, reason = "the same signature as in a debug build")]
pub async fn point(_name: &str) {}
