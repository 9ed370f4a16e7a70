//! How a drive is attached: the link as it came up, against what drive and port could do, and what that carries.
//!
//! Rates are those of the line code, before packets and protocol: the ceiling that no transfer can pass.

use crate::Link;
use crate::sysfs::{Roots, number, text};
use mile_core::Rate;
use std::fs;
use std::path::{Path, PathBuf};

/// A PCI Express link: its rate per lane, GT/s, and its lanes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Pcie {
    /// Transfers a second and lane, 10^9.
    pub gt_s: f64,
    /// Lanes.
    pub lanes: u32,
}

impl Pcie {
    /// Its generation: PCI Express Base Specification, 1 (2.5 GT/s) to 7 (128 GT/s).
    pub fn generation(self) -> Option<u32> {
        [2.5, 5.0, 8.0, 16.0, 32.0, 64.0, 128.0]
            .iter()
            .position(|g| (g - self.gt_s).abs() < 0.01)
            .map(|i| i as u32 + 1)
    }

    /// Bytes a second and direction: 8b/10b code up to 5 GT/s, 128b/130b up to 32 GT/s, 242 of every 256 bytes of a FLIT
    /// above.
    pub fn carries(self) -> Rate {
        let code = match self.gt_s {
            g if g <= 5.0 => 8.0 / 10.0,
            g if g <= 32.0 => 128.0 / 130.0,
            _ => 242.0 / 256.0,
        };
        Rate(self.gt_s * 1e9 * code / 8.0 * f64::from(self.lanes))
    }

    fn words(self) -> String {
        match self.generation() {
            Some(g) => format!("PCIe {g}.0 x{}", self.lanes),
            None => format!("PCIe {} GT/s x{}", self.gt_s, self.lanes),
        }
    }

    fn read(folder: &Path, which: &str) -> Option<Self> {
        let gt_s: f64 = number(folder.join(format!("{which}_link_speed")))?;
        let lanes: u32 = number(folder.join(format!("{which}_link_width")))?;
        // 0 and 255 are how the kernel says that it does not know.
        ((1..=32).contains(&lanes) && gt_s > 0.0).then_some(Self { gt_s, lanes })
    }
}

/// Gb/s of a serial link, and its ceiling.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Serial {
    gb_s: f64,
    carries: Rate,
}

/// SATA: 8b/10b at every speed (Serial ATA Revision 3).
fn sata(gb_s: f64) -> Serial {
    Serial { gb_s, carries: Rate(gb_s * 1e9 * 0.8 / 8.0) }
}

/// SAS: 8b/10b up to 12 Gb/s; 128b/150b at 22.5 Gb/s (SAS-4, SPL-4).
fn sas(gb_s: f64) -> Serial {
    let code = if gb_s < 20.0 { 0.8 } else { 128.0 / 150.0 };
    Serial { gb_s, carries: Rate(gb_s * 1e9 * code / 8.0) }
}

/// USB: thirteen bulk packets of 512 bytes in a microframe at high speed (USB 2.0, table 5-10) and nineteen of 64 in a frame
/// at full speed (table 5-9); 8b/10b at 5 Gb/s a lane; 128b/132b above (USB 3.2). `mb_s` is in Mb/s.
fn usb(mb_s: f64) -> Serial {
    let carries = match mb_s {
        s if s <= 12.0 => 19.0 * 64.0 * 1000.0,
        s if s <= 480.0 => 13.0 * 512.0 * 8000.0,
        s if s <= 5000.0 => s * 1e6 * 0.8 / 8.0,
        s => s * 1e6 * 128.0 / 132.0 / 8.0,
    };
    Serial { gb_s: mb_s / 1000.0, carries: Rate(carries) }
}

fn usb_words(mb_s: f64) -> String {
    if mb_s < 1000.0 { format!("USB {mb_s} Mb/s") } else { format!("USB {} Gb/s", mb_s / 1000.0) }
}

