//! The drives at hand, by the names of the command line.

use mile_core::Bytes;
use mile_drive::file::{EngineChoice, FileDrive};
use mile_drive::nvme::HealthLog;
use mile_drive::sim::{SimDrive, model};
use mile_drive::{Claims, Drive, DriveError, Facts, Identity, Limits, Situation};
use serde::Serialize;
use std::path::Path;

/// Opens nothing yet: looks at the drive that a name means.
pub(crate) fn drive(
    name: &str,
    size: Option<Bytes>,
    seed: u64,
    engine: EngineChoice,
) -> Result<Box<dyn Drive>, DriveError> {
    if name.starts_with("sim:") {
        if let Some(size) = size {
            return Err(DriveError::Unusable {
                why: format!("--size {size} is for files; {name} has the capacity of its model"),
            });
        }
        return Ok(Box::new(SimDrive::new(name, seed)?));
    }
    Ok(Box::new(FileDrive::new(Path::new(name), size.unwrap_or_default(), seed, engine)?))
}

/// A drive as the bench shows it.
#[derive(Clone, Debug, Serialize)]
pub(crate) struct Card {
    pub(crate) identity: Identity,
    pub(crate) facts: Facts,
    pub(crate) limits: Limits,
    pub(crate) claims: Claims,
    pub(crate) situation: Situation,
    pub(crate) fill_share: Option<f64>,
    pub(crate) health: Option<HealthLog>,
}

/// The drives that can be named without knowing more: the simulated ones.
pub(crate) fn cards() -> Vec<Card> {
    model::names()
        .filter_map(|name| {
            let mut drive = SimDrive::new(&format!("sim:{name}"), 1).ok()?;
            Some(Card {
                identity: drive.identity().clone(),
                facts: drive.facts(),
                limits: drive.limits(),
                claims: drive.claims(),
                situation: drive.situation(),
                fill_share: drive.readings().fill,
                health: drive.health(),
            })
        })
        .collect()
}
