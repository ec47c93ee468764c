//! Which clients a limit holds off most.

use ipnet::IpNet;

/// How many networks are kept.
const MOST: usize = 32;

/// A network of clients that a limit holds off.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Offender {
    /// The network.
    pub network: IpNet,
    /// How often it was held off, at most.
    pub count: u64,
    /// How many of these may have been others', whose place it took.
    pub over: u64,
    /// When it was held off last, in nanoseconds since the start of the node.
    pub last: u64,
}

/// The networks that were held off most, of any number of them, in the place of 32: a network that was held off more often than one in 32 times is among
/// them (Metwally, Agrawal, El Abbadi: "Efficient computation of frequent and top-k elements in data streams", ICDT 2005).
#[derive(Clone, Debug, Default)]
pub struct Offenders(Vec<Offender>);

impl Offenders {
    /// Clients of a network were held off so many times more.
    pub fn add(&mut self, network: IpNet, count: u64, over: u64, now: u64) {
        if let Some(known) = self.0.iter_mut().find(|known| known.network == network) {
            known.count += count;
            known.over += over;
            known.last = known.last.max(now);
            return;
        }
        let new = Offender { network, count, over, last: now };
        if self.0.len() < MOST {
            self.0.push(new);
            return;
        }
        if let Some(least) = self.0.iter_mut().min_by_key(|known| known.count) {
            *least = Offender { count: least.count + count, over: least.count + over, ..new };
        }
    }

    /// Those that were held off most, most often first.
    #[must_use]
    pub fn most(mut self) -> Vec<Offender> {
        self.0.sort_by_key(|known| (std::cmp::Reverse(known.count), known.network));
        self.0
    }

    /// All of them, in no order.
    pub fn iter(&self) -> impl Iterator<Item = &Offender> {
        self.0.iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn network(number: u32) -> IpNet {
        IpNet::new(std::net::Ipv4Addr::from(0xc000_0200 + number).into(), 32).unwrap()
    }

    #[test]
    fn those_who_ask_most_are_found_among_many() {
        let mut offenders = Offenders::default();
        for turn in 0..1_000 {
            offenders.add(network(1), 1, 0, turn);
            offenders.add(network(2), 1, 0, turn);
            // A thousand others, each once.
            offenders.add(network(1_000 + u32::try_from(turn).unwrap()), 1, 0, turn);
        }
        let most = offenders.most();
        assert_eq!(most.len(), MOST);
        let found: Vec<_> = most.iter().take(2).map(|it| (it.network, it.count, it.over, it.last)).collect();
        assert_eq!(found, [(network(1), 1_000, 0, 999), (network(2), 1_000, 0, 999)]);
        assert!(most[2..].iter().all(|it| it.count - it.over == 1), "{most:?}");
    }
}
