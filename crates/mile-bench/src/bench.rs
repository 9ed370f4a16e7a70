//! The drives at hand, by the names of the command line.

use crate::Failure;
use mile_core::{Bytes, Celsius, RunId};
use mile_drive::block::{self, BlockDrive, Consent, Found, Transport, probe::Probe};
use mile_drive::file::{EngineChoice, FileDrive};
use mile_drive::sysfs::Roots;
use mile_drive::{Claims, Drive, DriveError, Facts, Health, Identity, Limits, Situation};
use mile_sim::{SimDrive, model};
use serde::{Deserialize, Serialize};
use std::os::unix::fs::FileTypeExt;
use std::path::Path;

/// What a person names as the drive of a run, and allows for it.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Named {
    /// Its name: `sim:NAME`, a block device, or a file that the run makes.
    pub drive: String,
    /// Bytes of the file that the run makes; `None` for drives, which have a capacity.
    pub size: Option<Bytes>,
    /// Seed of what is written, and of what a simulated drive does.
    pub seed: u64,
    /// How operations reach the kernel.
    pub engine: EngineChoice,
    /// What the operator allows to be written to and destroyed.
    pub consent: Consent,
    /// The run that goes on, whose file may be there.
    #[serde(default)]
    pub goes_on: Option<RunId>,
}

/// Opens nothing yet: looks at the drive that a name means.
///
/// # Errors
/// Where the name means nothing that can be measured, or what is allowed does not fit it.
pub fn drive(named: &Named) -> Result<Box<dyn Drive>, DriveError> {
    let name = named.drive.as_str();
    let unusable = |why: String| Err(DriveError::Unusable { why });
    let armed = !named.consent.is_none();
    if name.starts_with("sim:") {
        return match named.size {
            Some(size) => {
                unusable(format!("--size {size} is for files; {name} has the capacity of its model"))
            }
            None if armed => {
                unusable(format!("--arm and --destroy are for real drives; {name} is simulated"))
            }
            None => Ok(Box::new(SimDrive::new(name, named.seed)?)),
        };
    }
    let path = Path::new(name);
    if std::fs::metadata(path).is_ok_and(|m| m.file_type().is_block_device()) {
        if let Some(size) = named.size {
            return unusable(format!("--size {size} is for files; {name} has the capacity that it has"));
        }
        let roots = Roots::system();
        let found = block::drive::find(&roots, path)?;
        let consent = named.consent.clone();
        return Ok(Box::new(BlockDrive::new(roots, found, consent, named.seed, named.engine)?));
    }
    if path.starts_with("/dev") && !path.starts_with("/dev/shm") {
        let what = if path.exists() { "this is no block device" } else { "there is no such device" };
        return unusable(format!("{name}: {what}; `hollow-mile bench` lists the drives"));
    }
    if armed {
        return unusable(format!(
            "--arm and --destroy are for drives; {name} is a file that the run makes itself"
        ));
    }
    Ok(Box::new(FileDrive::new(
        path,
        named.size.unwrap_or_default(),
        named.seed,
        named.engine,
        named.goes_on,
    )?))
}

/// A drive as the bench shows it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Card {
    /// What it is.
    pub identity: Identity,
    /// What it can do.
    pub facts: Facts,
    /// Temperatures that it declares.
    pub limits: Limits,
    /// What its maker claims.
    pub claims: Claims,
    /// How it is set up, as far as that is known.
    pub situation: Situation,
    /// Share of it that is in use, 0 to 1.
    pub fill_share: Option<f64>,
    /// Its health when it was read last.
    pub health: Option<Health>,
    /// Range in which the host may set the temperatures of thermal management.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub managed: Option<(Celsius, Celsius)>,
    /// What the system tells of a real drive.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device: Option<Found>,
    /// Why it may not be written to; empty where it may, once armed.
    pub objections: Vec<String>,
    /// What is typed to arm it; `None` where nothing real is written.
    pub arming_word: Option<String>,
}

impl Card {
    /// Of a real drive.
    pub fn real(found: Found, told: Probe) -> Self {
        let slot = found.slot.clone();
        Self {
            identity: block::drive::identity(&found, &told),
            facts: Facts {
                capacity: found.capacity,
                logical_block: found.logical_block,
                has_temperature: told.health.temperature.is_some(),
                readable: true,
                cache: None,
                files: None,
                in_use: None,
            },
            limits: told.limits,
            claims: Claims::default(),
            situation: Situation { slot, ..Situation::default() },
            fill_share: told.fill,
            managed: told.managed,
            health: Some(told.health),
            objections: found.objections(),
            arming_word: Some(told.serial.unwrap_or_else(|| found.arming_word().to_owned())),
            device: Some(found),
        }
    }

    /// Of a drive that is on no bench, such as a file.
    pub fn plain(drive: &dyn Drive) -> Self {
        Self {
            limits: drive.limits(),
            claims: drive.claims(),
            situation: drive.situation(),
            ..Self::bare(drive.identity().clone(), drive.facts())
        }
    }