/// The link of a PCI device, against its own best and that of the port above it.
pub fn pcie(device: &Path) -> Option<Link> {
    let now = Pcie::read(device, "current")?;
    let drive = Pcie::read(device, "max");
    let port = device.parent().and_then(|p| Pcie::read(p, "max"));
    let least = |a: Pcie, b: Pcie| Pcie { gt_s: a.gt_s.min(b.gt_s), lanes: a.lanes.min(b.lanes) };
    let possible = match (drive, port) {
        (Some(a), Some(b)) => least(a, b),
        (a, b) => a.or(b).unwrap_or(now),
    };
    Some(Link {
        negotiated: now.words(),
        possible: possible.words(),
        ceiling: now.carries(),
        possible_ceiling: Some(possible.carries()),
        drive: drive.map(Pcie::words),
        port: port.map(Pcie::words),
    })
}

/// The nearest folder at or above `folder` of which `is` holds.
pub(crate) fn above(folder: &Path, is: impl Fn(&Path) -> bool) -> Option<PathBuf> {
    folder.ancestors().find(|f| is(f)).map(Path::to_owned)
}

/// Whether the last part of a path is a PCI address such as `0000:01:00.0`.
pub(crate) fn is_pci(folder: &Path) -> bool {
    let Some(name) = folder.file_name().and_then(|n| n.to_str()) else { return false };
    let parts: Vec<&str> = name.split([':', '.']).collect();
    parts.len() == 4
        && name.matches(':').count() == 2
        && parts.iter().all(|p| !p.is_empty() && p.chars().all(|c| c.is_ascii_hexdigit()))
}

/// A link of three serial rates: as it came up, and what drive and port could do.
fn serial(now: Serial, drive: Option<Serial>, port: Option<Serial>, words: impl Fn(f64) -> String) -> Link {
    let slower = |a: Serial, b: Serial| if a.gb_s <= b.gb_s { a } else { b };
    let possible = match (drive, port) {
        (Some(a), Some(b)) => slower(a, b),
        (a, b) => a.or(b).unwrap_or(now),
    };
    Link {
        negotiated: words(now.gb_s),
        possible: words(possible.gb_s),
        ceiling: now.carries,
        possible_ceiling: Some(possible.carries),
        drive: drive.map(|d| words(d.gb_s)),
        port: port.map(|p| words(p.gb_s)),
    }
}

/// The link of a SATA drive: the kernel keeps it with the port. `drive_gb_s` is what the drive itself says it could do.
pub fn sata_link(folder: &Path, drive_gb_s: Option<f64>) -> Option<Link> {
    let is_port = |f: &Path| {
        let name = f.file_name().and_then(|n| n.to_str()).unwrap_or_default();
        name.strip_prefix("ata").is_some_and(|n| !n.is_empty() && n.chars().all(|c| c.is_ascii_digit()))
    };
    let port = above(folder, is_port)?;
    let link = fs::read_dir(&port).ok()?.flatten().map(|e| e.path()).find(|p| {
        p.file_name().and_then(|n| n.to_str()).is_some_and(|n| n.starts_with("link"))
            && p.join("ata_link").is_dir()
    })?;
    let place = fs::read_dir(link.join("ata_link")).ok()?.flatten().next()?.path();
    let now: f64 = number(place.join("sata_spd"))?;
    let most: Option<f64> = number(place.join("hw_sata_spd_limit"));
    Some(serial(sata(now), drive_gb_s.map(sata), most.map(sata), |g| format!("SATA {g} Gb/s")))
}

/// The link of a USB drive.
pub fn usb_link(folder: &Path) -> Option<Link> {
    let device = above(folder, |f| f.join("speed").is_file() && f.join("version").is_file())?;
    let now: f64 = number(device.join("speed"))?;
    // What its descriptor says that the drive could do. A drive of the fast kind says 2.10 when it came up as high speed
    // (USB 3.2, 9.6.1), so that its best is at least 5 Gb/s.
    let version: Option<f64> = number(device.join("version"));
    let drive = match version {
        Some(v) if v >= 2.095 && now < 5000.0 => Some(5000.0),
        Some(_) => Some(now),
        None => None,
    };
    // The port's best is that of its hub, or of the fast half of a port that has two.
    let hub = device.parent().and_then(|p| number::<f64>(p.join("speed")));
    let peer = fs::canonicalize(device.join("port/peer")).ok();
    let twin = peer
        .and_then(|p| above(&p, |f| f.join("speed").is_file()))
        .and_then(|h| number::<f64>(h.join("speed")));
    let port = [hub, twin].into_iter().flatten().reduce(f64::max);
    Some(serial(usb(now), drive.map(usb), port.map(usb), |g| usb_words(g * 1000.0)))
}

