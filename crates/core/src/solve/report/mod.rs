//! What came out of a solve: readings, outliers with their reasons, and how far it can be trusted.

pub mod checks;
pub mod outliers;
pub mod readings;
pub mod verdict;
