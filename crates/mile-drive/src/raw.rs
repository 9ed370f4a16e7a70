//! Commands straight to a drive: NVMe admin commands, SCSI commands, and the block layer's own requests.
//!
//! The structures are those of the kernel's headers `linux/nvme_ioctl.h`, `scsi/sg.h` and `linux/fs.h`.
#![allow(unsafe_code, reason = "ioctl hands the kernel addresses of structures and buffers")]

use mile_core::Bytes;
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;

const NVME_ADMIN: libc::Ioctl = 0xc048_4e41;
const NVME_ID: libc::Ioctl = 0x4e40;
const SG_IO: libc::Ioctl = 0x2285;
const BLKGETSIZE64: libc::Ioctl = 0x8008_1272_u32 as libc::Ioctl;
const BLKDISCARD: libc::Ioctl = 0x1277;
const LOOP_GET_STATUS64: libc::Ioctl = 0x4c05;
/// Milliseconds that a command may take.
const TIMEOUT_MS: u32 = 10_000;

/// Why a command gave nothing.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum RawError {
    #[error("not offered by this drive")]
    NotOffered,
    #[error("raw access is refused ({0}); it needs the rights of an administrator")]
    NotAllowed(io::Error),
    #[error(
        "a self-test ({kind}) is underway in the drive, {done} % done, and a new one would end it; wait for it, or abort it first"
    )]
    Underway { kind: &'static str, done: u8 },
    #[error("the drive answered with status {0:#06x}")]
    Status(u16),
    #[error("the drive answered with sense {key:x}h/{asc:02x}h/{ascq:02x}h")]
    Sense { key: u8, asc: u8, ascq: u8 },
    #[error("the drive could not be asked: {0}")]
    Io(io::Error),
}

impl RawError {
    fn of(error: io::Error) -> Self {
        match error.raw_os_error() {
            Some(libc::EACCES | libc::EPERM) => Self::NotAllowed(error),
            Some(libc::ENOTTY | libc::EINVAL | libc::EOPNOTSUPP) => Self::NotOffered,
            _ => Self::Io(error),
        }
    }
}

#[repr(C)]
#[derive(Default)]
struct NvmeAdmin {
    opcode: u8,
    flags: u8,
    reserved: u16,
    nsid: u32,
    cdw2: u32,
    cdw3: u32,
    metadata: u64,
    address: u64,
    metadata_length: u32,
    length: u32,
    cdw10: u32,
    cdw11: u32,
    cdw12: u32,
    cdw13: u32,
    cdw14: u32,
    cdw15: u32,
    timeout_ms: u32,
    result: u32,
}

const _: () = assert!(size_of::<NvmeAdmin>() == 72);

/// An NVMe admin command whose answer, if any, fills `answer`. Only commands that read, and self-tests, are offered.
fn nvme_admin(file: &File, opcode: u8, nsid: u32, cdw10: u32, answer: &mut [u8]) -> Result<(), RawError> {
    let mut command = NvmeAdmin {
        opcode,
        nsid,
        cdw10,
        address: if answer.is_empty() { 0 } else { answer.as_mut_ptr() as u64 },
        length: answer.len() as u32,
        timeout_ms: TIMEOUT_MS,
        ..NvmeAdmin::default()
    };
    // SAFETY: the structure is laid out as the kernel's, and the answer's buffer outlives the call, which is synchronous.
    let result = unsafe { libc::ioctl(file.as_raw_fd(), NVME_ADMIN, &raw mut command) };
    match result {
        0 => Ok(()),
        // Invalid opcode, field, log page, or feature: the drive does not know the command.
        status if status > 0 && matches!(status & 0x7ff, 0x001 | 0x002 | 0x109) => Err(RawError::NotOffered),
        status if status > 0 => Err(RawError::Status((status & 0xffff) as u16)),
        _ => Err(RawError::of(io::Error::last_os_error())),
    }
}

/// The namespace that a block device is.
pub fn nvme_namespace(file: &File) -> Result<u32, RawError> {
    // SAFETY: this request takes no argument.
    let id = unsafe { libc::ioctl(file.as_raw_fd(), NVME_ID, 0) };
    u32::try_from(id).map_err(|_| RawError::of(io::Error::last_os_error()))
}

