//! What a page is sent after a change: only the parts of it that look otherwise by now.

use super::state::{AppState, Shown};
use super::{PageError, block};
use crate::engine::{EngineError, OpenShot};
use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpRequest, web};
use fennik_core::scene::Edit;
use fennik_store::{RevisionId, ShotId};
use std::collections::hash_map::DefaultHasher;
use std::future::{Ready, ready};
use std::hash::{Hash, Hasher};

/// The header in which a page tells which parts it shows: `name=stamp` of each, parted by spaces.
const SHOWN: &str = "x-shown";

/// A part of the page that is drawn and swapped by itself.
pub struct Part {
    /// Where it belongs.
    pub name: String,
    /// Names what it looks like.
    stamp: String,
    html: String,
}

impl Part {
    /// A part with its HTML.
    pub fn new(name: impl Into<String>, html: String) -> Self {
        let mut hasher = DefaultHasher::new();
        html.hash(&mut hasher);
        Self { name: name.into(), stamp: format!("{:016x}", hasher.finish()), html }
    }

    /// Whether a page shows it just so.
    pub fn is_in(&self, shown: &Shown) -> bool {
        shown.get(&self.name) == Some(&self.stamp)
    }

    /// As the page takes it: an element of its own.
    pub fn element(&self) -> String {
        format!("<div class=\"part\" data-part=\"{}\" data-stamp=\"{}\">{}</div>", self.name, self.stamp, self.html)
    }
}

/// Somebody at work on a shot in a page.
pub struct Editor {
    pub app: web::Data<AppState>,
    pub id: ShotId,
    /// What the page shows, by its parts.
    shown: Shown,
}

impl FromRequest for Editor {
    type Error = PageError;
    type Future = Ready<Result<Self, PageError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let id = request.match_info().get("id").and_then(|id| id.parse().ok()).map(ShotId);
        let app = request.app_data::<web::Data<AppState>>().cloned();
        let header = request.headers().get(SHOWN).and_then(|v| v.to_str().ok()).unwrap_or_default();
        let pair = |word: &str| word.split_once('=').map(|(name, stamp)| (name.to_owned(), stamp.to_owned()));
        let shown = header.split(' ').filter_map(pair).collect();
        ready(match (app, id) {
            (Some(app), Some(id)) => Ok(Self { app, id, shown }),
            _ => Err(PageError::not_found()),
        })
    }
}

impl Editor {
    /// Makes a change and answers with what looks otherwise.
    pub async fn change(
        self,
        change: impl FnOnce(&AppState, ShotId) -> Result<(), EngineError> + Send + 'static,
    ) -> Result<web::Html, PageError> {
        block(move || {
            change(&self.app, self.id)?;
            self.answer()
        })
        .await
    }

    /// Applies an edit that starts from a revision.
    pub async fn apply(
        self,
        revision: i64,
        make: impl FnOnce(&AppState, &OpenShot) -> Result<Edit, EngineError> + Send + 'static,
    ) -> Result<web::Html, PageError> {
        self.change(move |app, id| {
            let edit = make(app, &app.open(id)?)?;
            app.store.edit(id, Some(RevisionId(revision)), &edit)?;
            Ok(())
        })
        .await
    }

    /// The parts of the page that look otherwise than it shows them.
    pub fn answer(&self) -> Result<web::Html, EngineError> {
        Ok(web::Html::new((self.app.draw)(&self.app, self.id, &self.shown)?))
    }
}
