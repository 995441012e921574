//! What reaches a block device, as the kernel's block layer logs it: each write with its sectors, and each
//! flush, in their order.

use std::fs;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use crate::devices::Attached;
use crate::job_files::{journal, state};
use crate::support::Lab;
use schwelle_testkit::{tool, tool_any};

/// An operation on the device; sectors of 512 bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Operation {
    Write(u64, u64),
    Flush,
}

/// Logs the operations on a device while it lives (Documentation/trace/events.rst).
struct Log {
    instance: PathBuf,
}

impl Log {
    fn of(device: &Path) -> Self {
        let tracing = Path::new("/sys/kernel/tracing");
        if !tracing.join("instances").is_dir() {
            tool(
                "mount",
                &["-t", "tracefs", "none", tracing.to_str().unwrap()],
            );
        }
        let found = fs::metadata(device).unwrap();
        assert!(found.file_type().is_block_device());
        let (major, minor) = (
            rustix::fs::major(found.rdev()),
            rustix::fs::minor(found.rdev()),
        );
        let name = format!("schwelle-{}-{major}-{minor}", std::process::id());
        let instance = tracing.join("instances").join(name);
        fs::create_dir(&instance).unwrap();
        let event = instance.join("events/block/block_bio_queue");
        // The kernel's own form of a device number.
        let number = (u64::from(major) << 20) | u64::from(minor);
        fs::write(event.join("filter"), format!("dev == {number}")).unwrap();
        fs::write(event.join("enable"), "1").unwrap();
        Self { instance }
    }

    fn operations(&self) -> Vec<Operation> {
        let text = fs::read_to_string(self.instance.join("trace")).unwrap();
        let events = text.lines().filter_map(|line| {
            let (_, event) = line.split_once("block_bio_queue: ")?;
            let fields: Vec<&str> = event.split_whitespace().collect();
            let [_, kind, first, _, sectors, ..] = fields[..] else {
                panic!("{line}");
            };
            let (first, sectors) = (first.parse().unwrap(), sectors.parse().unwrap());
            // A flush is a write of nothing.
            let write = kind.contains('W').then_some(match sectors {
                0 => Operation::Flush,
                _ => Operation::Write(first, sectors),
            });
            write.or_else(|| kind.starts_with('F').then_some(Operation::Flush))
        });
        events.collect()
    }
}

impl Drop for Log {
    fn drop(&mut self) {
        fs::write(self.instance.join("events/enable"), "0").ok();
        tool_any("rmdir", &[self.instance.to_str().unwrap()]);
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn each_write_reaches_the_device_as_its_sectors_and_no_others() {
    for sector in [512_u64, 4096] {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", u32::try_from(sector).unwrap());
        let disk = Attached::new(&image, &["--sector-size", &sector.to_string()]);
        let log = Log::of(&disk.0);
        let job = lab.path("job");
        let run = lab.convert(&disk.0, &job, &["--quiet"]);
        assert_eq!(run.code, 0, "{}", run.stderr);
        let operations = log.operations();

        // What the journal declares, in 512-byte sectors and in its order: the first place where each is
        // written.
        let journal = journal(&job);
        let scale = sector / 512;
        let mut declared: Vec<(String, u64, u64)> = Vec::new();
        for extent in journal["extents"].as_array().unwrap() {
            let number = |key: &str| extent[key].as_u64().unwrap() * scale;
            let stage = extent["stage"].as_str().unwrap().to_owned();
            declared.push((stage, number("first_lba"), number("sectors")));
        }
        let mut written: Vec<u64> = Vec::new();
        for operation in &operations {
            if let Operation::Write(first, sectors) = operation {
                assert!(sectors % scale == 0 && first % scale == 0, "{operation:?}");
                written.extend(*first..first + sectors);
            }
        }
        let mut expected: Vec<u64> = declared
            .iter()
            .flat_map(|(_, first, sectors)| *first..first + sectors)
            .collect();
        written.sort_unstable();
        expected.sort_unstable();
        assert!(
            written == expected,
            "exactly the sectors declared, once each"
        );

        // Sector 0 goes out alone, between two flushes.
        let at = operations
            .iter()
            .position(|operation| matches!(operation, Operation::Write(0, _)));
        let at = at.unwrap();
        assert_eq!(
            operations[at - 1..at + 2],
            [
                Operation::Flush,
                Operation::Write(0, scale),
                Operation::Flush
            ]
        );
        // All that is prepared was there before it, and what is edited came after.
        let stage_of = |first: u64| {
            let holds =
                |(_, from, sectors): &&(String, u64, u64)| (*from..from + sectors).contains(&first);
            &declared.iter().find(holds).unwrap().0
        };
        for (index, operation) in operations.iter().enumerate() {
            let Operation::Write(first, _) = operation else {
                continue;
            };
            let expected = match index.cmp(&at) {
                std::cmp::Ordering::Less => "prepare",
                std::cmp::Ordering::Equal => "commit",
                std::cmp::Ordering::Greater => "edit",
            };
            assert_eq!(stage_of(*first), expected, "{operation:?}");
        }
        assert_eq!(operations.last(), Some(&Operation::Flush));
        assert_eq!(state(&job), "done");
    }
}
