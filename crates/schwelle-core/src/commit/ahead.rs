//! Reading ahead: while one chunk is written or hashed, the next is read.

use std::sync::mpsc;
use std::thread;

use crate::device::{DeviceError, ReadDevice};

/// Chunks read ahead, at most.
const AHEAD: usize = 4;

/// Shows the chunks of `device` that `places` names, (tag, byte offset, length), in their order to
/// `take`. The first error ends it.
pub(super) fn read_ahead<T: Send, E>(
    device: &dyn ReadDevice,
    places: impl Iterator<Item = (T, u64, usize)> + Send,
    failed: impl Fn(DeviceError) -> E,
    mut take: impl FnMut(T, u64, &[u8]) -> Result<(), E>,
) -> Result<(), E> {
    thread::scope(|scope| {
        let (sender, receiver) = mpsc::sync_channel(AHEAD);
        scope.spawn(move || {
            for (tag, offset, len) in places {
                let read = device.read_vec(offset, len);
                let is_last = read.is_err();
                if sender.send((tag, offset, read)).is_err() || is_last {
                    return;
                }
            }
        });
        for (tag, offset, read) in receiver {
            take(tag, offset, &read.map_err(&failed)?)?;
        }
        Ok(())
    })
}
