//! Sensors of this host, by the names that the kernel gives them (Documentation/hwmon/sysfs-interface.rst).

use crate::InstrumentError;
use std::path::{Path, PathBuf};

/// A sensor: the file that has its value, and what it is divided by to be one of a plain unit.
#[derive(Clone, Debug, PartialEq)]
pub struct Sensor {
    /// `k10temp/Tctl`, or `k10temp/temp1` where it has no label.
    pub name: String,
    /// Its unit.
    pub unit: &'static str,
    value: PathBuf,
    divisor: f64,
}

/// Kinds of values: the beginning of the file's name, the unit, and what the value is divided by.
const KINDS: [(&str, &str, f64); 6] = [
    ("temp", "°C", 1e3),
    ("power", "W", 1e6),
    ("in", "V", 1e3),
    ("curr", "A", 1e3),
    ("fan", "1/min", 1.0),
    ("humidity", "%", 1e3),
];

/// All sensors below a root, which is `/sys` but for tests.
pub fn sensors(root: &Path) -> Vec<Sensor> {
    let read = |path: &Path| std::fs::read_to_string(path).ok().map(|t| t.trim().to_owned());
    let mut all = Vec::new();
    for chip in std::fs::read_dir(root.join("class/hwmon")).into_iter().flatten().flatten() {
        let Some(name) = read(&chip.path().join("name")) else { continue };
        for file in std::fs::read_dir(chip.path()).into_iter().flatten().flatten() {
            let file_name = file.file_name().to_string_lossy().into_owned();
            let Some(base) = file_name.strip_suffix("_input") else { continue };
            let kind = base.trim_end_matches(|c: char| c.is_ascii_digit());
            let Some((_, unit, divisor)) = KINDS.iter().find(|k| k.0 == kind) else { continue };
            let label = read(&chip.path().join(format!("{base}_label"))).unwrap_or_else(|| base.to_owned());
            all.push(Sensor { name: format!("{name}/{label}"), unit, value: file.path(), divisor: *divisor });
        }
    }
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

/// The sensor of a name.
///
/// # Errors
/// Where there is none; says which there are.
pub fn find(root: &Path, name: &str) -> Result<Sensor, InstrumentError> {
    let all = sensors(root);
    let known: Vec<&str> = all.iter().map(|s| s.name.as_str()).collect();
    let none =
        || InstrumentError::Config(format!("there is no sensor `{name}`; there are: {}", known.join(", ")));
    all.iter().find(|s| s.name == name).cloned().ok_or_else(none)
}

impl Sensor {
    /// Its value now.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn read(&self) -> Result<f64, InstrumentError> {
        let text = std::fs::read_to_string(&self.value)
            .map_err(|source| InstrumentError::Io { what: self.name.clone(), source })?;
        let value = text.trim().parse::<f64>().ok().filter(|v| v.is_finite());
        value.map(|v| v / self.divisor).ok_or_else(|| InstrumentError::NoNumber {
            query: self.name.clone(),
            answer: text.chars().take(60).collect(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sensors_are_found_by_chip_and_label_in_the_units_that_the_kernel_documents() {
        let root = tempfile::tempdir().unwrap();
        let chip = root.path().join("class/hwmon/hwmon3");
        std::fs::create_dir_all(&chip).unwrap();
        for (file, text) in [
            ("name", "quay"),
            ("temp1_input", "41500\n"),
            ("temp1_label", "Inlet"),
            ("power2_input", "6100000"),
            ("fan1_input", "1180"),
            ("in0_input", "12040"),
            ("pwm1", "3"),
        ] {
            std::fs::write(chip.join(file), text).unwrap();
        }
        let all = sensors(root.path());
        let names: Vec<&str> = all.iter().map(|s| s.name.as_str()).collect();
        assert_eq!(names, ["quay/Inlet", "quay/fan1", "quay/in0", "quay/power2"]);
        let value = |name: &str| {
            (find(root.path(), name).unwrap().read().unwrap(), find(root.path(), name).unwrap().unit)
        };
        assert_eq!(value("quay/Inlet"), (41.5, "°C"));
        assert_eq!(value("quay/power2"), (6.1, "W"));
        assert_eq!(value("quay/fan1"), (1180.0, "1/min"));
        assert_eq!(value("quay/in0"), (12.04, "V"));
        assert!(find(root.path(), "quay/Outlet").unwrap_err().to_string().contains("quay/Inlet"));
        std::fs::write(chip.join("temp1_input"), "warm").unwrap();
        assert!(find(root.path(), "quay/Inlet").unwrap().read().is_err());
    }
}
