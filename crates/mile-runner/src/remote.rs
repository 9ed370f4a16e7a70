//! A runner and those who watch it, as processes of their own: JSON Lines over a Unix domain socket in a private folder.
//!
//! The first line from the runner is [`Frame::Hello`], the second [`Frame::Backlog`]; what it tells follows as it happens. What
//! comes to the runner are [`Command`]s. Anybody of the same user may connect, several at once, and leave at any time. Nobody who
//! watches holds up a real drive: who falls too far behind is left out, and may connect again (`session::what_became`).

use crate::message::{Command, Event, Message, Outcome, RunHead};
use crossbeam_channel::{Receiver, Sender, TrySendError, bounded, unbounded};
use mile_core::Sample;
use mile_core::sample::Order;
use rustix::event::{PollFd, PollFlags, poll};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

/// Version of what is spoken.
pub const PROTOCOL: u32 = 2;
/// Samples that a runner keeps for those who connect; what is before them is in the logbook.
const RING: usize = 8192;
/// Messages that somebody may be behind.
const BEHIND: usize = 16_384;
/// Most who may watch at a time; each may be some megabytes behind.
pub const MOST_WATCHERS: usize = 16;
/// Longest command, bytes.
const LONGEST_COMMAND: u64 = 64 << 10;
/// Longest line from a runner, bytes: a backlog holds the events of a whole run.
const LONGEST_FRAME: u64 = 64 << 20;
/// Most lanes of a run.
const MOST_LANES: usize = 64;
/// Longest wait for somebody who reads nothing: who watches a simulated run, and who is told its last words.
const PATIENCE: Duration = Duration::from_secs(5);
/// Longest time for which a run that is over tells those who are behind what they have missed.
const LAST_WORDS: Duration = Duration::from_secs(60);

/// What a runner says of itself.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Hello {
    /// [`PROTOCOL`].
    pub protocol: u32,
    /// Its process.
    pub pid: u32,
    /// The run's number in its logbook, once it has one.
    pub run: Option<i64>,
    /// The logbook.
    pub logbook: PathBuf,
    /// Names of its drives.
    pub drive: String,
    /// Name of the course.
    pub course: String,
}

/// A line from a runner.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Frame {
    /// The first line.
    Hello(Hello),
    /// What was told before somebody connected.
    Backlog(Backlog),
    /// The run has its number.
    Number(i64),
    /// What is told now, and of which lane.
    Message(u32, Message),
}

/// What was told before somebody connected.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Backlog {
    /// What was known of the run when it began; `None` before it did.
    pub head: Option<Box<RunHead>>,
    /// What was told of each lane.
    pub lanes: Vec<LaneBacklog>,
}

/// What was told of a lane before somebody connected.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct LaneBacklog {
    /// Number of the first of `samples`; those before it are in the logbook.
    pub first: u64,
    /// The last samples.
    pub samples: Vec<Sample>,
    /// All events.
    pub events: Vec<Event>,
    /// How it ended, if it has.
    pub ended: Option<Box<Outcome>>,
}

/// The private folder of this user's sockets, made where it is not there. Fails where somebody else could have put it there.
pub fn folder() -> io::Result<PathBuf> {
    let user = rustix::process::geteuid().as_raw();
    let own = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|p| p.is_dir());
    let folder = match own {
        Some(base) => base.join("hollow-mile"),
        None => std::env::temp_dir().join(format!("hollow-mile-{user}")),
    };
    mile_files::private_folder(&folder)?;
    Ok(folder)
}

/// Where the runner of a process listens.
fn socket(pid: u32) -> io::Result<PathBuf> {
    Ok(folder()?.join(format!("runner-{pid}.sock")))
}

/// Whether the process at the other end is of the same user, or the administrator's.
fn is_trusted(stream: &UnixStream) -> bool {
    let own = rustix::process::geteuid();
    rustix::net::sockopt::socket_peercred(stream).is_ok_and(|peer| peer.uid == own || peer.uid.is_root())
}

