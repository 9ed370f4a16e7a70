//! The weights of the evidence, fitted on cases whose truth is known.
//!
//! A conditional logit (McFadden, "Conditional logit analysis of qualitative choice behavior", 1974): the probability of a cause is the share of
//! exp(sum of its rows' weights) in that of all candidates. The negative log-likelihood, with a penalty on the distance of each weight from the one
//! that was argued from physics, is convex; Newton's method finds its least value. A weight never takes the sign that physics forbids.

use crate::score::pattern;
use crate::{Case, pairs};
use mile_core::causes::{Row, TABLE};
use mile_core::findings::{Candidate, Cause, Evidence, Findings};
use nalgebra::{DMatrix, DVector};
use std::fmt::Write;

/// How far a weight is expected to lie from the one that was argued: the standard deviation of the penalty.
const FREE: f64 = 1.5;
/// Rows that hold in fewer breaks than this keep the weight that was argued.
const FEWEST: usize = 8;
/// The weight furthest from 0 that a row can have: e to the eighth power is three thousand to one.
const FURTHEST: f64 = 8.0;

/// A break with its candidates: the rows that hold for each, and which is right.
pub struct Choice {
    /// For each candidate the places of its rows in the table, and how far each holds.
    rows: Vec<Vec<(usize, f64)>>,
    right: usize,
}

/// The breaks of a case that were found, and its pattern where no break begins it. A cause that was not considered counts as unexplained: no reading
/// pointed to it.
pub fn choices(case: &Case, findings: &Findings) -> Vec<Choice> {
    let place = |id: &str| TABLE.iter().position(|r| r.id == id);
    let choice = |truth: Cause, candidates: &[Candidate], evidence: &[Evidence]| {
        let causes: Vec<Cause> = candidates.iter().map(|c| c.cause).collect();
        let at = |cause: Cause| causes.iter().position(|c| *c == cause);
        let rows_of = |cause: &Cause| {
            let own = evidence.iter().filter(|e| e.cause == *cause);
            own.filter_map(|e| Some((place(&e.row)?, e.value))).collect()
        };
        Some(Choice {
            rows: causes.iter().map(rows_of).collect(),
            right: at(case.answer(truth)).or(at(Cause::Unexplained))?,
        })
    };
    let of_break = |(_, truth, found): (f64, usize, usize)| {
        let found = &findings.breaks[found];
        choice(case.truth.breaks[truth].cause, &found.candidates, &found.evidence)
    };
    let mut all: Vec<Choice> = pairs(case, findings).into_iter().filter_map(of_break).collect();
    let own = pattern(case, findings).filter(|(_, d)| d.evidence.iter().any(|e| e.row == "throttle.repeats"));
    all.extend(own.and_then(|(cycle, d)| choice(cycle.cause, &d.candidates, &d.evidence)));
    all
}

/// What a fit came to.
pub struct Fit {
    /// The rows, with their weights and standard errors.
    pub rows: Vec<Row>,
    /// Mean negative log-likelihood of a break, before and after.
    pub loss: (f64, f64),
}

/// Fits all weights. `argued` are those that were argued, in the order of the table.
pub fn fit(all: &[Choice], argued: &[f64]) -> Fit {
    let n = TABLE.len();
    let mut seen = vec![0_usize; n];
    for row in all.iter().flat_map(|c| c.rows.iter().flatten()) {
        seen[row.0] += 1;
    }
    let free: Vec<usize> = (0..n).filter(|&i| seen[i] >= FEWEST).collect();
    let now = TABLE.iter().zip(argued);
    let mut weights: Vec<f64> =
        now.enumerate().map(|(i, (r, argued))| if free.contains(&i) { r.weight } else { *argued }).collect();
    let before = loss(all, &weights);
    let bound = |i: usize, w: f64| {
        let w = w.clamp(-FURTHEST, FURTHEST);
        match TABLE[i].sign {
            1 => w.max(0.0),
            -1 => w.min(0.0),
            _ => w,
        }
    };
    let mut errors = vec![None; n];
    for _ in 0..60 {
        let (gradient, hessian) = derivatives(all, &weights, argued);
        // Those at a bound that would cross it stay there.
        let moves: Vec<usize> = free
            .iter()
            .copied()
            .filter(|&i| bound(i, weights[i] - 1e-6 * gradient[i].signum()) != weights[i])
            .collect();
        let (g, h) = (pick(&gradient, &moves), pick_square(&hessian, &moves));
        let Some(factor) = h.cholesky() else { break };
        let step = factor.solve(&g);
        let inverse = factor.inverse();
        errors = vec![None; n];
        for (k, &i) in moves.iter().enumerate() {
            errors[i] = Some(inverse[(k, k)].sqrt());
        }
        // Halved until it goes down.
        let objective = |w: &[f64]| all.len() as f64 * loss(all, w) + penalty(w, argued);
        let from = objective(&weights);
        let mut scale = 1.0;
        let next = loop {
            let mut next = weights.clone();
            for (k, &i) in moves.iter().enumerate() {
                next[i] = bound(i, weights[i] - scale * step[k]);
            }
            if objective(&next) <= from || scale < 1e-4 {
                break next;
            }
            scale /= 2.0;
        };
        let moved = weights.iter().zip(&next).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max);
        weights = next;
        if moved < 1e-5 {
            break;
        }
    }
    let hundredths = |x: f64| (100.0 * x).round() / 100.0;
    let row = |(i, r): (usize, &Row)| Row {
        weight: hundredths(weights[i]),
        error: errors[i].map(hundredths),
        ..*r
    };
    Fit { rows: TABLE.iter().enumerate().map(row).collect(), loss: (before, loss(all, &weights)) }
}

