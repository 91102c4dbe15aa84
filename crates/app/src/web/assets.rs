//! Scripts, styles and fonts, shipped inside the binary.

use super::PageError;
use actix_web::http::header;
use actix_web::{HttpResponse, Responder, get, web};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "static"]
struct Files;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(file);
}

#[get("/static/{path:.*}")]
async fn file(path: web::Path<String>, request: actix_web::HttpRequest) -> Result<impl Responder, PageError> {
    let file = Files::get(&path).ok_or_else(PageError::not_found)?;
    let tag: String = file.metadata.sha256_hash().iter().take(8).map(|b| format!("{b:02x}")).collect();
    let tag = format!("\"{tag}\"");
    if request.headers().get(header::IF_NONE_MATCH).is_some_and(|v| v.as_bytes() == tag.as_bytes()) {
        return Ok(HttpResponse::NotModified().finish());
    }
    let kind = mime_guess::from_path(path.as_str()).first_or_octet_stream();
    Ok(HttpResponse::Ok()
        .insert_header((header::CONTENT_TYPE, kind.as_ref()))
        .insert_header((header::ETAG, tag))
        .insert_header((header::CACHE_CONTROL, "no-cache"))
        .body(file.data.into_owned()))
}
