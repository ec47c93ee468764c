//! The server with the lowest score, found at the root of a tree that is kept while work comes and goes.

use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};

use super::{Excluded, Member, PickContext};

/// A leaf without a server.
const NO_SERVER: u32 = u32::MAX;
/// What a server of one thousandth of a weight spends for a request.
const PRICE: u64 = 1 << 32;

/// A tournament of all servers by score; the lowest one stands at the root.
///
/// Finding it is one look at the root; when work begins or ends at a server its score is taken anew and compared
/// along one way to the root, in O(log n). Workers share the tree without a lock: two that meet on a way may leave an
/// old winner in a node, so each pick also takes one more server's score anew, going round all of them.
///
/// Among equal scores the server wins that has spent least, which is what each request costs divided by the
/// weight; so an idle pool is distributed in proportion to the weights (start-time fair queueing: P. Goyal, H. Vin,
/// H. Cheng, IEEE/ACM ToN 1997). A server that was away spends from where the others are, and is not flooded.
#[derive(Debug)]
pub(super) struct TournamentTree {
    pub(super) members: Box<[Member]>,
    /// The last score of each server, as the bits of an `f64`.
    scores: Box<[AtomicU64]>,
    /// The winners: node 1 is the root, the children of `i` are `2i` and `2i + 1`, leaf `j` stands at `width + j`.
    nodes: Box<[AtomicU32]>,
    width: usize,
    /// Whose score is taken anew with the next pick.
    refresh: AtomicU32,
}

impl TournamentTree {
    /// A tree of the members that have a weight.
    pub(super) fn new(members: Vec<Member>, score: impl Fn(&Member) -> f64) -> Self {
        let width = members.len().next_power_of_two().max(1);
        let scores = members.iter().map(|member| AtomicU64::new(score(member).to_bits())).collect();
        let leaf = |index: usize| match members.get(index) {
            Some(member) if member.weight > 0 => index as u32,
            Some(_) | None => NO_SERVER,
        };
        let nodes = (0..2 * width)
            .map(|node| AtomicU32::new(if node < width { NO_SERVER } else { leaf(node - width) }));
        let tree = Self {
            nodes: nodes.collect(),
            members: members.into(),
            scores,
            width,
            refresh: AtomicU32::new(0),
        };
        for node in (1..width).rev() {
            tree.settle(node);
        }
        tree
    }

    fn score(&self, server: u32) -> (f64, u64) {
        let index = server as usize;
        (f64::from_bits(self.scores[index].load(Ordering::Relaxed)), self.members[index].cell.spent())
    }

    fn lower(&self, a: u32, b: u32) -> u32 {
        match (a, b) {
            (NO_SERVER, other) | (other, NO_SERVER) => other,
            (a, b) => {
                let ((score_a, spent_a), (score_b, spent_b)) = (self.score(a), self.score(b));
                if (score_b, spent_b) < (score_a, spent_a) { b } else { a }
            }
        }
    }

    fn winner(&self, node: usize) -> u32 {
        self.nodes[node].load(Ordering::Relaxed)
    }

    fn settle(&self, node: usize) {
        let winner = self.lower(self.winner(2 * node), self.winner(2 * node + 1));
        self.nodes[node].store(winner, Ordering::Relaxed);
    }

    /// Takes a server's score anew and settles the nodes above it.
    pub(super) fn update(&self, place: usize, score: f64) {
        self.scores[place].store(score.to_bits(), Ordering::Relaxed);
        let mut node = (self.width + place) / 2;
        while node > 0 {
            self.settle(node);
            node /= 2;
        }
    }

    /// Notes that a request went to a server, before its score is taken anew.
    pub(super) fn spend(&self, ask: &PickContext<'_>, place: usize) {
        let member = &self.members[place];
        let start = member.cell.spent().max(ask.cell.spent_by_all());
        member.cell.spend_until(start + PRICE / u64::from(member.weight.max(1)));
        ask.cell.note_spent(start);
    }

    /// The next server in the round whose score is to be taken anew.
    pub(super) fn next_refresh(&self) -> Option<usize> {
        let next = self.refresh.fetch_add(1, Ordering::Relaxed) as usize;
        let place = next.checked_rem(self.members.len())?;
        (self.members[place].weight > 0).then_some(place)
    }

    /// Whether a score differs from the one that was taken last.
    pub(super) fn differs(&self, place: usize, score: f64) -> bool {
        self.scores[place].load(Ordering::Relaxed) != score.to_bits()
    }

    /// The server with the lowest score that was not tried.
    pub(super) fn lowest(&self, tried: &Excluded) -> Option<usize> {
        let found = self.lowest_under(1, tried);
        (found != NO_SERVER).then_some(found as usize)
    }

    fn lowest_under(&self, node: usize, tried: &Excluded) -> u32 {
        let winner = self.winner(node);
        if winner == NO_SERVER || !tried.contains(winner as usize) {
            return winner;
        }
        if node >= self.width {
            return NO_SERVER;
        }
        self.lower(self.lowest_under(2 * node, tried), self.lowest_under(2 * node + 1, tried))
    }
}
