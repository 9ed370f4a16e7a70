//! SCPI over a TCP socket: IEEE 488.2 common commands, and the queries of SCPI-1999.

use crate::InstrumentError;
use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::time::Duration;

/// Longest answer, bytes.
const LONGEST: u64 = 4096;
/// What SCPI-1999 (volume 1, section 7.2.1.5) has for a value that is not a number.
const NOT_A_NUMBER: f64 = 9.91e37;

/// An instrument that answers.
pub struct Scpi {
    stream: BufReader<TcpStream>,
    timeout: Nanos,
}

impl Scpi {
    /// Connects, and asks who it is.
    ///
    /// # Errors
    /// Where nobody answers.
    pub fn connect(host: &str, port: u16, timeout: Nanos) -> Result<(Self, String), InstrumentError> {
        let io = |what: String| move |source| InstrumentError::Io { what, source };
        let name = format!("{host} port {port}");
        let limit = Duration::from_nanos(timeout.0);
        let addresses = (host, port).to_socket_addrs().map_err(io(format!("{name} cannot be found")))?;
        let mut last = InstrumentError::Gone(format!("{name} has no address"));
        for address in addresses {
            match TcpStream::connect_timeout(&address, limit) {
                Ok(stream) => {
                    let set = stream
                        .set_read_timeout(Some(limit))
                        .and_then(|()| stream.set_write_timeout(Some(limit)))
                        .and_then(|()| stream.set_nodelay(true));
                    set.map_err(io(name.clone()))?;
                    let mut own = Self { stream: BufReader::new(stream), timeout };
                    let identity = own.ask("*IDN?")?;
                    return Ok((own, identity));
                }
                Err(source) => last = InstrumentError::Io { what: format!("{name} does not answer"), source },
            }
        }
        Err(last)
    }

    /// Asks, and gives the answer.
    ///
    /// # Errors
    /// Where none comes in time, or one that does not end.
    pub fn ask(&mut self, query: &str) -> Result<String, InstrumentError> {
        let io = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut => {
                InstrumentError::Silent { query: query.to_owned(), limit: self.timeout }
            }
            _ => InstrumentError::Io { what: format!("{query} could not be asked"), source },
        };
        self.stream.get_mut().write_all(format!("{query}\n").as_bytes()).map_err(io)?;
        let mut line = Vec::new();
        let read = self.stream.by_ref().take(LONGEST).read_until(b'\n', &mut line).map_err(io)?;
        if read == 0 {
            return Err(InstrumentError::Gone("it has closed the connection".into()));
        }
        if line.last() != Some(&b'\n') {
            return Err(InstrumentError::Gone("its answer has no end".into()));
        }
        Ok(String::from_utf8_lossy(&line).trim().to_owned())
    }

    /// Asks for a value. Gives it with a clock that was started in the middle between question and answer; `None` where the instrument
    /// says that it has none now.
    ///
    /// # Errors
    /// Where no number comes.
    pub fn measure(&mut self, query: &str) -> Result<Option<(Monotonic, f64)>, InstrumentError> {
        let asked = Monotonic::start();
        let answer = self.ask(query)?;
        let taken = Monotonic::start_at(Nanos(asked.now().0 / 2));
        match number(&answer) {
            Some(value) if (value - NOT_A_NUMBER).abs() < 1e30 => Ok(None),
            Some(value) => Ok(Some((taken, value))),
            None => Err(InstrumentError::NoNumber {
                query: query.to_owned(),
                answer: answer.chars().take(60).collect(),
            }),
        }
    }
}

/// The first number of an answer: `+2.341E+01`, `23.4 C`, `1,2,3`.
pub(crate) fn number(answer: &str) -> Option<f64> {
    let first = answer.split([',', ';']).next()?.trim();
    let end = first.find(|c: char| !(c.is_ascii_digit() || "+-.eE".contains(c))).unwrap_or(first.len());
    // `23.4 C` has its unit behind; a lone `E` of a unit is no exponent.
    let (value, rest) = first.split_at(end);
    let unit = rest.trim();
    let value = value.parse::<f64>().ok().filter(|v| v.is_finite())?;
    unit.chars().all(|c| c.is_alphabetic() || "°%/".contains(c)).then_some(value)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_as_the_standard_writes_them_and_nothing_else() {
        for (text, value) in [
            ("+2.341000E+01", Some(23.41)),
            ("23", Some(23.0)),
            ("-0.5", Some(-0.5)),
            ("1.5,2.5,3.5", Some(1.5)),
            ("23.4 C", Some(23.4)),
            ("47 %", Some(47.0)),
            ("9.91E37", Some(9.91e37)),
            ("", None),
            ("ON", None),
            ("12:30", None),
            ("1e999", None),
            ("--3", None),
        ] {
            assert_eq!(number(text), value, "{text}");
        }
    }
}
