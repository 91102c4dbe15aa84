//! What the times of the packets say of a clip's rate.

use crate::clip::rate::Rate;

/// The times at which the frames of a video are shown, as its packets tell.
pub struct PacketTimes {
    /// Seconds, rising.
    pub sorted: Vec<f64>,
    /// Whether every packet has a time and is shown.
    pub all_shown: bool,
    /// The times at which decoding can begin, seconds, rising.
    keys: Vec<f64>,
}

impl PacketTimes {
    /// Reads a line for each packet: its time, seconds, and its flags.
    pub fn read(lines: &str) -> Self {
        let mut times = Self { sorted: Vec::new(), all_shown: true, keys: Vec::new() };
        for line in lines.lines().filter(|l| !l.trim().is_empty()) {
            let (time, flags) = line.split_once(',').unwrap_or((line, ""));
            match time.trim().parse::<f64>() {
                Ok(t) if t.is_finite() => {
                    times.sorted.push(t);
                    if flags.contains('K') {
                        times.keys.push(t);
                    }
                }
                _ => times.all_shown = false,
            }
            times.all_shown &= !flags.contains('D');
        }
        times.sorted.sort_by(f64::total_cmp);
        times.keys.sort_by(f64::total_cmp);
        times
    }

    /// Frames from one at which decoding can begin to the next one or to the end, at most.
    pub fn keys_apart(&self) -> Option<u32> {
        let at = |key: &f64| self.sorted.partition_point(|t| t < key);
        let begins: Vec<usize> = self.keys.iter().map(at).chain([self.sorted.len()]).collect();
        let most = begins.windows(2).map(|pair| pair[1] - pair[0]).max()?;
        u32::try_from(most).ok()
    }

    /// The first time, where all others keep to the rate.
    pub fn even_from(&self, rate: Rate) -> Option<f64> {
        let (first, step) = (*self.sorted.first()?, 1.0 / rate.per_second());
        let keeps = |(i, t): (usize, &f64)| (t - first - i as f64 * step).abs() < 0.25 * step;
        self.sorted.iter().enumerate().all(keeps).then_some(first)
    }
}

/// For a video whose frames do not come evenly (containers often claim a constant rate that the times of their frames
/// do not keep): the usual rate nearest to the middle distance of their times, seconds; `None` when they are even
/// (rounding of the container aside) or too few.
pub fn constant_rate_of(times: &[f64]) -> Option<Rate> {
    let steps: Vec<f64> = times.windows(2).map(|p| p[1] - p[0]).collect();
    let mut sorted = steps.clone();
    sorted.sort_by(f64::total_cmp);
    let middle = *sorted.get(sorted.len() / 2).filter(|_| steps.len() >= 4)?;
    let odd = steps.iter().filter(|s| (*s - middle).abs() > 0.25 * middle).count();
    if middle <= 0.0 || odd * 50 < steps.len() {
        return None;
    }
    Some(constant_rate(Rate { frames: (1000.0 / middle).round().clamp(500.0, 480_000.0) as u32, seconds: 1000 }))
}

/// The usual rate nearest to an average one, or the average itself.
fn constant_rate(average: Rate) -> Rate {
    let usual = [(24000, 1001), (24, 1), (25, 1), (30000, 1001), (30, 1), (50, 1), (60000, 1001), (60, 1)];
    usual
        .into_iter()
        .map(|(frames, seconds)| Rate { frames, seconds })
        .find(|r| (r.per_second() / average.per_second() - 1.0).abs() < 0.03)
        .unwrap_or(average)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_between_those_at_which_decoding_begins_are_counted() {
        let apart = |lines: &str| PacketTimes::read(lines).keys_apart();
        assert_eq!(apart("0.00,K__\n0.12,___\n0.04,___\n0.08,___\n0.16,K__\n0.20,___\n"), Some(4), "in coded order");
        assert_eq!(apart("0.00,K_\n0.04,K_\n0.08,__\n0.12,__\n"), Some(3), "up to the end");
        assert_eq!((apart("0.00,__\n0.04,__\n"), apart("")), (None, None));
    }

    #[test]
    fn a_rate_that_varies_is_told_from_times_that_are_rounded() {
        let even: Vec<f64> = (0..50).map(|i| (f64::from(i) * 33.3667).round() / 1000.0).collect();
        assert_eq!(constant_rate_of(&even), None, "rounded to milliseconds");
        let uneven: Vec<f64> =
            (0..50).map(|i| f64::from(i) * 0.04 + if i > 30 { 0.1 * f64::from(i - 30) } else { 0.0 }).collect();
        assert_eq!(constant_rate_of(&uneven), Some(Rate { frames: 25, seconds: 1 }));
        assert_eq!(constant_rate(Rate { frames: 2983, seconds: 100 }), Rate { frames: 30000, seconds: 1001 });
        assert_eq!(constant_rate(Rate { frames: 12, seconds: 1 }), Rate { frames: 12, seconds: 1 });
    }
}
