//! How many handshakes are under way in a worker: each holds some tens of kilobytes and has cost some hundred thousand instructions when
//! its client turns out to have meant nothing by it.

use std::cell::RefCell;
use std::collections::HashMap;
use std::net::{IpAddr, Ipv6Addr};
use std::rc::Rc;

use merismos_core::config::document::HandshakeLimits;

/// The handshakes of a frontend, or those of one of its clients.
type Counted = (u32, Option<IpAddr>);

/// The handshakes that are under way in a worker.
#[derive(Debug, Default)]
pub(crate) struct HandshakeCounts(RefCell<HashMap<Counted, u32>>);

/// A handshake that counts until it is dropped.
#[derive(Debug)]
pub(crate) struct CountedHandshake {
    counts: Rc<HandshakeCounts>,
    frontend: u32,
    client: IpAddr,
}

impl HandshakeCounts {
    /// Counts one more.
    ///
    /// # Errors
    /// In words, which limit is reached.
    pub(super) fn begin(
        counts: &Rc<Self>,
        frontend: u32,
        client: IpAddr,
        limits: HandshakeLimits,
    ) -> Result<CountedHandshake, String> {
        let client = network_of(client);
        let mut known = counts.0.borrow_mut();
        let under_way = |of| known.get(&(frontend, of)).copied().unwrap_or_default();
        if under_way(None) >= limits.at_once {
            return Err(format!("{} are under way in a worker already (handshake_limit)", limits.at_once));
        }
        if under_way(Some(client)) >= limits.of_client {
            return Err(format!(
                "{client} has {} under way in a worker already (client_handshake_limit)",
                limits.of_client
            ));
        }
        for of in [None, Some(client)] {
            *known.entry((frontend, of)).or_default() += 1;
        }
        drop(known);
        Ok(CountedHandshake { counts: Rc::clone(counts), frontend, client })
    }
}

impl Drop for CountedHandshake {
    fn drop(&mut self) {
        let mut known = self.counts.0.borrow_mut();
        for of in [None, Some(self.client)] {
            let counted = (self.frontend, of);
            if let Some(count) = known.get_mut(&counted) {
                *count -= 1;
                if *count == 0 {
                    known.remove(&counted);
                }
            }
        }
    }
}

/// What counts as one client: who has one address of IPv6 has the other 2^64 - 1 of its network as well.
fn network_of(client: IpAddr) -> IpAddr {
    match client {
        IpAddr::V4(_) => client,
        IpAddr::V6(address) => {
            let [a, b, c, d, ..] = address.segments();
            IpAddr::V6(Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0))
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_client_and_a_frontend_have_so_many_and_no_more_until_some_are_over() {
        let counts = Rc::<HandshakeCounts>::default();
        let limits = HandshakeLimits { timeout: Duration::from_secs(10), at_once: 3, of_client: 2 };
        let begin = |frontend: u32, client: &str| {
            HandshakeCounts::begin(&counts, frontend, client.parse().unwrap(), limits)
        };
        let first = begin(1, "2001:db8::1").unwrap();
        let _second = begin(1, "2001:db8::2").unwrap();
        let why = begin(1, "2001:db8::3").unwrap_err();
        assert_eq!(why, "2001:db8:: has 2 under way in a worker already (client_handshake_limit)");
        let _third = begin(1, "192.0.2.7").unwrap();
        assert!(begin(1, "192.0.2.8").unwrap_err().contains("(handshake_limit)"));
        let _elsewhere = begin(2, "2001:db8::3").unwrap();
        drop(first);
        let _again = begin(1, "2001:db8::3").unwrap();
        assert!(begin(1, "192.0.2.8").is_err());
        drop((_second, _third, _elsewhere, _again));
        assert!(counts.0.borrow().is_empty(), "nothing is kept of those that are over");
    }
}
