//! A stand-in for a bench instrument: it speaks SCPI over a TCP socket, and measures a simulated drive that works and rests in turn, in real time.
//!
//! Queries: `*IDN?`, `*OPC?`, `SYSTem:ERRor?`; `MEASure:TEMPerature? (@101)` is the thermocouple, `(@102)` the air; `MEASure:POWer?` the supply;
//! `DIAGnostic:CLOCk?` the seconds of its own clock. It has faults on request.

use mile_core::{Bytes, Nanos, Op, Workload};
use mile_drive::clock::Monotonic;
use mile_drive::{Drive, DriveError, Tally, Transfer};
use mile_sim::SimDrive;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

/// Time for which the drive works, and then rests.
const TURN: Nanos = Nanos(60_000_000_000);
/// Step in which the simulation follows the clock on the wall.
const STEP: Duration = Duration::from_millis(20);
/// Who may be connected at a time.
const MOST_CLIENTS: usize = 16;

/// What the stand-in does wrong.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Fault {
    /// Nothing.
    #[default]
    None,
    /// It no longer answers.
    Silent,
    /// It answers with what is no number.
    Garbage,
    /// It closes connections when it is asked.
    Close,
}

#[derive(Clone, Copy, Debug, Default)]
struct Shown {
    probe: f64,
    ambient: f64,
    power: f64,
}

struct Shared {
    shown: Mutex<Shown>,
    fault: Mutex<Fault>,
    stop: AtomicBool,
    clock: Monotonic,
}

/// A stand-in that listens, until it is dropped.
pub struct StandIn {
    address: SocketAddr,
    shared: Arc<Shared>,
    threads: Vec<JoinHandle<()>>,
}

impl StandIn {
    /// Listens on a port of this host (0 for any that is free) and measures a simulated drive, `sim:merrow-k2` for one.
    ///
    /// # Errors
    /// Where the port is taken, or there is no such drive.
    pub fn start(port: u16, drive: &str) -> Result<Self, DriveError> {
        let mut drive = SimDrive::new(drive, 1)?;
        drive.put_instruments();
        drive.open()?;
        let io = |source| DriveError::Io { path: format!("port {port}").into(), doing: "listen on", source };
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).map_err(io)?;
        let address = listener.local_addr().map_err(io)?;
        listener.set_nonblocking(true).map_err(io)?;
        let shared = Arc::new(Shared {
            shown: Mutex::new(Shown::default()),
            fault: Mutex::new(Fault::None),
            stop: AtomicBool::new(false),
            clock: Monotonic::start(),
        });
        // Nobody can ask before there is a mean power to show.
        std::thread::sleep(STEP);
        drive.idle(shared.clock.now());
        shared.measure(&mut drive);
        let spawn = |name: &str, work: Box<dyn FnOnce() + Send>| {
            std::thread::Builder::new().name(name.into()).spawn(work).map_err(io)
        };
        let (own, other) = (Arc::clone(&shared), Arc::clone(&shared));
        let threads = vec![
            spawn("simulated bench", Box::new(move || own.simulate(drive)))?,
            spawn("stand-in", Box::new(move || listen(&listener, &other)))?,
        ];
        Ok(Self { address, shared, threads })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Has it do something wrong from now on, or no longer.
    pub fn set_fault(&self, fault: Fault) {
        *lock(&self.shared.fault) = fault;
    }

