//! What the rehearsal is asked for, and a stretch of an image as others' readers take it.

use std::io::{Read, Seek, SeekFrom, Write};
use std::path::Path;

use crate::support::Lab;

/// A stretch of a file as a stream: what the foreign FAT reader works on.
pub(crate) struct Slice {
    file: std::fs::File,
    base: u64,
    len: u64,
    at: u64,
}

impl Slice {
    pub(crate) fn open(path: &Path, (base, len): (u64, u64)) -> Self {
        let file = std::fs::File::options()
            .read(true)
            .write(true)
            .open(path)
            .unwrap();
        Self {
            file,
            base,
            len,
            at: 0,
        }
    }

    fn seek_file(&mut self, wanted: usize) -> usize {
        self.file
            .seek(SeekFrom::Start(self.base + self.at))
            .unwrap();
        wanted.min(usize::try_from(self.len - self.at).unwrap())
    }
}

impl Read for Slice {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let take = self.seek_file(buffer.len());
        let read = self.file.read(&mut buffer[..take])?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Write for Slice {
    fn write(&mut self, buffer: &[u8]) -> std::io::Result<usize> {
        let take = self.seek_file(buffer.len());
        let written = self.file.write(&buffer[..take])?;
        self.at += written as u64;
        Ok(written)
    }
    fn flush(&mut self) -> std::io::Result<()> {
        self.file.flush()
    }
}

impl Seek for Slice {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        self.at = match to {
            SeekFrom::Start(at) => at,
            SeekFrom::End(by) => self.len.checked_add_signed(by).unwrap(),
            SeekFrom::Current(by) => self.at.checked_add_signed(by).unwrap(),
        };
        Ok(self.at)
    }
}

#[test]
fn a_boot_entrys_own_loader_is_walked_and_an_mbr_disk_does_not_start() {
    let lab = Lab::new();
    let (image, _) = lab.converted("disk.img", 512);
    let path = image.to_str().unwrap();
    for (loader, code) in [
        ("\\EFI\\Microsoft\\Boot\\bootmgfw.efi", 0),
        ("\\efi\\microsoft\\boot\\BOOTMGFW.EFI", 0),
        ("\\EFI\\none.efi", 1),
    ] {
        assert_eq!(
            lab.run(&["rehearse", path, "--loader", loader, "--quiet"])
                .code,
            code,
            "{loader}"
        );
    }
    let (mbr, _) = lab.standard("mbr.img", 512);
    let run = lab.run(&["rehearse", mbr.to_str().unwrap()]);
    assert_eq!(run.code, 1);
    assert!(
        run.stdout.contains("an MBR with partitions of its own")
            && run.stdout.contains("schwelle check")
    );
}

#[test]
fn what_is_to_be_typed_names_the_disk() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let path = image.to_str().unwrap();
    for args in [&["rehearse", path][..], &["confirm", path]] {
        let run = lab.run(args);
        assert_eq!(run.code, 1, "{}", run.stdout);
        let flat = run.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(!flat.contains(" DISK"), "{flat}");
        assert!(flat.contains(&format!("schwelle check {path}")), "{flat}");
    }
}
