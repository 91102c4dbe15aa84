//! Only pages of this machine may talk to the server.

use super::PageError;
use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::{Method, header};
use actix_web::middleware::Next;
use actix_web::{Error, ResponseError};

/// Refuses foreign hosts (a name that was made to point here) and foreign origins (another site's
/// page), and sends headers that keep pages to themselves.
pub async fn local_only<B: MessageBody + 'static>(
    port: u16,
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    let text = |name: header::HeaderName| request.headers().get(name).and_then(|v| v.to_str().ok());
    let own = |host: &str| ["127.0.0.1", "localhost", "[::1]"].iter().any(|h| host == *h || host == format!("{h}:{port}"));
    let host_good = text(header::HOST).is_some_and(own);
    let origin = text(header::ORIGIN);
    let origin_good = origin.is_none_or(|o| o.strip_prefix("http://").is_some_and(own));
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    // A page of another site sends its origin with every request that changes something.
    let site_good = text(header::HeaderName::from_static("sec-fetch-site")).is_none_or(|s| matches!(s, "same-origin" | "none"));
    if !host_good || !origin_good || (!reads && !site_good) {
        let refusal = PageError::foreign().error_response();
        return Ok(request.into_response(refusal).map_into_right_body());
    }
    let mut response = next.call(request).await?.map_into_left_body();
    let headers = response.headers_mut();
    for (name, value) in [
        (
            "content-security-policy",
            "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'",
        ),
        ("x-content-type-options", "nosniff"),
        ("referrer-policy", "same-origin"),
        ("cross-origin-resource-policy", "same-origin"),
    ] {
        headers.insert(header::HeaderName::from_static(name), header::HeaderValue::from_static(value));
    }
    Ok(response)
}
