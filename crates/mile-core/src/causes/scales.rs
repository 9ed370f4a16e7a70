//! What is hot, near, large or little where a cause is looked for.

/// Degrees below a limit within which a reading counts as at it: whole-degree steps and the lag of a sensor.
pub(super) const AT_LIMIT_C: f64 = 4.0;
/// Degrees below a limit from which a reading is well clear of it.
pub(super) const CLEAR_C: f64 = 6.0;
/// Drives begin to throttle between these temperatures, where nothing is known of one: flash controllers about 70 to 85 °C, sealed
/// sticks and disks from about 60 °C.
pub(super) const WARM_C: f64 = 60.0;
pub(super) const COOL_C: f64 = 55.0;
pub(super) const HOT_C: f64 = 68.0;
/// What is critical lies up to so many degrees above where a drive begins to throttle.
pub(super) const BELOW_CRITICAL_C: f64 = 16.0;
/// And mostly no further below it than this.
pub(super) const NEAR_C: f64 = 10.0;
/// No drive is throttled until so many degrees below its warning limit.
pub(super) const FAR_C: f64 = 18.0;
/// So many degrees below its warning limit a drive is rarely throttled, and so many none is known to be.
pub(super) const RARE_C: (f64, f64) = (12.0, 20.0);
/// A throttled drive is let go after it has cooled by this much, mostly by less.
pub(super) const RELEASES_C: f64 = 7.0;
/// A drive that is throttled one step further has become hotter by at least this, °C: a step of a sensor of whole degrees.
pub(super) const HOTTER: f64 = 1.0;
/// Share of the rate before below which the drive stands still. A guess: the slowest flash behind a cache keeps several
/// percent of its rate.
pub(super) const STANDSTILL: f64 = 0.01;
/// Largest share of a drive that a cache of single-bit cells can take: a third where cells hold three bits, and a little.
pub(super) const LARGEST_CACHE: f64 = 0.36;
/// Share of processor time from which its theft slows a run: one processor of ten.
pub(super) const STOLEN: f64 = 0.1;
/// Share of the change that others have to have moved for them to have a hand in it.
pub(super) const FOREIGN: f64 = 0.2;
/// Share of the change that others have to have moved for it to be all their doing.
pub(super) const ALL_OF_IT: f64 = 0.7;
/// A change of the temperature around a drive from which it is more than the day's: a chamber, a fan that stops, a neighbour that works.
pub(super) const WARMER_C: f64 = 2.0;
/// What is left of what a link is said to carry behind headers of packets and framing, at the least and at the most (`copies.rs`).
pub(super) const CARRIES: (f64, f64) = (0.84, 0.98);
