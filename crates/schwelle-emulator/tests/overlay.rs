//! The overlay that the emulator is shown, judged by the emulator's own tool for such files.

use std::fs::{self, File};

use schwelle_core::device::{BlockDevice, DiskFile, Draft, Extent, Lba, ReadDevice};
use schwelle_emulator::{Backing, write_overlay};

fn tool(args: &[&str]) -> String {
    schwelle_testkit::tool("qemu-img", args).stdout
}

#[test]
#[ignore = "needs outside programs"]
fn the_emulators_tool_reads_the_draft_from_the_overlay_and_finds_no_fault() {
    const GIB: u64 = 1 << 30;
    // Sector size, disk in bytes, changed extents (first sector, sectors). The second level has a table
    // for each 512 MiB; a disk may end inside a cluster.
    type Case<'a> = (u32, u64, &'a [(u64, u64)]);
    let cases: [Case<'_>; 6] = [
        (512, 3 << 20, &[]),
        (512, (3 << 20) + 512, &[(0, 1), (6144, 1)]),
        (
            512,
            GIB,
            &[(0, 34), (127, 2), (1 << 20, 300), ((1 << 21) - 33, 33)],
        ),
        (4096, GIB, &[(0, 6), (262_139, 5), (200_000, 20)]),
        (
            512,
            40 * GIB,
            &[(5, 1), (40 * (GIB / 512) - 1, 1), (1 << 24, 4000)],
        ),
        // More clusters than one block of counts counts.
        (512, 3 * GIB, &[(0, 4_400_000)]),
    ];
    for (sector, len, changed) in cases {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("disk, with a comma.img");
        let file = File::create(&path).unwrap();
        file.set_len(len).unwrap();
        let disk = DiskFile::open_write(&path, Some(sector)).unwrap();
        let old = [0xA5; 4096];
        disk.write_at(0, &old[..sector as usize]).unwrap();
        disk.flush().unwrap();
        let draft = Draft::new(&disk);
        let extents: Vec<Extent> = changed
            .iter()
            .map(|&(first, sectors)| Extent::new(Lba(first), sectors).unwrap())
            .collect();
        // Of a long stretch, the ends are enough.
        for extent in &extents {
            for lba in [extent.first.0, extent.last().0] {
                let content = vec![u8::try_from(lba % 251).unwrap() | 1; sector as usize];
                draft.write_at(lba * u64::from(sector), &content).unwrap();
            }
        }
        let overlay = dir.path().join("overlay");
        let backing = Backing {
            path: &path,
            geometry: disk.geometry(),
        };
        let file = File::create(&overlay).unwrap();
        write_overlay(file, &backing, &draft, extents.iter().copied()).unwrap();

        let overlay = overlay.to_str().unwrap();
        assert!(tool(&["check", "-f", "qcow2", overlay]).contains("No errors were found"));
        let about = tool(&["info", "--output=json", overlay]);
        assert!(
            about.contains(&format!("\"virtual-size\": {len}")),
            "{about}"
        );
        let seen = dir.path().join("seen.img");
        tool(&[
            "convert",
            "-f",
            "qcow2",
            "-O",
            "raw",
            overlay,
            seen.to_str().unwrap(),
        ]);
        let seen = DiskFile::open_read(&seen, Some(sector)).unwrap();
        assert_eq!(seen.geometry(), disk.geometry());
        let interesting = extents.iter().flat_map(|extent| {
            let (first, last) = (extent.first.0, extent.last().0);
            [
                first.saturating_sub(1),
                first,
                first + 1,
                last - 1.min(last),
                last,
                last + 1,
            ]
        });
        let all = disk.geometry().sectors;
        for lba in interesting
            .chain([0, 1, 7, 8, all - 1])
            .filter(|lba| *lba < all)
        {
            let expected = draft.read_sector(Lba(lba)).unwrap();
            assert!(
                seen.read_sector(Lba(lba)).unwrap() == expected,
                "{sector} {len} LBA {lba}"
            );
        }
        fs::remove_file(path).unwrap();
    }
}
