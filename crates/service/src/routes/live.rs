//! Live news as server-sent events: which sort of thing changed. What it holds is asked for again,
//! under the asker's own access.

use std::time::Duration;

use rocket::response::stream::{Event, EventStream};
use rocket::tokio::select;
use rocket::tokio::sync::broadcast::error::RecvError;
use rocket::{Route, Shutdown, get, routes};

use crate::acting::Acting;
use crate::problem::Answer;

/// A stream ends after so long, and the listener asks again: so a session that has ended does not
/// listen for ever.
const LONGEST: Duration = Duration::from_secs(600);

pub fn routes() -> Vec<Route> {
    routes![live]
}

/// Live news: the event is `job`, `request` or `checkout`, the data its identifier.
#[utoipa::path(context_path = "", responses((status = 200, content_type = "text/event-stream", body = String)))]
#[get("/api/v1/live")]
pub async fn live(mut acting: Acting, mut end: Shutdown) -> Answer<EventStream![]> {
    acting.seen().await?;
    let organisation = acting.organisation();
    let mut news = acting.app.news.subscribe();
    Ok(EventStream! {
        yield Event::data("listening").event("hello");
        let until = rocket::tokio::time::sleep(LONGEST);
        rocket::tokio::pin!(until);
        loop {
            let heard = select! {
                heard = news.recv() => heard,
                () = &mut until => break,
                () = &mut end => break,
            };
            match heard {
                Ok(heard) if heard.organisation == organisation => yield Event::data(heard.id.to_string()).event(heard.topic),
                Ok(_) => {}
                // What was missed is unknown: everything may have changed.
                Err(RecvError::Lagged(_)) => yield Event::data("").event("all"),
                Err(RecvError::Closed) => break,
            }
        }
    }
    .heartbeat(Duration::from_secs(15)))
}
