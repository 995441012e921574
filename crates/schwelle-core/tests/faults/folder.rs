//! A job folder in memory whose operations fail.

use std::collections::BTreeMap;
use std::io;
use std::sync::{Arc, Mutex};

use schwelle_core::job::{Storage, StoredFile};
use schwelle_testkit::Faults;

type Files = BTreeMap<String, Arc<Vec<u8>>>;

/// A folder with faults.
#[derive(Debug, Clone, Default)]
pub(crate) struct Folder {
    files: Arc<Mutex<Files>>,
    faults: Faults,
}

impl Folder {
    /// A copy of the folder as it is, with these faults.
    pub(crate) fn copied(&self, faults: &Faults) -> Self {
        let files = self.files.lock().unwrap().clone();
        Self {
            files: Arc::new(Mutex::new(files)),
            faults: faults.clone(),
        }
    }

    /// A copy without a file.
    pub(crate) fn without(&self, name: &str) -> Self {
        let copy = self.copied(&Faults::none());
        copy.files.lock().unwrap().remove(name);
        copy
    }

    /// True if the other folder holds the same files.
    pub(crate) fn is_same(&self, other: &Self) -> bool {
        *self.files.lock().unwrap() == *other.files.lock().unwrap()
    }

    /// The names in it.
    pub(crate) fn names(&self) -> Vec<String> {
        self.files.lock().unwrap().keys().cloned().collect()
    }
}

#[derive(Debug)]
struct File {
    folder: Folder,
    name: String,
}

impl Storage for Folder {
    fn open(&self, name: &str, _write: bool) -> io::Result<Box<dyn StoredFile>> {
        self.faults.step(|| format!("folder: open of {name}"))?;
        if !self.files.lock().unwrap().contains_key(name) {
            return Err(io::ErrorKind::NotFound.into());
        }
        Ok(Box::new(File {
            folder: self.clone(),
            name: name.to_owned(),
        }))
    }

    fn create(&self, name: &str) -> io::Result<Box<dyn StoredFile>> {
        self.faults.step(|| format!("folder: creation of {name}"))?;
        let mut files = self.files.lock().unwrap();
        files.insert(name.to_owned(), Arc::default());
        Ok(Box::new(File {
            folder: self.clone(),
            name: name.to_owned(),
        }))
    }

    fn sync_names(&self) -> io::Result<()> {
        self.faults.step(|| "folder: sync of names".to_owned())
    }

    fn sync_all(&self) -> io::Result<()> {
        self.faults.step(|| "folder: sync".to_owned())
    }
}

impl File {
    fn step(&self, what: &str) -> io::Result<()> {
        let Self { folder, name } = self;
        folder.faults.step(|| format!("folder: {what} of {name}"))
    }
}

impl StoredFile for File {
    fn len_bytes(&self) -> io::Result<u64> {
        self.step("length")?;
        let files = self.folder.files.lock().unwrap();
        Ok(files[&self.name].len() as u64)
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.step("read")?;
        let files = self.folder.files.lock().unwrap();
        let first = usize::try_from(offset).unwrap();
        let found = files[&self.name].get(first..first + buffer.len());
        buffer.copy_from_slice(found.ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }

    fn write_at(&self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        // A write that fails has written a part.
        let written = self.step("write");
        let bytes = match &written {
            Ok(()) => bytes,
            Err(_) => &bytes[..bytes.len() / 2],
        };
        let mut files = self.folder.files.lock().unwrap();
        let file = Arc::make_mut(files.get_mut(&self.name).unwrap());
        let first = usize::try_from(offset).unwrap();
        file.resize(file.len().max(first + bytes.len()), 0);
        file[first..first + bytes.len()].copy_from_slice(bytes);
        written
    }

    fn sync(&self) -> io::Result<()> {
        self.step("sync")
    }
}