struct Shared {
    hello: Hello,
    head: Option<Box<RunHead>>,
    lanes: Vec<LaneTold>,
    watchers: Vec<Watcher>,
    /// How many have been let in so far.
    admitted: u64,
}

/// Somebody who is told what happens.
#[derive(Clone)]
struct Watcher {
    /// Which of all who were let in.
    number: u64,
    queue: Sender<Frame>,
}

/// What a runner keeps of a lane.
#[derive(Default)]
struct LaneTold {
    first: u64,
    ring: VecDeque<Sample>,
    events: Vec<Event>,
    ended: Option<Box<Outcome>>,
}

impl Shared {
    fn lane(&mut self, lane: u32) -> &mut LaneTold {
        let count = (lane as usize + 1).max(self.lanes.len());
        self.lanes.resize_with(count, LaneTold::default);
        &mut self.lanes[lane as usize]
    }

    /// Tells somebody nothing more.
    fn leaves(&mut self, number: u64) {
        self.watchers.retain(|w| w.number != number);
    }

    fn is_over(&self) -> bool {
        let lanes = self.head.as_ref().map_or(1, |h| h.lanes.len().max(1));
        self.lanes.len() >= lanes && self.lanes.iter().all(|l| l.ended.is_some())
    }

    fn backlog(&self) -> Backlog {
        let lane = |l: &LaneTold| LaneBacklog {
            first: l.first,
            samples: l.ring.iter().cloned().collect(),
            events: l.events.clone(),
            ended: l.ended.clone(),
        };
        Backlog { head: self.head.clone(), lanes: self.lanes.iter().map(lane).collect() }
    }
}

