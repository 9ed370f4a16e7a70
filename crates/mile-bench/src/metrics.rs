//! The figures of a run underway for a monitoring system: OpenMetrics text over HTTP, version 1.0.0 of the OpenMetrics specification.
//!
//! What is served is what the run has told so far. It is kept in memory by whoever tells it, so that a question never waits for a drive, and the run never
//! waits for a question.

use mile_core::Nanos;
use mile_core::channel::Channel;
use mile_drive::clock::Monotonic;
use mile_runner::{EventKind, LaneHead, Message, RunHead, Status};
use std::fmt::Write as _;
use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream, ToSocketAddrs};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Longest request that is read, bytes, and how long one may take.
const LONGEST: usize = 8 << 10;
const PATIENCE: Duration = Duration::from_secs(2);
/// What the text is called in HTTP.
const KIND: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// What a lane has told so far.
#[derive(Clone, Debug, Default)]
struct LaneFigures {
    written: u64,
    read: u64,
    operations: u64,
    failed: u64,
    breaks: u64,
    rate: Option<f64>,
    latency: Option<[f64; 3]>,
    temperature: Option<f64>,
    throttled: Option<[f64; 2]>,
    foreign: Option<f64>,
    fill: Option<f64>,
    at: Nanos,
    leg: Option<u32>,
    ended: Option<Status>,
}

#[derive(Debug, Default)]
struct Figures {
    run: i64,
    head: RunHead,
    lanes: Vec<LaneFigures>,
    /// The newest value of each channel.
    channels: Vec<Option<f64>>,
    /// Samples that wait for the archive of a lab, where the run goes there.
    waiting: Option<u64>,
}

/// The figures of a run, shared between whoever tells them and whoever is asked.
#[derive(Clone, Debug, Default)]
pub struct Metrics(Arc<Mutex<Figures>>);

/// An address as it is typed: a port of this host alone, or a host and a port.
///
/// # Errors
/// Where it is neither, or the host is not known.
pub fn address(text: &str) -> Result<SocketAddr, String> {
    let named = if text.parse::<u16>().is_ok() { format!("127.0.0.1:{text}") } else { text.to_owned() };
    let found = named.to_socket_addrs().ok().and_then(|mut all| all.next());
    found.ok_or_else(|| format!("`{text}` is no address for metrics; say a port, such as 9464, or a host and a port, such as 0.0.0.0:9464"))
}

/// A socket that listens for questions.
///
/// # Errors
/// Where it is no address, or the address cannot be had.
pub fn listen(text: &str) -> Result<TcpListener, String> {
    let address = address(text)?;
    TcpListener::bind(address).map_err(|e| format!("metrics cannot be served at {address}: {e}"))
}

impl Metrics {
    /// The figures of a run that begins.
    pub fn new(run: i64, head: &RunHead) -> Self {
        let lanes = vec![LaneFigures::default(); head.lanes.len()];
        let channels = vec![None; head.channels.len()];
        Self(Arc::new(Mutex::new(Figures { run, head: head.clone(), lanes, channels, waiting: None })))
    }

    /// Takes in what a lane told.
    pub fn take(&self, lane: u32, message: &Message) {
        let mut figures = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Message::Reading(channel, reading) = message {
            if let Some(last) = figures.channels.get_mut(*channel as usize) {
                *last = Some(reading.value);
            }
            return;
        }
        let Some(of) = figures.lanes.get_mut(lane as usize) else { return };
        match message {
            Message::Sample(s) => {
                of.written += s.written.0;
                of.read += s.read.0;
                of.operations += s.ops;
                of.failed += u64::from(s.errors);
                of.rate = s.rate().map(|r| (r.mb_s() * 1e6).round());
                of.latency = s.latency.map(|l| [l.p50, l.p99, l.max].map(Nanos::secs));
                of.temperature = s.temp.map(|t| t.0).or(of.temperature);
                of.throttled = s.throttled.map(|t| [t.light_s, t.heavy_s]).or(of.throttled);
                of.foreign = s.foreign.map(|r| (r.mb_s() * 1e6).round());
                of.fill = s.fill.map(f64::from).or(of.fill);
                (of.at, of.leg) = (s.end, Some(s.leg));
            }
            Message::Event(e) => match &e.kind {
                EventKind::BreakSeen(_) => of.breaks += 1,
                EventKind::BreakJoined(..) | EventKind::BreakWithdrawn(_) => {
                    of.breaks = of.breaks.saturating_sub(1)
                }
                EventKind::LegBegan { leg, .. } => of.leg = Some(*leg),
                _ => {}
            },
            Message::Ended(outcome) => of.ended = Some(outcome.status),
            _ => {}
        }
    }

