//! Runs as they go on.

use crate::progress::Progress;
use crate::tui::canvas::{Framing, Sight};
use crossbeam_channel::{Receiver, Sender};
use mile_core::channel::{Channel, Series, tells};
use mile_core::heat::HeatFit;
use mile_core::ruler::Ruler;
use mile_core::scene::Subject;
use mile_core::{Bytes, Celsius, Context, LiveFindings};
use mile_runner::remote::{Client, Frame, Hello};
use mile_runner::{Command, Event, LaneHead, Message, Outcome, RunHead, Speed};

/// The strings to a runner.
pub(crate) struct Strings {
    pub(crate) commands: Sender<Command>,
}

/// What a runner said, with the number of its run here; `None` where it is gone.
pub(crate) type Told = (u64, Option<Frame>);

/// A lane of a run as it goes on.
#[derive(Default)]
pub(crate) struct LiveLane {
    pub(crate) progress: Progress,
    pub(crate) findings: LiveFindings,
    pub(crate) events: Vec<Event>,
    pub(crate) context: Context,
    pub(crate) outcome: Option<Outcome>,
    pub(crate) temp: Option<Celsius>,
    /// Bytes that it is planned to move.
    planned: u64,
}

impl LiveLane {
    fn new(head: &LaneHead, progress: Progress) -> Self {
        let context = head.context();
        Self {
            progress,
            findings: LiveFindings::new(context.clone()),
            context,
            planned: head.legs.iter().map(|l| l.budget().0).sum(),
            ..Self::default()
        }
    }
}

/// A run as it goes on, or the last one that did.
pub(crate) struct Live {
    /// Its number in this terminal.
    pub(crate) id: u64,
    pub(crate) head: RunHead,
    /// Its lanes, at least one.
    lanes: Vec<LiveLane>,
    /// The channels of the run.
    pub(crate) series: Vec<Series>,
    /// Lowest, highest, and sum of the readings of each.
    pub(crate) ranges: Vec<(f64, f64, f64)>,
    /// The lane whose breaks and readings are shown.
    pub(crate) at: usize,
    /// How fast its simulated time runs, where this terminal has started it; nobody else is told.
    pub(crate) pace: Option<Speed>,
    /// The run's number in the logbook.
    pub(crate) number: Option<i64>,
    /// What its runner said of itself; of a run of another bench nothing.
    pub(crate) runner: Option<Hello>,
    /// Its strings, until it is over.
    pub(crate) strings: Option<Strings>,
    pub(crate) framing: Framing,
    pub(crate) selected: Option<usize>,
}

impl Live {
    pub(crate) fn new(strings: Option<Strings>) -> Self {
        Self {
            id: 0,
            head: RunHead::default(),
            lanes: vec![LiveLane::default()],
            series: Vec::new(),
            ranges: Vec::new(),
            at: 0,
            pace: None,
            number: None,
            runner: None,
            strings,
            framing: Framing::default(),
            selected: None,
        }
    }

    /// A run of a runner, with all that it had told before. What it tells goes to `told`.
    pub(crate) fn attached(
        id: u64,
        client: Client,
        before: Vec<(u32, Message)>,
        told: Sender<Told>,
    ) -> std::io::Result<Self> {
        let number = client.hello.run;
        let strings = Strings { commands: client.commands };
        let runner = Some(client.hello).filter(|h| h.pid != 0);
        let mut live = Self { id, number, runner, ..Self::new(Some(strings)) };
        before.into_iter().for_each(|(lane, m)| live.take(lane as usize, m));
        let frames = client.frames;
        std::thread::Builder::new().name("run".into()).spawn(move || {
            // Where the terminal has gone, nobody listens.
            for frame in frames {
                if told.send((id, Some(frame))).is_err() {
                    return;
                }
            }
            let _ = told.send((id, None));
        })?;
        Ok(live)
    }

    /// What it is called: `Run 4`.
    pub(crate) fn called(&self) -> String {
        self.number.map_or_else(|| "The run".into(), |r| format!("Run {r}"))
    }

