//! Files that hold one number, such as the kernel shows below `/sys`: a temperature zone, a fan, or a counter whose rise per second counts.

use crate::InstrumentError;
use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use rustix::fs::{FileType, Mode, OFlags};
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

/// Bytes of a file that are read: a number is shorter.
const LONGEST: u64 = 4096;

/// What is made of the number in a file.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Scale {
    /// It is multiplied by this. Finite, and not 0.
    pub times: f64,
    /// Whether it is a counter, of which the rise per second is the reading.
    pub per_second: bool,
}

impl Default for Scale {
    fn default() -> Self {
        Self { times: 1.0, per_second: false }
    }
}

/// A file with a number.
#[derive(Debug)]
pub struct Value {
    path: PathBuf,
    scale: Scale,
    clock: Monotonic,
    /// When the counter was read last, and what it was.
    before: Option<(Nanos, f64)>,
}

impl Value {
    /// Of a file that can be read.
    ///
    /// # Errors
    /// Where it cannot, or is no regular file.
    pub fn new(path: &Path, scale: Scale) -> Result<Self, InstrumentError> {
        number(path)?;
        Ok(Self { path: path.to_owned(), scale, clock: Monotonic::start(), before: None })
    }

    /// Its reading now. Of a counter it is what it rose by since the last call; `None` at the first, and where it fell: it has begun anew then.
    ///
    /// # Errors
    /// Where the file cannot be read, or holds no number.
    pub fn read(&mut self) -> Result<Option<f64>, InstrumentError> {
        let now = (self.clock.now(), number(&self.path)?);
        if !self.scale.per_second {
            return Ok(Some(now.1 * self.scale.times));
        }
        let rise = self.before.replace(now).and_then(|before| rise(before, now));
        Ok(rise.map(|r| r * self.scale.times))
    }
}

/// What a counter rose by per second.
fn rise(before: (Nanos, f64), now: (Nanos, f64)) -> Option<f64> {
    let seconds = now.0.since(before.0).secs();
    (seconds > 0.0 && now.1 >= before.1).then(|| (now.1 - before.1) / seconds)
}

/// The number that a file begins with.
fn number(path: &Path) -> Result<f64, InstrumentError> {
    let what = || path.display().to_string();
    let io = |source: std::io::Error| InstrumentError::Io { what: what(), source };
    let is_file = |mode| FileType::from_raw_mode(mode) == FileType::RegularFile;
    let no_file = || InstrumentError::Config(format!("{} is no regular file", what()));
    // Opening a device may do something to it. What is there now is looked at before, and what was opened behind it.
    if !is_file(rustix::fs::stat(path).map_err(|e| io(e.into()))?.st_mode) {
        return Err(no_file());
    }
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC | OFlags::NOCTTY;
    let opened = rustix::fs::open(path, flags, Mode::empty()).map_err(|e| io(e.into()))?;
    if !is_file(rustix::fs::fstat(&opened).map_err(|e| io(e.into()))?.st_mode) {
        return Err(no_file());
    }
    let mut bytes = Vec::new();
    File::from(opened).take(LONGEST).read_to_end(&mut bytes).map_err(io)?;
    let text = String::from_utf8_lossy(&bytes);
    let value = text.split_whitespace().next().and_then(|w| w.parse::<f64>().ok()).filter(|v| v.is_finite());
    value.ok_or_else(|| InstrumentError::NoNumber {
        query: what(),
        answer: text.trim().chars().take(60).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_counter_gives_its_rise_per_second_and_nothing_where_it_began_anew() {
        let at = |ms: u64, count: f64| (Nanos(ms * 1_000_000), count);
        assert_eq!(rise(at(1000, 5e6), at(3000, 25e6)), Some(10e6));
        assert_eq!(rise(at(1000, 5e6), at(1500, 5e6)), Some(0.0));
        assert_eq!(rise(at(1000, 5e6), at(2000, 3.0)), None);
        assert_eq!(rise(at(1000, 5e6), at(1000, 6e6)), None, "no time has passed");
    }

    #[test]
    fn a_file_is_read_anew_each_time_and_what_is_no_number_or_no_file_is_said() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("temp");
        let write = |text: &str| std::fs::write(&path, text).unwrap();
        write("41500\n");
        let mut value = Value::new(&path, Scale { times: 1e-3, per_second: false }).unwrap();
        assert_eq!(value.read().unwrap(), Some(41.5));
        write("42000 millidegrees\n");
        assert_eq!(value.read().unwrap(), Some(42.0));
        for wrong in ["", "warm 3", "NaN", "inf"] {
            write(wrong);
            assert!(matches!(value.read(), Err(InstrumentError::NoNumber { .. })), "{wrong}");
        }
        // A file of the kernel's own.
        let uptime =
            Value::new(Path::new("/proc/uptime"), Scale::default()).unwrap().read().unwrap().unwrap();
        assert!(uptime > 0.0, "{uptime}");
        // No device, FIFO or folder is opened, and a FIFO is not waited for.
        let fifo = folder.path().join("fifo");
        rustix::fs::mknodat(rustix::fs::CWD, &fifo, FileType::Fifo, Mode::RUSR | Mode::WUSR, 0).unwrap();
        for path in [fifo.as_path(), folder.path(), Path::new("/dev/zero")] {
            let said = Value::new(path, Scale::default()).unwrap_err().to_string();
            assert!(said.contains("is no regular file"), "{said}");
        }
        let said = Value::new(&folder.path().join("gone"), Scale::default()).unwrap_err().to_string();
        assert!(said.contains("gone"), "{said}");
    }
}
