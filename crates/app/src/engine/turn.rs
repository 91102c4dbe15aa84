//! Whose turn it is to draw: while somebody drags a thing, exact pictures wait for the drafts, between two moments of an
//! exposure.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// So long after a draft the next one may follow.
const LINGER: Duration = Duration::from_millis(120);
/// Nobody waits longer than this between two moments.
const LONGEST: Duration = Duration::from_millis(600);

struct Turn {
    /// Drafts that are being drawn.
    drafts: usize,
    /// When the last one was done.
    last: Option<Instant>,
}

static TURN: Mutex<Turn> = Mutex::new(Turn { drafts: 0, last: None });
static CHANGED: Condvar = Condvar::new();

fn turn() -> MutexGuard<'static, Turn> {
    TURN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A draft that is being drawn.
pub struct Draft(());

impl Draft {
    /// From here on, until it is dropped.
    pub fn begin() -> Self {
        turn().drafts += 1;
        Self(())
    }
}

impl Drop for Draft {
    fn drop(&mut self) {
        let mut turn = turn();
        turn.drafts -= 1;
        turn.last = Some(Instant::now());
        CHANGED.notify_all();
    }
}

/// Waits while drafts are drawn, one soon after the other, but not for ever.
pub fn give_way() {
    let until = Instant::now() + LONGEST;
    let mut now = turn();
    loop {
        let since = now.last.map_or(LINGER, |last| last.elapsed());
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() || (now.drafts == 0 && since >= LINGER) {
            return;
        }
        let pause = if now.drafts > 0 { left } else { left.min(LINGER - since) };
        now = CHANGED.wait_timeout(now, pause).unwrap_or_else(PoisonError::into_inner).0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn exact_pictures_wait_for_drafts_and_not_for_ever() {
        let draft = Draft::begin();
        let began = Instant::now();
        give_way();
        assert!(began.elapsed() >= LONGEST, "a draft that never ends holds it up for so long and no longer");
        let waiting = std::thread::spawn(|| {
            give_way();
            Instant::now()
        });
        std::thread::sleep(Duration::from_millis(30));
        let done = Instant::now();
        drop(draft);
        assert!(waiting.join().unwrap() >= done, "it goes on when the draft is done");
    }
}
