//! What a drive carries: file systems, partition tables, and what other software builds on drives, known by the marks that their
//! own published formats put at fixed places.

use mile_core::Bytes;

/// Bytes from the front that are looked at.
pub const HEAD: usize = 256 << 10;
/// Bytes from the end that are looked at.
pub const TAIL: usize = 128 << 10;

/// Marks at fixed places from the front: name, place, bytes.
const MARKS: [(&str, usize, &[u8]); 26] = [
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