fn penalty(weights: &[f64], argued: &[f64]) -> f64 {
    weights.iter().zip(argued).map(|(w, a)| 0.5 * ((w - a) / FREE).powi(2)).sum()
}

/// Shares of the candidates of a choice.
fn shares(choice: &Choice, weights: &[f64]) -> Vec<f64> {
    let sums: Vec<f64> =
        choice.rows.iter().map(|rows| rows.iter().map(|(i, v)| weights[*i] * v).sum::<f64>()).collect();
    let most = sums.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let odds: Vec<f64> = sums.iter().map(|s| (s - most).exp()).collect();
    let total: f64 = odds.iter().sum();
    odds.into_iter().map(|o| o / total).collect()
}

/// Mean negative log-likelihood.
pub fn loss(all: &[Choice], weights: &[f64]) -> f64 {
    let sum: f64 = all.iter().map(|c| -shares(c, weights)[c.right].max(1e-12).ln()).sum();
    sum / all.len().max(1) as f64
}

/// Gradient and second derivatives of the negative log-likelihood with its penalty.
fn derivatives(all: &[Choice], weights: &[f64], argued: &[f64]) -> (DVector<f64>, DMatrix<f64>) {
    let n = weights.len();
    let mut gradient = DVector::from_fn(n, |i, _| (weights[i] - argued[i]) / FREE.powi(2));
    let mut hessian = DMatrix::from_diagonal_element(n, n, 1.0 / FREE.powi(2));
    for choice in all {
        let p = shares(choice, weights);
        // Mean of the rows under the model, and the rows that are there at all.
        let mut mean: Vec<(usize, f64)> = Vec::new();
        for (rows, share) in choice.rows.iter().zip(&p) {
            for (i, v) in rows {
                match mean.iter_mut().find(|m| m.0 == *i) {
                    Some(m) => m.1 += share * v,
                    None => mean.push((*i, share * v)),
                }
            }
        }
        for (i, m) in &mean {
            gradient[*i] += m;
            for (j, other) in &mean {
                hessian[(*i, *j)] -= m * other;
            }
        }
        for (i, v) in &choice.rows[choice.right] {
            gradient[*i] -= v;
        }
        for (rows, share) in choice.rows.iter().zip(&p) {
            for (i, v) in rows {
                for (j, w) in rows {
                    hessian[(*i, *j)] += share * v * w;
                }
            }
        }
    }
    (gradient, hessian)
}

fn pick(from: &DVector<f64>, places: &[usize]) -> DVector<f64> {
    DVector::from_fn(places.len(), |k, _| from[places[k]])
}

fn pick_square(from: &DMatrix<f64>, places: &[usize]) -> DMatrix<f64> {
    DMatrix::from_fn(places.len(), places.len(), |a, b| from[(places[a], places[b])])
}

/// The table as it stands in the source of the analysis.
pub fn source(rows: &[Row]) -> String {
    let mut text = String::new();
    for r in rows {
        let error = r.error.map_or("None".to_owned(), |e| format!("Some({e:.2})"));
        // Writing to a string cannot fail.
        let _ = writeln!(
            text,
            "    Row {{ id: \"{}\", sign: {}, argued: {:.2}, weight: {:.2}, error: {error} }},",
            r.id, r.sign, r.argued, r.weight
        );
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two candidates, of which one has a row that holds in all choices and is right in three of four: its weight is ln 3, and its standard error
    /// 1/sqrt(n p q), the closed forms of the logit, as far as the penalty lets them.
    #[test]
    fn a_row_that_is_right_in_three_of_four_weighs_the_logarithm_of_three() {
        let place = TABLE.iter().position(|r| r.id == "cache.first-fall").unwrap();
        let choice = |i: usize| Choice {
            rows: vec![vec![(place, 1.0)], Vec::new()],
            right: usize::from(i.is_multiple_of(4)),
        };
        let all: Vec<Choice> = (0..40_000).map(choice).collect();
        let argued: Vec<f64> = TABLE.iter().map(|r| r.argued).collect();
        let fitted = fit(&all, &argued);
        let row = fitted.rows[place];
        assert!((row.weight - 3_f64.ln()).abs() < 0.02, "{row:?}");
        let error = 1.0 / (40_000.0_f64 * 0.75 * 0.25).sqrt();
        assert!((row.error.unwrap() - error).abs() < 0.01, "{row:?}");
        assert!(fitted.loss.1 <= fitted.loss.0);
        // Where it is wrong in three of four, physics keeps it from speaking against its cause.
        let wrong: Vec<Choice> = (0..400_usize)
            .map(|i| Choice { right: usize::from(!i.is_multiple_of(4)), ..choice(i) })
            .collect();
        assert_eq!(fit(&wrong, &argued).rows[place].weight, 0.0);
    }
}
