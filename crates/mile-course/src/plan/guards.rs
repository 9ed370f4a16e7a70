//! What a run minds while it goes.

use crate::course::ends::Threshold;
use crate::course::{Guard, Then, When};
use mile_core::health::Counter;
use mile_core::{Bytes, Celsius, Nanos, Rate};

/// What a run minds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Guards {
    /// Readings of channels beyond which the run stops.
    pub channels: Vec<Threshold>,
    /// Counters of the drive's health beyond which it stops.
    pub counters: Vec<(Counter, Threshold)>,
    /// Temperature above which the run stops.
    pub stop_above: Option<Celsius>,
    /// Temperature above which it rests, below which it goes on, and how long it rests at the most.
    pub rest_above: Option<(Celsius, Celsius, Nanos)>,
    /// Failed operations that the run survives.
    pub errors_at_most: u64,
    /// Time after which an operation that is not back ends the run, where the course names one.
    pub patience: Option<Nanos>,
    /// Whether a critical warning of the drive stops the run.
    pub stop_on_warning: bool,
    /// Temperature below which a run goes on that a critical warning has rest, and how long it rests at the most.
    pub rest_on_warning: Option<(Celsius, Nanos)>,
    /// Bytes that the whole run may write.
    pub written_at_most: Option<Bytes>,
    /// Time that the whole run may take.
    pub time_at_most: Option<Nanos>,
    /// Rate of others on the same drive that stops the run, where it lasts so long.
    pub others: Option<(Rate, Nanos)>,
}

impl Guards {
    pub(super) fn of(guards: &[Guard]) -> Self {
        let mut all = Self::default();
        let mut errors: Option<u64> = None;
        let colder = |a: Option<Celsius>, b: Celsius| Some(a.filter(|a| *a < b).unwrap_or(b));
        for guard in guards {
            match (guard.when.clone(), guard.then) {
                (When::Channel(threshold), _) => all.channels.push(threshold),
                (When::Counter(counter, threshold), _) => all.counters.push((counter, threshold)),
                (When::TemperatureAbove(limit), Then::Stop) => all.stop_above = colder(all.stop_above, limit),
                (When::TemperatureAbove(limit), Then::Rest(below, longest)) => {
                    if all.rest_above.is_none_or(|r| limit < r.0) {
                        all.rest_above = Some((limit, below, longest));
                    }
                }
                (When::CriticalWarning, Then::Rest(below, longest)) => {
                    all.rest_on_warning = Some((below, longest));
                }
                (When::CriticalWarning, Then::Stop) => all.stop_on_warning = true,
                (When::ErrorsAbove(count), _) => errors = Some(errors.map_or(count, |e| e.min(count))),
                (When::OperationAbove(time), _) => {
                    all.patience = Some(all.patience.map_or(time, |p| p.min(time)))
                }
                (When::WrittenAbove(bytes), _) => {
                    all.written_at_most = Some(all.written_at_most.map_or(bytes, |b| b.min(bytes)));
                }
                (When::TimeAbove(time), _) => {
                    all.time_at_most = Some(all.time_at_most.map_or(time, |t| t.min(time)))
                }
                (When::OthersAbove(rate, hold), _) => all.others = Some((rate, hold)),
            }
        }
        all.errors_at_most = errors.unwrap_or(0);
        all
    }
}