    /// Its own clock, seconds.
    pub fn clock(&self) -> f64 {
        self.shared.clock.now().secs()
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::Relaxed);
        self.threads.drain(..).for_each(|t| drop(t.join()));
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Shared {
    fn measure(&self, drive: &mut SimDrive) {
        let ambient = drive.readings().ambient.map_or(0.0, |t| t.0);
        if let [Some(probe), power] = drive.channel_readings().as_slice() {
            let before = lock(&self.shown).power;
            *lock(&self.shown) = Shown { probe: *probe, ambient, power: power.unwrap_or(before) };
        }
    }

    /// Lets the drive follow the clock on the wall.
    fn simulate(&self, mut drive: SimDrive) {
        let capacity = drive.facts().capacity.0;
        let transfer = Transfer {
            load: Workload { op: Op::Write, depth: 16, ..Workload::default() },
            length: Bytes((capacity / 2) >> 20 << 20),
            budget: Bytes(u64::MAX >> 20 << 20),
            ..Transfer::default()
        };
        let (mut tally, mut works) = (Tally::default(), false);
        while !self.stop.load(Ordering::Relaxed) {
            std::thread::sleep(STEP);
            let now = self.clock.now();
            let should = (now.0 / TURN.0).is_multiple_of(2);
            if should != works && should && drive.begin(&transfer).is_err() {
                return;
            }
            works = should;
            if works {
                // It comes round its range as often as it takes.
                if !matches!(drive.advance(now, &mut tally), Ok(false)) {
                    works = false;
                }
                tally.clear();
            } else {
                drive.idle(now);
            }
            self.measure(&mut drive);
        }
    }

    /// The answer to a line; `None` where there is none to give.
    fn answer(&self, line: &str) -> Option<String> {
        let fault = *lock(&self.fault);
        let shown = *lock(&self.shown);
        let query = line.trim().to_ascii_uppercase();
        let value =
            |v: f64| Some(if fault == Fault::Garbage { "#!?".to_owned() } else { format!("{v:+.6E}") });
        let (head, argument) = query.split_once(' ').unwrap_or((&query, ""));
        match head {
            "*IDN?" => Some("Lantern Shoal,Bench stand-in,0,1.0".into()),
            "*OPC?" => Some("1".into()),
            "SYST:ERR?" | "SYSTEM:ERROR?" | "SYST:ERR:NEXT?" => Some("+0,\"No error\"".into()),
            "MEAS:TEMP?" | "MEASURE:TEMPERATURE?" => match argument.trim() {
                "(@101)" | "" => value(shown.probe),
                "(@102)" => value(shown.ambient),
                // SCPI-1999 has this for what is not a number.
                _ => value(9.91e37),
            },
            "MEAS:POW?" | "MEASURE:POWER?" => value(shown.power),
            "DIAG:CLOC?" | "DIAGNOSTIC:CLOCK?" => value(self.clock.now().secs()),
            _ => None,
        }
    }
}

fn listen(listener: &TcpListener, shared: &Arc<Shared>) {
    let mut clients: Vec<JoinHandle<()>> = Vec::new();
    while !shared.stop.load(Ordering::Relaxed) {
        clients.retain(|c| !c.is_finished());
        match listener.accept() {
            Ok((stream, _)) if clients.len() < MOST_CLIENTS => {
                let shared = Arc::clone(shared);
                let serve = move || {
                    let _ = serve(&stream, &shared);
                };
                clients.extend(std::thread::Builder::new().name("stand-in".into()).spawn(serve));
            }
            Ok(_) => {}
            Err(_) => std::thread::sleep(STEP),
        }
    }
    clients.into_iter().for_each(|c| drop(c.join()));
}

fn serve(stream: &TcpStream, shared: &Shared) -> std::io::Result<()> {
    stream.set_nonblocking(false)?;
    stream.set_nodelay(true)?;
    stream.set_read_timeout(Some(Duration::from_millis(100)))?;
    let mut reader = BufReader::new(stream.try_clone()?);
    let mut out = stream;
    let mut line = Vec::new();
    while !shared.stop.load(Ordering::Relaxed) {
        match reader.by_ref().take(4096).read_until(b'\n', &mut line) {
            Ok(0) => return Ok(()),
            Ok(_) if line.ends_with(b"\n") => {}
            Ok(_) => return Ok(()),
            Err(e) if matches!(e.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut) => {
                continue;
            }
            Err(e) => return Err(e),
        }
        let fault = *lock(&shared.fault);
        let text = String::from_utf8_lossy(&line).into_owned();
        line.clear();
        match fault {
            Fault::Close => return Ok(()),
            Fault::Silent => continue,
            Fault::None | Fault::Garbage => {}
        }
        if let Some(answer) = shared.answer(&text) {
            out.write_all(format!("{answer}\n").as_bytes())?;
        }
    }
    Ok(())
}
