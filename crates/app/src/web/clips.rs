//! Clips arrive here.

use super::{AppState, PageError, block};
use crate::engine::import::{Arrived, TakenIn, extension, take_in};
use crate::jobs::{Decode, JobRequest};
use actix_multipart::Multipart;
use actix_web::{HttpResponse, Responder, post, web};
use futures_util::TryStreamExt;
use serde::Deserialize;
use std::io::Write;
use std::path::Path;

/// Largest upload, bytes.
const UPLOAD_LIMIT: u64 = 32 * 1024 * 1024 * 1024;
/// Most files in one upload.
const MOST_FILES: usize = 20_000;
/// Largest list of what is sent, bytes.
const LIST_LIMIT: usize = 8 * 1024 * 1024;
/// The field that holds that list; it comes first.
const LIST: &str = "list";

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(upload);
}

#[post("/clips")]
async fn upload(app: web::Data<AppState>, payload: Multipart) -> Result<impl Responder, PageError> {
    let staging = app.store.new_clip_folder()?;
    let files = receive(payload, staging.path()).await?;
    let taken = block(move || {
        let taken = take_in(&app.store, files)?;
        for shot in &taken.shots {
            app.jobs.queue(*shot, &JobRequest::Decode(Decode {}))?;
        }
        drop(staging);
        Ok(taken)
    })
    .await?;
    let TakenIn { shots, refused } = taken;
    let refused: Vec<_> =
        refused.into_iter().map(|(name, why)| serde_json::json!({ "name": name, "why": why })).collect();
    Ok(HttpResponse::Ok().json(serde_json::json!({ "shot": shots.first(), "shots": shots, "refused": refused })))
}

/// One file as the sender knows it.
#[derive(Debug, Deserialize)]
struct Listed {
    name: String,
    size: u64,
}

/// Streams the files to the disk under names of ours, and checks them against the list that was sent with them.
pub(super) async fn receive(mut payload: Multipart, folder: &Path) -> Result<Vec<Arrived>, PageError> {
    let broken = |e: actix_multipart::MultipartError| {
        PageError::refused(format!("The upload broke off: {e}. Nothing was taken in; try again."))
    };
    let full = |e: std::io::Error| {
        PageError::refused(format!("The clip could not be stored: {e}. Make room on the disk and try again."))
    };
    let mut files = Vec::new();
    let mut arrived = Vec::new();
    let mut list: Option<Vec<Listed>> = None;
    let mut total = 0u64;
    while let Some(mut field) = payload.try_next().await.map_err(broken)? {
        if field.name() == Some(LIST) {
            let mut text = Vec::new();
            while let Some(chunk) = field.try_next().await.map_err(broken)? {
                if text.len() + chunk.len() > LIST_LIMIT {
                    return Err(PageError::refused(
                        "The list of files is too long. Make a zip archive or a video of them.",
                    ));
                }
                text.extend_from_slice(&chunk);
            }
            list = Some(serde_json::from_slice(&text).map_err(|e| PageError::bad_request(&e))?);
            continue;
        }
        let Some(name) = field.content_disposition().and_then(|d| d.get_filename()).map(str::to_owned) else {
            continue;
        };
        if files.len() >= MOST_FILES {
            return Err(PageError::refused(format!(
                "These are more than {MOST_FILES} files. Make a zip archive or a video of them."
            )));
        }
        let path = folder.join(format!("clip-{}.{}", files.len(), extension(&name)));
        let mut file = std::fs::File::create(&path).map_err(full)?;
        let mut size = 0u64;
        while let Some(chunk) = field.try_next().await.map_err(broken)? {
            size += chunk.len() as u64;
            total += chunk.len() as u64;
            if total > UPLOAD_LIMIT {
                return Err(PageError::refused("The clip is larger than 32 GB. Trim it first."));
            }
            file.write_all(&chunk).map_err(full)?;
        }
        arrived.push(Listed { name: name.clone(), size });
        files.push(Arrived { name, path, unread: None });
    }
    let Some(list) = list else { return Ok(files) };
    if list.len() != arrived.len() || list.iter().zip(&arrived).any(|(a, b)| !a.is(b)) {
        return Err(PageError::refused(difference(&list, &arrived)));
    }
    // The list has the names as the person knows them.
    Ok(files.into_iter().zip(list).map(|(file, listed)| Arrived { name: listed.name, ..file }).collect())
}

