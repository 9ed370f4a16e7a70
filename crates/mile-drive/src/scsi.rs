//! What SCSI devices say of themselves: INQUIRY and vital product data (SPC-5), block device characteristics (SBC-4), and the
//! log pages of temperature, informational exceptions, starts and stops, errors and solid state media. Big-endian.
//!
//! Everything is decoded from bytes of any length: what is too short is absent.

use mile_core::{Bytes, Celsius};
use serde::{Deserialize, Serialize};

/// Standard INQUIRY data.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Inquiry {
    /// Vendor.
    pub vendor: String,
    /// Product.
    pub product: String,
    /// Revision.
    pub revision: String,
    /// Peripheral device type; 0 for a disk.
    pub device_type: u8,
}

fn ascii(bytes: &[u8]) -> String {
    let text: String =
        bytes.iter().map(|b| if (0x20..0x7f).contains(b) { char::from(*b) } else { ' ' }).collect();
    text.trim().to_owned()
}

impl Inquiry {
    /// Decodes it; `None` where it has less than the 36 bytes that every device gives.
    pub fn decode(data: &[u8]) -> Option<Self> {
        let data = data.get(..36)?;
        Some(Self {
            vendor: ascii(&data[8..16]),
            product: ascii(&data[16..32]),
            revision: ascii(&data[32..36]),
            device_type: data[0] & 0x1f,
        })
    }
}

/// The content of a vital product data page, behind its header; `None` where it is another page.
pub fn vpd(page: u8, data: &[u8]) -> Option<&[u8]> {
    if *data.get(1)? != page {
        return None;
    }
    let length = usize::from(u16::from_be_bytes([*data.get(2)?, *data.get(3)?]));
    Some(&data[4..(4 + length).min(data.len())])
}

/// Turns a minute from the Block Device Characteristics page (B1h); 0 for solid state.
pub fn rpm(page: &[u8]) -> Option<u16> {
    let content = vpd(0xb1, page)?;
    match u16::from_be_bytes([*content.first()?, *content.get(1)?]) {
        1 => Some(0),
        rpm @ 0x0401..=0xfffe => Some(rpm),
        _ => None,
    }
}

/// The name of a logical unit from the Device Identification page (83h): its NAA or EUI-64 designator, in hexadecimal digits.
pub fn unit_name(page: &[u8]) -> Option<String> {
    let mut rest = vpd(0x83, page)?;
    while rest.len() >= 4 {
        let length = usize::from(rest[3]);
        let id = rest.get(4..4 + length)?;
        let (association, kind) = (rest[1] >> 4 & 0b11, rest[1] & 0x0f);
        if association == 0 && matches!(kind, 2 | 3) {
            return Some(id.iter().map(|b| format!("{b:02x}")).collect());
        }
        rest = &rest[4 + length..];
    }
    None
}

/// The parameters of a log page: code and content; none where it is another page.
pub fn parameters(page: u8, data: &[u8]) -> Vec<(u16, &[u8])> {
    let mut found = Vec::new();
    let Some(head) = data.get(..4).filter(|h| h[0] & 0x3f == page) else { return found };
    let end = (4 + usize::from(u16::from_be_bytes([head[2], head[3]]))).min(data.len());
    let mut rest = &data[4..end];
    while rest.len() >= 4 {
        let length = usize::from(rest[3]);
        let Some(content) = rest.get(4..4 + length) else { break };
        found.push((u16::from_be_bytes([rest[0], rest[1]]), content));
        rest = &rest[4 + length..];
    }
    found
}

fn value(parameters: &[(u16, &[u8])], code: u16) -> Option<u64> {
    let (_, content) = parameters.iter().find(|(c, _)| *c == code)?;
    (content.len() <= 8 && !content.is_empty())
        .then(|| content.iter().fold(0, |sum, b| sum << 8 | u64::from(*b)))
}

/// What the log pages tell.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Logs {
    /// Temperature now (0Dh, parameter 0).
    pub temperature: Option<Celsius>,
    /// Highest temperature at which it should be operated (0Dh, parameter 1).
    pub reference: Option<Celsius>,
    /// Additional sense code and qualifier of an exception that it reports (2Fh); `None` without one.
    pub exception: Option<(u8, u8)>,
    /// Starts and stops (0Eh).
    pub starts: Option<u64>,
    /// Head loads (0Eh).
    pub loads: Option<u64>,
    /// Errors that could not be corrected: writing (02h), reading (03h).
    pub uncorrected: (Option<u64>, Option<u64>),
    /// Bytes written (02h) and read (03h) over its life.
    pub processed: (Option<Bytes>, Option<Bytes>),
    /// Endurance used, percent (11h).
    pub used_pct: Option<u8>,
    /// Minutes powered on (15h).
    pub power_on_minutes: Option<u64>,
}

impl Logs {
    /// Adds what a log page tells.
    pub fn add(&mut self, page: u8, data: &[u8]) {
        let p = parameters(page, data);
        let byte =
            |code: u16, at: usize| p.iter().find(|(c, _)| *c == code).and_then(|(_, b)| b.get(at).copied());
        match page {
            0x0d => {
                // FFh says that the drive cannot tell now.
                let temp = |code| byte(code, 1).filter(|t| *t != 0xff).map(|t| Celsius(f64::from(t)));
                (self.temperature, self.reference) = (temp(0), temp(1));
            }
            0x2f => {
                self.exception = byte(0, 0).zip(byte(0, 1)).filter(|e| e.0 != 0);
                let temp = byte(0, 2).filter(|t| *t != 0xff && *t != 0).map(|t| Celsius(f64::from(t)));
                self.temperature = self.temperature.or(temp);
            }
            0x0e => (self.starts, self.loads) = (value(&p, 4), value(&p, 6)),
            0x02 => (self.uncorrected.0, self.processed.0) = (value(&p, 6), value(&p, 5).map(Bytes)),
            0x03 => (self.uncorrected.1, self.processed.1) = (value(&p, 6), value(&p, 5).map(Bytes)),
            0x11 => self.used_pct = byte(1, 3),
            0x15 => {
                let minutes = p.iter().find(|(c, _)| *c == 0).and_then(|(_, b)| b.get(..4));
                self.power_on_minutes = minutes.map(|b| b.iter().fold(0, |sum, b| sum << 8 | u64::from(*b)));
            }
            _ => {}
        }
    }
}

/// The pages that the list of supported log pages (00h) names.
pub fn supported_logs(data: &[u8]) -> Vec<u8> {
    let Some(head) = data.get(..4).filter(|h| h[0] & 0x3f == 0) else { return Vec::new() };
    let length = usize::from(u16::from_be_bytes([head[2], head[3]]));
    data[4..(4 + length).min(data.len())].iter().map(|p| p & 0x3f).collect()
}

/// The additional sense code of an exception, in words.
pub fn exception_words((asc, ascq): (u8, u8)) -> String {
    match asc {
        0x5d => "it foretells its own failure".into(),
        0x0b if ascq == 0x01 => "its temperature is beyond its limit".into(),
        0x0b => "it warns".into(),
        _ => format!("it reports exception {asc:02x}h/{ascq:02x}h"),
    }
}

/// Sense key, additional sense code and qualifier of sense data in either format.
pub fn sense(data: &[u8]) -> Option<(u8, u8, u8)> {
    match data.first()? & 0x7f {
        0x70 | 0x71 => Some((data.get(2)? & 0x0f, *data.get(12)?, *data.get(13)?)),
        0x72 | 0x73 => Some((data.get(1)? & 0x0f, *data.get(2)?, *data.get(3)?)),
        _ => None,
    }
}
