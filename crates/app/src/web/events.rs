//! News of jobs, as server-sent events.

use super::{AppState, PageError};
use actix_web::{HttpResponse, Responder, get, web};
use futures_util::StreamExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio_stream::wrappers::BroadcastStream;

/// Pages that may listen at a time; each holds a connection open.
const MOST_LISTENERS: usize = 64;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_events);
}

/// Counts one who listens for as long as it lives.
struct Listener(Arc<AtomicUsize>);

impl Listener {
    fn enter(count: &Arc<AtomicUsize>) -> Option<Self> {
        let room = |n: usize| (n < MOST_LISTENERS).then_some(n + 1);
        count.fetch_update(Ordering::SeqCst, Ordering::SeqCst, room).ok().map(|_| Self(count.clone()))
    }
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

#[get("/events")]
async fn show_events(app: web::Data<AppState>) -> Result<impl Responder, PageError> {
    let listener = Listener::enter(&app.listeners).ok_or_else(PageError::busy)?;
    let news = BroadcastStream::new(app.jobs.listen()).filter_map(|news| async move {
        // Whoever lags behind misses steps of progress only; the next one tells all.
        let json = serde_json::to_string(&news.ok()?).ok()?;
        Some(format!("data: {json}\n\n"))
    });
    // Regular comments show both ends that the other is there.
    let ticks = futures_util::stream::unfold((), |()| async {
        tokio::time::sleep(std::time::Duration::from_secs(15)).await;
        Some((": still here\n\n".to_owned(), ()))
    });
    let hello = futures_util::stream::once(async { ": hello\n\n".to_owned() });
    let body = hello.chain(futures_util::stream::select(news, ticks)).map(move |text| {
        let _ = &listener;
        Ok::<_, std::convert::Infallible>(web::Bytes::from(text))
    });
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("cache-control", "no-cache"))
        .streaming(Box::pin(body)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn listeners_are_counted_while_they_listen() {
        let count = Arc::new(AtomicUsize::new(0));
        let mut all: Vec<Listener> = (0..MOST_LISTENERS).map_while(|_| Listener::enter(&count)).collect();
        assert!(all.len() == MOST_LISTENERS && Listener::enter(&count).is_none());
        all.pop();
        assert!(Listener::enter(&count).is_some());
    }
}
