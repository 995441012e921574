//! What an NVMe drive says of its own health: the SMART / Health Information log page (NVM Express Base
//! Specification 2.0, §5.16.1.3).

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Bytes of the log page.
pub(crate) const NVME_HEALTH_BYTES: usize = 512;

/// What a drive complains of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum HealthWarning {
    /// Fewer spare blocks are left than the manufacturer's threshold, both in per cent.
    Spare {
        /// What is left.
        left: u8,
        /// The threshold.
        threshold: u8,
    },
    /// Its temperature is out of bounds.
    Temperature,
    /// It has lost reliability through errors.
    Unreliable,
    /// It takes no more writes.
    ReadOnly,
    /// What keeps its cache through a power failure has failed.
    Backup,
    /// It has used up the endurance that it was made for: this many per cent.
    Worn(u8),
    /// So many times content was lost that could not be corrected.
    MediaErrors(u64),
}

/// The warnings in a log page.
pub fn nvme_warnings(page: &[u8; NVME_HEALTH_BYTES]) -> Vec<HealthWarning> {
    let [critical, _, _, left, threshold, used, ..] = *page;
    let bit = |number: u8, warning| (critical >> number & 1 == 1).then_some(warning);
    let errors = page.get(160..168).and_then(|bytes| bytes.try_into().ok());
    let errors = errors.map_or(0, u64::from_le_bytes);
    [
        bit(0, HealthWarning::Spare { left, threshold }),
        bit(1, HealthWarning::Temperature),
        bit(2, HealthWarning::Unreliable),
        bit(3, HealthWarning::ReadOnly),
        bit(4, HealthWarning::Backup),
        (used >= 100).then_some(HealthWarning::Worn(used)),
        (errors > 0).then_some(HealthWarning::MediaErrors(errors)),
    ]
    .into_iter()
    .flatten()
    .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_warning_is_read_from_its_place() {
        use HealthWarning::*;
        let mut page = [0; NVME_HEALTH_BYTES];
        (page[3], page[4], page[5]) = (100, 10, 99);
        assert_eq!(nvme_warnings(&page), []);
        for (critical, expected) in [
            (
                1,
                Spare {
                    left: 4,
                    threshold: 10,
                },
            ),
            (2, Temperature),
            (4, Unreliable),
            (8, ReadOnly),
            (16, Backup),
        ] {
            (page[0], page[3]) = (critical, 4);
            assert_eq!(nvme_warnings(&page), [expected]);
        }
        page[0] = 0;
        page[5] = 130;
        page[160] = 3;
        assert_eq!(nvme_warnings(&page), [Worn(130), MediaErrors(3)]);
    }
}
