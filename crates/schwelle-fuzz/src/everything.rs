//! Everything that reads a disk.

use std::collections::BTreeMap;

use schwelle_core::confirm::confirm;
use schwelle_core::device::{ReadDevice, Window};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::firmware::{AttachedDisk, BootMode, Fact, Ground, Keys, Machine};
use schwelle_core::gpt::TypeTable;
use schwelle_core::host::HostFacts;
use schwelle_core::identities::Style;
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::pipeline::{Inputs, Judged, Mending, NotDrafted, Rehearsed};
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::Profile;
use schwelle_core::rehearse::{walk, walk_to};
use schwelle_core::rules::Outcome;
use schwelle_core::switch::{Settings, start};
use schwelle_demo::outside;

/// Everything that reads, on one disk.
pub(crate) fn read_everything(disk: &dyn ReadDevice) {
    let _steps = walk(disk, None);
    let Ok(profile) = Profile::read(disk, HostFacts::default()) else {
        return;
    };
    let mut machine = Machine::unknown(Ground::Image);
    let _answer = confirm(disk, &profile, &machine);
    // With keys known, loaders are taken apart and judged; with Secure Boot on, before a start too.
    machine.keys = Fact::Known {
        value: Keys::default(),
        source: Ground::KeyVariables,
    };
    let name = "a disk";
    let attached = [AttachedDisk { name, device: disk }];
    let settings = Settings {
        uefi: true,
        bits: 64,
        mode: BootMode::Both,
        csm: true,
        secure_boot: false,
        has_platform_key: false,
        setup_password: false,
        needs_password: false,
    };
    let _start = start(&settings, &machine, &attached);
    let (types, severities) = (TypeTable::default(), BTreeMap::new());
    for (from, to) in [(Style::Mbr, Style::Gpt), (Style::Gpt, Style::Mbr)] {
        for disk_use in [DiskUse::System, DiskUse::Data] {
            let _started = walk_to(disk, to, disk_use);
            let request = EspRequest {
                disk_use,
                ..EspRequest::default()
            };
            let mut known = Inputs::unknown(to, request, &types, &severities);
            known.machine = machine.clone();
            let judged = Judged::new(disk, &profile, known.clone());
            for finding in judged.findings() {
                let passed = finding.outcome == Outcome::Pass;
                assert_eq!(passed, finding.remedy.is_none(), "{finding:?}");
            }
            if let Some(drafted) = drafted(&judged)
                && starts(disk, from, disk_use)
            {
                let rehearsed = drafted.expect("a disk that starts and is not blocked is drafted");
                let walk = rehearsed.rehearsal();
                assert!(walk.passed(), "its draft does not start: {:?}", walk.steps);
            }
            if to == Style::Gpt {
                let mended = outside(|outside| Mending::new(disk, &profile, known, outside));
                let _mended = mended.map(|mending| mending.map(Mending::rehearse));
            }
        }
    }
    // Nor must a shrink, though a volume that does not prove sound is never offered to it.
    for partition in &profile.partitions {
        let Some(window) = Window::new(disk, partition.extent) else {
            continue;
        };
        if let Ok(volume) = NtfsVolume::open(&window) {
            for share in [2, 10] {
                let _plan = volume.plan_shrink(partition.extent.sectors() / share);
            }
        }
    }
}

/// The disk starts as it is, or its volumes are sound where it is one for data.
fn starts(disk: &dyn ReadDevice, style: Style, disk_use: DiskUse) -> bool {
    walk_to(disk, style, disk_use).passed()
}

/// A disk that a rule blocks is never drafted: `None`. What is drafted is walked: a draft that fails gives nothing
/// to write.
fn drafted<'d>(judged: &Judged<'d, '_>) -> Option<Result<Rehearsed<'d>, NotDrafted>> {
    let plan = outside(|outside| judged.draft(outside));
    if judged.is_blocked() {
        assert!(matches!(plan, Err(NotDrafted::Blocked)));
        return None;
    }
    let rehearsed = plan.map(Rehearsed::new);
    if let Ok(rehearsed) = &rehearsed {
        let passed = rehearsed.rehearsal().passed();
        assert_eq!(rehearsed.ready().is_some(), passed);
    }
    Some(rehearsed)
}
