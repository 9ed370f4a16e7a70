//! Parameters of a simulated drive, from a TOML file.

use mile_drive::drive::DriveError;
use serde::Deserialize;
use std::path::Path;

/// The models that are compiled in: name and text.
const BUILT_IN: [(&str, &str); 6] = [
    ("merrow-k2", include_str!("models/merrow-k2.toml")),
    ("merrow-k2-finned", include_str!("models/merrow-k2-finned.toml")),
    ("halyard-q4", include_str!("models/halyard-q4.toml")),
    ("bittern-s1", include_str!("models/bittern-s1.toml")),
    ("keelson", include_str!("models/keelson.toml")),
    ("sprat", include_str!("models/sprat.toml")),
];

/// Names of the models that are compiled in.
pub fn names() -> impl Iterator<Item = &'static str> {
    BUILT_IN.iter().map(|(name, _)| *name)
}

/// A simulated drive's parameters. The TOML files beside this source say what each is.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct Model {
    pub identity: IdentityModel,
    pub link: LinkModel,
    pub geometry: Geometry,
    pub claims: ClaimsModel,
    /// Either this or a disk.
    pub flash: Option<Flash>,
    pub disk: Option<Disk>,
    pub controller: Controller,
    pub thermal: ThermalModel,
    pub health: HealthModel,
    /// Stretches of the surface that are slower.
    #[serde(default)]
    pub weak: Vec<Weak>,
}

/// A stretch of the surface, as shares of the capacity, and the share of its pace that the drive has there.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct Weak {
    pub from: f64,
    pub to: f64,
    pub read_share: f64,
    pub write_share: f64,
}

/// In which standard a drive tells its health.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum HealthKind {
    /// NVMe health log.
    #[default]
    Nvme,
    /// SMART and device statistics.
    Ata,
    /// In none, and no temperature either.
    None,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct IdentityModel {
    pub model: String,
    pub serial: String,
    pub firmware: String,
    pub kind: String,
    pub slot: Option<String>,
    pub cooling: Option<String>,
    pub notes: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct LinkModel {
    pub negotiated: String,
    pub possible: String,
    pub ceiling_mb_s: f64,
    /// What it could carry, where it came up at less.
    pub possible_ceiling_mb_s: Option<f64>,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct Geometry {
    pub capacity_bytes: u64,
    pub logical_block: u64,
    pub fill: f64,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct ClaimsModel {
    pub write_mb_s: f64,
    pub read_mb_s: f64,
    pub endurance_tb: f64,
}

#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct Flash {
    pub cache_static_gb: f64,
    pub cache_dynamic_share: f64,
    pub bits_per_cell: f64,
    pub cache_mb_s: f64,
    pub direct_mb_s: f64,
    pub folding_mb_s: f64,
    /// Bytes that an empty drive takes behind its cache before it has to fold; without end where it is not given.
    pub second_stage_gb: Option<f64>,
    pub drain_mb_s: f64,
    pub drain_after_s: f64,
    pub read_mb_s: f64,
    pub spare_share: f64,
    pub collect_from_fill: f64,
    pub collect_cost: f64,
    /// The same for writes to unused addresses, behind the cache.
    #[serde(default)]
    pub fill_cost: f64,
    pub noise: f64,
    pub dip_every_s: f64,
    pub dip_share: f64,
    pub dip_s: f64,
    #[serde(default)]
    pub stale: Vec<Stale>,
}

/// Data that were written so long ago that they are read at a share of the pace, over a stretch of shares of the capacity, until they are written again.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct Stale {
    pub from: f64,
    pub to: f64,
    pub read_share: f64,
}

/// A disk: its tracks, its arm and its rotation.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct Disk {
    pub outer_mb_s: f64,
    pub inner_mb_s: f64,
    pub recording_zones: u32,
    pub rotation_per_min: f64,
    pub settle_ms: f64,
    pub root_ms: f64,
    pub knee_share: f64,
    pub line_ms: f64,
    pub write_cache_ops: f64,
    pub noise: f64,
    #[serde(default)]
    pub reallocated: Vec<Reallocated>,
    #[serde(default)]
    pub unreadable: Vec<UnreadableSectors>,
}

/// Sectors that cannot be read any more. A write has the drive put others in their place.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct UnreadableSectors {
    /// The first one, by its number.
    pub sector: u64,
    pub sectors: u64,
    /// Time that the drive tries to read one before it gives up, seconds.
    pub after_s: f64,
}

