//! The command line. Names here are a contract (docs/guide.md).

mod common;
mod help;
mod lab;
mod logbook;

use clap::CommandFactory;
use clap::{Args, Parser, Subcommand, ValueEnum};
pub(crate) use common::{BesideArgs, Format};
use common::{above_zero, celsius, day, time};
pub(crate) use lab::{FleetArgs, LabArgs, LabCommand};
pub(crate) use logbook::{LogbookArgs, LogbookCommand};
use mile_core::{Bytes, Celsius, Nanos};
use mile_runner::Speed;
use std::path::PathBuf;

/// Long sustained writes on a drive, and what they show: where its write cache ends, when heat slows it, and why.
///
/// Without a command, opens the terminal on this machine's bench and your logbook.
#[derive(Debug, Parser)]
#[command(version, max_term_width = 100)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
    /// Logbook to use in the terminal: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
}

/// The command line, whose help has the commands in groups.
pub(crate) fn command() -> clap::Command {
    help::grouped(Cli::command())
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Open the terminal on the simulated bench, with a logbook of demonstration runs.
    Demo(DemoArgs),
    /// Run a course on a drive, without a screen.
    Run(RunArgs),
    /// Show a run that is underway, wherever it was started.
    Attach(AttachArgs),
    /// Go on with a run that was interrupted, from the leg that it was in.
    Resume(ResumeArgs),
    /// A runner's process; started by the others.
    #[command(hide = true)]
    Runner,
    /// Say what a run shows: plateaus, breaks and their causes, temperature.
    Findings(FindingsArgs),
    /// Hold runs, groups of runs and files against each other, figure by figure.
    Compare(CompareArgs),
    /// All drives of a model beside each other: how far they spread, which stands out, what firmware changes.
    Fleet(FleetArgs),
    /// Write a report of runs to hand over: a PDF of several pages, or a folder with all that it was made from.
    Report(ReportArgs),
    /// Write a run as a figure (SVG, PDF) or as data (CSV, JSON Lines).
    Export(ExportArgs),
    /// List the drives at hand.
    Bench(BenchArgs),
    /// Say all that a drive tells of itself: identity, link, temperature, health.
    Health(HealthArgs),
    /// Keep snapshots of the health of drives, again and again, without load.
    Watch(WatchArgs),
    /// Begin, end or look at a drive's own test of itself.
    Selftest(SelftestArgs),
    /// The archive of runs.
    Logbook(LogbookArgs),
    /// The archive of a lab: many benches, one PostgreSQL database.
    Lab(LabArgs),
    /// List what interrupted runs have left on disks, and take it away.
    Leftovers(LeftoversArgs),
    /// Courses: test plans as text.
    Course(CourseArgs),
    /// Bench instruments: list them, read them, and a stand-in for one.
    Instrument(InstrumentArgs),
    /// Print the manual page, or write those of all commands into a folder.
    Man(ManArgs),
    /// Print what a shell needs to complete commands and options.
    Completions(CompletionsArgs),
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// How fast simulated time runs: x1, x60 and so on, or max.
    #[arg(long, default_value = "x60")]
    pub(crate) speed: Speed,
}

