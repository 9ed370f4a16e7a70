//! What is claimed of a drive, as it is said beside a course: the claims of the course language with semicolons between them,
//! `write 3000 MB/s; random read 900000 IOPS, blocks 4 KiB`.

use crate::course::Claims;
use crate::parse::parse;
use mile_core::claims::conditions::{ClaimedFigure, StatedClaim};
use mile_core::units::block_size;
use mile_core::{Bytes, Op};

/// Claims, read.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Claimed {
    /// Sequential rates and endurance.
    pub claims: Claims,
    /// Claims with their conditions.
    pub stated: Vec<StatedClaim>,
}

impl Claimed {
    /// Reads them; of two for the same, the last counts. An empty text claims nothing.
    ///
    /// # Errors
    /// What is wrong with the first that cannot be read.
    pub fn read(text: &str) -> Result<Self, String> {
        let mut all = Self::default();
        for one in text.split(';').map(str::trim).filter(|t| !t.is_empty()) {
            let wrong = |why: &str| format!("the claim `{one}`: {why}");
            if one.contains(['\n', '#']) {
                return Err(wrong("a claim is one line without a comment"));
            }
            let course = parse(&format!("course \"claims\"\nclaim {one}\nleg none\n  flush\n"))
                .map_err(|errors| wrong(&errors[0].message))?;
            all.claims.write = course.claims.write.or(all.claims.write);
            all.claims.read = course.claims.read.or(all.claims.read);
            all.claims.endurance = course.claims.endurance.or(all.claims.endurance);
            all.stated.extend(course.stated);
        }
        Ok(all)
    }

    /// As it is read again.
    pub fn text(&self) -> String {
        let Claims { write, read, endurance } = self.claims;
        let plain = [
            write.map(|r| format!("write {} MB/s", r.mb_s())),
            read.map(|r| format!("read {} MB/s", r.mb_s())),
            endurance.map(|b| format!("endurance {} TB", b.0 as f64 / 1e12)),
        ];
        let stated = self.stated.iter().map(stated_text);
        plain.into_iter().flatten().chain(stated).collect::<Vec<_>>().join("; ")
    }

    /// Adds what is said here to what a course claims, which goes before it.
    pub fn add_to(&self, claims: &mut Claims, stated: &mut Vec<StatedClaim>) {
        claims.write = claims.write.or(self.claims.write);
        claims.read = claims.read.or(self.claims.read);
        claims.endurance = claims.endurance.or(self.claims.endurance);
        let new: Vec<StatedClaim> = self.stated.iter().filter(|c| !stated.contains(c)).cloned().collect();
        stated.extend(new);
    }
}

fn stated_text(claim: &StatedClaim) -> String {
    let value = claim.value;
    let figure = match claim.figure {
        ClaimedFigure::Rate => format!("{value} MB/s"),
        ClaimedFigure::Operations => format!("{value} IOPS"),
        ClaimedFigure::P50 => format!("p50 {} ms", value / 1e3),
        ClaimedFigure::P99 => format!("p99 {} ms", value / 1e3),
        ClaimedFigure::Temperature => format!("temperature {value} °C"),
        ClaimedFigure::Power => format!("power {value} W"),
    };
    let Some(op) = claim.op else { return figure };
    let access = if claim.random == Some(true) { "random" } else { "sequential" };
    let op = if op == Op::Read { "read" } else { "write" };
    let conditions = [
        claim.block.map(|b| format!(", blocks {}", block_size(Bytes(b)))),
        claim.depth.map(|d| format!(", depth {d}")),
        claim.workers.map(|w| format!(", workers {w}")),
    ];
    format!("{access} {op} {figure}{}", conditions.into_iter().flatten().collect::<String>())
}

#[cfg(test)]
mod tests {
    use super::*;
    use mile_core::Rate;
    use proptest::prelude::*;

    #[test]
    fn claims_are_read_as_in_a_course_and_written_as_they_are_read() {
        let text = "write 3000 MB/s; endurance 1200 TB; random read 900000 IOPS, blocks 4 KiB, depth 32; power 8.5 W";
        let claimed = Claimed::read(text).unwrap();
        assert_eq!(claimed.claims.write, Some(Rate(3e9)));
        assert_eq!(claimed.claims.endurance, Some(Bytes(1_200_000_000_000_000)));
        assert_eq!(claimed.stated[0].depth, Some(32));
        assert_eq!(claimed.text(), text);
        assert_eq!(Claimed::read(" ; ").unwrap(), Claimed::default());
        for (text, said) in [
            ("write fast", "the claim `write fast`: "),
            ("read 5 MB/s; random erase 1 IOPS", "the claim `random erase 1 IOPS`: "),
            ("write 5 MB/s\nleg x", "one line"),
            ("write 5 MB/s # so", "one line"),
        ] {
            assert!(Claimed::read(text).unwrap_err().contains(said), "{text}");
        }
    }

    #[test]
    fn the_course_goes_before_what_is_said_beside_it() {
        let mut claims = Claims { write: Some(Rate(1e9)), ..Claims::default() };
        let mut stated = Claimed::read("temperature 70 °C").unwrap().stated;
        let beside = Claimed::read("write 2000 MB/s; read 5000 MB/s; temperature 70 °C; power 9 W").unwrap();
        beside.add_to(&mut claims, &mut stated);
        assert_eq!((claims.write, claims.read), (Some(Rate(1e9)), Some(Rate(5e9))));
        assert_eq!(stated.len(), 2);
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_again(
            value in 1_u32..5_000_000, which in 0_usize..5, random: bool, read: bool,
            kib in prop::option::of(1_u64..4096), depth in prop::option::of(1_u32..1024),
        ) {
            let figures = [ClaimedFigure::Rate, ClaimedFigure::Operations, ClaimedFigure::P50, ClaimedFigure::P99, ClaimedFigure::Power];
            let one = StatedClaim {
                figure: figures[which],
                value: f64::from(value),
                op: Some(if read { Op::Read } else { Op::Write }),
                random: Some(random),
                block: kib.map(|k| k << 10),
                depth,
                workers: None,
            };
            let claimed = Claimed { claims: Claims::default(), stated: vec![one.clone()] };
            let again = Claimed::read(&claimed.text()).unwrap().stated.remove(0);
            prop_assert!((again.value / one.value - 1.0).abs() < 1e-9);
            prop_assert_eq!(StatedClaim { value: one.value, ..again }, one);
        }
    }
}
