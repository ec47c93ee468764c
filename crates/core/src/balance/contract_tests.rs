//! One suite over all implementations of [`Balance`].

use rstest::rstest;

use super::*;

type Make = fn(&[u16]) -> Box<dyn Balance>;

fn round_robin(weights: &[u16]) -> Box<dyn Balance> {
    Box::new(RoundRobin::new(weights.iter().copied().enumerate()))
}

#[rstest]
fn nobody_eligible_gives_nobody(#[values(round_robin as Make)] make: Make) {
    for weights in [&[][..], &[0], &[0, 0]] {
        let balance = make(weights);
        let cell = PoolCell::default();
        assert_eq!(balance.pick(&cell, &Tried::default()), None);
        assert_eq!(balance.peek(&cell), None);
    }
}

#[rstest]
fn the_last_untried_server_is_always_found(#[values(round_robin as Make)] make: Make) {
    let weights = [1_000, 1, 1_000, 1_000];
    let balance = make(&weights);
    let cell = PoolCell::default();
    for start in 0..50 {
        let mut tried = Tried::default();
        let mut picks: Vec<_> = (0..4)
            .map(|_| {
                let place =
                    balance.pick(&cell, &tried).unwrap_or_else(|| panic!("round {start}: one is left"));
                tried.note(place);
                place
            })
            .collect();
        assert_eq!(balance.pick(&cell, &tried), None, "round {start}: all were tried");
        picks.sort_unstable();
        assert_eq!(picks, [0, 1, 2, 3]);
    }
}

#[rstest]
fn peek_tells_the_next_pick_and_takes_nothing(#[values(round_robin as Make)] make: Make) {
    let balance = make(&[3, 0, 2, 1]);
    let cell = PoolCell::default();
    for _ in 0..30 {
        let peeked = balance.peek(&cell);
        assert_eq!(balance.peek(&cell), peeked);
        let place = peeked.expect("three are eligible");
        assert_eq!(balance.turns_until(&cell, place), Some(0));
        assert_eq!(balance.pick(&cell, &Tried::default()), Some(place));
    }
    assert_eq!(balance.turns_until(&cell, 1), None, "a server without weight has no turn");
}