    /// The lane that is shown.
    pub(crate) fn lane(&self) -> &LiveLane {
        static NOTHING: std::sync::LazyLock<LiveLane> = std::sync::LazyLock::new(LiveLane::default);
        self.lanes.get(self.at).unwrap_or_else(|| &NOTHING)
    }

    pub(crate) fn lanes(&self) -> &[LiveLane] {
        &self.lanes
    }

    /// Whether it is drawn as lanes below each other on one clock.
    pub(crate) fn is_stacked(&self) -> bool {
        self.lanes.len() > 1 || !self.series.is_empty()
    }

    /// Shows the next lane.
    pub(crate) fn next_lane(&mut self) {
        self.at = (self.at + 1) % self.lanes.len().max(1);
        self.selected = None;
    }

    /// Takes in a message of a lane.
    pub(crate) fn take(&mut self, lane: usize, message: Message) {
        if let Message::Began(head) = message {
            self.lanes =
                head.lanes.iter().zip(Progress::of_lanes(&head)).map(|(l, p)| LiveLane::new(l, p)).collect();
            if self.lanes.is_empty() {
                self.lanes.push(LiveLane::default());
            }
            let empty = |channel: &Channel| Series { channel: channel.clone(), readings: Vec::new() };
            self.series = head.channels.iter().map(empty).collect();
            self.ranges = vec![(f64::INFINITY, f64::NEG_INFINITY, 0.0); self.series.len()];
            if self.is_stacked() {
                // What is told of several drives has only time in common.
                self.framing = Framing::on(Ruler::Time);
            }
            self.head = *head;
            return;
        }
        if let Message::Reading(channel, reading) = message {
            if let Some((lane, what)) = tells(&self.series, channel as usize)
                && let Some(lane) = self.lanes.get_mut(lane)
            {
                lane.findings.push_reading(what, reading);
            }
            if let Some(series) = self.series.get_mut(channel as usize) {
                series.readings.push(reading);
                if let Some((low, high, sum)) = self.ranges.get_mut(channel as usize) {
                    (*low, *high) = (low.min(reading.value), high.max(reading.value));
                    *sum += reading.value;
                }
            }
            return;
        }
        let Some(into) = self.lanes.get_mut(lane) else { return };
        match message {
            Message::Sample(sample) => {
                into.progress.sample(&sample);
                into.temp = sample.temp.or(into.temp);
                into.findings.push(&sample, self.head.lane(lane).leg_name(sample.leg));
            }
            Message::Event(event) => {
                into.progress.event(&event);
                into.events.push(event);
            }
            Message::Ended(outcome) => {
                into.outcome = Some(*outcome);
                into.findings.settle();
            }
            Message::SelfTest(test) => into.progress.test(test),
            Message::Began(_)
            | Message::LegLatency(..)
            | Message::Health(_)
            | Message::Reading(..)
            | Message::Keep(_) => {}
        }
    }

    /// Looks at what has come in, where it is time. After a batch of messages and not after each: a run that is joined late tells all at once.
    pub(crate) fn look(&mut self) {
        for lane in &mut self.lanes {
            lane.findings.news();
        }
    }

    /// Its terrain in one row, of the lane that is shown.
    pub(crate) fn miniature(&self, width: usize) -> String {
        let trace = self.lane().findings.trace();
        let share = trace.moved(trace.len()).0 as f64 / width as f64;
        let at = |i: usize| trace.index_at_bytes(Bytes((share * i as f64) as u64));
        let rate = |i: usize| {
            let from = at(i).min(trace.len().saturating_sub(1));
            trace.rate.extent(from, at(i + 1).max(from + 1)).map_or(0.0, |e| e.mean as f32)
        };
        crate::tui::canvas::miniature(&(0..width).map(rate).collect::<Vec<_>>(), width)
    }

    /// What most of what it moved on the lane that is shown is: reads or writes.
    pub(crate) fn op(&self) -> mile_core::Op {
        let trace = self.lane().findings.trace();
        let (written, read) = trace.totals(trace.len());
        if read > written { mile_core::Op::Read } else { mile_core::Op::Write }
    }

