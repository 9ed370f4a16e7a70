//! Asks the instruments of a bench again and again, each on a thread of its own.

use crate::config::{InstrumentConfig, Kind};
use crate::hwmon::{self, Sensor};
use crate::scpi::Scpi;
use crate::text::Lines;
use crate::value::Value;
use crate::{Config, InstrumentError};
use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use mile_runner::EventKind;
use mile_runner::board::{Board, Told};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;

/// Longest time without looking whether to stop.
const LOOK: Nanos = Nanos(50_000_000);
/// Time between two tries to reach an instrument that is lost.
const AGAIN: Nanos = Nanos(1_000_000_000);

/// Instruments that are being asked, until this is dropped.
pub struct Polling {
    stop: Arc<AtomicBool>,
    threads: Vec<JoinHandle<()>>,
}

impl Polling {
    /// Begins. The channels of the instruments are those of the run from `first` on, in the order of the file.
    ///
    /// # Errors
    /// Where the system has no thread.
    pub fn start(config: &Config, first: u32, board: &Arc<Board>) -> std::io::Result<Self> {
        let stop = Arc::new(AtomicBool::new(false));
        let mut polling = Self { stop: Arc::clone(&stop), threads: Vec::new() };
        let mut channel = first;
        for instrument in &config.instruments {
            let (own, board, stop, from) =
                (instrument.clone(), Arc::clone(board), Arc::clone(&stop), channel);
            channel += own.channels.len() as u32;
            let work = move || watch(&own, from, &board, &stop);
            polling.threads.push(std::thread::Builder::new().name("instrument".into()).spawn(work)?);
        }
        Ok(polling)
    }
}

impl Drop for Polling {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        self.threads.drain(..).for_each(|t| drop(t.join()));
    }
}

/// An instrument that can be asked.
pub enum Open {
    /// SCPI over a socket.
    Scpi(Box<Scpi>),
    /// Sensors, one for each channel.
    Hwmon(Vec<Sensor>),
    /// Files with a number, one for each channel.
    Value(Vec<Value>),
    /// Lines of text.
    Text(Box<Lines>),
}

/// Opens an instrument, and gives what it says of itself.
///
/// # Errors
/// Where it cannot be reached.
pub fn open(instrument: &InstrumentConfig) -> Result<(Open, String), InstrumentError> {
    match &instrument.kind {
        Kind::Scpi(host, port) => {
            let (scpi, identity) = Scpi::connect(host, *port, instrument.timeout)?;
            Ok((Open::Scpi(Box::new(scpi)), identity))
        }
        Kind::Hwmon => {
            let found = instrument.channels.iter().map(|c| hwmon::find(Path::new("/sys"), &c.query));
            Ok((Open::Hwmon(found.collect::<Result<_, _>>()?), "sensors of this host".into()))
        }
        Kind::Value => {
            let files = instrument.channels.iter().map(|c| Value::new(Path::new(&c.query), c.scale));
            Ok((Open::Value(files.collect::<Result<_, _>>()?), "files that hold a number".into()))
        }
        Kind::File(path) => {
            Ok((Open::Text(Box::new(Lines::file(path)?)), format!("lines of {}", path.display())))
        }
        Kind::Tcp(host, port) => {
            let lines = Lines::tcp(host, *port, instrument.timeout)?;
            Ok((Open::Text(Box::new(lines)), format!("lines from {host} port {port}")))
        }
    }
}

impl Open {
    /// Reads all channels once; gives each reading with the place of its channel.
    ///
    /// # Errors
    /// Where one cannot be read.
    pub fn read(
        &mut self,
        instrument: &InstrumentConfig,
    ) -> Result<Vec<(usize, Monotonic, f64)>, InstrumentError> {
        let mut all = Vec::new();
        match self {
            Self::Scpi(scpi) => {
                for (i, channel) in instrument.channels.iter().enumerate() {
                    // One that says that it has no value now has none.
                    all.extend(scpi.measure(&channel.query)?.map(|(taken, value)| (i, taken, value)));
                }
            }
            Self::Hwmon(sensors) => {
                for (i, sensor) in sensors.iter().enumerate() {
                    all.push((i, Monotonic::start(), sensor.read()?));
                }
            }
            Self::Value(files) => {
                for (i, file) in files.iter_mut().enumerate() {
                    let taken = Monotonic::start();
                    all.extend(file.read()?.map(|value| (i, taken, value)));
                }
            }
            Self::Text(lines) => {
                all.extend(lines.take()?.into_iter().map(|(taken, value)| (0, taken, value)))
            }
        }
        Ok(all)
    }
}

fn watch(instrument: &InstrumentConfig, first: u32, board: &Board, stop: &AtomicBool) {
    let clock = Monotonic::start();
    let mut source: Option<Open> = None;
    let mut lost: Option<Nanos> = None;
    let mut due = Nanos(0);
    while !stop.load(Ordering::Relaxed) {
        if clock.now() < due {
            clock.sleep_until(due.min(clock.now().plus(LOOK)));
            continue;
        }
        let read = match &mut source {
            Some(open) => open.read(instrument),
            None => open(instrument).and_then(|(opened, _)| source.insert(opened).read(instrument)),
        };
        let tell = |kind: EventKind| board.put(Monotonic::start(), Told::Event(kind));
        match read {
            Ok(all) => {
                if let Some(since) = lost.take() {
                    tell(EventKind::InstrumentBack {
                        name: instrument.name.clone(),
                        after: clock.now().since(since),
                    });
                }
                for (i, taken, value) in all {
                    board.put(taken, Told::Reading(first + i as u32, value));
                }
                // Readings are at even distances, and none is made up for where one took longer.
                due = due.plus(instrument.interval).max(clock.now().since(instrument.interval));
            }
            Err(e) => {
                source = None;
                if lost.is_none() {
                    lost = Some(clock.now());
                    tell(EventKind::InstrumentLost { name: instrument.name.clone(), why: e.to_string() });
                }
                due = clock.now().plus(AGAIN.max(instrument.interval));
            }
        }
    }
}
