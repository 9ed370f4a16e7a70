//! Lines of text with readings: `value`, or `time,value` with the source's own seconds. From a file that grows, a FIFO, or a TCP port.

use crate::InstrumentError;
use crate::scpi::number;
use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use rustix::fs::{FileType, Mode, OFlags};
use std::fs::File;
use std::io::{ErrorKind, Read, Seek, SeekFrom};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Longest line, bytes.
const LONGEST: usize = 4096;
/// Bytes that are read at a time.
const CHUNK: usize = 1 << 16;

enum From {
    /// A regular file, of which what is added is read.
    Growing(File, PathBuf),
    Fifo(File),
    Tcp(TcpStream),
}

/// A source that is open.
pub struct Lines {
    from: From,
    rest: Vec<u8>,
    /// When the first line with a time came, and that time, seconds.
    origin: Option<(Monotonic, f64)>,
}

impl Lines {
    /// Opens a file or a FIFO. Of a file, what is in it already is passed over.
    ///
    /// # Errors
    /// Where it cannot be opened, or is neither.
    pub fn file(path: &Path) -> Result<Self, InstrumentError> {
        let io = |source: std::io::Error| InstrumentError::Io { what: path.display().to_string(), source };
        // A FIFO that nobody writes to would be waited for.
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC | OFlags::NOCTTY;
        let opened = rustix::fs::open(path, flags, Mode::empty()).map_err(|e| io(e.into()))?;
        let kind = rustix::fs::fstat(&opened).map_err(|e| io(e.into()))?.st_mode;
        let mut file = File::from(opened);
        let from = match FileType::from_raw_mode(kind) {
            FileType::RegularFile => {
                file.seek(SeekFrom::End(0)).map_err(io)?;
                From::Growing(file, path.to_owned())
            }
            FileType::Fifo => From::Fifo(file),
            _ => {
                return Err(InstrumentError::Config(format!(
                    "{} is neither a file nor a FIFO",
                    path.display()
                )));
            }
        };
        Ok(Self { from, rest: Vec::new(), origin: None })
    }

    /// Connects to a TCP port.
    ///
    /// # Errors
    /// Where nobody listens.
    pub fn tcp(host: &str, port: u16, timeout: Nanos) -> Result<Self, InstrumentError> {
        use std::net::ToSocketAddrs;
        let what = format!("{host} port {port}");
        let io = |source| InstrumentError::Io { what: what.clone(), source };
        let address = (host, port).to_socket_addrs().map_err(io)?.next();
        let address = address.ok_or_else(|| InstrumentError::Gone(format!("{what} has no address")))?;
        let stream = TcpStream::connect_timeout(&address, Duration::from_nanos(timeout.0)).map_err(io)?;
        stream.set_nonblocking(true).map_err(io)?;
        Ok(Self { from: From::Tcp(stream), rest: Vec::new(), origin: None })
    }

    /// The readings that have come since, each with a clock that was started when it was taken.
    ///
    /// # Errors
    /// Where the source is gone, or a line has no reading.
    pub fn take(&mut self) -> Result<Vec<(Monotonic, f64)>, InstrumentError> {
        let mut chunk = vec![0; CHUNK];
        let mut all = Vec::new();
        loop {
            let read = match &mut self.from {
                From::Growing(file, path) => {
                    // One that was cut off begins anew.
                    let end = file.metadata().map_or(0, |m| m.len());
                    if file.stream_position().is_ok_and(|at| at > end) {
                        let _ = file.seek(SeekFrom::Start(0));
                    }
                    file.read(&mut chunk)
                        .map_err(|source| InstrumentError::Io { what: path.display().to_string(), source })
                }
                From::Fifo(file) => nothing_yet(file.read(&mut chunk)),
                From::Tcp(stream) => match stream.read(&mut chunk) {
                    Ok(0) => return Err(InstrumentError::Gone("it has closed the connection".into())),
                    other => nothing_yet(other),
                },
            }?;
            if read == 0 {
                return Ok(all);
            }
            self.rest.extend(&chunk[..read]);
            while let Some(end) = self.rest.iter().position(|b| *b == b'\n') {
                let line: Vec<u8> = self.rest.drain(..=end).collect();
                let line = String::from_utf8_lossy(&line);
                if !line.trim().is_empty() {
                    all.push(self.reading(line.trim())?);
                }
            }
            if self.rest.len() > LONGEST {
                self.rest.clear();
                return Err(InstrumentError::Gone("its line has no end".into()));
            }
        }
    }

    fn reading(&mut self, line: &str) -> Result<(Monotonic, f64), InstrumentError> {
        let none = || InstrumentError::NoNumber {
            query: "its line".into(),
            answer: line.chars().take(60).collect(),
        };
        let now = Monotonic::start();
        let Some((time, value)) = line.split_once([',', ';', '\t']) else {
            return Ok((now, number(line).ok_or_else(none)?));
        };
        let (time, value) = (number(time).ok_or_else(none)?, number(value).ok_or_else(none)?);
        let (origin, first) = *self.origin.get_or_insert((now, time));
        // Where its clock runs ahead of ours, what came is of now.
        let age = origin.now().secs() - (time - first);
        Ok((Monotonic::start_at(Nanos::from_secs(age.clamp(0.0, 3600.0))), value))
    }
}

fn nothing_yet(read: std::io::Result<usize>) -> Result<usize, InstrumentError> {
    match read {
        Err(e) if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted) => Ok(0),
        other => other.map_err(|source| InstrumentError::Io { what: "it cannot be read".into(), source }),
    }
}
