//! Events from PostgreSQL's notifications, so that every service hears what any of them did.

use std::pin::pin;
use std::str::FromStr as _;

use jexlin_core::status::Topic;
use tokio::sync::broadcast;
use uuid::Uuid;

/// One piece of news: what changed. What changed is asked for again, under the
/// asker's own access.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LiveNews {
    /// In which organisation.
    pub organisation: Uuid,
    /// What changed.
    pub topic: Topic,
    /// Which one.
    pub id: Uuid,
}

impl LiveNews {
    fn parse(payload: &str) -> Option<Self> {
        let mut parts = payload.split(' ');
        let organisation = Uuid::from_str(parts.next()?).ok()?;
        let topic = parts.next()?.parse().ok()?;
        Some(Self {
            organisation,
            topic,
            id: Uuid::from_str(parts.next()?).ok()?,
        })
    }
}

/// Listens until the connection is lost, and says everything that it hears.
///
/// # Errors
/// The database's words, when it cannot be reached; the caller tries again.
pub async fn listen(url: &str, news: &broadcast::Sender<LiveNews>) -> Result<(), String> {
    let (client, mut connection) = tokio_postgres::connect(url, tokio_postgres::NoTls)
        .await
        .map_err(|error| error.to_string())?;
    let messages = std::future::poll_fn(move |context| {
        loop {
            match connection.poll_message(context) {
                std::task::Poll::Ready(Some(Ok(tokio_postgres::AsyncMessage::Notification(
                    note,
                )))) => {
                    if let Some(heard) = LiveNews::parse(note.payload()) {
                        // Nobody listening is no error.
                        let _ = news.send(heard);
                    }
                }
                std::task::Poll::Ready(Some(Ok(_))) => {}
                std::task::Poll::Ready(Some(Err(error))) => {
                    return std::task::Poll::Ready(error.to_string());
                }
                std::task::Poll::Ready(None) => {
                    return std::task::Poll::Ready("the connection was closed".to_owned());
                }
                std::task::Poll::Pending => return std::task::Poll::Pending,
            }
        }
    });
    let mut messages = pin!(messages);
    let asked = tokio::select! {
        lost = &mut messages => return Err(lost),
        asked = client.batch_execute("LISTEN jexlin_events") => asked,
    };
    asked.map_err(|error| error.to_string())?;
    Err(messages.await)
}