/// The link of a SAS drive: that of the phy at its end device.
pub fn sas_link(roots: &Roots, folder: &Path) -> Option<Link> {
    let end = above(folder, |f| {
        f.file_name().and_then(|n| n.to_str()).is_some_and(|n| n.starts_with("end_device-"))
    })?;
    let name = end.file_name()?.to_str()?.strip_prefix("end_device-")?.to_owned();
    let phys = fs::read_dir(roots.sys.join("class/sas_phy")).ok()?.flatten().map(|e| e.path());
    // The phy of an end device is below the same port: `phy-6:0` for `end_device-6:0`; behind an expander it has the
    // port's folder in common.
    let port = end.parent()?.to_owned();
    let phy = phys.into_iter().find(|p| {
        let same_name = p.file_name().and_then(|n| n.to_str()) == Some(&format!("phy-{name}"));
        same_name || fs::canonicalize(p).is_ok_and(|c| c.starts_with(&port))
    })?;
    let now: f64 = number(phy.join("negotiated_linkrate"))?;
    let most: Option<f64> =
        number(phy.join("maximum_linkrate_hw")).or_else(|| number(phy.join("maximum_linkrate")));
    Some(serial(sas(now), None, most.map(sas), |g| format!("SAS {g} Gb/s")))
}

/// What sits between the drive and the host, in words: a PCI address, a port.
pub fn slot(folder: &Path) -> Option<String> {
    let port = folder.ancestors().find_map(|f| {
        let name = f.file_name()?.to_str()?;
        let digits = name.strip_prefix("ata")?;
        (!digits.is_empty() && digits.chars().all(|c| c.is_ascii_digit()))
            .then(|| format!("SATA port {digits}"))
    });
    let usb = || {
        let device = above(folder, |f| f.join("speed").is_file() && f.join("version").is_file())?;
        Some(format!("USB port {}", device.file_name()?.to_str()?))
    };
    let pci = || {
        let device = above(folder, is_pci)?;
        let label = text(device.join("label")).map_or(String::new(), |l| format!(" ({l})"));
        Some(format!("PCI {}{label}", device.file_name()?.to_str()?))
    };
    port.or_else(usb).or_else(pci)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The published figures: PCIe per lane and direction, SATA, USB and SAS after their line codes.
    #[test]
    fn ceilings_are_those_of_the_standards() {
        let per_lane =
            [(2.5, 250.0), (5.0, 500.0), (8.0, 984.615), (16.0, 1969.231), (32.0, 3938.462), (64.0, 7562.5)];
        for (gt_s, mb_s) in per_lane {
            let one = Pcie { gt_s, lanes: 1 }.carries();
            assert!((one.0 / 1e6 - mb_s).abs() < 0.001, "{gt_s}: {one}");
            assert!((Pcie { gt_s, lanes: 4 }.carries().0 - 4.0 * one.0).abs() < 1.0);
        }
        let mb = |s: Serial| (s.carries.0 / 1e6 * 10.0).round() / 10.0;
        assert_eq!([mb(sata(1.5)), mb(sata(3.0)), mb(sata(6.0))], [150.0, 300.0, 600.0]);
        assert_eq!(
            [mb(usb(480.0)), mb(usb(5000.0)), mb(usb(10_000.0)), mb(usb(20_000.0))],
            [53.2, 500.0, 1212.1, 2424.2]
        );
        assert_eq!([mb(sas(6.0)), mb(sas(12.0)), mb(sas(22.5))], [600.0, 1200.0, 2400.0]);
    }

    #[test]
    fn pci_addresses_are_told_from_other_names() {
        assert!(is_pci(Path::new("/sys/devices/pci0000:00/0000:01:00.0")));
        for other in ["/sys/devices/pci0000:00", "/x/2:0:0:0", "/x/nvme0", "/x/1-1:1.0"] {
            assert!(!is_pci(Path::new(other)), "{other}");
        }
    }
}
