//! Errors as a person sees them; the only place that knows HTTP's numbers for them.

use crate::engine::EngineError;
use crate::engine::ShotError;
use actix_web::http::{StatusCode, header};
use actix_web::{HttpResponse, ResponseError};
use fennik_store::StoreError;

/// A refusal with its words.
#[derive(Debug)]
pub struct PageError {
    status: StatusCode,
    text: String,
}

impl PageError {
    /// Input that cannot be read.
    pub fn bad_request(cause: &dyn std::fmt::Display) -> Self {
        Self { status: StatusCode::UNPROCESSABLE_ENTITY, text: format!("That cannot be used: {cause}.") }
    }

    /// Input that makes no sense, in words of our own.
    pub fn refused(text: impl Into<String>) -> Self {
        Self { status: StatusCode::UNPROCESSABLE_ENTITY, text: text.into() }
    }

    /// No such page.
    pub fn not_found() -> Self {
        Self {
            status: StatusCode::NOT_FOUND,
            text: "There is nothing at this address. Go back to the list of shots.".to_owned(),
        }
    }

    /// More at a time than can be served.
    pub fn busy() -> Self {
        let text = "Too many pages of Fennik are open. Close some and reload this one.".to_owned();
        Self { status: StatusCode::SERVICE_UNAVAILABLE, text }
    }

    /// A request from elsewhere.
    pub fn foreign() -> Self {
        Self { status: StatusCode::FORBIDDEN, text: "Fennik answers only pages of its own on this machine.".to_owned() }
    }
}

impl std::fmt::Display for PageError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.text)
    }
}

impl From<EngineError> for PageError {
    fn from(error: EngineError) -> Self {
        let status = match &error {
            EngineError::Store(StoreError::Missing { .. }) => StatusCode::NOT_FOUND,
            EngineError::Store(StoreError::Stale { .. }) => StatusCode::CONFLICT,
            EngineError::Store(
                StoreError::Edit(_)
                | StoreError::NoStep(_)
                | StoreError::Document { .. }
                | StoreError::WrongAnalysis { .. }
                | StoreError::BeyondClip { .. },
            ) => StatusCode::UNPROCESSABLE_ENTITY,
            EngineError::Store(_)
            | EngineError::Stopped
            | EngineError::Fault
            | EngineError::Broken { .. }
            | EngineError::Json(_) => StatusCode::INTERNAL_SERVER_ERROR,
            // What a person asked for cannot be done as it is; the words say why.
            _ => StatusCode::UNPROCESSABLE_ENTITY,
        };
        let mut text = error.to_string();
        if status == StatusCode::INTERNAL_SERVER_ERROR {
            let reference = ulid::Ulid::generate();
            tracing::error!(%error, %reference, "a request went wrong");
            text.push_str(&format!(". What was saved before is kept. Reference {reference}"));
        }
        let mut letters = text.chars();
        let text = letters.next().map(|c| c.to_uppercase().collect::<String>() + letters.as_str()).unwrap_or_default();
        Self { status, text }
    }
}

impl From<StoreError> for PageError {
    fn from(error: StoreError) -> Self {
        EngineError::from(error).into()
    }
}

impl From<askama::Error> for PageError {
    fn from(error: askama::Error) -> Self {
        EngineError::from(ShotError::Page { why: error.to_string() }).into()
    }
}

impl ResponseError for PageError {
    fn status_code(&self) -> StatusCode {
        self.status
    }

    fn error_response(&self) -> HttpResponse {
        HttpResponse::build(self.status)
            .insert_header((header::CONTENT_TYPE, "text/plain; charset=utf-8"))
            .body(self.text.clone())
    }
}

impl actix_web::Responder for PageError {
    type Body = actix_web::body::BoxBody;

    fn respond_to(self, _: &actix_web::HttpRequest) -> HttpResponse {
        self.error_response()
    }
}