    /// How the run ended, once all of its lanes have.
    pub(crate) fn outcome(&self) -> Option<Outcome> {
        let names = self.head.lanes.iter().map(|l| l.name.as_str()).chain(std::iter::repeat(""));
        let ended: Option<Vec<_>> =
            names.zip(&self.lanes).map(|(name, lane)| Some((name, lane.outcome.as_ref()?))).collect();
        Outcome::of_lanes(&ended?)
    }

    pub(crate) fn is_over(&self) -> bool {
        self.strings.is_none() || self.lanes.iter().all(|l| l.outcome.is_some())
    }

    /// Whether it is paused.
    pub(crate) fn is_paused(&self) -> bool {
        self.lanes.iter().any(|l| l.progress.paused)
    }

    /// Whether it waits for the operator.
    pub(crate) fn is_asking(&self) -> bool {
        self.lanes.iter().any(|l| l.progress.asked.is_some())
    }

    /// How much of all lanes is done, 0 to 1; `None` where it is not known of any.
    pub(crate) fn share(&self) -> Option<f64> {
        let shares: Vec<f64> = self.lanes.iter().filter_map(|l| l.progress.share()).collect();
        (!shares.is_empty()).then(|| shares.iter().sum::<f64>() / shares.len() as f64)
    }

    /// What is going on: on the lane that has a load, or on the first.
    pub(crate) fn sentence(&self) -> String {
        if self.lanes.len() < 2 {
            return self.lane().progress.sentence();
        }
        let busy: Vec<usize> = (0..self.lanes.len()).filter(|i| self.lanes[*i].progress.is_busy()).collect();
        let name = |i: &usize| self.head.lane(*i).name.as_str();
        let on: Vec<&str> = busy.iter().map(name).collect();
        let lane = &self.lanes[busy.first().copied().unwrap_or(0)];
        if on.is_empty() {
            return lane.progress.sentence();
        }
        format!("On {}: {}", on.join(" and "), lane.progress.sentence())
    }

    /// What there is to draw of a lane.
    pub(crate) fn sight_of(&self, lane: usize) -> Sight<'_> {
        let of = &self.lanes[lane.min(self.lanes.len() - 1)];
        let planned = !self.is_over() && of.planned > 0 && self.lanes.len() == 1;
        Sight {
            subject: Subject {
                leads_to: of.findings.settling().filter(HeatFit::is_known),
                ..Subject::with_breaks(of.findings.trace(), of.findings.breaks(), &of.context)
            },
            planned: planned.then_some(of.planned as f64),
            selected: self.selected.filter(|_| lane == self.at),
        }
    }

    pub(crate) fn sight(&self) -> Sight<'_> {
        self.sight_of(self.at)
    }
}

/// The runs underway.
pub(crate) struct Runs {
    /// The one that is shown, or the last one that was.
    pub(crate) live: Option<Live>,
    pub(crate) others: Vec<Live>,
    /// What all of them tell.
    pub(crate) told: (Sender<Told>, Receiver<Told>),
    /// How many this terminal has shown.
    pub(crate) seen: u64,
    /// Questions that were asked about runs to be started.
    pub(crate) questions: u64,
    /// Whether they were told to end when the terminal is left.
    pub(crate) stopping: bool,
}

impl Runs {
    /// None yet.
    pub(crate) fn new(told: (Sender<Told>, Receiver<Told>)) -> Self {
        Self { live: None, others: Vec::new(), told, seen: 0, questions: 0, stopping: false }
    }

    /// Whether the run that is shown is underway.
    pub(crate) fn is_underway(&self) -> bool {
        self.live.as_ref().is_some_and(|l| !l.is_over())
    }

    /// Runs underway that leaving would leave.
    pub(crate) fn underway(&self) -> usize {
        self.live.iter().chain(&self.others).filter(|l| !l.is_over()).count()
    }

    /// The run of a number in this terminal.
    pub(crate) fn run_mut(&mut self, id: u64) -> Option<&mut Live> {
        self.live.iter_mut().chain(&mut self.others).find(|l| l.id == id)
    }

    /// Shows the next of the runs underway.
    pub(crate) fn next_run(&mut self) -> bool {
        if self.others.is_empty() {
            return false;
        }
        let shown = self.live.replace(self.others.remove(0));
        self.others.extend(shown.filter(|l| !l.is_over()));
        true
    }
}
