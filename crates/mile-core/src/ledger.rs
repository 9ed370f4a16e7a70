//! The ledger of a break: what was considered for it, and the rows that add up to that.

use crate::breaks::{Break, Candidate, Cause, Evidence};

impl Break {
    /// What was considered, the likeliest first, with the rows that add up to its odds; those of less than a hundredth are left out, and so are rows of
    /// no weight. Findings of earlier versions have no weights, and give none.
    pub fn ledger(&self) -> Vec<Account<'_>> {
        let seen = self.candidates.iter().filter(|c| c.share >= 0.01 || c.cause == self.cause);
        seen.map(|candidate| {
            let own = |e: &&Evidence| e.cause == candidate.cause && e.weight.abs() >= LIGHTEST;
            let mut rows: Vec<&Evidence> = self.evidence.iter().filter(own).collect();
            rows.sort_by(|a, b| b.weight.abs().total_cmp(&a.weight.abs()));
            Account { candidate: *candidate, rows }
        })
        .collect()
    }

    /// That the readings allow no more confidence, in words, where they do not.
    pub fn capped(&self) -> Option<String> {
        let share = self.candidates.first().map_or(0.0, |c| c.share);
        let says = |row: &str| self.cause == Cause::Unexplained && self.evidence.iter().any(|e| e.row == row);
        let why = if says("others.unseen") {
            ": it was not logged what others did, and it may have been them"
        } else if says("surface.once") {
            ": no other pass over the address was logged, and it may be a slow place"
        } else {
            ""
        };
        (share > self.at_most + 0.005).then(|| {
            format!("what was logged allows {:.0} % confidence at the most{why}", 100.0 * self.at_most)
        })
    }
}

/// Rows that weigh less are not shown.
const LIGHTEST: f64 = 0.05;

/// A cause that was considered, and its rows.
#[derive(Clone, Debug, PartialEq)]
pub struct Account<'a> {
    /// The cause, its odds and its share.
    pub candidate: Candidate,
    /// Its rows, the heaviest first.
    pub rows: Vec<&'a Evidence>,
}

impl Account<'_> {
    /// `write cache exhausted: 75 %, sum +1.16`; more than 99.5 % is `>99 %`.
    pub fn head(&self) -> String {
        let Candidate { cause, log_odds, share } = self.candidate;
        let sum = if cause == Cause::Unexplained && self.rows.is_empty() {
            "sum 0, against which the others are measured".to_owned()
        } else {
            format!("sum {}", signed(log_odds))
        };
        // Nothing is certain, and a share is kept in hundredths.
        let share = if share > 0.995 { ">99".to_owned() } else { format!("{:.0}", 100.0 * share) };
        format!("{}: {share} %, {sum}", cause.words())
    }

    /// `+3.27  first fall of this leg`, for each row.
    pub fn lines(&self) -> impl Iterator<Item = String> {
        self.rows.iter().map(|e| format!("{}  {}", signed(e.weight), e.text))
    }
}

/// With two places and its sign.
fn signed(x: f64) -> String {
    let sign = if x < 0.0 { '−' } else { '+' };
    format!("{sign}{:.2}", x.abs())
}