#[derive(Debug, Args)]
pub(crate) struct RunArgs {
    /// The course, a text file.
    pub(crate) course: PathBuf,
    /// The drive: sim:NAME, sim:PATH.toml, the node of a block device, or the path of a file to make. For a course with lanes, once
    /// for each lane, as LANE=DRIVE.
    #[arg(long, value_name = "[LANE=]DRIVE", required = true, help_heading = "Drive")]
    pub(crate) on: Vec<String>,
    /// Size of the file to make, such as 4GB; LANE=SIZE for that of one lane.
    #[arg(long, value_name = "[LANE=]SIZE", help_heading = "Drive")]
    pub(crate) size: Vec<String>,
    /// Seed of random addresses and of the simulation.
    #[arg(long, default_value_t = 1, help_heading = "Drive")]
    pub(crate) seed: u64,
    /// How fast a simulated drive's time runs: max, x1, x60 and so on.
    #[arg(long, default_value = "max", help_heading = "Drive")]
    pub(crate) speed: Speed,
    /// Logbook to keep the run in: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE", help_heading = "What is kept and told")]
    pub(crate) logbook: Option<PathBuf>,
    /// Write what a simulated drive really did to this file, as JSON.
    #[arg(long, value_name = "FILE", help_heading = "What is kept and told")]
    pub(crate) truth: Option<PathBuf>,
    /// Bench instruments: the file that says how each is asked, or `bench` for those of the simulated bench.
    #[arg(long, value_name = "TOML", help_heading = "What is kept and told")]
    pub(crate) instruments: Option<String>,
    /// Serve the figures of the run as OpenMetrics text for a monitoring system, at a port of this host alone (9464) or at a host and a port.
    #[arg(long, value_name = "ADDRESS", help_heading = "What is kept and told")]
    pub(crate) metrics: Option<String>,
    /// What to print at the end.
    #[arg(long, value_enum, default_value_t, help_heading = "What is kept and told")]
    pub(crate) format: Format,
    /// Allow writing to a block device: its serial number, or its name where it has none. All that is on it will be lost. For a course
    /// with lanes, LANE=SERIAL for each of them.
    #[arg(long, value_name = "[LANE=]SERIAL", help_heading = "Permission to write")]
    pub(crate) arm: Vec<String>,
    /// Allow writing over what is on the device: gpt or ext for one, or data for what is not recognised. May be given more than once; for
    /// a course with lanes, LANE=WHAT.
    #[arg(long, value_name = "[LANE=]WHAT", requires = "arm", help_heading = "Permission to write")]
    pub(crate) destroy: Vec<String>,
    /// Leave the run to a process of its own, and come back at once.
    #[arg(long, conflicts_with_all = ["truth", "format"], help_heading = "What is kept and told")]
    pub(crate) detach: bool,
    /// Discard what the course writes to before it begins.
    #[arg(long, help_heading = "Permission to write")]
    pub(crate) discard_first: bool,
    /// Keep the file that the run was made on.
    #[arg(long, help_heading = "Drive")]
    pub(crate) keep: bool,
    /// How operations on a file are put in flight.
    #[arg(long, value_enum, default_value_t, help_heading = "Drive")]
    pub(crate) engine: EngineArg,
    /// Do not start where anything speaks against it. Without this, warnings are told and kept with the run.
    #[arg(long, help_heading = "Permission to write")]
    pub(crate) strict: bool,
    #[command(flatten)]
    pub(crate) situation: SituationArgs,
}

