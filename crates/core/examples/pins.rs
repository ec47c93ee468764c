//! Looks pins up in a full table, on so many threads at once: `pins THREADS PINS LOOKUPS`, of which each thread does so many. Prints the
//! CPU time of a look, in nanoseconds, for `scripts/bench_sessions.py`.

use std::sync::Barrier;

use merismos_core::draw::Draw;
use merismos_core::pins::{LearnedPin, PinDigest, PinLimits, PinTable};

/// The CPU time of this thread, in nanoseconds (`/proc/thread-self/schedstat`, first number).
fn cpu() -> u64 {
    let text = std::fs::read_to_string("/proc/thread-self/schedstat").expect("Linux tells");
    text.split(' ').next().and_then(|number| number.parse().ok()).expect("a number")
}

fn main() {
    let numbers: Vec<u64> =
        std::env::args().skip(1).map(|number| number.parse().expect("three numbers")).collect();
    let [threads, pins, looks] = *numbers.as_slice() else { panic!("pins THREADS PINS LOOKUPS") };
    let limits = PinLimits { pins, idle: 600, lifetime: None };
    let table = PinTable::new(5);
    let client = "192.0.2.7".parse().expect("an address");
    let key = |number: u64| PinDigest(number.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    for number in 0..pins {
        table.put(key(number), LearnedPin { server: number % 5, client, kind: 0, made: 0, used: 0 }, &limits);
    }
    let together = Barrier::new(usize::try_from(threads).expect("few threads"));
    let took: Vec<u64> = std::thread::scope(|scope| {
        let look = |thread: u64| {
            let (table, together) = (&table, &together);
            scope.spawn(move || {
                let mut draw = Draw::seeded(thread + 1);
                together.wait();
                let begin = cpu();
                let mut found = 0;
                for turn in 0..looks {
                    // A second passes with each hundred thousand looks, as at a hundred thousand requests a second.
                    let now = u32::try_from(turn / 100_000).expect("few seconds");
                    found += u64::from(table.get(key(draw.number() % pins), now, &limits).is_some());
                }
                assert_eq!(found, looks, "every pin is there");
                cpu() - begin
            })
        };
        let threads: Vec<_> = (0..threads).map(look).collect();
        threads.into_iter().map(|thread| thread.join().expect("it looks")).collect()
    });
    let all: u64 = took.iter().sum();
    #[allow(clippy::print_stdout)] // it is what the program is for
    {
        println!("{}", all / (threads * looks));
    }
}
