//! Sums of a series from which the cost of describing any stretch by a level or a line follows at once.

/// Sums over points `(x, y)`, each of weight 1.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Moments {
    /// Number of points.
    pub n: f64,
    x: f64,
    y: f64,
    xx: f64,
    xy: f64,
    yy: f64,
}

/// A straight line `y = level + slope * (x - centre)`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Line {
    /// Mean of x.
    pub centre: f64,
    /// Value at the centre: the mean of y.
    pub level: f64,
    /// Change of y for each unit of x.
    pub slope: f64,
}

impl Line {
    /// Value of the line at `x`.
    pub fn at(self, x: f64) -> f64 {
        self.level + self.slope * (x - self.centre)
    }
}

impl Moments {
    /// Adds a point.
    pub fn add(&mut self, x: f64, y: f64) {
        self.n += 1.0;
        self.x += x;
        self.y += y;
        self.xx += x * x;
        self.xy += x * y;
        self.yy += y * y;
    }

    /// The sums of the points of `self` that are not in `earlier`, a subset of them.
    pub fn minus(self, earlier: Self) -> Self {
        Self {
            n: self.n - earlier.n,
            x: self.x - earlier.x,
            y: self.y - earlier.y,
            xx: self.xx - earlier.xx,
            xy: self.xy - earlier.xy,
            yy: self.yy - earlier.yy,
        }
    }

    /// The sums of the points of both.
    pub fn joined(self, other: Self) -> Self {
        Self {
            n: self.n + other.n,
            x: self.x + other.x,
            y: self.y + other.y,
            xx: self.xx + other.xx,
            xy: self.xy + other.xy,
            yy: self.yy + other.yy,
        }
    }

    /// Sums before each point and after the last: `n + 1` entries.
    pub fn prefixes(points: impl IntoIterator<Item = (f64, f64)>) -> Vec<Self> {
        let mut sums = vec![Self::default()];
        let mut sum = Self::default();
        for (x, y) in points {
            sum.add(x, y);
            sums.push(sum);
        }
        sums
    }

    /// Residual sum of squares around the mean; 0 for no points.
    pub fn level_cost(self) -> f64 {
        if self.n < 1.0 { 0.0 } else { (self.yy - self.y * self.y / self.n).max(0.0) }
    }

    /// Residual sum of squares around the least-squares line; 0 for no points.
    pub fn line_cost(self) -> f64 {
        let sxx = self.sxx();
        if sxx <= 0.0 {
            return self.level_cost();
        }
        let sxy = self.xy - self.x * self.y / self.n;
        (self.level_cost() - sxy * sxy / sxx).max(0.0)
    }

    fn sxx(self) -> f64 {
        if self.n < 2.0 { 0.0 } else { self.xx - self.x * self.x / self.n }
    }

    /// The horizontal line through the mean.
    pub fn level(self) -> Line {
        let n = self.n.max(1.0);
        Line { centre: self.x / n, level: self.y / n, slope: 0.0 }
    }

    /// The least-squares line.
    pub fn line(self) -> Line {
        let sxx = self.sxx();
        let slope = if sxx <= 0.0 { 0.0 } else { (self.xy - self.x * self.y / self.n) / sxx };
        Line { slope, ..self.level() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Points on y = 3 + 2x with residuals +1, -1, -1, +1, which are orthogonal to both a constant and a slope.
    #[test]
    fn costs_of_a_known_line() {
        let points = [(0.0, 4.0), (1.0, 4.0), (2.0, 6.0), (3.0, 10.0)];
        let sums = Moments::prefixes(points);
        let all = sums[4];
        assert!((all.line_cost() - 4.0).abs() < 1e-9);
        assert!((all.level_cost() - (4.0 + 4.0 * 5.0)).abs() < 1e-9);
        let line = all.line();
        assert!((line.slope - 2.0).abs() < 1e-12 && (line.at(0.0) - 3.0).abs() < 1e-12);
        assert_eq!(sums[3].minus(sums[1]).n, 2.0);
        assert_eq!(Moments::default().line_cost(), 0.0);
    }
}
