//! Whether a file has been opened for writing, as the kernel tells.

use std::mem::MaybeUninit;
use std::path::Path;

use rustix::fs::inotify::{self, CreateFlags, ReadFlags, Reader, WatchFlags};

use rustix::fd::OwnedFd;

/// Watches a file from now on.
#[derive(Debug)]
pub struct WriteWatch(OwnedFd);

impl WriteWatch {
    /// The file must be there.
    pub fn new(file: &Path) -> Self {
        let watch = inotify::init(CreateFlags::NONBLOCK | CreateFlags::CLOEXEC).unwrap();
        inotify::add_watch(&watch, file, WatchFlags::CLOSE_WRITE).unwrap();
        Self(watch)
    }

    /// True when the file has been opened for writing and closed since this was asked last.
    pub fn was_opened(&self) -> bool {
        let mut buffer = [MaybeUninit::uninit(); 4096];
        let mut events = Reader::new(&self.0, &mut buffer);
        let mut found = false;
        while let Ok(event) = events.next() {
            found |= event.events().contains(ReadFlags::CLOSE_WRITE);
        }
        found
    }
}