/// The runner's end.
pub struct Server {
    path: PathBuf,
    shared: Arc<Mutex<Shared>>,
    writers: Arc<Mutex<Vec<JoinHandle<()>>>>,
    /// Whether somebody who is slow is waited for: a simulated drive does not mind.
    waits: bool,
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Server {
    /// Listens in the private folder. Commands of those who connect go to `commands`.
    pub fn start(hello: Hello, waits: bool, commands: Sender<Command>) -> io::Result<Self> {
        let path = socket(hello.pid)?;
        // Left by a process with the same number.
        mile_files::remove_socket(&path);
        let listener = UnixListener::bind(&path)
            .map_err(|e| io::Error::new(e.kind(), format!("{}: {e}", path.display())))?;
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600))?;
        let shared = Arc::new(Mutex::new(Shared {
            hello,
            head: None,
            lanes: Vec::new(),
            watchers: Vec::new(),
            admitted: 0,
        }));
        let writers: Arc<Mutex<Vec<JoinHandle<()>>>> = Arc::default();
        let (to, threads) = (Arc::clone(&shared), Arc::clone(&writers));
        std::thread::Builder::new().name("listen".into()).spawn(move || {
            for stream in listener.incoming().flatten().filter(is_trusted) {
                // Whoever is turned away sees the end of the connection, and may come again.
                lock(&threads).retain(|w| !w.is_finished());
                if lock(&threads).len() >= MOST_WATCHERS {
                    continue;
                }
                if let Ok(writer) = admit(stream, &to, &commands) {
                    lock(&threads).push(writer);
                }
            }
        })?;
        Ok(Self { path, shared, writers, waits })
    }

    /// Where it listens.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Tells the run's number.
    pub fn number(&self, run: i64) {
        let watchers = {
            let mut shared = lock(&self.shared);
            shared.hello.run = Some(run);
            shared.watchers.clone()
        };
        self.send(&watchers, &Frame::Number(run));
    }

    /// Tells all who watch of a lane, and keeps it for those who come later.
    pub fn tell(&self, lane: u32, message: &Message) {
        let watchers = {
            let mut shared = lock(&self.shared);
            match message {
                // Whoever watches a run that goes on has its beginning already.
                Message::Began(_) if shared.head.is_some() => return,
                Message::Began(head) => shared.head = Some(head.clone()),
                Message::Sample(sample) => {
                    let told = shared.lane(lane);
                    told.ring.push_back(sample.clone());
                    if told.ring.len() > RING {
                        told.ring.pop_front();
                        told.first += 1;
                    }
                }
                Message::Event(event) => shared.lane(lane).events.push(event.clone()),
                Message::Ended(outcome) => {
                    shared.lane(lane).ended = Some(outcome.clone());
                    if shared.is_over() {
                        // Whoever hears that it is over finds it underway nowhere any more.
                        mile_files::remove_socket(&self.path);
                    }
                }
                // Nobody at the other end keeps the log.
                Message::Keep(_) => return,
                Message::Health(_)
                | Message::SelfTest(_)
                | Message::LegLatency(..)
                | Message::Reading(..) => {}
            }
            // Whoever comes from now on has it in what was told before.
            shared.watchers.clone()
        };
        self.send(&watchers, &Frame::Message(lane, message.clone()));
    }

    /// A run that goes on began as `head` says, and has so many samples of each lane in its logbook, and these events.
    pub fn goes_on(&self, head: &RunHead, lanes: Vec<(u64, Vec<Event>)>) {
        let mut shared = lock(&self.shared);
        shared.head = Some(Box::new(head.clone()));
        let told = |(first, events)| LaneTold { first, events, ..LaneTold::default() };
        shared.lanes = lanes.into_iter().map(told).collect();
    }

    fn send(&self, watchers: &[Watcher], frame: &Frame) {
        let mut gone = false;
        for watcher in watchers {
            let queue = &watcher.queue;
            let sent = match queue.try_send(frame.clone()) {
                Err(TrySendError::Full(frame)) if self.waits => queue.send_timeout(frame, PATIENCE).is_ok(),
                other => other.is_ok(),
            };
            if !sent {
                gone = true;
                lock(&self.shared).leaves(watcher.number);
            }
        }
        if gone {
            lock(&self.writers).retain(|w| !w.is_finished());
        }
    }

    /// Sends what is left to send, not for too long, and listens no more. Who reads nothing for five seconds is told no more; who is only slow is waited for, up to a minute.
    pub fn finish(&self) {
        lock(&self.shared).watchers.clear();
        let clock = mile_drive::clock::Monotonic::start();
        for writer in lock(&self.writers).drain(..) {
            while !writer.is_finished() && u128::from(clock.now().0) < LAST_WORDS.as_nanos() {
                std::thread::sleep(Duration::from_millis(5));
            }
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        mile_files::remove_socket(&self.path);
    }
}

/// The next line, with its end, into `line`. `false` where there is none, or none of at most `longest` bytes that ends.
fn next_line(source: &mut impl BufRead, longest: u64, line: &mut Vec<u8>) -> bool {
    line.clear();
    matches!(source.take(longest).read_until(b'\n', line), Ok(1..)) && line.ends_with(b"\n")
}

/// The commands that come from a watcher. Lines that are none are passed over; one that is too long ends the connection.
pub fn heard(mut source: impl BufRead) -> impl Iterator<Item = Command> {
    let mut line = Vec::new();
    std::iter::from_fn(move || {
        while next_line(&mut source, LONGEST_COMMAND, &mut line) {
            let told = std::str::from_utf8(&line).ok().and_then(|line| serde_json::from_str(line).ok());
            if let Some(command) = told {
                return Some(command);
            }
        }
        None
    })
}

/// What a runner tells, in its order.
#[derive(Debug)]
pub struct Frames<S> {
    source: S,
    line: Vec<u8>,
    orders: Vec<Order>,
}

impl<S: BufRead> Frames<S> {
    /// From a connection.
    pub fn new(source: S) -> Self {
        Self { source, line: Vec::new(), orders: Vec::new() }
    }

