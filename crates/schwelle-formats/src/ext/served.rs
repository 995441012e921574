//! Serves a reader that wants to own where its bytes come from, and not a device that is borrowed.
//!
//! The reader runs in a thread of its own and asks for pieces; this side reads them from the device. So nothing is
//! copied that is not wanted, and a reader that gives up on what it read ends alone.

use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;

use ext4_view::Ext4Read;

use crate::device::{DeviceError, ReadDevice};

use super::ExtError;

/// Bytes that are read at a time, and kept until others are wanted.
const PIECE_BYTES: u64 = 64 << 10;
/// Bytes that are read of a volume, at most: the descriptors of its groups, a journal that was not replayed, and the
/// files wanted are far less.
const MAX_READ_BYTES: u64 = 1 << 30;

type Piece = Result<Vec<u8>, DeviceError>;

/// Runs `read` with a source that is fed from `window`.
pub(super) fn serve<T: Send>(
    window: &dyn ReadDevice,
    read: impl FnOnce(Source) -> Result<T, ExtError> + Send,
) -> Result<T, ExtError> {
    let len = window.geometry().len_bytes();
    let (asks, asked) = channel::<u64>();
    let (gives, given) = channel::<Piece>();
    let source = Source {
        len,
        left: MAX_READ_BYTES,
        asks,
        given,
        piece: (0, Vec::new()),
    };
    thread::scope(|scope| {
        let reader = thread::Builder::new().spawn_scoped(scope, || read(source));
        let reader = reader.map_err(|_fault| ExtError::GaveUp)?;
        for at in asked {
            let bytes = len.saturating_sub(at).min(PIECE_BYTES);
            let piece = window.read_vec(at, usize::try_from(bytes).unwrap_or_default());
            if gives.send(piece).is_err() {
                break;
            }
        }
        reader.join().unwrap_or(Err(ExtError::GaveUp))
    })
}

/// Where the reader gets its bytes.
pub(super) struct Source {
    len: u64,
    left: u64,
    asks: Sender<u64>,
    given: Receiver<Piece>,
    /// What was read last, and where it begins.
    piece: (u64, Vec<u8>),
}

/// Why a source gives nothing.
#[derive(Debug, thiserror::Error)]
enum NotGiven {
    #[error("beyond the end of the volume")]
    Beyond,
    #[error("more is wanted of it than of any sound volume")]
    TooMuch,
    #[error("its device is closed")]
    Closed,
}

impl Ext4Read for Source {
    fn read(
        &mut self,
        start_byte: u64,
        dst: &mut [u8],
    ) -> Result<(), Box<dyn std::error::Error + Send + Sync>> {
        let mut done = 0;
        while let Some(rest) = dst.get_mut(done..).filter(|rest| !rest.is_empty()) {
            let at = start_byte.checked_add(done as u64);
            let at = at.filter(|at| *at < self.len).ok_or(NotGiven::Beyond)?;
            let first = at - at % PIECE_BYTES;
            let within = usize::try_from(at - first)?;
            if self.piece.0 != first || self.piece.1.len() <= within {
                self.left = self
                    .left
                    .checked_sub(PIECE_BYTES)
                    .ok_or(NotGiven::TooMuch)?;
                self.asks.send(first).map_err(|_closed| NotGiven::Closed)?;
                self.piece = (
                    first,
                    self.given.recv().map_err(|_closed| NotGiven::Closed)??,
                );
            }
            let piece = self.piece.1.get(within..).ok_or(NotGiven::Beyond)?;
            let count = piece.len().min(rest.len());
            for (to, from) in rest.iter_mut().zip(piece) {
                *to = *from;
            }
            if count == 0 {
                return Err(NotGiven::Beyond.into());
            }
            done += count;
        }
        Ok(())
    }
}