    /// Of a file that is not named yet.
    pub fn file(size: Bytes) -> Self {
        let identity = Identity { name: "a file".into(), model: "a file".into(), ..Identity::default() };
        let logical_block = Bytes(4096);
        Self::bare(
            identity,
            Facts {
                capacity: size,
                logical_block,
                has_temperature: false,
                readable: false,
                cache: Some(mile_drive::host::memory()),
                // What is free there is known once it is named.
                files: Some(Bytes(u64::MAX)),
                in_use: None,
            },
        )
    }

    /// Of a drive of which no more is known.
    fn bare(identity: Identity, facts: Facts) -> Self {
        Self {
            identity,
            facts,
            limits: Limits::default(),
            claims: Claims::default(),
            situation: Situation::default(),
            fill_share: None,
            managed: None,
            health: None,
            device: None,
            objections: Vec::new(),
            arming_word: None,
        }
    }

    /// Of a simulated drive.
    fn simulated(name: &str) -> Option<Self> {
        let mut drive = SimDrive::new(name, 1).ok()?;
        Some(Self {
            identity: drive.identity().clone(),
            facts: drive.facts(),
            limits: drive.limits(),
            claims: drive.claims(),
            situation: drive.situation(),
            fill_share: drive.readings().fill,
            managed: None,
            health: drive.health(),
            device: None,
            objections: Vec::new(),
            arming_word: None,
        })
    }

    /// Whether it may be written to, in words.
    pub fn writing(&self) -> String {
        match (&self.arming_word, self.objections.is_empty()) {
            (None, _) => "allowed: it is simulated, and nothing real is written".into(),
            (Some(word), true) => format!("once it is armed with {word}; reading needs no arming"),
            (Some(_), false) => format!("refused: {}", self.objections.join("; ")),
        }
    }
}

/// The simulated drives.
pub fn simulated() -> Vec<Card> {
    model::names().filter_map(|name| Card::simulated(&format!("sim:{name}"))).collect()
}

/// Where drives are looked for. Tests and rehearsals put another tree in the place of this machine's; a run never does.
fn bench_roots() -> Roots {
    match std::env::var_os("HOLLOW_MILE_ROOT") {
        Some(folder) if !folder.is_empty() => Roots::below(Path::new(&folder)),
        _ => Roots::system(),
    }
}

/// The drives of this machine, looked at again and again: what each tells of itself is asked for once.
pub struct Watch {
    roots: Roots,
    told: Vec<(String, Probe)>,
}

impl Default for Watch {
    fn default() -> Self {
        Self { roots: bench_roots(), told: Vec::new() }
    }
}

impl Watch {
    /// The drives now; the temperature and the uses of each are new.
    pub fn look(&mut self) -> Vec<Card> {
        let found = block::discover(&self.roots);
        let key = |f: &Found| format!("{} {} {:?} {}", f.name, f.number, f.serial, f.capacity.0);
        self.told.retain(|(k, _)| found.iter().any(|f| key(f) == *k));
        let card = |found: Found| {
            let key = key(&found);
            let mut told = match self.told.iter().find(|(k, _)| *k == key) {
                Some((_, told)) => told.clone(),
                None => {
                    let told = block::probe::probe(&self.roots, &found);
                    self.told.push((key, told.clone()));
                    told
                }
            };
            told.health.temperature = found.temperature.or(told.health.temperature);
            Card::real(found, told)
        };
        found.into_iter().map(card).collect()
    }
}

/// All drives that can be named without knowing more.
pub fn cards() -> Vec<Card> {
    Watch::default().look().into_iter().chain(simulated()).collect()
}

/// The card of one drive: a node, a kernel name, a stable name, a serial number, or a simulated drive.
///
/// # Errors
/// Where there is no such drive.
pub fn card(name: &str) -> Result<Card, Failure> {
    if name.starts_with("sim:") {
        // The error of a name that is unknown says which there are.
        SimDrive::new(name, 1)?;
        return Card::simulated(name).ok_or_else(|| Failure::usage(format!("{name} cannot be read")));
    }
    let roots = bench_roots();
    let found = find(&roots, name)?;
    let told = block::probe::probe(&roots, &found);
    Ok(Card::real(found, told))
}

/// The real drive that a name means.
///
/// # Errors
/// Where there is no such drive, or several are meant.
pub fn find(roots: &Roots, name: &str) -> Result<Found, Failure> {
    let none = |why: &str| Failure::usage(format!("{name}: {why}; `hollow-mile bench` lists the drives"));
    if name.contains('/') {
        return block::drive::find(roots, Path::new(name)).map_err(|e| match e {
            DriveError::Refused { why, .. } => none(&why),
            other => other.into(),
        });
    }
    let mut all = block::discover(roots);
    let named = |f: &Found| {
        f.name == name || f.serial.as_deref() == Some(name) || f.stable_names.iter().any(|s| s == name)
    };
    if let Some(i) = all.iter().position(named) {
        return Ok(all.swap_remove(i));
    }
    // A serial number that only the drive itself tells.
    let tells = |f: &&Found| {
        !matches!(f.transport, Transport::Loop | Transport::Virtio)
            && block::probe::probe(roots, f).serial.as_deref() == Some(name)
    };
    all.iter().find(tells).cloned().ok_or_else(|| none("no drive has this name or serial number"))
}
