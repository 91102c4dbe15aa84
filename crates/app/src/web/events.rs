//! News of jobs, as server-sent events.

use super::Desk;
use actix_web::{HttpResponse, Responder, get, web};
use futures_util::StreamExt;
use tokio_stream::wrappers::BroadcastStream;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(show_events);
}

#[get("/events")]
async fn show_events(desk: web::Data<Desk>) -> impl Responder {
    let news = BroadcastStream::new(desk.jobs.listen()).filter_map(|news| async move {
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
    let body = hello.chain(futures_util::stream::select(news, ticks)).map(|text| Ok::<_, std::convert::Infallible>(web::Bytes::from(text)));
    HttpResponse::Ok().content_type("text/event-stream").insert_header(("cache-control", "no-cache")).streaming(Box::pin(body))
}
