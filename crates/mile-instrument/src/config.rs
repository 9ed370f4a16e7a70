//! The file that names the instruments of a bench.

use crate::InstrumentError;
use crate::value::Scale;
use mile_core::Nanos;
use mile_core::channel::{Channel, Source};
use serde::Deserialize;
use std::path::{Path, PathBuf};

/// Shortest time between two readings of a channel.
const SHORTEST: Nanos = Nanos(10_000_000);
/// Time between two readings where the file names none, and the wait for an answer.
const INTERVAL: Nanos = Nanos(1_000_000_000);
const TIMEOUT: Nanos = Nanos(2_000_000_000);
/// Channels of a bench, at the most.
const MOST_CHANNELS: usize = 64;

/// The instruments of a bench.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Config {
    /// In the order of the file.
    pub instruments: Vec<InstrumentConfig>,
}

/// One of them.
#[derive(Clone, Debug, PartialEq)]
pub struct InstrumentConfig {
    /// Its name.
    pub name: String,
    /// How it is asked.
    pub kind: Kind,
    /// Time between two readings.
    pub interval: Nanos,
    /// Longest wait for an answer.
    pub timeout: Nanos,
    /// What it gives.
    pub channels: Vec<ChannelConfig>,
}

/// How an instrument is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Kind {
    /// SCPI over a TCP socket: host and port.
    Scpi(String, u16),
    /// A sensor of this host.
    Hwmon,
    /// Files that hold a number, one for each channel.
    Value,
    /// Lines of text from a file that grows, or a FIFO.
    File(PathBuf),
    /// Lines of text from a TCP port: host and port.
    Tcp(String, u16),
}

/// A channel of an instrument.
#[derive(Clone, Debug, PartialEq)]
pub struct ChannelConfig {
    /// Its name.
    pub name: String,
    /// Its unit; empty where it has none.
    pub unit: String,
    /// What asks for it: an SCPI query, the name of a sensor, or a file that holds its number. Empty for text.
    pub query: String,
    /// What is made of the number in a file.
    pub scale: Scale,
    /// The lane that it is of; of the whole run where there is none.
    pub lane: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    instrument: Vec<Raw>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    name: String,
    kind: String,
    host: Option<String>,
    port: Option<u16>,
    path: Option<PathBuf>,
    interval: Option<String>,
    timeout: Option<String>,
    channel: Vec<RawChannel>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawChannel {
    name: String,
    #[serde(default)]
    unit: String,
    query: Option<String>,
    sensor: Option<String>,
    file: Option<String>,
    times: Option<f64>,
    per_second: Option<bool>,
    lane: Option<String>,
}

impl Config {
    /// Reads the file.
    ///
    /// # Errors
    /// What is wrong with it, and where.
    pub fn read(path: &Path) -> Result<Self, InstrumentError> {
        let text = std::fs::read_to_string(path).map_err(|source| InstrumentError::Io {
            what: format!("the instruments {} cannot be read", path.display()),
            source,
        })?;
        Self::of(&text).map_err(|e| InstrumentError::Config(format!("{}: {e}", path.display())))
    }

