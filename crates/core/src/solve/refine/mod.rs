//! Rounds of adjustment: inliers are collected within gates that follow the noise, and parameters are unlocked where
//! the tracks ask for them.

pub mod anneal;
pub mod inlier_gates;
pub mod inliers;
pub mod rounds;
pub mod unlock;
