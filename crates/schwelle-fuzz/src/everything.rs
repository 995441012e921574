//! Everything that reads a disk.

use schwelle_core::confirm::confirm;
use schwelle_core::crossing::Style;
use schwelle_core::device::{HostFacts, ReadDevice, Window};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::Source;
use schwelle_core::firmware::{
    AttachedDisk, BootMode, Fact, Ground, Keys, Machine, Settings, choose, start,
};
use schwelle_core::fit;
use schwelle_core::gpt::TypeTable;
use schwelle_core::mend;
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::placement::{self, EspWish};
use schwelle_core::profile::{Profile, SignedSet};
use schwelle_core::rehearse::{walk, walk_to};
use schwelle_core::rules::{Facts, Room, check};
use schwelle_demo::{STAMP, counted_guids, plan_back, plan_with};

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
    let loader = choose(disk, &profile, &machine);
    let name = "a disk";
    let attached = [AttachedDisk { name, device: disk }];
    let settings = Settings {
        uefi: true,
        bits: 64,
        mode: BootMode::Both,
        compatibility: true,
        secure_boot: false,
        has_platform_key: false,
        setup_password: false,
        needs_password: false,
    };
    let _start = start(&settings, &machine, &attached);
    let types = TypeTable::default();
    let there = Room::Gpt(placement::find(disk, &profile, EspWish::default()));
    let back = Room::Mbr(fit::find(disk, &profile, DiskUse::System, &types));
    for room in [&there, &back] {
        let facts = Facts {
            profile: &profile,
            disk_use: DiskUse::System,
            room,
            job: None,
            machine: machine.clone(),
            loader: &loader,
            types: &types,
            jobs: &[],
            twins: &[],
            health: &[],
            unreadable: &[],
            named_surely: false,
            job_lost: false,
            backup_confirmed: false,
        };
        for finding in check(&facts) {
            let passed = finding.outcome == schwelle_core::rules::Outcome::Pass;
            assert_eq!(passed, finding.remedy.is_none(), "{finding:?}");
        }
    }
    if let Room::Gpt(Ok(place)) = &there {
        let _draft = plan_with(disk, &profile, place);
    }
    let _back = plan_back(disk, DiskUse::System);
    let _started = walk_to(disk, Style::Mbr, DiskUse::System);
    // The same disk, taken for one that holds data; and as one that is to be mended.
    let data = EspWish {
        disk_use: DiskUse::Data,
        ..EspWish::default()
    };
    let _volumes = walk_to(disk, Style::Gpt, DiskUse::Data);
    if let Ok(place) = placement::find(disk, &profile, data) {
        let _draft = plan_with(disk, &profile, &place);
    }
    let source = Source {
        new_guid: &mut counted_guids(),
        stamp: STAMP,
        set: SignedSet::First,
        types: &TypeTable::default(),
    };
    let _mended = mend::plan(disk, &profile, EspWish::default(), source);
    // Nor must a trim, though a volume that does not prove sound is never offered to it.
    for partition in &profile.partitions {
        let Some(window) = Window::new(disk, partition.extent) else {
            continue;
        };
        if let Ok(volume) = NtfsVolume::open(&window) {
            for share in [2, 10] {
                let _plan = volume.plan_trim(partition.extent.sectors() / share);
            }
        }
    }
}
