//! Reading ahead: while one chunk is written, hashed or parsed, the next is read.

use std::sync::mpsc;
use std::thread;

/// Chunks read ahead, at most.
const AHEAD: usize = 4;

/// Reads the chunks that `places` names, by `read`, and hands them in their order to `take`. Nothing is read
/// after a chunk that could not be read, or that `take` ended at.
pub fn read_ahead<P: Send, R: Send, E>(
    places: impl Iterator<Item = P> + Send,
    read: impl Fn(&P) -> Result<Vec<u8>, R> + Send,
    mut take: impl FnMut(P, Result<Vec<u8>, R>) -> Result<(), E>,
) -> Result<(), E> {
    thread::scope(|scope| {
        let (sender, receiver) = mpsc::sync_channel(AHEAD);
        scope.spawn(move || {
            for place in places {
                let chunk = read(&place);
                let is_last = chunk.is_err();
                if sender.send((place, chunk)).is_err() || is_last {
                    return;
                }
            }
        });
        for (place, chunk) in receiver {
            take(place, chunk)?;
        }
        Ok(())
    })
}
