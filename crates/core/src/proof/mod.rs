//! Expected against observed: does the traffic go where it should?

mod chi_square;
mod tally;

pub use chi_square::{ChiSquare, chi_square};
pub use tally::{
    ClientMove, Expectation, RequestResults, Tally, TallyMove, TallyRow, TallySample, TrialOutcome,
    TrialVerdict, tally,
};
