//! What a drive carries: file systems, partition tables, and what other software builds on drives, known by the marks that their
//! own published formats put at fixed places.

use mile_core::Bytes;

/// Bytes from the front that are looked at: the last place of a second LUKS2 header is 4 MiB.
pub const HEAD: usize = (4 << 20) + (64 << 10);
/// Bytes from the end that are looked at.
pub const TAIL: usize = 128 << 10;

/// Names beside those of [`MARKS`].
const OTHERS: [&str; 12] =
    ["gpt", "mbr", "lvm", "zfs", "luks", "ddf", "imsm", "drbd", "ufs", "partitions", "unreadable", "data"];

/// Everything that may be named with `--destroy`.
pub fn names() -> Vec<&'static str> {
    let mut all: Vec<&str> = MARKS.iter().map(|m| m.0).chain(OTHERS).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// Marks at fixed places from the front: name, place, bytes.
const MARKS: [(&str, usize, &[u8]); 34] = [
    ("ext", 1080, &[0x53, 0xef]),
    ("xfs", 0, b"XFSB"),
    ("btrfs", 65_600, b"_BHRfS_M"),
    ("f2fs", 1024, &[0x10, 0x20, 0xf5, 0xf2]),
    ("ntfs", 3, b"NTFS    "),
    ("exfat", 3, b"EXFAT   "),
    ("fat", 54, b"FAT12   "),
    ("fat", 54, b"FAT16   "),
    ("fat", 82, b"FAT32   "),
    ("bcachefs", 4120, &[0xc6, 0x85, 0x73, 0xf6, 0x66, 0xce, 0x90, 0xa9]),
    ("bcache", 4120, &[0xc6, 0x85, 0x73, 0xf6, 0x4e, 0x1a, 0x45, 0xca]),
    ("luks", 0, b"LUKS\xba\xbe"),
    ("swap", 4086, b"SWAPSPACE2"),
    ("swap", 65_526, b"SWAPSPACE2"),
    ("mdraid", 0, &[0xfc, 0x4e, 0x2b, 0xa9]),
    ("mdraid", 4096, &[0xfc, 0x4e, 0x2b, 0xa9]),
    ("iso9660", 32_769, b"CD001"),
    ("udf", 32_769, b"BEA01"),
    ("squashfs", 0, b"hsqs"),
    ("hfs", 1024, b"H+"),
    ("hfs", 1024, b"HX"),
    ("apfs", 32, b"NXSB"),
    ("reiserfs", 65_588, b"ReIsEr"),
    ("jfs", 32_768, b"JFS1"),
    ("gfs2", 65_536, &[0x01, 0x16, 0x19, 0x70, 0, 0, 0, 1]),
    ("erofs", 1024, &[0xe2, 0xe1, 0xf5, 0xe0]),
    ("bitlocker", 3, b"-FVE-FS-"),
    ("bitlocker", 3, b"MSWIN4.1\0\x02\x08\0\0"),
    ("refs", 3, b"ReFS\0\0\0\0"),
    ("bluestore", 0, b"bluestore block device\n"),
    ("asm", 32, b"ORCLDISK"),
    ("nilfs", 1030, &[0x34, 0x34]),
    ("vmfs", 1 << 20, &[0x0d, 0xd0, 0x01, 0xc0]),
    ("vmfs", 2 << 20, &[0x5e, 0xf1, 0xab, 0x2f]),
];

