//! The source of random numbers that callers hand in, and the mixing of bits that hashing is made of.

/// A small generator that is seeded by its owner: the same seed draws the same numbers, live and in a test.
///
/// SplitMix64 (Steele, Lea, Flood: "Fast splittable pseudorandom number generators", OOPSLA 2014): equally spread
/// over all 64-bit numbers, and no secret: nothing that must not be guessed may be made of it.
#[derive(Clone, Debug)]
pub struct Draw(u64);

/// The odd number nearest to 2^64 divided by the golden ratio: steps of it visit every number once.
pub const GOLDEN: u64 = 0x9e37_79b9_7f4a_7c15;

impl Draw {
    /// A generator that begins at a seed.
    #[must_use]
    pub const fn seeded(seed: u64) -> Self {
        Self(seed)
    }

    /// The next number of the sequence, over all 64 bits.
    pub fn number(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(GOLDEN);
        mix(self.0)
    }
}

/// Spreads a number's bits over all of its places: numbers that differ in one bit differ in half of them afterwards.
#[must_use]
pub const fn mix(number: u64) -> u64 {
    let number = (number ^ (number >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let number = (number ^ (number >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    number ^ (number >> 31)
}

/// A number for some bytes, the same on every machine and in every release. An attacker who chooses the bytes can make two
/// of them meet, so it may decide where a client goes and must not decide what a client may do.
#[must_use]
pub fn digest(bytes: &[u8]) -> u64 {
    let start = mix(bytes.len() as u64 ^ GOLDEN);
    let (words, rest) = bytes.as_chunks::<8>();
    let hashed =
        words.iter().fold(start, |hash, word| mix(hash ^ u64::from_le_bytes(*word)).wrapping_add(GOLDEN));
    let mut last = [0; 8];
    last[..rest.len()].copy_from_slice(rest);
    mix(hashed ^ u64::from_le_bytes(last))
}

/// Which part of `0..count` a number falls into, each as likely as the others.
#[must_use]
pub fn part(number: u64, count: u64) -> u64 {
    ((u128::from(number) * u128::from(count)) >> 64) as u64
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_numbers_are_those_of_the_paper() {
        // The first outputs for the seed 1234567, as published with the reference implementation.
        let mut draw = Draw::seeded(1_234_567);
        assert_eq!(draw.number(), 6_457_827_717_110_365_317);
        assert_eq!(draw.number(), 3_203_168_211_198_807_973);
    }

    #[test]
    fn digests_differ_by_every_byte_and_by_length() {
        let texts: [&[u8]; 8] = [b"", b"\0", b"\0\0", b"a", b"b", b"abcdefgh", b"abcdefgh\0", b"abcdefgi"];
        let mut digests = texts.map(digest).to_vec();
        digests.sort_unstable();
        digests.dedup();
        assert_eq!(digests.len(), texts.len());
    }

    #[test]
    fn parts_are_even() {
        let mut draw = Draw::seeded(1);
        let mut counts = [0_u32; 7];
        for _ in 0..70_000 {
            counts[part(draw.number(), 7) as usize] += 1;
        }
        assert!(counts.iter().all(|count| (9_500..10_500).contains(count)), "{counts:?}");
    }
}
