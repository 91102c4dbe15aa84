//! Clips arrive here.

use super::{Desk, PageError, block};
use crate::engine::import::{Arrived, extension, new_folder, take_in};
use actix_multipart::Multipart;
use actix_web::{HttpResponse, Responder, post, web};
use fennik_store::JobKind;
use futures_util::TryStreamExt;
use std::io::Write;
use std::path::Path;

/// Largest upload, bytes.
const UPLOAD_LIMIT: u64 = 32 * 1024 * 1024 * 1024;
/// Most files in one upload.
const MOST_FILES: usize = 20_000;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(upload);
}

#[post("/clips")]
async fn upload(desk: web::Data<Desk>, payload: Multipart) -> Result<impl Responder, PageError> {
    let (name, folder) = new_folder(&desk.store)?;
    let files = match receive(payload, &folder).await {
        Ok(files) => files,
        Err(error) => {
            let _ = std::fs::remove_dir_all(&folder);
            return Err(error);
        }
    };
    let shot = block(move || {
        let shot = take_in(&desk.store, &name, &folder, files)?;
        desk.jobs.queue(shot, JobKind::Decode, "")?;
        Ok(shot)
    })
    .await?;
    Ok(HttpResponse::Ok().json(serde_json::json!({ "shot": shot.0 })))
}

/// Streams the files to the disk under names of ours.
async fn receive(mut payload: Multipart, folder: &Path) -> Result<Vec<Arrived>, PageError> {
    let broken = |e: actix_multipart::MultipartError| PageError::refused(format!("The upload broke off: {e}. Try again."));
    let full = |e: std::io::Error| PageError::refused(format!("The clip could not be stored: {e}. Make room on the disk and try again."));
    let mut files = Vec::new();
    let mut total = 0u64;
    while let Some(mut field) = payload.try_next().await.map_err(broken)? {
        let Some(name) = field.content_disposition().and_then(|d| d.get_filename()).map(str::to_owned) else { continue };
        if files.len() >= MOST_FILES {
            return Err(PageError::refused(format!("These are more than {MOST_FILES} files. Make a zip archive or a video of them.")));
        }
        let path = folder.join(format!("clip-{}.{}", files.len(), extension(&name)));
        let mut file = std::fs::File::create(&path).map_err(full)?;
        while let Some(chunk) = field.try_next().await.map_err(broken)? {
            total += chunk.len() as u64;
            if total > UPLOAD_LIMIT {
                return Err(PageError::refused("The clip is larger than 32 GB. Trim it first."));
            }
            file.write_all(&chunk).map_err(full)?;
        }
        files.push(Arrived { name, path });
    }
    Ok(files)
}