/// What is recognised on a drive, by its first [`HEAD`] bytes and its last [`TAIL`] bytes (less on a smaller one).
pub fn recognise(head: &[u8], tail: &[u8], logical_block: Bytes) -> Vec<&'static str> {
    let mut found = Vec::new();
    let mut say = |name| {
        if !found.contains(&name) {
            found.push(name);
        }
    };
    let at = |bytes: &[u8], place: usize, mark: &[u8]| bytes.get(place..place + mark.len()) == Some(mark);
    for block in [logical_block.0 as usize, 512, 4096] {
        // The header in the second block, and its copy in the last.
        if at(head, block, b"EFI PART") || tail.len() >= block && at(tail, tail.len() - block, b"EFI PART") {
            say("gpt");
        }
    }
    for (name, place, mark) in MARKS {
        if at(head, place, mark) {
            say(name);
        }
    }
    if is_mbr(head) && !found.iter().any(|f| matches!(*f, "fat" | "ntfs" | "exfat" | "gpt")) {
        found.push("mbr");
    }
    let mut say = |name| {
        if !found.contains(&name) {
            found.push(name);
        }
    };
    // A physical volume's label is in one of the first four sectors.
    if (0..4).any(|sector| at(head, sector * 512, b"LABELONE") && at(head, sector * 512 + 24, b"LVM2 001")) {
        say("lvm");
    }
    // Uberblocks of a pool lie every KiB from 128 KiB on, in either order of bytes.
    let uber = [[0x0c, 0xb1, 0xba, 0, 0, 0, 0, 0], [0, 0, 0, 0, 0, 0xba, 0xb1, 0x0c]];
    if (128..256).any(|k| uber.iter().any(|u| at(head, k << 10, u))) {
        say("zfs");
    }
    // The second header of LUKS2 lies at one of these places, by the size of the first, and is enough to open what was encrypted.
    if (14..=22).any(|power| at(head, 1 << power, b"SKUL\xba\xbe")) {
        say("luks");
    }
    // The superblock of UFS, in either order of bytes: versions 1 and 2, at the places that its boot code looks at.
    let ufs = [
        [0x54, 0x19, 0x01, 0x00],
        [0x00, 0x01, 0x19, 0x54],
        [0x19, 0x01, 0x54, 0x19],
        [0x19, 0x54, 0x01, 0x19],
    ];
    if [0, 8192, 65_536, 262_144].iter().any(|place| ufs.iter().any(|u| at(head, place + 1372, u))) {
        say("ufs");
    }
    // Headers of arrays in the last sectors: the anchor of DDF, and the block before it of IMSM.
    let from_end = |back: usize, mark: &[u8]| tail.len() >= back && at(tail, tail.len() - back, mark);
    if [512, 4096]
        .iter()
        .any(|b| from_end(*b, &[0xde, 0x11, 0xde, 0x11]) || from_end(*b, &[0x11, 0xde, 0x11, 0xde]))
    {
        say("ddf");
    }
    if [1024, 8192].iter().any(|b| from_end(*b, b"Intel Raid ISM Cfg Sig. ")) {
        say("imsm");
    }
    // The metadata of a replicated device in its last page: its magic number, which is of three versions, in its first 128 bytes.
    let last = tail.len().saturating_sub(4096);
    if (0..128).step_by(4).any(|i| (0x6a..=0x6e).any(|v| at(tail, last + i, &[0x83, 0x74, 0x02, v]))) {
        say("drbd");
    }
    // Superblocks of arrays that lie at the end: version 0.90 on a multiple of 64 KiB, version 1.0 8 KiB before it.
    if (0..tail.len()).step_by(4096).any(|place| at(tail, place, &[0xfc, 0x4e, 0x2b, 0xa9])) {
        say("mdraid");
    }
    found
}

/// Whether the first sector is a partition table: its mark, and entries that make sense.
fn is_mbr(head: &[u8]) -> bool {
    let Some(sector) = head.get(..512) else { return false };
    if sector[510..] != [0x55, 0xaa] {
        return false;
    }
    let entries = || sector[446..510].chunks_exact(16);
    entries().all(|e| e[0] == 0 || e[0] == 0x80) && entries().any(|e| e[4] != 0 && e[12..16] != [0; 4])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn partition_tables_are_known_at_either_end() {
        let (mut head, mut tail) = (vec![0; HEAD], vec![0; TAIL]);
        assert!(recognise(&head, &tail, Bytes(512)).is_empty());
        tail[TAIL - 4096..TAIL - 4088].copy_from_slice(b"EFI PART");
        assert_eq!(recognise(&head, &tail, Bytes(4096)), ["gpt"], "its copy is enough");
        tail.fill(0);
        head[510..512].copy_from_slice(&[0x55, 0xaa]);
        assert!(recognise(&head, &tail, Bytes(512)).is_empty(), "a mark without entries is none");
        head[446 + 4] = 0x83;
        head[446 + 12] = 1;
        assert_eq!(recognise(&head, &tail, Bytes(512)), ["mbr"]);
    }

    proptest! {
        #[test]
        fn no_bytes_are_a_panic(head in prop::collection::vec(any::<u8>(), 0..2000), tail in prop::collection::vec(any::<u8>(), 0..2000)) {
            let _ = recognise(&head, &tail, Bytes(512));
        }
    }
}
