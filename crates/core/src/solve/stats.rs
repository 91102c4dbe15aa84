//! Robust statistics.

/// The middle value; `None` of nothing.
pub fn median(values: &[f64]) -> Option<f64> {
    let mut sorted = values.to_vec();
    let middle = sorted.len() / 2;
    (!sorted.is_empty()).then(|| *sorted.select_nth_unstable_by(middle, f64::total_cmp).1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_middle_value_needs_no_order() {
        assert_eq!(median(&[5.0, 1.0, 3.0]), Some(3.0));
        assert_eq!(median(&[]), None);
        assert_eq!(median(&[7.0]), Some(7.0));
    }
}