    /// Of a text.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn of(text: &str) -> Result<Self, InstrumentError> {
        let wrong = |text: String| Err(InstrumentError::Config(text));
        let file: File = toml::from_str(text).map_err(|e| InstrumentError::Config(e.to_string()))?;
        let mut config = Self::default();
        let mut names: Vec<(String, Option<String>)> = Vec::new();
        for mut raw in file.instrument {
            let name = raw.name.clone();
            let need = |what: &str| InstrumentError::Config(format!("instrument `{name}` needs `{what}`"));
            let kind = match raw.kind.as_str() {
                "scpi" => {
                    Kind::Scpi(raw.host.take().ok_or_else(|| need("host"))?, raw.port.take().unwrap_or(5025))
                }
                "hwmon" => Kind::Hwmon,
                "value" => Kind::Value,
                "text" => match (raw.path.take(), raw.host.take(), raw.port.take()) {
                    (Some(path), None, None) => Kind::File(path),
                    (None, Some(host), Some(port)) => Kind::Tcp(host, port),
                    _ => {
                        return wrong(format!(
                            "instrument `{name}` needs either `path`, or `host` and `port`"
                        ));
                    }
                },
                other => {
                    return wrong(format!(
                        "instrument `{name}`: there is no kind `{other}`; there are scpi, hwmon, value and text"
                    ));
                }
            };
            // What a kind does not take would say something that does not happen.
            let unfit = |what: &str| {
                InstrumentError::Config(format!(
                    "instrument `{name}`: `{what}` does not belong to the kind {}",
                    raw.kind
                ))
            };
            let left =
                [("host", raw.host.is_some()), ("port", raw.port.is_some()), ("path", raw.path.is_some())];
            if let Some((what, _)) = left.into_iter().find(|(_, is)| *is) {
                return Err(unfit(what));
            }
            let time = |text: Option<String>, default: Nanos| text.map_or(Ok(default), |t| duration(&t));
            let interval = time(raw.interval, INTERVAL)?;
            if interval < SHORTEST {
                return wrong(format!("instrument `{name}`: it is read every {SHORTEST} at the most often"));
            }
            let mut channels = Vec::new();
            for mut c in raw.channel {
                let query = match &kind {
                    Kind::Scpi(..) => c
                        .query
                        .take()
                        .ok_or_else(|| need("query` for each channel, such as `MEAS:TEMP? (@101)"))?,
                    Kind::Hwmon => c
                        .sensor
                        .take()
                        .ok_or_else(|| need("sensor` for each channel, such as `k10temp/Tctl"))?,
                    Kind::Value => c.file.take().ok_or_else(|| {
                        need("file` for each channel, such as `/sys/class/thermal/thermal_zone0/temp")
                    })?,
                    Kind::File(_) | Kind::Tcp(..) => String::new(),
                };
                let mut scale = Scale::default();
                if kind == Kind::Value {
                    scale.times = c.times.take().unwrap_or(scale.times);
                    scale.per_second = c.per_second.take().unwrap_or(scale.per_second);
                }
                let left = [
                    ("query", c.query.is_some()),
                    ("sensor", c.sensor.is_some()),
                    ("file", c.file.is_some()),
                    ("times", c.times.is_some()),
                    ("per_second", c.per_second.is_some()),
                ];
                if let Some((what, _)) = left.into_iter().find(|(_, is)| *is) {
                    return Err(unfit(what));
                }
                if !scale.times.is_finite() || scale.times == 0.0 {
                    return wrong(format!(
                        "instrument `{name}`: `times` is {}, and has to be a number other than 0",
                        scale.times
                    ));
                }
                if c.name.trim().is_empty() || c.name.contains(['/', ',', '"', '\n']) {
                    return wrong(format!(
                        "instrument `{name}`: `{}` cannot be the name of a channel",
                        c.name
                    ));
                }
                let key = (c.name.clone(), c.lane.clone());
                if names.contains(&key) {
                    return wrong(format!("there are two channels `{}`", c.name));
                }
                names.push(key);
                channels.push(ChannelConfig { name: c.name, unit: c.unit, query, scale, lane: c.lane });
            }
            let several = matches!(kind, Kind::File(_) | Kind::Tcp(..)) && channels.len() != 1;
            if channels.is_empty() || several {
                return wrong(format!(
                    "instrument `{name}`: a text source has one channel, others at least one"
                ));
            }
            if config.instruments.iter().any(|i| i.name == name) {
                return wrong(format!("there are two instruments `{name}`"));
            }
            config.instruments.push(InstrumentConfig {
                name,
                kind,
                interval,
                timeout: time(raw.timeout, TIMEOUT)?,
                channels,
            });
        }
        if names.len() > MOST_CHANNELS {
            return wrong(format!("{} channels, at most {MOST_CHANNELS} can be read", names.len()));
        }
        Ok(config)
    }

