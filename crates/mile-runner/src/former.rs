//! What earlier versions kept of the health of a drive, read as this one has it.

use mile_drive::Health;
use mile_drive::nvme::HealthLog;
use serde::de::Error;
use serde::{Deserialize, Deserializer};
use serde_json::value::RawValue;

/// Health as any version wrote it: the first had the NVMe health log in its place.
pub(crate) fn any_health<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Health>, D::Error> {
    let Some(text) = Option::<Box<RawValue>>::deserialize(from)? else { return Ok(None) };
    if let Ok(log) = serde_json::from_str::<HealthLog>(text.get()) {
        return Ok(Some(Health::of_nvme(log)));
    }
    serde_json::from_str(text.get()).map(Some).map_err(D::Error::custom)
}

pub(crate) fn its_health<'de, D: Deserializer<'de>>(from: D) -> Result<Health, D::Error> {
    any_health(from).map(Option::unwrap_or_default)
}
