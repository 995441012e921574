//! Rules about inputs that an image cannot bring about: each changed in the facts, one at a
//! time.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use schwelle_core::cause::Cause;
use schwelle_core::device::{
    BlockDevice, Extent, HealthWarning, IoOp, Lba, MIB, Memory, ReadDevice, Retried,
};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::firmware::{
    AcceptedBy, BootMode, Fact, Ground, LoaderChoice, Machine, Objection, Unreported, Verdict,
};
use schwelle_core::gpt::{TableCopy, TypeTable};
use schwelle_core::host::{HostFacts, Mounted, PowerSource, User};
use schwelle_core::job::{FolderState, FoundJob, JobState};
use schwelle_core::placement::NoRoom;
use schwelle_core::profile::{FatLoader, Profile, SignedSet};
use schwelle_core::rules::{
    Evidence, Facts, Family, Finding, JobPlace, Outcome, Room, RuleId, Twin, answers, check,
};
use schwelle_demo::{DiskBuilder, mark_dirty};

fn disk() -> Memory {
    let disk = Memory::new(512, 480 * MIB / 512);
    DiskBuilder::new(&disk)
        .standard(0x1234_5678, "LANTERN-ONE")
        .unwrap();
    disk
}

/// Nothing here needs a place to be found.
static NO_PLACE: Room = Room::Gpt(Err(NoRoom::NoPlace {
    needed: 0,
    considered: Vec::new(),
}));

fn swap_on(device: &str) -> User {
    User::Swap {
        device: device.to_owned(),
    }
}

/// Nor a verdict.
static NO_VERDICT: LoaderChoice = LoaderChoice {
    set: SignedSet::First,
    verdict: Verdict::NotReported {
        why: Unreported::NoLoader,
    },
    other: None,
};

fn known<T>(value: T) -> Fact<T> {
    let source = Ground::MachineFile;
    Fact::Known { value, source }
}

/// Nor a type of a policy.
fn no_types() -> &'static TypeTable {
    static TYPES: std::sync::LazyLock<TypeTable> = std::sync::LazyLock::new(TypeTable::default);
    &TYPES
}

fn facts(profile: &Profile) -> Facts<'_> {
    Facts {
        profile,
        disk_use: DiskUse::System,
        room: &NO_PLACE,
        job: None,
        machine: Machine::unknown(Ground::Image),
        loader: &NO_VERDICT,
        types: no_types(),
        jobs: &[],
        twins: &[],
        health: &[],
        starts_today: None,
        unreadable: &[],
        retried: &[],
        named_surely: false,
        job_lost: false,
        backup_confirmed: false,
    }
}

/// Outcome and evidence of a rule.
fn found(facts: &Facts<'_>, rule: &str) -> (Outcome, Evidence) {
    let finding = check(facts)
        .into_iter()
        .find(|finding| finding.rule.name() == rule)
        .unwrap();
    (finding.outcome, finding.evidence)
}

