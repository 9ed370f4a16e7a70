//! Reads temperature, throttle counters and health on a thread of its own: a drive that does not answer holds up its sensor, and
//! not the run.

use crate::ata::{AtaCommand, SmartData};
use crate::block::found::Found;
use crate::block::probe;
use crate::clock::Monotonic;
use crate::health::Health;
use crate::nvme::{self, HealthLog};
use crate::raw;
use crate::sysfs::{self, Roots};
use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, bounded, unbounded};
use mile_core::{Celsius, Nanos, Throttled};
use std::fs::File;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Time between two readings.
const EVERY: Duration = Duration::from_millis(500);
/// Time between two readings of SMART data: a drive ends what it has in its queue before it answers.
const EVERY_ATA: Duration = Duration::from_secs(20);
/// Periods after which a reading that was not renewed counts as missing.
const STALE: u64 = 20;

/// A reading.
#[derive(Clone, Copy, Debug, Default)]
pub struct Reading {
    /// Composite temperature.
    pub temp: Option<Celsius>,
    /// Time throttled since the drive was opened.
    pub throttled: Option<Throttled>,
    /// Bits of the critical warning.
    pub warning: Option<u8>,
}

/// Where readings come from.
pub enum Source {
    /// The NVMe health log.
    Nvme(File),
    /// The SMART data of an ATA drive.
    Ata(File),
    /// A file of the kernel's sensors.
    Kernel(PathBuf),
    /// Nothing.
    None,
}

/// Sensors that are being read.
pub struct Sensors {
    latest: Arc<Mutex<(Nanos, Reading)>>,
    clock: Monotonic,
    ask: Sender<()>,
    answers: Receiver<Health>,
    asked: bool,
    stale: Nanos,
}

impl Sensors {
    /// Begins to read them. `drive` is whose health may be asked for.
    pub fn start(mut source: Source, drive: Option<(Roots, Found)>) -> Self {
        let clock = Monotonic::start();
        let every = if matches!(source, Source::Ata(_)) { EVERY_ATA } else { EVERY };
        let stale = Nanos(every.as_nanos() as u64 * STALE);
        let mut first = None;
        // The first reading is there when the run begins.
        let latest = Arc::new(Mutex::new((Nanos(0), read(&mut source, &mut first))));
        let (ask, asked) = unbounded::<()>();
        let (answer, answers) = bounded(4);
        let shared = Arc::clone(&latest);
        // Where no thread can be had, the first reading grows old, and then counts as missing.
        let _ = std::thread::Builder::new().name("sensors".into()).spawn(move || {
            loop {
                match asked.recv_timeout(every) {
                    Ok(()) => {
                        if let Some((roots, found)) = &drive {
                            // Nobody may be waiting any more.
                            let _ = answer.try_send(probe::probe(roots, found).health);
                        }
                    }
                    Err(RecvTimeoutError::Timeout) => {}
                    Err(RecvTimeoutError::Disconnected) => return,
                }
                let reading = read(&mut source, &mut first);
                *shared.lock().unwrap_or_else(PoisonError::into_inner) = (clock.now(), reading);
            }
        });
        Self { latest, clock, ask, answers, asked: false, stale }
    }

    /// The latest reading; empty where the drive has not answered for long.
    pub fn reading(&self) -> Reading {
        let (at, reading) = *self.latest.lock().unwrap_or_else(PoisonError::into_inner);
        if self.clock.now().since(at) > self.stale { Reading::default() } else { reading }
    }

    /// Asks for the health.
    pub fn ask(&mut self) {
        if !self.asked {
            self.asked = self.ask.send(()).is_ok();
        }
    }

    /// The health that was asked for, once it is there.
    pub fn answer(&mut self) -> Option<Health> {
        let health = self.answers.try_recv().ok()?;
        self.asked = false;
        Some(health)
    }

    /// Asks for the health, and waits for it, not too long.
    pub fn wait(&mut self, patience: Duration) -> Option<Health> {
        self.ask();
        let health = self.answers.recv_timeout(patience).ok()?;
        self.asked = false;
        Some(health)
    }
}

fn read(source: &mut Source, first: &mut Option<Throttled>) -> Reading {
    match source {
        Source::None => Reading::default(),
        Source::Ata(file) => {
            let data = raw::ata(file, &AtaCommand::smart(0xd0, 0, true)).ok();
            let temp =
                data.and_then(|(page, _)| SmartData::decode(&page, None)).and_then(|s| s.temperature());
            Reading { temp, ..Reading::default() }
        }
        Source::Kernel(file) => Reading { temp: sysfs::temperature(file), ..Reading::default() },
        Source::Nvme(file) => {
            let page = raw::nvme_log(file, 0x02, nvme::LENGTH).ok();
            let Some(log) = page.and_then(|p| HealthLog::decode(&p).ok()) else { return Reading::default() };
            let now =
                Throttled { light_s: f64::from(log.light_seconds), heavy_s: f64::from(log.heavy_seconds) };
            let from = *first.get_or_insert(now);
            Reading {
                temp: log.composite,
                throttled: Some(Throttled {
                    light_s: (now.light_s - from.light_s).max(0.0),
                    heavy_s: (now.heavy_s - from.heavy_s).max(0.0),
                }),
                warning: Some(log.critical_warning),
            }
        }
    }
}