    /// Takes in how many samples wait to be brought to the archive of a lab.
    pub fn waits(&self, samples: u64) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).waiting = Some(samples);
    }

    /// The figures as OpenMetrics text.
    pub fn text(&self) -> String {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).text()
    }

    /// Answers questions at a socket until the process ends.
    ///
    /// # Errors
    /// Where no thread can be made.
    pub fn serve(&self, listener: TcpListener) -> io::Result<()> {
        let metrics = self.clone();
        std::thread::Builder::new().name("metrics".into()).spawn(move || {
            // One at a time, each for a short time: whoever asks cannot take more than this thread.
            for stream in listener.incoming().flatten() {
                let _ = metrics.answer(&stream);
            }
        })?;
        Ok(())
    }

    fn answer(&self, stream: &TcpStream) -> io::Result<()> {
        stream.set_write_timeout(Some(PATIENCE))?;
        let head = asked(stream)?;
        let first = head.lines().next().unwrap_or_default();
        let (status, kind, body) = match first.split(' ').collect::<Vec<_>>().as_slice() {
            ["GET", "/metrics" | "/", ..] => ("200 OK", KIND, self.text()),
            ["GET", ..] => ("404 Not Found", "text/plain", "The figures are at /metrics.\n".into()),
            _ => ("405 Method Not Allowed", "text/plain", "Only GET is answered.\n".into()),
        };
        let mut out = stream;
        write!(
            out,
            "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
            body.len()
        )?;
        out.flush()
    }
}

/// The head of a question, up to its empty line. All of it has the time of one question, however slowly it comes.
fn asked(mut stream: &TcpStream) -> io::Result<String> {
    let clock = Monotonic::start();
    let mut head = Vec::new();
    let mut part = [0; 1024];
    while !head.windows(4).any(|w| w == b"\r\n\r\n") && head.len() < LONGEST {
        let left = PATIENCE.saturating_sub(Duration::from_nanos(clock.now().0));
        if left.is_zero() {
            return Err(io::ErrorKind::TimedOut.into());
        }
        stream.set_read_timeout(Some(left))?;
        match stream.read(&mut part)? {
            0 => break,
            n => head.extend_from_slice(&part[..n]),
        }
    }
    Ok(String::from_utf8_lossy(&head).into_owned())
}

/// A value of a label: backslash, quote and line feed are escaped.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

/// A family of metrics that is written line by line.
struct Family<'a> {
    out: &'a mut String,
    name: &'static str,
    begun: bool,
    kind: &'static str,
    unit: &'static str,
    help: &'static str,
}

impl Family<'_> {
    /// A sample with further labels, such as `,quantile="0.5"`; one without a value is left out.
    fn sample(&mut self, labels: &str, value: Option<f64>) {
        let Some(value) = value.filter(|v| v.is_finite()) else { return };
        if !self.begun {
            self.begun = true;
            let _ = writeln!(self.out, "# TYPE {} {}", self.name, self.kind);
            if !self.unit.is_empty() {
                let _ = writeln!(self.out, "# UNIT {} {}", self.name, self.unit);
            }
            let _ = writeln!(self.out, "# HELP {} {}", self.name, self.help);
        }
        let suffix = match self.kind {
            "counter" => "_total",
            "info" => "_info",
            _ => "",
        };
        let _ = writeln!(self.out, "{}{suffix}{{{labels}}} {value}", self.name);
    }
}

fn family<'a>(
    out: &'a mut String,
    name: &'static str,
    kind: &'static str,
    unit: &'static str,
    help: &'static str,
) -> Family<'a> {
    Family { out, name, begun: false, kind, unit, help }
}

