//! Confirming from within Windows, once it has started.

use schwelle_core::confirm::{Answer, Lasting, Reason, confirm};
use schwelle_core::device::{MIB, Memory};
use schwelle_core::firmware::{Ground, Machine};
use schwelle_core::host::{HostFacts, Mounted, SessionFacts, User};
use schwelle_core::profile::Profile;
use schwelle_demo::{DiskBuilder, convert};

fn mounted(at: &str, first: u64) -> Mounted {
    Mounted {
        at: at.to_owned(),
        is_shown: at.len() == 3,
        first_bytes: vec![first],
    }
}

#[test]
fn the_running_windows_decides_by_how_it_was_started() {
    let disk = Memory::new(512, 480 * MIB / 512);
    DiskBuilder::new(&disk)
        .standard(0x1234_5678, "LANTERN-ONE")
        .unwrap();
    convert(&disk).unwrap();
    let profile = Profile::read(&disk, HostFacts::default()).unwrap();
    let first = |number| {
        let partition = profile.partition(number).unwrap();
        profile.geometry.byte_of(partition.extent.first).unwrap()
    };
    let windows = profile.systems.first().unwrap().partition;
    let esp = profile.partitions.iter().map(|partition| partition.number);
    let esp = esp.max().unwrap();
    let started_from =
        |partition: usize| Some(format!("multi(0)disk(0)rdisk(0)partition({partition})"));
    let running = |started_from| {
        vec![User::RunningSystem {
            device: "PhysicalDrive0".to_owned(),
            at: "C:\\".to_owned(),
            started_from,
        }]
    };
    let c = mounted("C:\\", first(windows));
    let named = mounted("\\\\?\\Volume{0}\\", first(esp));
    let lettered = mounted("S:\\", first(esp));
    type Case = (
        &'static str,
        Vec<User>,
        Vec<Mounted>,
        Option<bool>,
        (Answer, Reason),
    );
    let cases: [Case; 6] = [
        // No start has left anything yet, which is all that a look from outside has to go by.
        (
            "looked at from outside",
            Vec::new(),
            Vec::new(),
            Some(true),
            (Answer::NotConfirmed, Reason::NotStarted),
        ),
        (
            "in UEFI mode",
            running(started_from(esp)),
            vec![c.clone(), named.clone()],
            Some(true),
            (Answer::Confirmed, Reason::Running),
        ),
        (
            "in UEFI mode, and the ESP has a letter",
            running(started_from(esp)),
            vec![c.clone(), lettered],
            Some(true),
            (Answer::Confirmed, Reason::RunningNotAllRight),
        ),
        (
            "in BIOS mode",
            running(None),
            vec![c.clone(), named],
            Some(false),
            (Answer::NotConfirmed, Reason::FirmwareInBiosMode),
        ),
        // Then what the firmware started it from decides, where that is there.
        (
            "in a mode that is not said, from the ESP",
            running(started_from(esp)),
            vec![c.clone()],
            None,
            (Answer::Unknown, Reason::Contradiction),
        ),
        (
            "in a mode that is not said",
            running(None),
            vec![c],
            None,
            (Answer::NotConfirmed, Reason::NotStarted),
        ),
    ];
    for (name, users, mounted, in_uefi_mode, expected) in cases {
        let host = HostFacts {
            is_block_device: true,
            users,
            mounted,
            ..HostFacts::default()
        };
        let profile = Profile::read(&disk, host).unwrap();
        let machine = Machine::of_session(SessionFacts {
            in_uefi_mode,
            ..SessionFacts::default()
        });
        let found = confirm(&disk, &profile, &machine);
        assert_eq!((found.answer, found.reason), expected, "{name}");
    }
    let image = confirm(&disk, &profile, &Machine::unknown(Ground::Image));
    let mut pieces = image.evidence.iter().map(|piece| &piece.found);
    assert!(pieces.all(|found| !matches!(found, Lasting::Running { .. })));
}