/// Identify: controller (`which` 1) or namespace (0).
pub fn nvme_identify(file: &File, which: u32, nsid: u32) -> Result<Vec<u8>, RawError> {
    let mut page = vec![0; crate::nvme::identify::LENGTH];
    nvme_admin(file, 0x06, nsid, which, &mut page)?;
    Ok(page)
}

/// Get Log Page, of the whole controller. `length` is a multiple of 4.
pub fn nvme_log(file: &File, log: u8, length: usize) -> Result<Vec<u8>, RawError> {
    let mut page = vec![0; length];
    let dwords = (length / 4 - 1) as u32;
    nvme_admin(file, 0x02, u32::MAX, u32::from(log) | dwords << 16, &mut page)?;
    Ok(page)
}

/// Device Self-test: 1 short, 2 extended, Fh abort.
pub fn nvme_self_test(file: &File, code: u32) -> Result<(), RawError> {
    nvme_admin(file, 0x14, u32::MAX, code, &mut [])
}

#[repr(C)]
struct SgIo {
    interface: i32,
    direction: i32,
    command_length: u8,
    sense_length: u8,
    scatter: u16,
    length: u32,
    data: *mut u8,
    command: *const u8,
    sense: *mut u8,
    timeout_ms: u32,
    flags: u32,
    pack: i32,
    user: *mut u8,
    status: u8,
    masked_status: u8,
    message_status: u8,
    sense_written: u8,
    host_status: u16,
    driver_status: u16,
    residual: i32,
    duration: u32,
    info: u32,
}

/// A SCSI command that reads, or moves nothing. Gives its sense data, which may hold more than errors.
fn sg(file: &File, command: &[u8], answer: &mut [u8]) -> Result<(u8, Vec<u8>, usize), RawError> {
    let direction = if answer.is_empty() { -1 } else { -3 };
    sg_io(file, command, direction, (answer.as_mut_ptr(), answer.len()))
}

/// A SCSI command that moves data in a direction of SG_IO: from the device (-3), to it (-2), or none (-1), from or to so many bytes of memory, that
/// belong to the caller.
fn sg_io(
    file: &File,
    command: &[u8],
    direction: i32,
    (data, length): (*mut u8, usize),
) -> Result<(u8, Vec<u8>, usize), RawError> {
    let mut sense = [0_u8; 64];
    let mut io = SgIo {
        interface: i32::from(b'S'),
        direction,
        command_length: command.len() as u8,
        sense_length: sense.len() as u8,
        scatter: 0,
        length: length as u32,
        data,
        command: command.as_ptr(),
        sense: sense.as_mut_ptr(),
        timeout_ms: TIMEOUT_MS,
        flags: 0,
        pack: 0,
        user: std::ptr::null_mut(),
        status: 0,
        masked_status: 0,
        message_status: 0,
        sense_written: 0,
        host_status: 0,
        driver_status: 0,
        residual: 0,
        duration: 0,
        info: 0,
    };
    // SAFETY: the structure is laid out as the kernel's; command, sense and data outlive the call, which is synchronous.
    let result = unsafe { libc::ioctl(file.as_raw_fd(), SG_IO, &raw mut io) };
    if result != 0 {
        return Err(RawError::of(io::Error::last_os_error()));
    }
    if io.host_status != 0 {
        return Err(RawError::Io(io::Error::other(format!("host status {:#x}", io.host_status))));
    }
    let written = usize::from(io.sense_written).min(sense.len());
    let moved = length.saturating_sub(usize::try_from(io.residual).unwrap_or(0));
    Ok((io.status, sense[..written].to_vec(), moved))
}

/// A SCSI command that reads up to `length` bytes.
pub fn scsi_read(file: &File, command: &[u8], length: usize) -> Result<Vec<u8>, RawError> {
    let mut answer = vec![0; length];
    let (status, sense, moved) = sg(file, command, &mut answer)?;
    if status != 0 {
        return Err(sense_error(&sense));
    }
    answer.truncate(moved);
    Ok(answer)
}

/// INQUIRY; a page of vital product data where `page` names one.
pub fn scsi_inquiry(file: &File, page: Option<u8>) -> Result<Vec<u8>, RawError> {
    let length: u16 = if page.is_some() { 252 } else { 96 };
    let [high, low] = length.to_be_bytes();
    scsi_read(file, &[0x12, page.is_some().into(), page.unwrap_or(0), high, low, 0], length.into())
}