    /// The channels as a run lists them; `lanes` are the names of its lanes.
    ///
    /// # Errors
    /// Where one is of a lane that the run does not have.
    pub fn channels(&self, lanes: &[&str]) -> Result<Vec<Channel>, InstrumentError> {
        let mut all = Vec::new();
        for instrument in &self.instruments {
            for c in &instrument.channels {
                let of = match &c.lane {
                    None => None,
                    Some(lane) => match lanes.iter().position(|l| l == lane) {
                        Some(i) => Some(i as u32),
                        None => {
                            return Err(InstrumentError::Config(format!(
                                "the channel `{}` is of a lane `{lane}`, which the course does not have",
                                c.name
                            )));
                        }
                    },
                };
                let source = Source::Instrument(instrument.name.clone());
                all.push(Channel {
                    name: c.name.clone(),
                    unit: c.unit.clone(),
                    of,
                    source,
                    ..Channel::default()
                });
            }
        }
        Ok(all)
    }
}

/// `500 ms`, `2 s`, `1 min`.
fn duration(text: &str) -> Result<Nanos, InstrumentError> {
    let number: String = text.chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
    let seconds = match text[number.len()..].trim() {
        "ms" => 1e-3,
        "s" => 1.0,
        "min" => 60.0,
        _ => 0.0,
    };
    match number.parse::<f64>() {
        Ok(value) if seconds > 0.0 && value > 0.0 && value * seconds <= 3600.0 => {
            Ok(Nanos::from_secs(value * seconds))
        }
        _ => Err(InstrumentError::Config(format!("`{text}` is no time such as `500 ms`, up to an hour"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bench_is_read_and_what_is_wrong_is_said() {
        let good = "[[instrument]]\nname = \"logger\"\nkind = \"scpi\"\nhost = \"127.0.0.1\"\ninterval = \"100 ms\"\n\
            [[instrument.channel]]\nname = \"probe\"\nunit = \"°C\"\nquery = \"MEAS:TEMP? (@101)\"\nlane = \"upper\"\n\
            [[instrument]]\nname = \"room\"\nkind = \"text\"\npath = \"/run/room\"\n[[instrument.channel]]\nname = \"ambient\"\nunit = \"°C\"\n";
        let config = Config::of(good).unwrap();
        assert_eq!(config.instruments[0].kind, Kind::Scpi("127.0.0.1".into(), 5025));
        assert_eq!(config.instruments[0].interval, Nanos(100_000_000));
        let channels = config.channels(&["lower", "upper"]).unwrap();
        assert_eq!((channels[0].of, channels[1].of), (Some(1), None));
        assert!(config.channels(&["a"]).unwrap_err().to_string().contains("`upper`"));
        for (from, to, words) in [
            ("\"scpi\"", "\"gpib\"", "no kind `gpib`"),
            ("host = \"127.0.0.1\"\n", "", "needs `host`"),
            ("\"100 ms\"", "\"1 ms\"", "at the most often"),
            ("\"100 ms\"", "\"soon\"", "is no time"),
            ("query = \"MEAS:TEMP? (@101)\"\n", "", "needs `query`"),
            ("path = \"/run/room\"\n", "", "either `path`"),
            ("\"room\"", "\"logger\"", "two instruments"),
            ("name = \"ambient\"", "name = \"a,b\"", "cannot be the name"),
            ("query = \"MEAS", "times = 2.0\nquery = \"MEAS", "`times` does not belong to the kind scpi"),
            ("query = \"MEAS", "file = \"/x\"\nquery = \"MEAS", "`file` does not belong to the kind scpi"),
            ("host = \"127", "path = \"/x\"\nhost = \"127", "`path` does not belong to the kind scpi"),
            (
                "name = \"ambient\"",
                "name = \"ambient\"\nsensor = \"a/b\"",
                "`sensor` does not belong to the kind text",
            ),
            ("name = \"ambient\"", "name = \"ambient\"\nper_second = true", "`per_second` does not belong"),
            ("kind = \"text\"\npath = \"/run/room\"", "kind = \"value\"", "needs `file`"),
            ("kind = \"text\"", "colour = 1\nkind = \"text\"", "unknown field"),
        ] {
            let said = Config::of(&good.replacen(from, to, 1)).unwrap_err().to_string();
            assert!(said.contains(words), "{from}: {said}");
        }
    }
}