    /// The next of what it tells.
    ///
    /// # Errors
    /// Where it tells no more, or what no runner tells.
    pub fn take(&mut self) -> io::Result<Frame> {
        // A line that is cut off is the last of a runner that ended.
        if !next_line(&mut self.source, LONGEST_FRAME, &mut self.line) {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let line = std::str::from_utf8(&self.line).map_err(|_| io::ErrorKind::InvalidData)?;
        let frame = serde_json::from_str(line)?;
        match &frame {
            Frame::Message(lane, Message::Sample(sample)) => self.order(*lane as usize, sample)?,
            Frame::Message(lane, _) if *lane as usize >= MOST_LANES => return Err(too_many()),
            Frame::Backlog(backlog) => {
                for (lane, told) in backlog.lanes.iter().enumerate() {
                    told.samples.iter().try_for_each(|s| self.order(lane, s))?;
                }
            }
            _ => {}
        }
        Ok(frame)
    }

    fn order(&mut self, lane: usize, sample: &Sample) -> io::Result<()> {
        if lane >= MOST_LANES {
            return Err(too_many());
        }
        if self.orders.len() <= lane {
            self.orders.resize(lane + 1, Order::default());
        }
        self.orders[lane].take(sample).map_err(io::Error::other)
    }
}

fn too_many() -> io::Error {
    io::Error::other("the run has more lanes than any can have")
}

/// Waits until the other end of a connection is closed: both ways, as whoever sends no more commands may listen still.
fn wait_for_the_end(stream: &UnixStream) {
    // A hang-up is told without being asked for.
    let mut seen = [PollFd::new(stream, PollFlags::empty())];
    while !seen[0].revents().intersects(PollFlags::HUP | PollFlags::ERR) {
        if poll(&mut seen, None).is_err_and(|e| e != Errno::INTR) {
            return;
        }
    }
}

/// Lets somebody in: gives the thread that writes to them.
fn admit(
    stream: UnixStream,
    shared: &Arc<Mutex<Shared>>,
    commands: &Sender<Command>,
) -> io::Result<JoinHandle<()>> {
    stream.set_write_timeout(Some(PATIENCE))?;
    let reader = BufReader::new(stream.try_clone()?);
    let line = stream.try_clone()?;
    // Registered while nothing can be told, so that nothing is missing between the backlog and what follows.
    let (queue, frames) = bounded(BEHIND);
    let (hello, backlog, over, number) = {
        let mut shared = lock(shared);
        let (backlog, over) = (shared.backlog(), shared.is_over());
        shared.admitted += 1;
        let number = shared.admitted;
        if !over {
            shared.watchers.push(Watcher { number, queue });
        }
        (shared.hello.clone(), backlog, over, number)
    };
    let (commands, watched) = (commands.clone(), Arc::clone(shared));
    std::thread::Builder::new().name("obey".into()).spawn(move || {
        for command in heard(reader) {
            if commands.send(command).is_err() {
                break;
            }
        }
        // Who has left is told nothing more. A run that waits has nothing to tell, by which that would be noticed otherwise.
        wait_for_the_end(&line);
        lock(&watched).leaves(number);
    })?;
    std::thread::Builder::new().name("tell".into()).spawn(move || {
        let mut out = BufWriter::new(&stream);
        let mut line = |frame: &Frame, flush: bool| -> io::Result<()> {
            out.write_all(serde_json::to_string(frame)?.as_bytes())?;
            out.write_all(b"\n")?;
            if flush { out.flush() } else { Ok(()) }
        };
        let told = line(&Frame::Hello(hello), true).and_then(|()| line(&Frame::Backlog(backlog), true));
        let mut is_there = told.is_ok();
        while is_there && !over {
            let Ok(frame) = frames.recv() else { break };
            is_there = line(&frame, frames.is_empty()).is_ok();
        }
        if is_there {
            let _ = out.flush();
        }
        // The other end sees at once that there is no more, and so does what would be left to write to it.
        let _ = stream.shutdown(std::net::Shutdown::Both);
    })
}

/// The end of somebody who watches.
pub struct Client {
    /// What the runner said of itself.
    pub hello: Hello,
    /// What it had told before.
    pub backlog: Backlog,
    /// What it tells. Ends without [`Message::Ended`] of each lane where the runner does.
    pub frames: Receiver<Frame>,
    /// To the runner.
    pub commands: Sender<Command>,
}

impl Client {
    /// Connects once more to the runner of the same run, where it is still there.
    pub fn again(hello: &Hello) -> io::Result<Self> {
        let client = Self::connect(&socket(hello.pid)?)?;
        let is_same = client.hello.logbook == hello.logbook && client.hello.course == hello.course;
        if is_same { Ok(client) } else { Err(io::ErrorKind::NotFound.into()) }
    }

