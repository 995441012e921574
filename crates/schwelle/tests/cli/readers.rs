//! Our NTFS reader beside others: a foreign crate, and the NTFS utilities' own driver.

use std::fs;

use schwelle_core::device::DiskFile;

use crate::support::Lab;
use schwelle_testkit::{Mounted, tool};

#[test]
fn a_second_ntfs_reader_sees_the_files_we_see() {
    use schwelle_core::bytes::ReadBytes;
    use schwelle_core::device::{Extent, Window};
    let lab = Lab::new();
    for sector in [512, 4096] {
        let (image, places) = lab.standard(&format!("{sector}.img"), sector);
        let device = DiskFile::open_read(&image, Some(sector)).unwrap();
        for extent in [places.boot, places.windows] {
            let Extent { first, .. } = extent;
            let offset = first.0 * u64::from(sector);
            let window = Window::new(&device, extent).unwrap();
            let ours = schwelle_core::ntfs::NtfsVolume::open(&window).unwrap();
            let mut stream = crate::rehearse::Slice::open(
                &image,
                (offset, extent.sectors() * u64::from(sector)),
            );
            let mut theirs = ntfs::Ntfs::new(&mut stream).unwrap();
            theirs.read_upcase_table(&mut stream).unwrap();
            let mut folders = vec![5];
            let mut seen = 0;
            while let Some(folder) = folders.pop() {
                let entries = ours.read_dir(folder).unwrap();
                let names: std::collections::BTreeSet<_> =
                    entries.iter().map(|entry| entry.name.clone()).collect();
                let foreign = foreign_names(&theirs, &mut stream, folder);
                assert_eq!(names, foreign, "record {folder}");
                for entry in entries.into_iter().filter(|entry| entry.record > 15) {
                    if entry.is_directory {
                        folders.push(entry.record);
                        continue;
                    }
                    let file = ours.open_file(entry.record).unwrap();
                    assert_eq!(
                        file.len_bytes(),
                        file.read_all(64 << 20).unwrap().len() as u64
                    );
                    // The second reader gives compressed bytes as content.
                    if !file.is_plain() && !file.runs().is_empty() {
                        continue;
                    }
                    let content = foreign_content(&theirs, &mut stream, entry.record);
                    assert!(
                        file.read_all(64 << 20).unwrap() == content,
                        "{}",
                        entry.name
                    );
                    seen += 1;
                }
            }
            assert!(seen >= 7, "{seen} files");
        }
    }
}