impl Listed {
    /// Whether a file is the one that was listed: a form escapes quotes and line ends of its name (HTML,
    /// "multipart/form-data encoding algorithm").
    fn is(&self, arrived: &Self) -> bool {
        let escaped = self.name.replace('"', "%22").replace('\r', "%0D").replace('\n', "%0A");
        self.size == arrived.size && (arrived.name == escaped || arrived.name == self.name)
    }
}

/// The boundary of uploads for fuzzing.
const FUZZ_BOUNDARY: &str = "multipart/form-data; boundary=XX";

/// Receives a body whose reads are cut after so many bytes each.
pub fn receive_for_fuzzing(body: &[u8], cut: usize) {
    use actix_web::http::header::{CONTENT_TYPE, HeaderMap, HeaderValue};
    let folder = std::env::temp_dir().join(format!("fennik-fuzz-{}", std::process::id()));
    if std::fs::create_dir_all(&folder).is_err() {
        return;
    }
    let mut headers = HeaderMap::new();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(FUZZ_BOUNDARY));
    let chunks: Vec<_> = body
        .chunks(cut.max(1))
        .map(|c| Ok::<_, actix_web::error::PayloadError>(web::Bytes::copy_from_slice(c)))
        .collect();
    let payload = Multipart::new(&headers, futures_util::stream::iter(chunks));
    let received = actix_web::rt::System::new().block_on(receive(payload, &folder));
    for file in received.into_iter().flatten() {
        let _ = std::fs::remove_file(file.path);
    }
}

