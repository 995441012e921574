//! The firmware's variables through Windows' own calls, which administrators may make.

use super::super::variables::{VariableFault, VariableStore};

/// Boot entries have numbers below it in practice; Windows does not list the names of variables.
const MAX_ENTRY: u16 = 0x100;

/// The firmware's variables.
#[derive(Debug)]
pub(super) struct FirmwareVariables;

fn in_braces(space: &str) -> String {
    format!("{{{space}}}")
}

impl VariableStore for FirmwareVariables {
    fn read(&self, name: &str, space: &str) -> Result<Option<Vec<u8>>, VariableFault> {
        let found = schwelle_kernel::firmware_variable(name, &in_braces(space))?;
        Ok(found.map(|(attributes, data)| [&attributes.to_le_bytes()[..], &data].concat()))
    }

    fn write(&self, name: &str, space: &str, bytes: &[u8]) -> Result<(), VariableFault> {
        let Some((attributes, data)) = bytes.split_first_chunk() else {
            return Err(VariableFault::NoFile);
        };
        let attributes = u32::from_le_bytes(*attributes);
        let space = in_braces(space);
        Ok(schwelle_kernel::set_firmware_variable(
            name, &space, attributes, data,
        )?)
    }

    /// Tried one by one, since there is no list: the boot entries of the lowest numbers.
    fn names(&self, prefix: &str, space: &str) -> Vec<String> {
        let names = (0..MAX_ENTRY).map(|number| format!("{prefix}{number:04X}"));
        names
            .filter(|name| matches!(self.read(name, space), Ok(Some(_))))
            .collect()
    }
}