/// Sectors that lie elsewhere, evenly over a stretch of shares of the capacity.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct Reallocated {
    pub from: f64,
    pub to: f64,
    pub sectors: u32,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct Controller {
    pub write_iops: f64,
    pub read_iops: f64,
    pub write_us: f64,
    pub read_us: f64,
    pub tail: f64,
    pub map_span_gb: f64,
    pub map_miss_us: f64,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct ThermalModel {
    pub ambient_c: f64,
    /// Ambient temperature over time, seconds and °C, straight between the moments and level behind the last; [`Self::ambient_c`] before the first
    /// and where there is none.
    #[serde(default)]
    pub ambient_schedule: Vec<(f64, f64)>,
    /// Temperature of die and body at the start; settled at idle where it is not given.
    pub start_c: Option<f64>,
    pub idle_w: f64,
    pub cache_nj_per_byte: f64,
    pub direct_nj_per_byte: f64,
    pub read_nj_per_byte: f64,
    pub die_j_per_k: f64,
    pub body_j_per_k: f64,
    pub die_to_body_k_per_w: f64,
    pub body_to_ambient_k_per_w: f64,
    /// To the body of a drive in the next slot; none where the drive stands alone.
    pub body_to_neighbour_k_per_w: Option<f64>,
    pub warn_c: f64,
    pub critical_c: f64,
    pub light_on_c: f64,
    pub light_off_c: f64,
    pub light_share: f64,
    pub heavy_on_c: f64,
    pub heavy_off_c: f64,
    pub heavy_share: f64,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the model files document their parameters")]
pub struct HealthModel {
    #[serde(default)]
    pub kind: HealthKind,
    pub written_tb: f64,
    pub read_tb: f64,
    pub power_on_hours: u64,
    pub power_cycles: u64,
    pub unsafe_shutdowns: u64,
    pub percentage_used: u8,
    /// A block that an extended self-test cannot read.
    #[serde(default)]
    pub self_test_fails_at: Option<u64>,
}

impl Model {
    /// A model by the part of a drive's name behind `sim:`: a built-in one, or a TOML file. A file may say
    /// `extends = "merrow-k2"` and give only what differs.
    pub fn find(name: &str) -> Result<Self, DriveError> {
        let (text, path) = if let Some((_, text)) = BUILT_IN.iter().find(|(n, _)| *n == name) {
            ((*text).to_owned(), format!("sim:{name}"))
        } else if Path::new(name).extension().is_some_and(|e| e == "toml") {
            let text = std::fs::read_to_string(name)
                .map_err(|e| DriveError::BadModel { path: name.into(), why: e.to_string() })?;
            (text, name.to_owned())
        } else {
            let known = names().map(|n| format!("sim:{n}")).collect::<Vec<_>>().join(", ");
            return Err(DriveError::UnknownModel { name: format!("sim:{name}"), known });
        };
        Self::read(&text).map_err(|why| DriveError::BadModel { path, why })
    }

    /// The built-in model of a drive, by the model that it tells of itself, under a cooling.
    pub(crate) fn with_cooling(model: &str, cooling: &str) -> Option<Self> {
        let mut all = names().filter_map(|name| Self::find(name).ok());
        all.find(|m| m.identity.model == model && m.identity.cooling.as_deref() == Some(cooling))
    }

    /// A model as a file has it.
    ///
    /// # Errors
    /// Where the text is no TOML, names what no model has, or gives a figure that no drive can have.
    pub fn read(text: &str) -> Result<Self, String> {
        let table = Self::table(text)?;
        reasonable("", &table)?;
        let model: Self = table.try_into().map_err(|e: toml::de::Error| e.to_string())?;
        model.check()?;
        Ok(model)
    }

    /// The values of a model, with those of what it extends below them.
    fn table(text: &str) -> Result<toml::Table, String> {
        let mut table: toml::Table = text.parse().map_err(|e: toml::de::Error| e.to_string())?;
        if let Some(base) = table.remove("extends") {
            let base = base.as_str().ok_or("`extends` takes the name of a built-in model in quotes")?;
            let text = BUILT_IN.iter().find(|(n, _)| *n == base).map(|(_, t)| *t);
            let text = text.ok_or_else(|| format!("no built-in model is called `{base}`"))?;
            // What is built in extends nothing that extends it.
            let mut whole = Self::table(text)?;
            overlay(&mut whole, table);
            table = whole;
        }
        Ok(table)
    }

    /// Refuses figures that no drive can have, which would make the simulation stand still or run away.
    fn check(&self) -> Result<(), String> {
        let (t, c, g) = (&self.thermal, &self.controller, &self.geometry);
        let (flash, disk) = match (&self.flash, &self.disk) {
            (Some(flash), None) => (flash.quantities(), (Vec::new(), Vec::new())),
            (None, Some(disk)) => ((Vec::new(), Vec::new()), disk.quantities()),
            _ => return Err("a model has either `[flash]` or `[disk]`".into()),
        };
        let positive = [
            ("link.ceiling_mb_s", self.link.ceiling_mb_s),
            ("controller.write_iops", c.write_iops),
            ("controller.read_iops", c.read_iops),
            ("controller.write_us", c.write_us),
            ("controller.read_us", c.read_us),
            ("thermal.die_j_per_k", t.die_j_per_k),
            ("thermal.body_j_per_k", t.body_j_per_k),
            ("thermal.die_to_body_k_per_w", t.die_to_body_k_per_w),
            ("thermal.body_to_ambient_k_per_w", t.body_to_ambient_k_per_w),
            ("thermal.body_to_neighbour_k_per_w", t.body_to_neighbour_k_per_w.unwrap_or(1.0)),
            ("thermal.light_share", t.light_share),
            ("thermal.heavy_share", t.heavy_share),
        ];
        let mut positive = positive.to_vec();
        positive.extend(flash.0.into_iter().chain(disk.0));
        if let Some((name, value)) = positive.iter().find(|(_, v)| !(*v > 0.0 && v.is_finite())) {
            return Err(format!("`{name}` must be above 0, found {value}"));
        }
        let shares = [
            ("geometry.fill", g.fill),
            ("thermal.light_share", t.light_share),
            ("thermal.heavy_share", t.heavy_share),
        ];
        let mut shares = shares.to_vec();
        shares.extend(flash.1.into_iter().chain(disk.1));
        if let Some((name, value)) = shares.iter().find(|(_, v)| !(0.0..=1.0).contains(v)) {
            return Err(format!("`{name}` is a share from 0 to 1, found {value}"));
        }
        if g.capacity_bytes < 64 << 20
            || !g.logical_block.is_power_of_two()
            || !(512..=65_536).contains(&g.logical_block)
        {
            return Err(
                "`geometry` needs at least 64 MiB of capacity and a logical block of 512 to 65536".into()
            );
        }
        let ascending = t.ambient_schedule.windows(2).all(|w| w[0].0 < w[1].0);
        let usual = |(at, c): &(f64, f64)| *at >= 0.0 && at.is_finite() && (-100.0..=200.0).contains(c);
        if !ascending || !t.ambient_schedule.iter().all(usual) {
            return Err("`thermal.ambient_schedule` is a list of [seconds, °C], in the order of time, from -100 to 200 °C".into());
        }
        Ok(())
    }
}

/// Names and values that must be above 0, and those that are shares from 0 to 1.
type Quantities = (Vec<(&'static str, f64)>, Vec<(&'static str, f64)>);

impl Flash {
    fn quantities(&self) -> Quantities {
        let mut positive = vec![
            ("flash.bits_per_cell", self.bits_per_cell),
            ("flash.cache_mb_s", self.cache_mb_s),
            ("flash.direct_mb_s", self.direct_mb_s),
            ("flash.folding_mb_s", self.folding_mb_s),
            ("flash.read_mb_s", self.read_mb_s),
        ];
        let mut shares = vec![
            ("flash.cache_dynamic_share", self.cache_dynamic_share),
            ("flash.spare_share", self.spare_share),
            ("flash.collect_from_fill", self.collect_from_fill),
            ("flash.noise", self.noise),
            ("flash.dip_share", self.dip_share),
        ];
        for s in &self.stale {
            positive.extend([("flash.stale.to", s.to - s.from), ("flash.stale.read_share", s.read_share)]);
            shares.extend([
                ("flash.stale.from", s.from),
                ("flash.stale.to", s.to),
                ("flash.stale.read_share", s.read_share),
            ]);
        }
        (positive, shares)
    }
}

impl Disk {
    fn quantities(&self) -> Quantities {
        let mut positive = vec![
            ("disk.outer_mb_s", self.outer_mb_s),
            ("disk.inner_mb_s", self.inner_mb_s),
            ("disk.recording_zones", f64::from(self.recording_zones)),
            ("disk.rotation_per_min", self.rotation_per_min),
        ];
        positive.extend(self.reallocated.iter().map(|r| ("disk.reallocated.to", r.to - r.from)));
        for u in &self.unreadable {
            positive.extend([
                ("disk.unreadable.sectors", u.sectors as f64),
                ("disk.unreadable.after_s", u.after_s),
            ]);
        }
        let mut shares = vec![("disk.knee_share", self.knee_share), ("disk.noise", self.noise)];
        shares.extend(self.reallocated.iter().map(|r| ("disk.reallocated.from", r.from)));
        (positive, shares)
    }
}

/// Refuses a figure that is no number, is below 0 where it is no temperature, or is larger than anything physical.
fn reasonable(within: &str, table: &toml::Table) -> Result<(), String> {
    for (key, value) in table {
        let name = if within.is_empty() { key.clone() } else { format!("{within}.{key}") };
        let number = match value {
            toml::Value::Table(below) => {
                reasonable(&name, below)?;
                continue;
            }
            toml::Value::Array(all) => {
                for below in all.iter().filter_map(toml::Value::as_table) {
                    reasonable(&name, below)?;
                }
                continue;
            }
            toml::Value::Float(number) => *number,
            toml::Value::Integer(number) => *number as f64,
            _ => continue,
        };
        let least = if key.ends_with("_c") { -273.15 } else { 0.0 };
        // 10^18 bytes are an exabyte, and no other figure comes near that.
        if !(least..=1e18).contains(&number) {
            return Err(format!("`{name}` must be a number from {least} to 10^18, found {number}"));
        }
    }
    Ok(())
}

/// Puts the values of `over` in the place of those of `base`, table by table.
fn overlay(base: &mut toml::Table, over: toml::Table) {
    for (key, value) in over {
        match (base.get_mut(&key), value) {
            (Some(toml::Value::Table(below)), toml::Value::Table(above)) => overlay(below, above),
            (_, value) => {
                base.insert(key, value);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_built_in_models_read_and_the_finned_one_differs_in_its_cooling_only() {
        let [bare, finned] = ["merrow-k2", "merrow-k2-finned"].map(|n| Model::find(n).unwrap());
        assert_eq!(bare.flash, finned.flash);
        assert!(finned.thermal.body_to_ambient_k_per_w < bare.thermal.body_to_ambient_k_per_w);
    }

    #[test]
    fn mistakes_in_a_model_are_named() {
        let wrong = |text: &str| Model::read(text).unwrap_err();
        assert!(wrong("extends = \"merrow-k3\"").contains("merrow-k3"));
        assert!(wrong("extends = \"merrow-k2\"\n[flash]\ncache_mbs = 3").contains("cache_mbs"));
        assert!(wrong("extends = \"merrow-k2\"\n[flash]\ncache_mb_s = 0.0").contains("flash.cache_mb_s"));
        assert!(wrong("extends = \"merrow-k2\"\n[geometry]\nfill = 1.5").contains("geometry.fill"));
        for (table, line) in [
            ("thermal", "ambient_c = nan"),
            ("thermal", "ambient_schedule = [[10, 24.0], [10, 30.0]]"),
            ("thermal", "ambient_schedule = [[0, 24.0], [10, inf]]"),
            ("thermal", "ambient_schedule = [[-1, 24.0]]"),
            ("thermal", "ambient_schedule = [24.0]"),
            ("thermal", "idle_w = -3.0"),
            ("flash", "drain_mb_s = inf"),
            ("flash", "dip_every_s = -1.0"),
            ("controller", "tail = -inf"),
            ("thermal", "start_c = -300.0"),
        ] {
            let said = wrong(&format!("extends = \"merrow-k2\"\n[{table}]\n{line}"));
            assert!(said.contains(line.split(' ').next().unwrap()), "{line}: {said}");
        }
        assert!(wrong("[identity").contains("identity"));
        assert!(matches!(Model::find("merrow-k3"), Err(DriveError::UnknownModel { .. })));
        assert!(matches!(Model::find("/nonexistent/a.toml"), Err(DriveError::BadModel { .. })));
    }
}