/// What did not arrive as it was sent.
fn difference(sent: &[Listed], arrived: &[Listed]) -> String {
    let first = sent.iter().zip(arrived).find(|(a, b)| !a.is(b)).map(|(a, _)| a).or_else(|| sent.get(arrived.len()));
    let from = first.map(|f| format!(", from “{}” on", f.name)).unwrap_or_default();
    format!(
        "{} files were sent and {} arrived whole{from}. Nothing was taken in; try again.",
        sent.len(),
        sent.iter().zip(arrived).filter(|(a, b)| a.is(b)).count()
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::http::header::{CONTENT_TYPE, HeaderMap, HeaderValue};
    use actix_web::web::Bytes;
    use futures_util::{StreamExt, stream};

    const MARK: &str = "----marks-of-the-upload";

    fn head() -> HeaderMap {
        let mut headers = HeaderMap::new();
        let kind = format!("multipart/form-data; boundary={MARK}");
        headers.insert(CONTENT_TYPE, HeaderValue::from_str(&kind).unwrap());
        headers
    }

    /// The body that a browser sends for some files.
    fn body(list: Option<&str>, files: &[(&str, &[u8])]) -> Vec<u8> {
        let mut out = Vec::new();
        let mut part = |disposition: &str, bytes: &[u8]| {
            out.extend(format!("--{MARK}\r\ncontent-disposition: form-data; {disposition}\r\n\r\n").bytes());
            out.extend(bytes);
            out.extend(b"\r\n");
        };
        if let Some(list) = list {
            part("name=\"list\"", list.as_bytes());
        }
        files.iter().for_each(|(name, bytes)| part(&format!("name=\"files\"; filename=\"{name}\""), bytes));
        out.extend(format!("--{MARK}--\r\n").bytes());
        out
    }

    /// Reads as a network gives them: the next is not there before it is waited for.
    fn reads(
        chunks: impl Iterator<Item = Vec<u8>> + 'static,
    ) -> impl futures_util::Stream<Item = Result<Bytes, actix_web::error::PayloadError>> {
        stream::iter(chunks).then(|chunk| async {
            tokio::task::yield_now().await;
            Ok(Bytes::from(chunk))
        })
    }

    async fn receive_in(chunks: Vec<Vec<u8>>) -> Result<Vec<(String, Vec<u8>)>, String> {
        let folder = tempfile::tempdir().unwrap();
        let within = tokio::time::timeout(
            std::time::Duration::from_secs(20),
            receive(Multipart::new(&head(), reads(chunks.into_iter())), folder.path()),
        );
        let files = within.await.map_err(|_| "no answer".to_owned())?.map_err(|e| e.to_string())?;
        Ok(files.into_iter().map(|f| (f.name, std::fs::read(f.path).unwrap())).collect())
    }

    /// Fault: where a read ended right behind a boundary, a file was lost without a word.
    #[actix_web::test]
    async fn every_file_arrives_wherever_the_reads_are_cut() {
        let files: [(&str, &[u8]); 4] =
            [("a.png", b"one\r\n--"), ("b.png", b""), ("c.png", b"\r\n--\r\n\r"), ("d.png", b"last one\n")];
        let whole = body(None, &files);
        let wanted: Vec<(String, Vec<u8>)> = files.iter().map(|(n, b)| ((*n).to_owned(), b.to_vec())).collect();
        for cut in 0..=whole.len() {
            let chunks = vec![whole[..cut].to_vec(), whole[cut..].to_vec()];
            assert_eq!(receive_in(chunks).await.as_ref(), Ok(&wanted), "cut at {cut}");
        }
        for size in 1..9 {
            assert_eq!(
                receive_in(whole.chunks(size).map(<[u8]>::to_vec).collect()).await.as_ref(),
                Ok(&wanted),
                "by {size}"
            );
        }
    }

    /// Fault: an upload that lost files was taken for a shorter sequence.
    #[actix_web::test]
    async fn what_arrives_is_held_against_what_was_sent() {
        let list = r#"[{"name":"a.png","size":3},{"name":"b.png","size":2}]"#;
        let both = body(Some(list), &[("a.png", b"one"), ("b.png", b"22")]);
        assert_eq!(receive_in(vec![both]).await.unwrap().len(), 2);
        let quoted = body(Some(r#"[{"name":"a \"b\".mp4","size":3}]"#), &[("a %22b%22.mp4", b"one")]);
        assert_eq!(receive_in(vec![quoted]).await.unwrap()[0].0, "a \"b\".mp4", "as the person knows it");
        for less in [body(Some(list), &[("a.png", b"one")]), body(Some(list), &[("a.png", b"one"), ("b.png", b"2")])] {
            let said = receive_in(vec![less]).await.unwrap_err();
            assert!(said.contains("2 files were sent and 1 arrived whole") && said.contains("b.png"), "{said}");
        }
        assert!(receive_in(vec![body(Some("[{]"), &[])]).await.is_err());
    }

    /// Fault: a body that ended in a lone carriage return was never answered.
    #[actix_web::test]
    async fn a_body_that_breaks_off_is_answered() {
        let whole = body(None, &[("a.png", b"one\rtwo")]);
        for end in 1..whole.len() - 4 {
            let said = receive_in(vec![whole[..end].to_vec()]).await;
            assert!(said.is_err_and(|e| e.contains("broke off")), "ended at {end}");
        }
        let at_return = body(None, &[("a.png", b"one\r")]);
        let end = at_return.windows(5).position(|w| w == b"one\r\r").unwrap() + 4;
        assert!(receive_in(vec![at_return[..end].to_vec()]).await.unwrap_err().contains("broke off"));
    }

    /// Fault: bytes without a line end were gathered in memory until one came.
    #[actix_web::test]
    async fn bytes_without_a_line_end_are_passed_on_as_they_come() {
        let most = std::rc::Rc::new(std::cell::Cell::new(0usize));
        let given = most.clone();
        let start = format!("--{MARK}\r\ncontent-disposition: form-data; name=\"files\"; filename=\"a.mp4\"\r\n\r\n")
            .into_bytes();
        let chunks = std::iter::once(start)
            .chain((0..4096).map(|_| vec![7u8; 16 * 1024]))
            .chain([format!("\r\n--{MARK}--\r\n").into_bytes()]);
        let chunks = chunks.inspect(move |c| given.set(given.get() + c.len()));
        let mut payload = Multipart::new(&head(), reads(chunks));
        let mut field = payload.try_next().await.unwrap().unwrap();
        let (mut taken, mut held) = (0usize, 0usize);
        while let Some(chunk) = field.try_next().await.unwrap() {
            taken += chunk.len();
            held = held.max(most.get().saturating_sub(taken));
        }
        assert_eq!(taken, 4096 * 16 * 1024);
        assert!(held < 1024 * 1024, "{held} bytes were held at a time");
    }

    /// Fault: a body in which no line ever ends, neither before its first part nor in the head of one, was gathered
    /// whole.
    #[actix_web::test]
    async fn a_body_in_which_no_line_ends_is_refused_before_it_is_large() {
        for start in [String::new(), format!("--{MARK}\r\ncontent-disposition: form-data; name=\"")] {
            let given = std::rc::Rc::new(std::cell::Cell::new(0usize));
            let count = given.clone();
            let chunks = std::iter::once(start.into_bytes()).chain((0..4096).map(|_| vec![b'x'; 16 * 1024]));
            let chunks = chunks.inspect(move |c| count.set(count.get() + c.len()));
            let folder = tempfile::tempdir().unwrap();
            let answer = receive(Multipart::new(&head(), reads(chunks)), folder.path()).await;
            assert!(answer.is_err());
            assert!(given.get() < 4 * 1024 * 1024, "{} bytes were taken first", given.get());
        }
    }
}
