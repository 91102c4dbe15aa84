//! What can be wrong with something that is placed.

/// The first value that cannot be used.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum InsertError {
    /// A number out of its range.
    #[error("{name} is {value}; it must lie between {low} and {high}")]
    Range {
        /// What it is.
        name: &'static str,
        /// As it was found.
        value: f64,
        /// Least.
        low: f64,
        /// Most.
        high: f64,
    },
    /// A number of its grade.
    #[error(transparent)]
    Number(#[from] crate::scene::anim::NumberError),
    /// A normal that is none.
    #[error("the surface has no direction; place it on a surface again")]
    NoDirection,
    /// A name that cannot be shown.
    #[error("a name is one line of at most {most} characters")]
    Name {
        /// Longest.
        most: usize,
    },
    /// Nothing to show.
    #[error("the title has no text; type at least one letter")]
    NoText,
    /// A drawn outline.
    #[error("the outline {0}")]
    Outline(#[source] crate::matte::OutlineError),
    /// Too much to show.
    #[error("the title is {length} characters long; at most {most} can be shown")]
    TooLong {
        /// As it was found.
        length: usize,
        /// Longest.
        most: usize,
    },
}

/// Refuses a number out of its range.
pub(crate) fn within(name: &'static str, value: f64, low: f64, high: f64) -> Result<(), InsertError> {
    if (low..=high).contains(&value) { Ok(()) } else { Err(InsertError::Range { name, value, low, high }) }
}