impl Figures {
    fn labels(&self, lane: &LaneHead) -> String {
        format!(
            "run=\"{}\",lane=\"{}\",drive=\"{}\",model=\"{}\",serial=\"{}\"",
            self.run,
            escaped(&lane.name),
            escaped(&lane.drive.name),
            escaped(&lane.drive.model),
            escaped(lane.drive.serial.as_deref().unwrap_or(""))
        )
    }

    fn text(&self) -> String {
        let mut out = String::new();
        let lanes: Vec<(String, &LaneHead, &LaneFigures)> =
            self.head.lanes.iter().zip(&self.lanes).map(|(head, of)| (self.labels(head), head, of)).collect();
        let mut each = |name, kind, unit, help, value: &dyn Fn(&LaneFigures) -> Option<f64>| {
            let mut family = family(&mut out, name, kind, unit, help);
            for (labels, _, of) in &lanes {
                family.sample(labels, value(of));
            }
        };
        let some = |v: u64| Some(v as f64);
        each("hollow_mile_written_bytes", "counter", "bytes", "Bytes that the run has written.", &|l| {
            some(l.written)
        });
        each("hollow_mile_read_bytes", "counter", "bytes", "Bytes that the run has read.", &|l| some(l.read));
        each("hollow_mile_operations", "counter", "", "Operations that came back.", &|l| some(l.operations));
        each("hollow_mile_failed_operations", "counter", "", "Operations that failed.", &|l| some(l.failed));
        each("hollow_mile_breaks", "gauge", "", "Breaks in the rate that stand at present.", &|l| {
            some(l.breaks)
        });
        each(
            "hollow_mile_rate_bytes_per_second",
            "gauge",
            "",
            "Rate of the newest sample; absent at rest.",
            &|l| l.rate,
        );
        each(
            "hollow_mile_others_bytes_per_second",
            "gauge",
            "",
            "What other programs move on the drive.",
            &|l| l.foreign,
        );
        each(
            "hollow_mile_temperature_celsius",
            "gauge",
            "celsius",
            "Composite temperature of the drive.",
            &|l| l.temperature,
        );
        each("hollow_mile_fill_ratio", "gauge", "ratio", "Share of the drive that is in use.", &|l| l.fill);
        each(
            "hollow_mile_elapsed_seconds",
            "gauge",
            "seconds",
            "Time of the run, on the clock of its drive.",
            &|l| Some(l.at.secs()),
        );
        each("hollow_mile_underway", "gauge", "", "1 while the lane goes on, 0 once it has ended.", &|l| {
            Some(if l.ended.is_none() { 1.0 } else { 0.0 })
        });
        let mut latency = family(
            &mut out,
            "hollow_mile_latency_seconds",
            "gauge",
            "seconds",
            "Latency of the newest sample.",
        );
        for (labels, _, of) in &lanes {
            for (i, quantile) in ["0.5", "0.99", "1"].into_iter().enumerate() {
                latency.sample(&format!("{labels},quantile=\"{quantile}\""), of.latency.map(|l| l[i]));
            }
        }
        let mut throttled = family(
            &mut out,
            "hollow_mile_throttled_seconds",
            "counter",
            "seconds",
            "Time throttled, as the drive counts it.",
        );
        for (labels, _, of) in &lanes {
            for (i, degree) in ["light", "heavy"].into_iter().enumerate() {
                throttled.sample(&format!("{labels},degree=\"{degree}\""), of.throttled.map(|t| t[i]));
            }
        }
        let mut leg = family(&mut out, "hollow_mile_leg", "info", "", "The leg that is underway.");
        for (labels, head, of) in &lanes {
            if let Some(number) = of.leg.filter(|_| of.ended.is_none()) {
                leg.sample(&format!("{labels},leg=\"{}\"", escaped(head.leg_name(number))), Some(1.0));
            }
        }
        if let Some(waiting) = self.waiting {
            family(
                &mut out,
                "hollow_mile_spool_waiting",
                "gauge",
                "",
                "Samples of this bench that the archive of the lab does not have yet.",
            )
            .sample(&format!("run=\"{}\"", self.run), some(waiting));
        }
        let mut channels = family(
            &mut out,
            "hollow_mile_channel",
            "gauge",
            "",
            "The newest reading of each channel, in its own unit.",
        );
        for (channel, value) in self.head.channels.iter().zip(&self.channels) {
            let Channel { name, unit, of, .. } = channel;
            let lane = of.map_or("", |lane| self.head.lane(lane as usize).name.as_str());
            let labels = format!(
                "run=\"{}\",lane=\"{}\",channel=\"{}\",unit=\"{}\"",
                self.run,
                escaped(lane),
                escaped(name),
                escaped(unit)
            );
            channels.sample(&labels, *value);
        }
        let mut info = family(&mut out, "hollow_mile_run", "info", "", "The run.");
        info.sample(&format!("run=\"{}\",course=\"{}\"", self.run, escaped(&self.head.course)), Some(1.0));
        out.push_str("# EOF\n");
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mile_core::{Bytes, Celsius, Latency, Sample};
    use mile_runner::Event;
    use std::collections::BTreeMap;

    /// Reads a text by the rules of the specification, with nothing taken from the code above: families begin with their TYPE, their names are told once, UNIT
    /// is the end of the name, counters end in `_total`, infos in `_info`, and `# EOF` is the last line.
    fn read(text: &str) -> BTreeMap<String, f64> {
        assert!(text.ends_with("# EOF\n") && text.matches("# EOF").count() == 1);
        let (mut samples, mut family, mut seen) =
            (BTreeMap::new(), (String::new(), String::new()), Vec::new());
        for line in text.lines().take_while(|l| *l != "# EOF") {
            if let Some(said) = line.strip_prefix("# ") {
                let parts: Vec<&str> = said.splitn(3, ' ').collect();
                match parts[0] {
                    "TYPE" => {
                        assert!(!seen.contains(&parts[1].to_owned()), "{line}: told twice");
                        family = (parts[1].to_owned(), parts[2].to_owned());
                        seen.push(family.0.clone());
                        assert!(matches!(parts[2], "counter" | "gauge" | "info"), "{line}");
                    }
                    "UNIT" => assert!(
                        parts[1] == family.0 && family.0.ends_with(&format!("_{}", parts[2])),
                        "{line}"
                    ),
                    "HELP" => assert!(parts[1] == family.0 && parts[2].len() > 5, "{line}"),
                    other => panic!("{other}"),
                }
                continue;
            }
            let (name, value) = line.rsplit_once(' ').unwrap();
            let value: f64 = value.parse().unwrap();
            let (base, labels) = name.split_once('{').unwrap();
            assert!(labels.ends_with('}'), "{line}");
            let suffix = match family.1.as_str() {
                "counter" => "_total",
                "info" => "_info",
                _ => "",
            };
            assert_eq!(base, family.0.clone() + suffix, "{line}");
            assert!(family.1 != "counter" || value >= 0.0, "{line}");
            assert!(samples.insert(name.to_owned(), value).is_none(), "{line}: told twice");
        }
        samples
    }

    fn told() -> Metrics {
        let mut head = RunHead { course: "a \"soak\"\\\nof two".into(), ..RunHead::default() };
        head.lanes = vec![LaneHead::named(&["soak", "rest"]), LaneHead::named(&["soak"])];
        head.lanes[1].name = "lower".into();
        head.channels =
            vec![Channel { name: "probe".into(), unit: "°C".into(), of: Some(1), ..Channel::default() }];
        Metrics::new(7, &head)
    }

    #[test]
    fn the_text_keeps_the_rules_and_its_counters_are_the_sums_of_what_was_told() {
        let metrics = told();
        read(&metrics.text());
        let l = Nanos(2_000_000);
        for i in 0..10_u64 {
            let sample = Sample {
                start: Nanos(i * 1_000_000_000),
                end: Nanos((i + 1) * 1_000_000_000),
                written: Bytes(1_000_000 + i),
                ops: 3,
                errors: u32::from(i == 4),
                temp: (i < 5).then_some(Celsius(41.5)),
                latency: Some(Latency { p50: l, p99: l, p999: l, max: l }),
                ..Sample::default()
            };
            metrics.take(1, &Message::Sample(sample));
        }
        metrics.take(0, &Message::Reading(0, mile_core::channel::Reading { at: Nanos(5), value: 33.25 }));
        let event = Event { at: Nanos(1), bytes: Bytes(1), kind: EventKind::BreakWithdrawn(Bytes(1)) };
        metrics.take(1, &Message::Event(event));
        // A lane that is not there, and a channel that is not.
        metrics.take(9, &Message::Sample(Sample::default()));
        metrics.take(0, &Message::Reading(9, mile_core::channel::Reading { at: Nanos(5), value: 1.0 }));
        let text = metrics.text();
        let samples = read(&text);
        let of = |name: &str| {
            samples.iter().find(|(k, _)| k.starts_with(name) && k.contains("lane=\"lower\"")).map(|s| *s.1)
        };
        assert_eq!(of("hollow_mile_written_bytes_total"), Some(10_000_045.0));
        assert_eq!(
            (of("hollow_mile_operations_total"), of("hollow_mile_failed_operations_total")),
            (Some(30.0), Some(1.0))
        );
        assert_eq!(
            (of("hollow_mile_temperature_celsius"), of("hollow_mile_channel")),
            (Some(41.5), Some(33.25))
        );
        assert_eq!(
            (of("hollow_mile_rate_bytes_per_second"), of("hollow_mile_elapsed_seconds")),
            (Some(1_000_009.0), Some(10.0))
        );
        assert_eq!(samples.iter().filter(|(k, v)| k.contains("quantile") && **v == 0.002).count(), 3);
        assert!(text.contains("course=\"a \\\"soak\\\"\\\\\\nof two\""), "{text}");
    }

    fn answer_to(address: SocketAddr, request: &str) -> String {
        let mut stream = TcpStream::connect(address).unwrap();
        stream.write_all(request.as_bytes()).unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answer
    }

    #[test]
    fn questions_are_answered_others_refused_and_nobody_holds_it_up() {
        let listener = listen("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        told().serve(listener).unwrap();
        let answer = answer_to(address, "GET /metrics HTTP/1.1\r\nHost: x\r\n\r\n");
        let (head, body) = answer.split_once("\r\n\r\n").unwrap();
        assert!(
            head.starts_with("HTTP/1.1 200 OK")
                && head.contains("application/openmetrics-text; version=1.0.0"),
            "{head}"
        );
        assert!(head.contains(&format!("Content-Length: {}", body.len())));
        read(body);
        assert!(answer_to(address, "GET /other HTTP/1.1\r\n\r\n").starts_with("HTTP/1.1 404"));
        assert!(answer_to(address, "POST /metrics HTTP/1.1\r\n\r\n").starts_with("HTTP/1.1 405"));
        // One that says nothing, and one that never ends its line: both are let go of.
        let silent = TcpStream::connect(address).unwrap();
        let mut endless = TcpStream::connect(address).unwrap();
        let _ = endless.write_all(&[b'a'; 20_000]);
        drop((silent, endless));
        // One that goes on asking, a letter at a time and without an end, does not hold up the next.
        let (done, over) = std::sync::mpsc::channel::<()>();
        let slow = std::thread::spawn(move || {
            let mut slow = TcpStream::connect(address).unwrap();
            while over.try_recv().is_err() {
                // The other end may have let go of it.
                let _ = slow.write_all(b"G");
                std::thread::sleep(Duration::from_millis(100));
            }
        });
        std::thread::sleep(Duration::from_millis(200));
        read(answer_to(address, "GET / HTTP/1.0\r\n\r\n").split_once("\r\n\r\n").unwrap().1);
        done.send(()).unwrap();
        slow.join().unwrap();
    }

    #[test]
    fn a_port_alone_is_of_this_host_alone() {
        assert_eq!(address("9464").unwrap().to_string(), "127.0.0.1:9464");
        assert_eq!(address("0.0.0.0:9464").unwrap().to_string(), "0.0.0.0:9464");
        for wrong in ["", "x", "99999", "host:", ":"] {
            assert!(address(wrong).is_err(), "{wrong}");
        }
        let taken = listen("127.0.0.1:0").unwrap();
        let told = listen(&taken.local_addr().unwrap().to_string()).unwrap_err();
        assert!(told.contains("cannot be served"), "{told}");
    }
}