#[test]
fn the_host_and_the_job_folder_are_judged() {
    type Change = fn(&mut HostFacts);
    use answers::medium::Evidence;
    let cases: [(&str, Outcome, Evidence, Change); 3] = [
        (
            "medium.whole-disk",
            Outcome::Block,
            Evidence::PartitionOf {
                device: "sdx".to_owned(),
            },
            |host| host.partition_of = Some("sdx".into()),
        ),
        (
            "medium.writable",
            Outcome::Block,
            Evidence::HeldReadOnly,
            |host| host.read_only = true,
        ),
        (
            "medium.in-use",
            Outcome::Block,
            Evidence::InUse {
                user: swap_on("sdx1"),
            },
            |host| host.users = vec![swap_on("sdx1")],
        ),
    ];
    let disk = disk();
    for (rule, outcome, evidence, change) in cases {
        let mut host = HostFacts {
            is_block_device: true,
            ..HostFacts::default()
        };
        change(&mut host);
        let profile = Profile::read(&disk, host).unwrap();
        let found = found(&facts(&profile), rule);
        assert_eq!(found, (outcome, evidence.into()), "{rule}");
    }

    let profile = Profile::read(&disk, HostFacts::default()).unwrap();
    let with = |change: fn(&mut Facts<'_>)| {
        let mut facts = facts(&profile);
        change(&mut facts);
        let rules = [
            "medium.job-elsewhere",
            "medium.job-lasting",
            "medium.power",
            "firmware.uefi",
            "backup.made",
        ];
        rules.map(|rule| found(&facts, rule).0)
    };
    use Outcome::{Block, Caution, Pass, Unknown};
    type With = fn(&mut Facts<'_>);
    let cases: [(With, [Outcome; 5]); 11] = [
        (|_| {}, [Pass, Pass, Pass, Unknown, Unknown]),
        (
            |facts| facts.job = job(true, Some(false)),
            [Block, Pass, Pass, Unknown, Unknown],
        ),
        (
            |facts| facts.job = job(false, Some(false)),
            [Pass, Pass, Pass, Unknown, Unknown],
        ),
        (
            |facts| facts.job = job(false, Some(true)),
            [Pass, Block, Pass, Unknown, Unknown],
        ),
        (
            // Accepted by name.
            |facts| {
                let job = job(false, Some(true));
                facts.job = job.map(|job| JobPlace {
                    may_be_in_memory: true,
                    ..job
                });
            },
            [Pass, Caution, Pass, Unknown, Unknown],
        ),
        (
            // NTFS, by a driver without a journal.
            |facts| {
                let job = job(false, Some(false));
                facts.job = job.map(|job| JobPlace {
                    may_need_repair: true,
                    ..job
                });
            },
            [Pass, Caution, Pass, Unknown, Unknown],
        ),
        (
            |facts| facts.job = job(false, None),
            [Pass, Unknown, Pass, Unknown, Unknown],
        ),
        (
            |facts| facts.machine.power = known(PowerSource::Battery),
            [Pass, Pass, Caution, Unknown, Unknown],
        ),
        (
            |facts| facts.machine.uefi = known(false),
            [Pass, Pass, Pass, Block, Unknown],
        ),
        (
            |facts| facts.machine.uefi = known(true),
            [Pass, Pass, Pass, Pass, Unknown],
        ),
        (
            |facts| facts.backup_confirmed = true,
            [Pass, Pass, Pass, Unknown, Pass],
        ),
    ];
    for (change, expected) in cases {
        assert_eq!(with(change), expected);
    }
}

/// A FAT volume before the EFI system partition is searched for a loader; one that cannot be is not one without.
#[test]
fn a_volume_that_cannot_be_searched_for_a_loader_leaves_the_answer_open() {
    let disk = disk();
    let mut profile = Profile::read(&disk, HostFacts::default()).unwrap();
    assert_eq!(profile.fat_loaders, []);
    let bad_sector = || Cause::from(std::io::Error::other("bad sector"));
    for (loader, expected) in [
        (None, Outcome::Pass),
        (Some(Ok(())), Outcome::Block),
        (Some(Err(bad_sector())), Outcome::Unknown),
    ] {
        let loader = loader.map(|found| FatLoader {
            partition: 1,
            found,
        });
        profile.fat_loaders = loader.into_iter().collect();
        let found = found(&facts(&profile), "boot.other-loader");
        assert_eq!(found.0, expected);
    }
}

fn job(on_disk: bool, in_memory: Option<bool>) -> Option<JobPlace> {
    Some(JobPlace {
        on_disk,
        in_memory,
        may_be_in_memory: false,
        read_only: false,
        may_need_repair: false,
    })
}

#[test]
fn what_is_told_of_the_disk_itself_is_judged() {
    let disk = disk();
    let profile = Profile::read(&disk, HostFacts::default()).unwrap();
    let twin = [Twin {
        path: "/dev/sdz".into(),
        model: None,
        serial: Some("9".to_owned()),
        unread: None,
    }];
    let job = |found| {
        let path = "/media/stick/job".into();
        [FoundJob { path, found }]
    };
    let fault = || Cause::from(std::io::Error::other("bad sector"));
    let jobs = [
        (job(FolderState::Job(JobState::Writing)), Outcome::Block),
        (job(FolderState::Job(JobState::Done)), Outcome::Pass),
        (job(FolderState::Unreadable(fault())), Outcome::Block),
        (job(FolderState::Damaged(fault())), Outcome::Caution),
        (job(FolderState::NotSearched(fault())), Outcome::Caution),
    ];
    let unreadable = [Extent::new(Lba(7), 2).unwrap()];
    let mut changed = facts(&profile);
    let outcome = |facts: &Facts<'_>, rule| found(facts, rule).0;
    for (twins, surely, expected) in [
        (&[][..], false, Outcome::Pass),
        (&twin, false, Outcome::Block),
        (&twin, true, Outcome::Caution),
    ] {
        (changed.twins, changed.named_surely) = (twins, surely);
        assert_eq!(outcome(&changed, "medium.copy"), expected);
    }
    let mut unread = twin.clone();
    unread[0].unread = Some(Cause::from(std::io::Error::other("bad sector")));
    changed.twins = &unread;
    assert_eq!(outcome(&changed, "medium.copy"), Outcome::Unknown);
    changed.twins = &[];
    // A job that can be finished blocks a second one, whatever was accepted for its folder.
    assert_eq!(outcome(&changed, "medium.stopped-job"), Outcome::Pass);
    for (jobs, expected) in &jobs {
        changed.jobs = jobs;
        for lost in [false, true] {
            changed.job_lost = lost;
            assert_eq!(outcome(&changed, "medium.stopped-job"), *expected);
        }
    }
    changed.unreadable = &unreadable;
    let retried = [Retried {
        operation: IoOp::Write,
        sectors: unreadable[0],
    }];
    changed.retried = &retried;
    assert_eq!(outcome(&changed, "medium.health"), Outcome::Caution);
    (changed.retried, changed.health) = (&[], &[HealthWarning::Unreliable]);
    assert_eq!(outcome(&changed, "medium.readable"), Outcome::Block);
    assert_eq!(outcome(&changed, "medium.health"), Outcome::Caution);
    let sectors = unreadable[0];
    let expected = answers::medium::Evidence::Unreadable { sectors };
    assert_eq!(found(&changed, "medium.readable").1, expected.into());
}

#[test]
fn the_firmware_is_judged_by_width_and_by_what_secure_boot_says() {
    let disk = disk();
    let profile = Profile::read(&disk, HostFacts::default()).unwrap();
    let mut changed = facts(&profile);
    for (bits, outcome) in [(64, Outcome::Pass), (32, Outcome::Block)] {
        changed.machine.bits = known(bits);
        assert_eq!(found(&changed, "firmware.bits").0, outcome);
    }
    let accepted = || Verdict::Accepted {
        by: AcceptedBy::Hash,
    };
    let refused = || Verdict::Refused {
        why: vec![Objection::NotSigned],
    };
    let not_reported = || Verdict::NotReported {
        why: Unreported::NoKeys,
    };
    use Outcome::{Caution, Pass, Unknown};
    let cases: [(Option<bool>, Verdict, Outcome); 7] = [
        (Some(true), accepted(), Pass),
        (None, accepted(), Pass),
        (Some(true), refused(), Caution),
        (Some(false), refused(), Pass),
        (None, refused(), Unknown),
        (Some(true), not_reported(), Unknown),
        (Some(false), not_reported(), Unknown),
    ];
    for (state, verdict, outcome) in cases {
        let expected = answers::firmware::Evidence::SecureBoot {
            set: SignedSet::First,
            verdict: verdict.clone(),
            on: state,
        };
        let loader = LoaderChoice {
            verdict,
            ..NO_VERDICT.clone()
        };
        let mut changed = facts(&profile);
        changed.loader = &loader;
        if let Some(state) = state {
            changed.machine.secure_boot = known(state);
        }
        let found = found(&changed, "firmware.secure-boot");
        assert_eq!(found, (outcome, expected.into()));
    }
}

#[test]
fn a_pc_is_judged_by_whether_it_starts_mbr_disks() {
    let disk = disk();
    let profile = Profile::read(&disk, HostFacts::default()).unwrap();
    let back = Room::Mbr(Err(Vec::new()));
    use Outcome::{Pass, Unknown};
    type Change = fn(&mut Machine);
    let cases: [(Change, Outcome); 7] = [
        (|_| {}, Unknown),
        (|pc| pc.uefi = known(false), Pass),
        (|pc| pc.uefi = known(true), Unknown),
        (|pc| pc.session = known(BootMode::Bios), Pass),
        (|pc| pc.session = known(BootMode::Uefi), Unknown),
        (|pc| pc.mode = known(BootMode::Both), Pass),
        (|pc| pc.csm = known(false), Pass),
    ];
    for (index, (change, outcome)) in cases.into_iter().enumerate() {
        let mut asked = Facts {
            room: &back,
            ..facts(&profile)
        };
        change(&mut asked.machine);
        assert_eq!(found(&asked, "back.firmware").0, outcome, "case {index}");
    }
    let mut asked = Facts {
        room: &back,
        ..facts(&profile)
    };
    asked.machine.secure_boot = known(true);
    let found = check(&asked);
    let secure = found.iter().find(|finding| {
        finding.rule == RuleId::BackFirmware && finding.outcome == Outcome::Caution
    });
    let expected = answers::back::Evidence::SecureBootOn {
        source: Ground::MachineFile,
    };
    assert_eq!(secure.unwrap().evidence, expected.into());
    // What is asked about a GPT is not asked on the way back, and the other way round.
    let asked_of = |found: &[Finding], family: Family| {
        found.iter().any(|finding| finding.rule.family() == family)
    };
    let forth = check(&facts(&profile));
    for (family, on_the_way_back) in [
        (Family::Table, false),
        (Family::Room, false),
        (Family::Back, true),
    ] {
        assert_eq!(asked_of(&found, family), on_the_way_back);
        assert_eq!(asked_of(&forth, family), !on_the_way_back);
    }
}

#[test]
fn a_sector_size_that_no_pc_starts_from_is_refused() {
    let disk = disk();
    let mut profile = Profile::read(&disk, HostFacts::default()).unwrap();
    profile.geometry.logical_sector = 1024;
    assert_eq!(
        found(&facts(&profile), "medium.sector-size").0,
        Outcome::Block
    );
}

#[test]
fn damage_of_a_gpt_is_told_with_its_place() {
    let disk = disk();
    let plan_disk = Memory::new(512, 480 * MIB / 512);
    let layout = schwelle_core::gpt::GptLayout {
        disk_id: uuid::Uuid::from_u128(1),
        entries: Vec::new(),
    };
    plan_disk
        .write_at(
            0,
            &schwelle_core::mbr::protective_sector(
                disk.geometry(),
                schwelle_core::mbr::BiosStart::PassOn,
            ),
        )
        .unwrap();
    layout.write(&plan_disk).unwrap();
    let last = plan_disk.geometry().sectors - 1;
    use TableCopy::{Backup, Primary};
    for (byte, damaged, evidence) in [
        (512 + 16, Primary, "LBA 1: the checksum of the GPT header"),
        (last * 512, Backup, "LBA 983039: no GPT header"),
        (1024, Primary, "LBA 2: the checksum of the GPT entries"),
    ] {
        let draft = schwelle_core::device::Draft::new(&plan_disk);
        let at = byte / 512 * 512;
        let mut sector = draft.read_vec(at, 512).unwrap();
        sector[usize::try_from(byte % 512).unwrap()] ^= 1;
        draft.write_at(at, &sector).unwrap();
        let profile = Profile::read(&draft, HostFacts::default()).unwrap();
        let findings = check(&facts(&profile));
        let shown = findings.iter().any(|finding| match &finding.evidence {
            Evidence::Table(answers::table::Evidence::CopyDamaged { copy, fault }) => {
                *copy == damaged && fault.to_string().starts_with(evidence)
            }
            _ => false,
        });
        assert!(shown, "{evidence}: {findings:?}");
    }
}

#[test]
fn a_volume_at_work_is_no_fault_and_the_running_system_is_not_written() {
    use answers::medium::Remedy;
    use answers::volume::Remedy as VolumeRemedy;
    let disk = disk();
    let profile = Profile::read(&disk, HostFacts::default()).unwrap();
    let windows = profile.systems.first().unwrap().partition;
    let windows = profile.partition(windows).unwrap();
    let first = profile.geometry.byte_of(windows.extent.first).unwrap();
    mark_dirty(&disk, windows.extent).unwrap();
    let judged = |host: HostFacts, rule: &str| -> Vec<_> {
        let profile = Profile::read(&disk, host).unwrap();
        let findings = check(&facts(&profile)).into_iter();
        let of_rule = findings.filter(|finding| finding.rule.name() == rule);
        of_rule
            .map(|finding| (finding.outcome, finding.remedy))
            .collect()
    };
    let at = || "E:\\".to_owned();
    let mounted = HostFacts {
        is_block_device: true,
        mounted: vec![Mounted {
            at: at(),
            is_shown: true,
            first_bytes: vec![first],
        }],
        ..HostFacts::default()
    };
    let running = HostFacts {
        users: vec![User::RunningSystem {
            device: "PhysicalDrive0".to_owned(),
            at: at(),
            started_from: None,
        }],
        ..mounted.clone()
    };
    let shown = |changed_meanwhile: bool| {
        let host = HostFacts {
            changed_meanwhile,
            ..mounted.clone()
        };
        let profile = Profile::read(&disk, host).unwrap();
        found(&facts(&profile), "medium.in-use").1
    };
    assert!(shown(true) != shown(false));
    use Outcome::{Block, Caution};
    for (host, rule, outcome, remedy) in [
        (
            HostFacts::default(),
            "volume.clean",
            Block,
            Some(VolumeRemedy::CheckVolume.into()),
        ),
        (
            mounted.clone(),
            "volume.clean",
            Caution,
            Some(VolumeRemedy::CheckAtRest.into()),
        ),
        (
            mounted,
            "medium.in-use",
            Caution,
            Some(Remedy::TakenOffFirst.into()),
        ),
        (
            running,
            "medium.in-use",
            Block,
            Some(Remedy::FromOutside.into()),
        ),
    ] {
        assert_eq!(judged(host, rule), [(outcome, remedy)], "{rule}");
    }
}
