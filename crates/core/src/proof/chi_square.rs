//! Pearson's chi-square test of goodness of fit.

use serde::{Deserialize, Serialize};
use statrs::distribution::{ChiSquared, ContinuousCDF};

/// The least expected count of a class for the chi-square approximation to hold (W. G. Cochran, "Some methods
/// for strengthening the common chi-square tests", Biometrics 10, 1954).
const LEAST_EXPECTED: f64 = 5.0;

/// The result of a test.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChiSquare {
    /// The sum of (observed - expected)² / expected over the classes.
    pub statistic: f64,
    /// Degrees of freedom: classes less one.
    pub freedom: u32,
    /// How likely chance alone gives a difference at least this large, 0 to 1.
    pub p_value: f64,
}

impl ChiSquare {
    /// The p-value as a number with its sign: `p = 0.421`, `p < 0.001`.
    #[must_use]
    pub fn p_words(&self) -> String {
        if self.p_value < 0.001 { "p < 0.001".to_owned() } else { format!("p = {:.3}", self.p_value) }
    }

    /// The p-value in words.
    #[must_use]
    pub fn words(&self) -> &'static str {
        match self.p_value {
            p if p >= 0.1 => {
                "no sign of an uneven distribution: chance alone gives a difference like this often"
            }
            p if p >= 0.01 => "nothing proven: chance alone gives a difference like this now and then",
            p if p >= 0.001 => {
                "uneven: chance alone gives a difference like this less than once in 100 trials"
            }
            _ => {
                "uneven beyond doubt: chance alone gives a difference like this less than once in 1000 trials"
            }
        }
    }
}

/// Tests counts against expected counts of the same total (K. Pearson, Phil. Mag. 50, 1900).
///
/// Classes that expect less than 5 are joined with the next smallest until they expect enough. `None` when fewer
/// than two classes are left: there are too few requests to say anything.
#[must_use]
pub fn chi_square(observed: &[u64], expected: &[f64]) -> Option<ChiSquare> {
    let mut classes: Vec<(f64, f64)> = expected
        .iter()
        .copied()
        .zip(observed.iter().map(|count| *count as f64))
        .filter(|(e, _)| *e > 0.0)
        .collect();
    classes.sort_by(|a, b| b.0.total_cmp(&a.0));
    while classes.len() > 1 && classes.last().is_some_and(|(expected, _)| *expected < LEAST_EXPECTED) {
        let (expected, observed) = classes.pop().unwrap_or_default();
        if let Some(last) = classes.last_mut() {
            last.0 += expected;
            last.1 += observed;
        }
    }
    let freedom = classes.len().checked_sub(1).filter(|freedom| *freedom > 0)?;
    let statistic = classes.iter().map(|(expected, observed)| (observed - expected).powi(2) / expected).sum();
    let distribution = ChiSquared::new(freedom as f64).ok()?;
    let freedom = u32::try_from(freedom).ok()?;
    Some(ChiSquare { statistic, freedom, p_value: distribution.sf(statistic) })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// For an even number of degrees of freedom the tail has a closed form (M. Abramowitz, I. Stegun, "Handbook of
    /// Mathematical Functions", 26.4.21): with h half the statistic, exp(-h) for two and exp(-h) (1 + h) for four.
    #[rstest]
    #[case::two_degrees(&[60, 45, 45], 3.0, (-1.5_f64).exp())]
    #[case::two_degrees_far_out(&[80, 35, 35], 27.0, (-13.5_f64).exp())]
    #[case::four_degrees(&[70, 50, 50, 40, 40], 12.0, (-6.0_f64).exp() * 7.0)]
    fn p_values_agree_with_the_closed_form(#[case] observed: &[u64], #[case] statistic: f64, #[case] p: f64) {
        let expected = vec![50.0; observed.len()];
        let result = chi_square(observed, &expected).unwrap();
        assert_eq!(result.freedom as usize, observed.len() - 1);
        assert!((result.statistic - statistic).abs() < 1e-9, "{}", result.statistic);
        assert!((result.p_value / p - 1.0).abs() < 1e-6, "{} {p}", result.p_value);
    }

    #[test]
    fn a_worked_example() {
        // A die thrown 60 times: 5 8 9 8 10 20 against 10 each gives 13.4 at 5 degrees, p = 0.0199.
        let result = chi_square(&[5, 8, 9, 8, 10, 20], &[10.0; 6]).unwrap();
        assert!((result.statistic - 13.4).abs() < 1e-9);
        assert_eq!(result.freedom, 5);
        assert!((result.p_value - 0.0199).abs() < 1e-4, "{}", result.p_value);
    }

    #[test]
    fn exact_counts_leave_no_doubt() {
        let result = chi_square(&[30, 20, 10], &[30.0, 20.0, 10.0]).unwrap();
        assert_eq!((result.statistic, result.p_value), (0.0, 1.0));
    }

    #[test]
    fn small_classes_are_joined_and_one_class_says_nothing() {
        let joined = chi_square(&[50, 3, 1], &[48.0, 4.0, 2.0]).unwrap();
        assert_eq!(joined.freedom, 1);
        assert_eq!(chi_square(&[2, 1], &[1.5, 1.5]), None);
        assert_eq!(chi_square(&[100], &[100.0]), None);
    }

    #[test]
    fn a_server_that_got_nothing_is_uneven_beyond_doubt() {
        let result = chi_square(&[0, 150, 150], &[100.0, 100.0, 100.0]).unwrap();
        assert!(result.p_value < 0.001);
        assert!(result.words().contains("beyond doubt"));
    }
}
