//! Reading ahead: while one chunk is written, hashed or parsed, the next ones are read.

use std::sync::mpsc::{self, SyncSender};
use std::sync::{Mutex, PoisonError};
use std::thread;

use crate::device::Buffer;

/// Chunks read ahead, at most.
const AHEAD: usize = 4;
/// Threads that read. With a second one the device has its next transfer at once, and not only when the chunk
/// before has been handed on.
const READERS: usize = 2;

/// What is to be read next, and where its answer will be looked for, in the same order.
struct Order<I, A> {
    places: I,
    answers: SyncSender<mpsc::Receiver<A>>,
}

/// Reads the chunks that `places` names, by `read`, two at a time, and hands them in their order to `take`. After
/// a chunk that could not be read, or that `take` ended at, no other is begun.
///
/// `read` makes the buffer as long as its chunk: it is one of a few that are used again and again.
pub fn read_ahead<P: Send, R: Send, E>(
    places: impl Iterator<Item = P> + Send,
    read: impl Fn(&P, &mut Buffer) -> Result<(), R> + Send + Sync,
    mut take: impl FnMut(P, Result<&mut [u8], R>) -> Result<(), E>,
) -> Result<(), E> {
    let spare = Mutex::new(Vec::<Buffer>::new());
    let spare = || spare.lock().unwrap_or_else(PoisonError::into_inner);
    let (answers, in_order) = mpsc::sync_channel(AHEAD);
    let order = Mutex::new(Some(Order { places, answers }));
    let next = || {
        let mut order = order.lock().unwrap_or_else(PoisonError::into_inner);
        let found = order.as_mut().and_then(|order| {
            let place = order.places.next()?;
            let (answer, coming) = mpsc::sync_channel(1);
            order.answers.send(coming).ok()?;
            Some((place, answer))
        });
        if found.is_none() {
            *order = None;
        }
        found
    };
    let reader = || {
        while let Some((place, answer)) = next() {
            let mut buffer = spare().pop().unwrap_or_default();
            let chunk = read(&place, &mut buffer).map(|()| buffer);
            let has_failed = chunk.is_err();
            // First the answer: the reader that holds the order may be waiting for it to be taken.
            answer.send((place, chunk)).ok();
            if has_failed {
                *order.lock().unwrap_or_else(PoisonError::into_inner) = None;
            }
        }
    };
    thread::scope(|scope| {
        for _ in 0..READERS {
            scope.spawn(reader);
        }
        for answer in in_order {
            let Ok((place, chunk)) = answer.recv() else {
                break;
            };
            match chunk {
                Ok(mut buffer) => {
                    take(place, Ok(&mut buffer))?;
                    spare().push(buffer);
                }
                Err(error) => take(place, Err(error))?,
            }
        }
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};
    use std::thread;
    use std::time::Duration;

    use super::{AHEAD, Buffer, read_ahead};

    /// Places 0 to 99. Reading an even one takes longer, and from `bad` on all of it fails. What was taken, what
    /// came of it, and how many places were read.
    fn taken(bad: u8, enough: usize) -> (Vec<u8>, Result<(), String>, usize) {
        let (mut taken, reads) = (Vec::new(), AtomicUsize::new(0));
        let read = |&place: &u8, buffer: &mut Buffer| {
            reads.fetch_add(1, Ordering::Relaxed);
            if place.is_multiple_of(2) {
                thread::sleep(Duration::from_micros(300));
            }
            // Longer and shorter ones in turns.
            buffer.of_len(usize::from(place % 5 * 50)).fill(place);
            if place < bad { Ok(()) } else { Err(place) }
        };
        let done = read_ahead(0..100, read, |place, chunk| {
            let wanted = vec![place; usize::from(place % 5 * 50)];
            assert_eq!(chunk.map_err(|bad| format!("{bad}"))?, wanted);
            taken.push(place);
            if taken.len() < enough {
                Ok(())
            } else {
                Err("enough".to_owned())
            }
        });
        (taken, done, reads.into_inner())
    }

    #[test]
    fn chunks_come_in_their_order_up_to_the_first_that_fails() {
        for _ in 0..20 {
            for bad in [0, 1, 6, 7, 99] {
                let (chunks, done, reads) = taken(bad, 100);
                assert_eq!(chunks, (0..bad).collect::<Vec<_>>());
                assert_eq!(done, Err(bad.to_string()));
                assert!(reads <= usize::from(bad) + 1 + AHEAD, "{reads} of {bad}");
            }
        }
        let (chunks, done, reads) = taken(100, 101);
        assert_eq!((chunks, done, reads), ((0..100).collect(), Ok(()), 100));
    }

    #[test]
    fn what_is_read_ahead_is_bounded() {
        let (chunks, done, reads) = taken(100, 5);
        assert_eq!((chunks.len(), done), (5, Err("enough".to_owned())));
        assert!(reads <= 5 + AHEAD, "{reads}");
    }

    #[test]
    fn a_reader_that_panics_ends_the_reading() {
        let read = |&place: &u8, _: &mut Buffer| {
            assert!(place < 3, "of no use");
            Ok::<_, ()>(())
        };
        let run = || read_ahead(0..100, read, |_, chunk| chunk.map(drop));
        assert!(std::panic::catch_unwind(run).is_err());
    }
}