    /// Connects to a runner.
    pub fn connect(path: &Path) -> io::Result<Self> {
        let stream = UnixStream::connect(path)?;
        if !is_trusted(&stream) {
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, "the runner is another user's"));
        }
        stream.set_read_timeout(Some(PATIENCE))?;
        let mut told = Frames::new(BufReader::new(stream.try_clone()?));
        let strange = || io::Error::other("the runner speaks another version of Hollow Mile's language");
        let Frame::Hello(hello) = told.take()? else { return Err(strange()) };
        if hello.protocol != PROTOCOL {
            return Err(strange());
        }
        let Frame::Backlog(backlog) = told.take()? else { return Err(strange()) };
        stream.set_read_timeout(None)?;
        let (send, frames) = bounded(BEHIND);
        std::thread::Builder::new().name("listen".into()).spawn(move || {
            while let Ok(frame) = told.take() {
                if send.send(frame).is_err() {
                    return;
                }
            }
        })?;
        let (commands, orders) = unbounded::<Command>();
        std::thread::Builder::new().name("command".into()).spawn(move || {
            let mut out = &stream;
            for command in orders {
                let line = serde_json::to_string(&command).unwrap_or_default() + "\n";
                if out.write_all(line.as_bytes()).is_err() {
                    break;
                }
            }
            let _ = stream.shutdown(std::net::Shutdown::Both);
        })?;
        Ok(Self { hello, backlog, frames, commands })
    }
}

/// The runners of this user.
#[derive(Debug, Default)]
pub struct Runners {
    /// Their sockets, and what each says of itself.
    pub answering: Vec<(PathBuf, Hello)>,
    /// Sockets of runners that are there and say nothing: each has as many who watch as it lets in, or is suspended.
    pub silent: Vec<PathBuf>,
}

impl Runners {
    /// Looks for them. Sockets without a runner are taken away.
    pub fn find() -> Self {
        let mut found = Self::default();
        let all = folder().and_then(std::fs::read_dir).into_iter().flatten().flatten().map(|e| e.path());
        for path in all.filter(|p| p.extension().is_some_and(|e| e == "sock")) {
            match Client::connect(&path) {
                Ok(client) => found.answering.push((path, client.hello)),
                Err(e) if e.kind() == io::ErrorKind::ConnectionRefused => mile_files::remove_socket(&path),
                // It has ended since.
                Err(e) if e.kind() == io::ErrorKind::NotFound => {}
                Err(_) => found.silent.push(path),
            }
        }
        found.answering.sort_by_key(|(_, h)| h.pid);
        found
    }
}

/// Samples and events in the order in which they were told.
pub fn in_order(samples: Vec<Sample>, events: Vec<Event>) -> impl Iterator<Item = Message> {
    let mut events = events.into_iter().peekable();
    let mut samples = samples.into_iter().peekable();
    std::iter::from_fn(move || {
        let event_first = match (events.peek(), samples.peek()) {
            (Some(e), Some(s)) => e.at < s.end,
            (Some(_), None) => true,
            (None, _) => false,
        };
        if event_first { events.next().map(Message::Event) } else { samples.next().map(Message::Sample) }
    })
}