/// Volumes made and filled by the NTFS utilities in the test itself: files in more pieces than one
/// record can name, and forms of content that we refuse, at cluster sizes from the smallest to a
/// large one.
#[test]
#[ignore = "needs root and outside programs"]
fn files_in_many_pieces_are_read_as_the_driver_reads_them() {
    for (sector, cluster) in [
        ("512", "512"),
        ("512", "4096"),
        ("512", "16384"),
        ("4096", "4096"),
    ] {
        let lab = Lab::new();
        let volume = lab.path("volume.img");
        fs::File::create(&volume)
            .unwrap()
            .set_len(50 << 20)
            .unwrap();
        let path = volume.to_str().unwrap();
        tool(
            "mkntfs",
            &[
                "-F", "-q", "-Q", "-s", sector, "-c", cluster, "-p", "0", "-H", "255", "-S", "63",
                path,
            ],
        );
        let at = lab.path("mounted");
        fs::create_dir_all(&at).unwrap();
        tool(
            "ntfs-3g",
            &["-o", "compression", path, at.to_str().unwrap()],
        );
        let mounted = Mounted(at);
        fs::create_dir(mounted.0.join("packed")).unwrap();
        // The directory's flag "compressed" (0800h) makes new files in it compressed.
        tool(
            "setfattr",
            &[
                "-n",
                "system.ntfs_attrib_be",
                "-v",
                "0x00000810",
                mounted.0.join("packed").to_str().unwrap(),
            ],
        );
        // Units that get smaller, units that do not, and a hole in between.
        let mut packable = "the same again and again ".repeat(8000).into_bytes();
        packable.extend((0..20_000u32).flat_map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()));
        packable.extend(vec![0; 100_000]);
        packable.extend("anchor, buoy, chart, ".repeat(3000).into_bytes());
        fs::write(mounted.0.join("packed/file"), &packable).unwrap();
        // Small files until half the volume is taken, one that fills the rest, and every second
        // small one gone: what is written then lies in as many pieces as there are holes.
        let piece = usize::max(cluster.parse().unwrap(), 4096);
        let small = |number: usize| mounted.0.join(format!("small {number}"));
        for number in 0..600 {
            fs::write(small(number), vec![7; piece]).unwrap();
        }
        let filler = std::io::copy(
            &mut std::io::repeat(8),
            &mut fs::File::create(mounted.0.join("filler")).unwrap(),
        );
        assert!(filler.is_err(), "the volume is full");
        (0..600)
            .step_by(2)
            .for_each(|number| fs::remove_file(small(number)).unwrap());
        let pieces: Vec<u8> = (0..250u32)
            .flat_map(|turn| turn.to_le_bytes().repeat(piece / 4))
            .collect();
        fs::write(mounted.0.join("one"), &pieces).unwrap();
        drop(mounted);

        let device = DiskFile::open_read(&volume, Some(sector.parse().unwrap())).unwrap();
        let ours = schwelle_core::ntfs::NtfsVolume::open(&device).unwrap();
        assert_eq!(ours.shape().cluster_bytes.to_string(), cluster);
        assert_eq!(ours.check_copies().unwrap(), []);
        let audit = ours.audit().unwrap();
        assert_eq!(
            (audit.faults, audit.files > 300),
            (Vec::new(), true),
            "{cluster}"
        );
        let file = ours
            .open_file(ours.find("one").unwrap().unwrap().record)
            .unwrap();
        assert!(
            file.runs().len() > 80,
            "{cluster}: {} runs",
            file.runs().len()
        );
        assert!(file.read_all(64 << 20).unwrap() == pieces, "{cluster}");
        assert_eq!(
            ours.read_dir(5)
                .unwrap()
                .iter()
                .filter(|entry| entry.name.starts_with("small"))
                .count(),
            300
        );
        let packed = ours.find("packed\\file").unwrap().unwrap();
        use schwelle_core::bytes::ReadBytes;
        let file = ours.open_file(packed.record).unwrap();
        // Clusters above 4 KiB cannot be compressed: there the file is plain.
        assert_eq!(file.is_plain(), cluster == "16384", "{cluster}");
        assert!(file.read_all(64 << 20).unwrap() == packable, "{cluster}");
        for (offset, len) in [(0, 1), (4095, 2), (199_999, 70_000), (379_000, 60_001)] {
            let mut part = vec![0; len];
            file.read_bytes(offset, &mut part).unwrap();
            let at = usize::try_from(offset).unwrap();
            assert!(
                part == packable[at..at + len],
                "{cluster}: {len} bytes at {offset}"
            );
        }
    }
}

fn foreign_names(
    volume: &ntfs::Ntfs,
    stream: &mut crate::rehearse::Slice,
    folder: u64,
) -> std::collections::BTreeSet<String> {
    let file = volume.file(stream, folder).unwrap();
    let index = file.directory_index(stream).unwrap();
    let mut entries = index.entries();
    let mut names = std::collections::BTreeSet::new();
    while let Some(entry) = entries.next(stream) {
        let entry = entry.unwrap();
        let key = entry.key().unwrap().unwrap();
        if key.namespace() != ntfs::structured_values::NtfsFileNamespace::Dos {
            names.insert(key.name().to_string_lossy());
        }
    }
    names
}

fn foreign_content(
    volume: &ntfs::Ntfs,
    stream: &mut crate::rehearse::Slice,
    record: u64,
) -> Vec<u8> {
    use ntfs::NtfsReadSeek;
    let file = volume.file(stream, record).unwrap();
    let data = file.data(stream, "").unwrap().unwrap();
    let attribute = data.to_attribute().unwrap();
    let mut value = attribute.value(stream).unwrap();
    let mut content = vec![0; usize::try_from(value.len()).unwrap()];
    let mut done = 0;
    while done < content.len() {
        let read = value.read(stream, &mut content[done..]).unwrap();
        assert!(read > 0);
        done += read;
    }
    content
}
