//! Live news as server-sent events: what changed. What it holds is asked for again,
//! under the asker's own access.

use std::time::Duration;

use jexlin_app::App;
use jexlin_core::access::Level;
use jexlin_core::status::Topic;
use jexlin_core::words::Word as _;
use jexlin_store::{LiveNews, StoreError};
use rocket::response::stream::{Event, EventStream};
use rocket::tokio::select;
use rocket::tokio::sync::broadcast::error::RecvError;
use rocket::{Route, Shutdown, get, routes};
use uuid::Uuid;

use crate::error::ApiResult;
use crate::guards::Unit;

/// A stream ends after so long, and the listener asks again: so a session that has ended does not
/// listen for ever.
const LONGEST: Duration = Duration::from_secs(600);

pub fn routes() -> Vec<Route> {
    routes![stream]
}

/// Whether somebody may know of what changed; nothing when their session does not count any more.
async fn may_know(app: &App, person: Uuid, session: Uuid, heard: &LiveNews) -> Option<bool> {
    let now = app.clock.now();
    let looked = async {
        let mut tx = app.store.begin(heard.organisation).await?;
        let counts = !tx.sessions_that_count(&[session], now).await?.is_empty();
        let known = match heard.topic {
            Topic::Job => {
                let job = tx.job_view(person, now, heard.id).await?;
                tx.reach_credential(person, job.row.credential_id, now)
                    .await?
                    .level()
                    .is_some()
            }
            Topic::Request => {
                let request = tx.request_view(person, heard.id).await?;
                request.person_id == person || request.may_decide()
            }
            Topic::Checkout => {
                let checkout = tx.checkout_view(heard.id).await?;
                checkout.person_id == person
                    || tx
                        .reach_credential(person, checkout.credential_id, now)
                        .await?
                        .level()
                        == Some(Level::Steward)
            }
            Topic::Organisation => false,
        };
        tx.commit().await?;
        Ok::<_, StoreError>((counts, known))
    };
    // What cannot be looked at is not told.
    let (counts, known) = looked.await.unwrap_or((true, false));
    counts.then_some(known)
}

/// Streams events: the event is `job`, `request` or `checkout`, the data its identifier.
#[utoipa::path(
    operation_id = "events_stream",
    context_path = "",
    responses((status = 200, content_type = "text/event-stream", body = String)),
)]
#[get("/api/v1/events")]
pub async fn stream(mut unit: Unit, mut end: Shutdown) -> ApiResult<EventStream![]> {
    unit.commit().await?;
    let organisation = unit.organisation();
    let (app, person, session) = (unit.app.clone(), unit.person.id, unit.session.id);
    let mut news = unit.app.news.subscribe();
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
                Ok(heard) if heard.organisation == organisation => match may_know(&app, person, session, &heard).await {
                    Some(true) => yield Event::data(heard.id.to_string()).event(heard.topic.word()),
                    Some(false) => {}
                    None => break,
                },
                Ok(_) => {}
                // What was missed is unknown: everything may have changed.
                Err(RecvError::Lagged(_)) => yield Event::data("").event("all"),
                Err(RecvError::Closed) => break,
            }
        }
    }
    .heartbeat(Duration::from_secs(15)))
}
