//! The firmware's variables through Windows' own calls, which administrators may make.

use std::io;

use super::super::variables::{VariableFault, VariableStore};

/// Boot entries have numbers below it in practice; Windows does not list the names of variables.
const MAX_ENTRY: u16 = 0x100;

/// The calls that read and write them.
pub(super) trait Calls: std::fmt::Debug + Send + Sync {
    /// Attributes and content of a variable, its GUID in braces; `None` where there is none.
    fn get(&self, name: &str, space: &str) -> io::Result<Option<(u32, Vec<u8>)>>;

    /// Writes one whole.
    fn set(&self, name: &str, space: &str, attributes: u32, data: &[u8]) -> io::Result<()>;
}

/// Those of Windows.
#[derive(Debug)]
pub(super) struct OfWindows;

impl Calls for OfWindows {
    fn get(&self, name: &str, space: &str) -> io::Result<Option<(u32, Vec<u8>)>> {
        schwelle_kernel::firmware_variable(name, space)
    }

    fn set(&self, name: &str, space: &str, attributes: u32, data: &[u8]) -> io::Result<()> {
        schwelle_kernel::set_firmware_variable(name, space, attributes, data)
    }
}

/// The firmware's variables.
#[derive(Debug)]
pub(super) struct FirmwareVariables<C>(pub(super) C);

fn in_braces(space: &str) -> String {
    format!("{{{space}}}")
}

impl<C: Calls> VariableStore for FirmwareVariables<C> {
    fn read(&self, name: &str, space: &str) -> Result<Option<Vec<u8>>, VariableFault> {
        let found = self.0.get(name, &in_braces(space))?;
        Ok(found.map(|(attributes, data)| [&attributes.to_le_bytes()[..], &data].concat()))
    }

    fn write(&self, name: &str, space: &str, bytes: &[u8]) -> Result<(), VariableFault> {
        let Some((attributes, data)) = bytes.split_first_chunk() else {
            return Err(VariableFault::NoFile);
        };
        let attributes = u32::from_le_bytes(*attributes);
        let space = in_braces(space);
        Ok(self.0.set(name, &space, attributes, data)?)
    }

    /// Tried one by one, since there is no list: the boot entries of the lowest numbers.
    fn names(&self, prefix: &str, space: &str) -> Vec<String> {
        let names = (0..MAX_ENTRY).map(|number| format!("{prefix}{number:04X}"));
        names
            .filter(|name| matches!(self.read(name, space), Ok(Some(_))))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::sync::Mutex;

    use super::*;

    const SPACE: &str = "8be4df61-93ca-11d2-aa0d-00e098032b8c";

    /// Variables by name and GUID in braces, as Windows' calls take them.
    #[derive(Debug, Default)]
    struct Kept(Mutex<BTreeMap<(String, String), (u32, Vec<u8>)>>);

    impl Calls for Kept {
        fn get(&self, name: &str, space: &str) -> io::Result<Option<(u32, Vec<u8>)>> {
            if name == "Kept from everybody" {
                return Err(io::ErrorKind::PermissionDenied.into());
            }
            let all = self.0.lock().unwrap();
            Ok(all.get(&(name.to_owned(), space.to_owned())).cloned())
        }

        fn set(&self, name: &str, space: &str, attributes: u32, data: &[u8]) -> io::Result<()> {
            let key = (name.to_owned(), space.to_owned());
            self.0
                .lock()
                .unwrap()
                .insert(key, (attributes, data.to_vec()));
            Ok(())
        }
    }

    #[test]
    fn variables_are_read_and_written_by_the_calls_of_the_system() {
        let store = FirmwareVariables(Kept::default());
        store.write("Boot0002", SPACE, &[7, 0, 0, 0, 1, 2]).unwrap();
        store.write("Boot00FF", SPACE, &[7, 0, 0, 0]).unwrap();
        store
            .write("BootOrder", SPACE, &[7, 0, 0, 0, 2, 0])
            .unwrap();
        let braced = format!("{{{SPACE}}}");
        let all = store.0.0.lock().unwrap().clone();
        assert_eq!(all[&("Boot0002".to_owned(), braced)], (7, vec![1, 2]));
        let read = store.read("Boot0002", SPACE).unwrap();
        assert_eq!(read.as_deref(), Some(&[7, 0, 0, 0, 1, 2][..]));
        assert!(matches!(store.read("Boot0003", SPACE), Ok(None)));
        assert_eq!(store.names("Boot", SPACE), ["Boot0002", "Boot00FF"]);
        let refused = store.read("Kept from everybody", SPACE);
        assert!(matches!(refused, Err(VariableFault::Io(_))));
        // Without attributes it is no variable.
        assert!(store.write("Boot0001", SPACE, &[7, 0]).is_err());
        assert!(matches!(store.read("Boot0001", SPACE), Ok(None)));
    }
}
