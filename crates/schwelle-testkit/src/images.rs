//! Images of disks: large files that are mostly holes, which are passed over.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

use rustix::fs::{SeekFrom, seek};
use rustix::io::Errno;

/// Every piece of a file that is not all zeros, with the byte where it begins; the file's length.
fn each_piece(path: &Path, mut take: impl FnMut(u64, &[u8])) -> u64 {
    const PIECE: u64 = 1 << 16;
    let file = File::open(path).unwrap();
    let len = seek(&file, SeekFrom::End(0)).unwrap();
    let zeros = [0; 1 << 16];
    let mut piece = Vec::new();
    let mut at = 0;
    while at < len {
        at = match seek(&file, SeekFrom::Data(at)) {
            Ok(data) => data / PIECE * PIECE,
            Err(Errno::NXIO) => break,
            // No holes are reported here.
            Err(_) => at,
        };
        piece.resize(usize::try_from(PIECE.min(len - at)).unwrap(), 0);
        file.read_exact_at(&mut piece, at).unwrap();
        if piece != zeros[..piece.len()] {
            take(at, &piece);
        }
        at += PIECE;
    }
    len
}

/// Hash of what a file holds: its length, and every piece that is not all zeros. A hole and zeros that were written
/// are the same.
pub fn hash(path: &Path) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    let len = each_piece(path, |at, piece| {
        hasher.update(&at.to_le_bytes());
        hasher.update(piece);
    });
    hasher.update(&len.to_le_bytes());
    hasher.finalize()
}

/// Copies an image; what is zero becomes a hole.
pub fn copy_image(from: &Path, to: &Path) {
    let copy = File::create(to).unwrap();
    let len = each_piece(from, |at, piece| copy.write_all_at(piece, at).unwrap());
    copy.set_len(len).unwrap();
}