/// LOG SENSE: cumulative values of a page.
pub fn scsi_log(file: &File, page: u8) -> Result<Vec<u8>, RawError> {
    scsi_read(file, &[0x4d, 0, 0x40 | page, 0, 0, 0, 0, 0x02, 0x00, 0], 512)
}

fn sense_error(sense: &[u8]) -> RawError {
    match crate::scsi::sense(sense) {
        // Illegal request, or aborted by an ATA drive that does not know the command.
        Some((0x05 | 0x0b, ..)) => RawError::NotOffered,
        Some((key, asc, ascq)) => RawError::Sense { key, asc, ascq },
        None => RawError::Io(io::Error::other("the command failed without sense data")),
    }
}

/// An ATA command through SCSI: its answer, and its registers where they were asked for.
pub fn ata(
    file: &File,
    command: &crate::ata::AtaCommand,
) -> Result<(Vec<u8>, Option<crate::ata::Registers>), RawError> {
    let mut answer = vec![0; usize::from(command.sectors) * crate::ata::SECTOR];
    let (status, sense, moved) = sg(file, &command.cdb(), &mut answer)?;
    let registers = crate::ata::Registers::of_sense(&sense);
    // Registers come back in sense data even where nothing is wrong: sense key 1 (recovered) or 0.
    let good = match crate::scsi::sense(&sense) {
        Some((key, ..)) => key <= 1 && registers.is_none_or(|r| r.status & 1 == 0),
        None => status == 0,
    };
    if !good {
        return Err(sense_error(&sense));
    }
    if !answer.is_empty() && moved < answer.len() {
        return Err(RawError::NotOffered);
    }
    Ok((answer, registers))
}

/// An ATA command that is given a sector. The only one is the log that says what a selective self-test reads; none changes the data of the medium.
pub fn ata_give(
    file: &File,
    command: &crate::ata::AtaCommand,
    sector: &[u8; crate::ata::SECTOR],
) -> Result<(), RawError> {
    let mut given = *sector;
    let (status, sense, _) = sg_io(file, &command.cdb(), -2, (given.as_mut_ptr(), given.len()))?;
    match crate::scsi::sense(&sense) {
        Some((key, ..)) if key > 1 => Err(sense_error(&sense)),
        None if status != 0 => Err(sense_error(&sense)),
        _ => Ok(()),
    }
}

/// Bytes of a block device as the kernel sees it now; 0 for one that has left.
pub fn device_size(file: &File) -> io::Result<Bytes> {
    let mut size = 0_u64;
    // SAFETY: the request writes a 64-bit number, which outlives the call.
    match unsafe { libc::ioctl(file.as_raw_fd(), BLKGETSIZE64, &raw mut size) } {
        0 => Ok(Bytes(size)),
        _ => Err(io::Error::last_os_error()),
    }
}

/// What is behind a loop device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LoopStatus {
    /// Number of the device that the file lies on.
    pub on: u64,
    /// Inode number of the file, or of the device's node.
    pub inode: u64,
    /// Number of the block device that it is; 0 for a file.
    pub device: u64,
}

/// `struct loop_info64` of the kernel's `linux/loop.h`.
#[repr(C)]
struct LoopInfo {
    on: u64,
    inode: u64,
    device: u64,
    rest: [u8; 208],
}

const _: () = assert!(size_of::<LoopInfo>() == 232);

/// Asks a loop device what is behind it.
pub fn loop_status(file: &File) -> io::Result<LoopStatus> {
    let mut info = LoopInfo { on: 0, inode: 0, device: 0, rest: [0; 208] };
    // SAFETY: the request fills a structure that is laid out as the kernel's, and outlives the call.
    match unsafe { libc::ioctl(file.as_raw_fd(), LOOP_GET_STATUS64, &raw mut info) } {
        // Numbers of devices come as stat(2) gives them (the kernel's huge_encode_dev).
        0 => Ok(LoopStatus { on: info.on, inode: info.inode, device: info.device }),
        _ => Err(io::Error::last_os_error()),
    }
}

/// Tells a block device that a range holds nothing any more.
pub fn discard(file: &File, start: Bytes, length: Bytes) -> io::Result<()> {
    let range = [start.0, length.0];
    // SAFETY: the request reads two 64-bit numbers, which outlive the call.
    match unsafe { libc::ioctl(file.as_raw_fd(), BLKDISCARD, range.as_ptr()) } {
        0 => Ok(()),
        _ => Err(io::Error::last_os_error()),
    }
}
