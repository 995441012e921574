//! The stories: one disk each.

use std::fs::File;
use std::path::Path;

use anyhow::{Context, Result};
use schwelle_core::device::{BlockDevice, DiskFile, Extent, Lba, MIB};
use schwelle_core::gpt::{GptEntry, GptLayout, type_guid};
use schwelle_core::host::this_pc;
use schwelle_core::mbr::{BiosStart, protective_sector};
use uuid::Uuid;

use crate::assets::KERNEL_32BIT;
use crate::builder::{DiskBuilder, entry};
use crate::edit::{edit_file, put_program};
use crate::fixed::convert;

/// A disk of the demo.
#[derive(Debug)]
pub struct DemoDisk {
    /// Name of its image file.
    pub file: &'static str,
    /// What happened, as its owner tells it.
    pub story: &'static str,
    /// Size in MiB.
    pub mib: u64,
    /// The rule that blocks it; `None` for a disk that is ready.
    pub blocked_by: Option<&'static str>,
    build: fn(&DiskBuilder<'_>) -> Result<()>,
}

/// The disks, the one that the demo converts first.
pub fn disks() -> &'static [DemoDisk] {
    const SYSTEM_MIB: u64 = 600;
    &[
        DemoDisk {
            file: "lantern.img",
            story: "The lamp room's PC: Windows in BIOS mode, shut down properly, some space \
                left at the end.",
            mib: SYSTEM_MIB,
            blocked_by: None,
            build: |disk| disk.standard(0x51C3_A7E5, "LANTERN-ONE").map(drop),
        },
        DemoDisk {
            file: "beacon.img",
            story: "The beacon's PC, just as ready; left for you to convert by hand.",
            mib: SYSTEM_MIB,
            blocked_by: None,
            build: |disk| disk.standard(0xBEAC_0001, "BEACON-ROOM").map(drop),
        },
        DemoDisk {
            file: "foghorn.img",
            story: "The foghorn's PC was switched off with Fast Startup: its session still \
                sleeps on the disk.",
            mib: SYSTEM_MIB,
            blocked_by: Some("volume.hibernation"),
            build: |disk| {
                let places = disk.standard(0x0F06_40A1, "FOGHORN-BOX")?;
                edit_file(disk.device(), places.windows, "\\hiberfil.sys", |content| {
                    content[..4].copy_from_slice(b"HIBR");
                })
            },
        },
        DemoDisk {
            file: "harbour.img",
            story: "The harbour master's laptop, encrypted, as it should be when it travels.",
            mib: SYSTEM_MIB,
            blocked_by: Some("volume.encryption"),
            build: |disk| {
                let places = disk.standard(0x4A2B_0077, "HARBOUR-LAP")?;
                disk.encrypt(places.windows)
            },
        },
        DemoDisk {
            file: "chartroom.img",
            story: "The chart room's PC: everything in order, but the partitions fill the disk \
                to the end. The room comes from the tail of the Windows volume.",
            mib: 211,
            blocked_by: None,
            build: |disk| disk.standard(0xC4A2_7000, "CHART-TABLE").map(drop),
        },
        DemoDisk {
            file: "twolights.img",
            story: "The keeper's own PC: Windows, and beside it a Linux that GRUB starts. Both are to start \
                afterwards.",
            mib: SYSTEM_MIB,
            blocked_by: None,
            build: |disk| {
                disk.standard(0x2116_4705, "TWO-LIGHTS1")?;
                disk.with_linux(0x2116_4705).map(drop)
            },
        },
        DemoDisk {
            file: "tidegauge.img",
            story: "The old tide gauge: a 32-bit Windows on a PC that could do more.",
            mib: SYSTEM_MIB,
            blocked_by: Some("system.64bit"),
            build: |disk| {
                let places = disk.standard(0x71DE_0032, "TIDE-GAUGE1")?;
                put_program(
                    disk.device(),
                    places.windows,
                    "\\Windows\\System32\\ntoskrnl.exe",
                    KERNEL_32BIT,
                )
            },
        },
        DemoDisk {
            file: "signal.img",
            story: "The signal mast's PC: a second partition was marked active while \
                searching for a fault.",
            mib: SYSTEM_MIB,
            blocked_by: Some("system.active"),
            build: |disk| {
                let places = disk.standard(0x516A_A100, "SIGNAL-MAST")?;
                disk.boot_record(
                    Lba(0),
                    0x516A_A100,
                    &[entry(places.boot, true)?, entry(places.windows, true)?],
                )
            },
        },
        DemoDisk {
            file: "newpilot.img",
            story: "The new pilot boat's disk: it was made GPT with another program, and it does not start since. \
                There is no EFI system partition.",
            mib: 400,
            blocked_by: Some("table.mbr"),
            build: |disk| {
                let places = disk.standard(0x9107_0B0A, "PILOT-BOAT1")?;
                let (device, geometry) = (disk.device(), disk.device().geometry());
                let data = |number: u128, extent: Extent, name: &str| GptEntry {
                    kind: type_guid::BASIC_DATA,
                    id: Uuid::from_u128(0x9107_0000 + number),
                    extent,
                    attributes: 0,
                    name: name.to_owned(),
                };
                device.write_at(0, &protective_sector(geometry, BiosStart::PassOn))?;
                Ok(GptLayout {
                    disk_id: Uuid::from_u128(0x9107_0001),
                    entries: vec![
                        data(2, places.boot, "Boot"),
                        data(3, places.windows, "Pilot"),
                    ],
                }
                .write(device)?)
            },
        },
        DemoDisk {
            file: "breakwater.img",
            story: "The breakwater's spare disk, converted long ago: now it must start in an old \
                PC that knows BIOS mode only.",
            mib: SYSTEM_MIB,
            blocked_by: Some("table.mbr"),
            build: |disk| {
                disk.standard(0xB4EA_0517, "BREAKWATER1")?;
                convert(disk.device())
            },
        },
    ]
}

/// Makes the image of a disk in `folder`. An image that is there already is an error.
pub fn make(disk: &DemoDisk, folder: &Path) -> Result<()> {
    let path = folder.join(disk.file);
    let file =
        File::create_new(&path).with_context(|| format!("{} cannot be made", path.display()))?;
    this_pc().leave_holes(&file);
    file.set_len(disk.mib * MIB)?;
    drop(file);
    let device = DiskFile::open_write(&path, Some(512))?;
    (disk.build)(&DiskBuilder::new(&device))?;
    Ok(device.flush()?)
}
