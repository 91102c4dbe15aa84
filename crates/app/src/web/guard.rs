//! Only pages of this machine may talk to the server.

use super::PageError;
use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{self, HeaderMap, HeaderName};
use actix_web::middleware::Next;
use actix_web::{Error, ResponseError};

/// The one value of a header as text of plain letters; `Ok(None)` where it is not there.
fn single(headers: &HeaderMap, name: HeaderName) -> Result<Option<&str>, ()> {
    let mut all = headers.get_all(name);
    match (all.next(), all.next()) {
        (None, _) => Ok(None),
        (Some(one), None) => one.to_str().map(Some).map_err(|_| ()),
        (Some(_), Some(_)) => Err(()),
    }
}

/// Whether a request comes from a page of this server or from no page at all.
fn is_own(method: &Method, headers: &HeaderMap, port: u16) -> Result<bool, ()> {
    let names = ["127.0.0.1", "localhost", "[::1]"].map(|name| format!("{name}:{port}"));
    // A name that was made to point here is none of these.
    let Some(host) = single(headers, header::HOST)?.filter(|h| names.iter().any(|n| n == h)) else { return Ok(false) };
    // A page of another site sends its origin with every request that changes something; so does one of another port.
    let origin = single(headers, header::ORIGIN)?;
    if origin.is_some_and(|o| o.strip_prefix("http://") != Some(host)) {
        return Ok(false);
    }
    let word = |name: &'static str| single(headers, HeaderName::from_static(name));
    let from_here = word("sec-fetch-site")?.is_none_or(|s| matches!(s, "same-origin" | "none"));
    // Following a link from elsewhere shows a page; reading one as a picture or a script is another matter.
    let follows = matches!(*method, Method::GET | Method::HEAD)
        && word("sec-fetch-mode")? == Some("navigate")
        && word("sec-fetch-dest")?.is_none_or(|d| d == "document");
    Ok(from_here || follows)
}

/// Refuses foreign hosts and foreign origins, and sends headers that keep pages to themselves.
pub async fn local_only<B: MessageBody + 'static>(
    port: u16,
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    if is_own(request.method(), request.headers(), port) != Ok(true) {
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
        headers.insert(HeaderName::from_static(name), header::HeaderValue::from_static(value));
    }
    Ok(response)
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::http::header::HeaderValue;

    fn allowed(method: Method, headers: &[(&'static str, &'static [u8])]) -> bool {
        let mut map = HeaderMap::new();
        for (name, value) in headers {
            map.append(HeaderName::from_static(name), HeaderValue::from_bytes(value).unwrap());
        }
        is_own(&method, &map, 4780) == Ok(true)
    }

    #[test]
    fn origins_are_exact_there_is_one_host_and_foreign_pages_read_nothing() {
        let host: (&str, &[u8]) = ("host", b"127.0.0.1:4780");
        assert!(allowed(Method::GET, &[host]) && allowed(Method::POST, &[host, ("origin", b"http://127.0.0.1:4780")]));
        assert!(allowed(Method::GET, &[("host", b"localhost:4780"), ("sec-fetch-site", b"same-origin")]));
        for (method, headers) in [
            (Method::GET, &[][..]),
            (Method::GET, &[("host", b"127.0.0.1" as &[u8])]),
            (Method::GET, &[("host", b"somewhere.example:4780")]),
            (Method::GET, &[host, ("host", b"127.0.0.1:4780")]),
            (Method::POST, &[host, ("origin", b"http://localhost:4780")]),
            (Method::POST, &[host, ("origin", b"http://127.0.0.1:4781")]),
            (Method::POST, &[host, ("origin", b"http://127.0.0.1:4780.example")]),
            (Method::POST, &[host, ("origin", b"null")]),
            (Method::POST, &[host, ("origin", b"http://127.0.0.1:4780\xff")]),
            (Method::POST, &[host, ("sec-fetch-site", b"same-site")]),
            (Method::GET, &[host, ("sec-fetch-site", b"cross-site")]),
            (
                Method::GET,
                &[
                    host,
                    ("sec-fetch-site", b"cross-site"),
                    ("sec-fetch-mode", b"no-cors"),
                    ("sec-fetch-dest", b"image"),
                ],
            ),
            (
                Method::GET,
                &[
                    host,
                    ("sec-fetch-site", b"cross-site"),
                    ("sec-fetch-mode", b"navigate"),
                    ("sec-fetch-dest", b"iframe"),
                ],
            ),
            (
                Method::POST,
                &[
                    host,
                    ("sec-fetch-site", b"cross-site"),
                    ("sec-fetch-mode", b"navigate"),
                    ("sec-fetch-dest", b"document"),
                ],
            ),
        ] {
            assert!(!allowed(method.clone(), headers), "{method} {headers:?}");
        }
        let link: [(&str, &[u8]); 4] =
            [host, ("sec-fetch-site", b"cross-site"), ("sec-fetch-mode", b"navigate"), ("sec-fetch-dest", b"document")];
        assert!(allowed(Method::GET, &link), "a link from elsewhere may lead here");
    }
}
