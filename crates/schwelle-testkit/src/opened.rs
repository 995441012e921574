//! Whether a file has been opened for writing, as the kernel tells.

use std::mem::MaybeUninit;
use std::path::Path;
use std::time::{Duration, Instant};
use std::{fs, thread};

use rustix::fd::OwnedFd;
use rustix::fs::inotify::{self, CreateFlags, ReadFlags, Reader, WatchFlags};

const PATIENCE: Duration = Duration::from_secs(10);

/// Watches a file from now on.
#[derive(Debug)]
pub struct WriteWatch(OwnedFd);

impl WriteWatch {
    /// The file must be there. Waits until no process has it open for writing: a program that
    /// another thread starts keeps our own files from its fork to its exec, and would close
    /// them later than we did.
    ///
    /// # Panics
    ///
    /// When it is still open for writing after ten seconds.
    pub fn new(file: &Path) -> Self {
        let file = fs::canonicalize(file).unwrap();
        let begin = Instant::now();
        while is_written(&file) {
            assert!(begin.elapsed() < PATIENCE, "{file:?} stays open");
            thread::sleep(Duration::from_millis(5));
        }
        let watch = inotify::init(CreateFlags::NONBLOCK | CreateFlags::CLOEXEC).unwrap();
        inotify::add_watch(&watch, &file, WatchFlags::CLOSE_WRITE).unwrap();
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

/// True when a process has the file open for writing, by `/proc/PID/fd` and `fdinfo` (proc(5):
/// `flags` are those of open(2) in octal, the two lowest bits are the access mode, 0 reads only).
/// Processes and handles that end meanwhile are left out.
fn is_written(file: &Path) -> bool {
    let processes = fs::read_dir("/proc").unwrap().flatten();
    let handles = processes.filter_map(|process| fs::read_dir(process.path().join("fd")).ok());
    handles.flatten().flatten().any(|handle| {
        let handle = handle.path();
        if fs::read_link(&handle).ok().as_deref() != Some(file) {
            return false;
        }
        let (process, number) = (
            handle.ancestors().nth(2).unwrap(),
            handle.file_name().unwrap(),
        );
        let info = fs::read_to_string(process.join("fdinfo").join(number)).unwrap_or_default();
        let flags = info.lines().find_map(|line| line.strip_prefix("flags:"));
        flags.is_some_and(|flags| !flags.trim().ends_with(['0', '4']))
    })
}

#[cfg(test)]
mod tests {
    use std::process::{Command, Stdio};

    use super::*;

    #[test]
    fn who_wrote_before_is_waited_for_and_who_writes_later_is_seen() {
        let file = std::env::temp_dir().join(format!("watched-{}", std::process::id()));
        fs::write(&file, "x").unwrap();
        let script = "exec 3>>\"$0\"; echo; sleep 0.4";
        let mut other = Command::new("sh")
            .args(["-c", script])
            .arg(&file)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = [0];
        std::io::Read::read_exact(other.stdout.as_mut().unwrap(), &mut line).unwrap();
        assert!(is_written(&file));
        let watch = WriteWatch::new(&file);
        other.wait().unwrap();
        drop(fs::File::open(&file).unwrap());
        assert!(!watch.was_opened(), "only what was before");
        drop(fs::OpenOptions::new().append(true).open(&file).unwrap());
        assert!(watch.was_opened());
        fs::remove_file(file).unwrap();
    }
}
