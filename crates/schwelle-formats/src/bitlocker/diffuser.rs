//! The diffuser of the older volumes: mixes a whole sector, so that a changed bit changes all of it.

/// Rounds and rotations of its two halves.
const A_ROUNDS: usize = 5;
const A_TURNS: [u32; 4] = [9, 0, 13, 0];
const B_ROUNDS: usize = 3;
const B_TURNS: [u32; 4] = [0, 10, 0, 25];

/// One half: what it adds to each word comes from two others, at these distances, modulo the number of words.
struct Half {
    rounds: usize,
    turns: [u32; 4],
    near: usize,
    far: usize,
}

fn a(words: usize) -> Half {
    Half {
        rounds: A_ROUNDS,
        turns: A_TURNS,
        near: words - 2,
        far: words - 5,
    }
}

fn b() -> Half {
    Half {
        rounds: B_ROUNDS,
        turns: B_TURNS,
        near: 2,
        far: 5,
    }
}

impl Half {
    /// `last` is the index of the last word: of a power of two of words, so that it serves as the modulus.
    #[inline]
    fn other(&self, words: &[u32], at: usize, last: usize) -> u32 {
        let near = words[(at + self.near) & last];
        let far = words[(at + self.far) & last];
        near ^ far.rotate_left(self.turns[at % 4])
    }

    fn undo(&self, words: &mut [u32]) {
        let last = words.len() - 1;
        for _ in 0..self.rounds {
            for at in 0..words.len() {
                words[at] = words[at].wrapping_add(self.other(words, at, last));
            }
        }
    }

    fn apply(&self, words: &mut [u32]) {
        let last = words.len() - 1;
        for _ in 0..self.rounds {
            for at in (0..words.len()).rev() {
                words[at] = words[at].wrapping_sub(self.other(words, at, last));
            }
        }
    }
}

fn with_words(sector: &mut [u8], change: impl FnOnce(&mut [u32])) {
    let (parts, _) = sector.as_chunks_mut::<4>();
    let mut words: Vec<u32> = parts.iter().map(|part| u32::from_le_bytes(*part)).collect();
    change(&mut words);
    for (part, word) in parts.iter_mut().zip(&words) {
        *part = word.to_le_bytes();
    }
}

/// Takes the diffuser off a sector; its length is a power of two from 32 bytes on.
pub(super) fn undo(sector: &mut [u8]) {
    with_words(sector, |words| {
        b().undo(words);
        a(words.len()).undo(words);
    });
}

/// Mixes such a sector.
pub(super) fn apply(sector: &mut [u8]) {
    with_words(sector, |words| {
        a(words.len()).apply(words);
        b().apply(words);
    });
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn it_is_taken_off_again(sector in proptest::collection::vec(any::<u8>(), 512)) {
            let mut mixed = sector.clone();
            apply(&mut mixed);
            prop_assert_ne!(&mixed, &sector);
            undo(&mut mixed);
            prop_assert_eq!(mixed, sector);
        }
    }
}
