//! How firmly cameras, points and the lens are known.

pub mod cluster_robust;
pub mod focal;
pub mod gauge_free;