#[derive(Debug, Args)]
pub(crate) struct AttachArgs {
    /// The run's number; may be left out where only one is underway.
    pub(crate) run: Option<i64>,
    /// Follow it in lines of text, without the full screen.
    #[arg(long)]
    pub(crate) text: bool,
    /// End it cleanly.
    #[arg(long)]
    pub(crate) stop: bool,
    /// Only runs of this logbook.
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    /// Answer what the operator is asked, so that it goes on.
    #[arg(long, conflicts_with = "stop")]
    pub(crate) answer: bool,
    /// What to print at the end.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct ResumeArgs {
    /// The run's number, or `last`.
    pub(crate) run: String,
    /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    /// Allow writing to a block device, as with `run`.
    #[arg(long, value_name = "[LANE=]SERIAL")]
    pub(crate) arm: Vec<String>,
    /// Allow writing over something that is recognised on the device, as with `run`.
    #[arg(long, value_name = "[LANE=]WHAT", requires = "arm")]
    pub(crate) destroy: Vec<String>,
    /// How fast a simulated drive's time runs.
    #[arg(long, default_value = "max")]
    pub(crate) speed: Speed,
    /// Leave the run to a process of its own, and come back at once.
    #[arg(long, conflicts_with = "format")]
    pub(crate) detach: bool,
    /// What to print at the end.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct InstrumentArgs {
    #[command(subcommand)]
    pub(crate) command: InstrumentCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum InstrumentCommand {
    /// Say what each instrument of a file is and reads now; without a file, list the sensors of this host.
    List {
        /// The file that says how each is asked.
        file: Option<PathBuf>,
    },
    /// Print readings as they come: seconds, channel, value, unit.
    Read {
        /// The file that says how each is asked.
        file: PathBuf,
        /// End after so many seconds.
        #[arg(long = "for", value_name = "SECONDS")]
        seconds: Option<f64>,
    },
    /// Stand in for an instrument: SCPI on a port of this host, measuring a simulated drive that works and rests in turn.
    Simulate {
        /// The port; 0 takes one that is free.
        #[arg(long, default_value_t = 5025)]
        port: u16,
        /// The simulated drive.
        #[arg(long, default_value = "sim:merrow-k2")]
        drive: String,
        /// Do something wrong.
        #[arg(long, value_enum)]
        fault: Option<FaultArg>,
        /// Begin with that after so many seconds.
        #[arg(long, value_name = "SECONDS", default_value_t = 0.0)]
        after: f64,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum FaultArg {
    /// No longer answer.
    Silent,
    /// Answer with what is no number.
    Garbage,
    /// Close each connection when it is asked.
    Close,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum EngineArg {
    /// io_uring, or threads where the system refuses it.
    #[default]
    Auto,
    /// A pool of threads with pread and pwrite.
    Threads,
}

/// The conditions of a run.
#[derive(Clone, Debug, Default, Args)]
#[command(next_help_heading = "How the drive is set up, kept with the run")]
pub(crate) struct SituationArgs {
    /// Slot or port that the drive is in.
    #[arg(long)]
    pub(crate) slot: Option<String>,
    /// Its cooling.
    #[arg(long)]
    pub(crate) cooling: Option<String>,
    /// Ambient temperature, °C.
    #[arg(long, value_name = "C", value_parser = celsius, allow_hyphen_values = true)]
    pub(crate) ambient: Option<Celsius>,
    /// Its enclosure.
    #[arg(long)]
    pub(crate) enclosure: Option<String>,
    /// Anything else worth keeping with the run.
    #[arg(long)]
    pub(crate) note: Option<String>,
    /// What is claimed of the drive, as in a course: "write 3000 MB/s", or "random read 900000 IOPS, blocks 4 KiB"; may be given several times.
    #[arg(long, value_name = "CLAIM")]
    pub(crate) claim: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct FindingsArgs {
    /// A run's number, `last`, or a CSV file.
    pub(crate) run: String,
    /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) beside: BesideArgs,
}

/// What lies along the bottom of the figure of a comparison.
#[derive(Clone, Copy, Debug, Default, ValueEnum)]
pub(crate) enum Along {
    #[default]
    Time,
    Bytes,
    Address,
}

impl From<Along> for mile_core::ruler::Ruler {
    fn from(along: Along) -> Self {
        match along {
            Along::Time => Self::Time,
            Along::Bytes => Self::Bytes,
            Along::Address => Self::Address,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The sides, two or more: each a run, a tag, runs, tags and CSV files parted by commas, or `claims` for what is claimed of the drives. All are held against the first.
    #[arg(required = true, num_args = 2.., value_name = "SIDE")]
    pub(crate) sides: Vec<String>,
    /// Ambient temperature at which temperatures are given, °C.
    #[arg(long, value_name = "C", value_parser = celsius, allow_hyphen_values = true)]
    pub(crate) reference_ambient: Option<Celsius>,
    /// Draw the legs of the sides on one ruler, with their difference and their breaks, into this file: SVG, or PDF by its name.
    #[arg(long, value_name = "FILE")]
    pub(crate) figure: Option<PathBuf>,
    /// What lies along the bottom of the figure: time or bytes from the start of each leg, or addresses.
    #[arg(long, value_enum, default_value_t, requires = "figure")]
    pub(crate) ruler: Along,
    /// Write over a figure that exists.
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// Say how many repeats on each side would show a difference of so many percent; of temperatures, of so many K.
    #[arg(long, value_name = "PERCENT", value_parser = above_zero)]
    pub(crate) detect: Option<f64>,
    /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) beside: Box<BesideArgs>,
}

#[derive(Debug, Args)]
pub(crate) struct ReportArgs {
    /// What it is about, one or more: each a run, a tag, or runs, tags and CSV files parted by commas. Several are held against the first.
    #[arg(required = true, num_args = 1.., value_name = "RUN|GROUP")]
    pub(crate) runs: Vec<String>,
    /// PDF to write.
    #[arg(short, value_name = "FILE", required_unless_present = "bundle")]
    pub(crate) out: Option<PathBuf>,
    /// Folder to make: the report, figures, samples, findings, the runs themselves, and a checksum of each.
    #[arg(long, value_name = "FOLDER")]
    pub(crate) bundle: Option<PathBuf>,
    /// Set on paper of 8.5 by 11 inches instead of A4.
    #[arg(long)]
    pub(crate) letter: bool,
    /// Write over a file that exists.
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) beside: Box<BesideArgs>,
}

#[derive(Debug, Args)]
pub(crate) struct ExportArgs {
    /// A run's number, `last`, or a CSV file.
    #[arg(required_unless_present = "all")]
    pub(crate) run: Option<String>,
    /// Every run of the logbook, into a folder that is made new: a file of samples for each, and a table of all.
    #[arg(long, conflicts_with_all = ["run", "what", "figure", "overwrite", "BesideArgs"])]
    pub(crate) all: bool,
    /// What to write.
    #[arg(long = "as", value_enum)]
    pub(crate) kind: ExportKind,
    /// What a CSV holds.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) what: ExportWhat,
    /// What an SVG or PDF shows.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) figure: FigureArg,
    /// File to write, `-` for standard output; with --all, folder to make.
    #[arg(short, value_name = "FILE")]
    pub(crate) out: PathBuf,
    /// Write over a file that exists.
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) beside: BesideArgs,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExportWhat {
    /// A row for each interval: rate, temperature and whatever was logged.
    #[default]
    Samples,
    /// A row for each leg: rate, operations, latencies, temperatures, energy, errors.
    Legs,
    /// A row for each stretch that failed, or held other data than was written.
    Errors,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum FigureArg {
    /// Rate and temperature along the run.
    #[default]
    Run,
    /// Figures against fill level, rest, block size, depth, workers; demands.
    Sweep,
    /// Rate against address, baseline, hollows.
    Surface,
    /// Time of random reads against the share of the drive, and what each cut gains.
    Span,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExportKind {
    Svg,
    Pdf,
    Csv,
    /// The samples as a Parquet file, with the columns of the CSV.
    Parquet,
    Jsonl,
}

#[derive(Debug, Args)]
pub(crate) struct BenchArgs {
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct HealthArgs {
    /// The drive: its node, its name, its serial number, or sim:NAME; for its history also the serial number or model of one that is not attached.
    #[arg(required_unless_present = "import")]
    pub(crate) drive: Option<String>,
    /// Keep what it tells now in the logbook; fit for a timer.
    #[arg(long)]
    pub(crate) keep: bool,
    /// Show what is kept of it: what changed, what runs cost it, and how long it will last.
    #[arg(long)]
    pub(crate) history: bool,
    /// With --history: draw its strips over time into this file, SVG or PDF by its ending.
    #[arg(long, value_name = "FILE", requires = "history")]
    pub(crate) figure: Option<PathBuf>,
    /// With --figure: write over a file that exists.
    #[arg(long, requires = "figure")]
    pub(crate) overwrite: bool,
    /// With --history: what changed since the last snapshot of this day, such as 2026-03-01.
    #[arg(long, value_name = "DATE", requires = "history", value_parser = day)]
    pub(crate) since: Option<i64>,
    /// With --history: rated endurance, such as 600TB; where it is not given, what is known of the drive counts.
    #[arg(long, value_name = "SIZE", requires = "history")]
    pub(crate) endurance: Option<Bytes>,
    /// With --history: how long it lasts if so much is written a day, such as 50GB.
    #[arg(long, value_name = "SIZE", requires = "history", conflicts_with = "course_per_day")]
    pub(crate) per_day: Option<Bytes>,
    /// With --history: how long it lasts if a course that was run on it is run once a day.
    #[arg(long, value_name = "COURSE", requires = "history")]
    pub(crate) course_per_day: Option<String>,
    /// Put another drive beside it.
    #[arg(long, value_name = "DRIVE", conflicts_with_all = ["history", "keep"])]
    pub(crate) against: Option<String>,
    /// Bring snapshots from elsewhere into the logbook: a JSON file as docs/formats.md describes it, such as `--history --format json` prints.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["drive", "keep", "history", "against"])]
    pub(crate) import: Option<PathBuf>,
    /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct ManArgs {
    /// The command that it is about; without it, the program.
    pub(crate) command: Option<String>,
    /// Write the pages of all commands into this folder.
    #[arg(long, value_name = "FOLDER", conflicts_with = "command")]
    pub(crate) folder: Option<PathBuf>,
    /// Write over pages that exist.
    #[arg(long, requires = "folder")]
    pub(crate) overwrite: bool,
}

#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell.
    #[arg(value_enum)]
    pub(crate) shell: clap_complete::Shell,
}

#[derive(Debug, Args)]
pub(crate) struct WatchArgs {
    /// The drives: nodes, names or serial numbers.
    #[arg(required = true, value_name = "DRIVE")]
    pub(crate) drives: Vec<String>,
    /// Time between two snapshots, such as "10 min"; at least 10 s.
    #[arg(long, value_name = "TIME", value_parser = time, default_value = "10 min")]
    pub(crate) every: Nanos,
    /// End after so many rounds; without it, on SIGINT or SIGTERM.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) rounds: Option<u64>,
    /// Wake disks that sleep. Without it they are passed over.
    #[arg(long)]
    pub(crate) wake: bool,
    /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct SelftestArgs {
    /// The drive: its node, its name, or its serial number.
    pub(crate) drive: String,
    /// What to do.
    #[arg(value_enum)]
    pub(crate) request: SelftestRequest,
    /// First byte of a selective test, such as 100GB.
    #[arg(long, value_name = "SIZE")]
    pub(crate) from: Option<Bytes>,
    /// Byte at which a selective test ends.
    #[arg(long, value_name = "SIZE")]
    pub(crate) to: Option<Bytes>,
    /// Wait until the test has ended; where the newest result is not a pass, the exit code is 1.
    #[arg(long)]
    pub(crate) wait: bool,
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SelftestRequest {
    /// Begin a short test.
    Short,
    /// Begin an extended test.
    Extended,
    /// Begin a test for damage on the way here; ATA drives.
    Conveyance,
    /// Begin a test of the bytes between --from and --to; ATA drives.
    Selective,
    /// End the test underway.
    Abort,
    /// How far it is, and how earlier ones ended.
    Status,
}

#[derive(Debug, Args)]
pub(crate) struct LeftoversArgs {
    /// Take away the scratch file of this run, or of all runs that are not underway.
    #[arg(long, value_name = "RUN|all")]
    pub(crate) remove: Option<String>,
    /// Logbook of the runs.
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct CourseArgs {
    #[command(subcommand)]
    pub(crate) command: CourseCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CourseCommand {
    /// Read a course and say everything that is wrong with it.
    Check {
        /// The course, a text file.
        file: PathBuf,
    },
    /// Write a course in its one canonical form.
    Format {
        /// The course, a text file.
        file: PathBuf,
        /// Change the file, instead of printing what it would be.
        #[arg(long)]
        write: bool,
    },
    /// Say what a course would take on a drive: time, bytes, wear, heat; and what speaks against starting it now.
    Forecast(ForecastArgs),
    /// Write a ready-made course to begin with.
    New {
        /// Which; without it, they are listed.
        kind: Option<String>,
        /// The drive to make it out for: its claims, its situation, its size.
        #[arg(long, value_name = "DRIVE")]
        on: Option<String>,
        /// File to write; without it, the course is printed.
        #[arg(short, value_name = "FILE")]
        out: Option<PathBuf>,
    },
}

#[derive(Debug, Args)]
pub(crate) struct ForecastArgs {
    /// The course, a text file.
    pub(crate) file: PathBuf,
    /// The drive, as with `run`.
    #[arg(long, value_name = "[LANE=]DRIVE", required = true)]
    pub(crate) on: Vec<String>,
    /// Size of the file to make, such as 4GB.
    #[arg(long, value_name = "[LANE=]SIZE")]
    pub(crate) size: Vec<String>,
    /// Logbook with earlier runs of the drive.
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}
