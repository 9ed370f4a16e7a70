//! What ends a leg or a run, as it is seen.

use super::ends::Watch;
use super::state::Run;
use mile_core::steady::Rounds;
use mile_course::Seen;

impl Run<'_> {
    /// Whether one of the leg's ends is reached, in words.
    pub(super) fn seen(&mut self, watch: &mut Watch) -> Option<String> {
        let now = self.drive.now();
        let moved = self.moved.0 + self.tally.written.0 + self.tally.read.0;
        for ((end, since), band) in watch.ends.iter().zip(&mut watch.since).zip(&mut watch.band) {
            let (holds, hold) = match *end {
                Seen::Channel(ref threshold, hold) => (self.is_reached(threshold).is_some(), hold),
                Seen::Below(limit, hold) => (self.last.temp.is_some_and(|t| t < limit), hold),
                Seen::Above(limit, hold) => (self.last.temp.is_some_and(|t| t > limit), hold),
                Seen::Stable(within, hold) => {
                    let read = self.last.temp.map(|t| t.0);
                    let wider = |(low, high): (f64, f64), t: f64| (low.min(t), high.max(t));
                    let now = read.map(|t| band.map_or((t, t), |b| wider(b, t)));
                    let is_within = now.is_some_and(|(low, high)| high - low <= within.0);
                    // What lay further apart begins anew with what is read now.
                    if !is_within {
                        *since = None;
                    }
                    *band = if is_within { now } else { read.map(|t| (t, t)) };
                    (read.is_some(), hold)
                }
                Seen::Break(hold) => {
                    *since = since.or(self.break_at);
                    (since.is_some(), hold)
                }
                Seen::Errors(count) => {
                    if self.errors >= watch.errors + count {
                        return Some(end.words());
                    }
                    continue;
                }
                Seen::Steady(length) => {
                    let (start, bytes) = watch.round;
                    if now < start.plus(length) {
                        continue;
                    }
                    watch.rounds.push((moved - bytes) as f64 / now.since(start).secs() / 1e6);
                    watch.round = (now, moved);
                    match Rounds::last(&watch.rounds).filter(Rounds::is_steady) {
                        Some(r) => {
                            return Some(format!(
                                "steady state after {} rounds of {length}: {} MB/s",
                                watch.rounds.len(),
                                mile_core::units::number(r.mean)
                            ));
                        }
                        None => continue,
                    }
                }
            };
            if !holds {
                *since = None;
                continue;
            }
            if now.since(*since.get_or_insert(now)) >= hold {
                return Some(match (end, self.last.temp) {
                    (Seen::Below(..) | Seen::Above(..) | Seen::Stable(..), Some(t)) => {
                        format!("{t}: {}", end.words())
                    }
                    _ => end.words(),
                });
            }
        }
        None
    }
}
