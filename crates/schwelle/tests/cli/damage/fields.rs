//! Every field that firmware reads on its way to the loader, with odd values in all of its copies alike: what real
//! firmware does, beside what the rehearsal says. The table is `docs/firmware-fields.md`.

use std::fmt::Write;
use std::path::{Path, PathBuf};

use schwelle_core::device::{DiskFile, Window};
use schwelle_core::fat::FatVolume;
use schwelle_core::rehearse::Answer;
use schwelle_testkit::{copy_image, renew, tool};

use super::random::seal;
use super::{Base, Compared, extent, find_on_esp, is_about_content, of_firmwares_part};
use crate::support::{peek, poke};

const SECTOR: u64 = 512;

/// What is done to the checksums of the table after a change.
#[derive(Clone, Copy, PartialEq)]
enum Checksums {
    MadeAnew,
    Left,
}

/// A structure of which all copies are changed alike.
struct Structure {
    name: &'static str,
    /// Where its specification is.
    source: &'static str,
    fields: &'static [Field],
}

/// Byte within the structure, length in bytes, name, what the specification demands.
type Field = (u64, usize, &'static str, &'static str);

const SECTOR_0: Structure = Structure {
    name: "Protective MBR",
    source: "UEFI 2.10 §5.2.3",
    fields: &[
        (0, 440, "boot code", "any, not used by UEFI"),
        (440, 4, "disk signature", "0"),
        (446, 1, "flag of the entry", "0"),
        (447, 3, "first CHS", "000200h"),
        (450, 1, "type", "EEh"),
        (451, 3, "last CHS", "that of the last sector, or FFFFFFh"),
        (454, 4, "first LBA", "1"),
        (458, 4, "sectors", "the disk's less one, or FFFFFFFFh"),
        (462, 48, "other entries", "0"),
        (510, 2, "signature", "55 AA"),
    ],
};

const HEADER: Structure = Structure {
    name: "GPT header",
    source: "UEFI 2.10 table 5.5",
    fields: &[
        (0, 8, "signature", "EFI PART"),
        (8, 4, "revision", "1.0"),
        (12, 4, "header size", "92 to the sector's length"),
        (16, 4, "header checksum", "CRC-32 of the header"),
        (20, 4, "reserved", "0"),
        (24, 8, "own LBA", "where it is"),
        (32, 8, "alternate LBA", "where the other copy is"),
        (40, 8, "first usable LBA", "behind the primary entries"),
        (48, 8, "last usable LBA", "before the backup entries"),
        (56, 16, "disk GUID", "unique"),
        (72, 8, "LBA of the entries", "where they are"),
        (80, 4, "number of entries", "room for at least 16,384 bytes"),
        (84, 4, "entry size", "128 times a power of two"),
        (88, 4, "checksum of the entries", "CRC-32 of the entries"),
        (92, 420, "rest of the sector", "0"),
    ],
};

const ENTRY: &[Field] = &[
    (0, 16, "type", "a GUID; 0 is unused"),
    (16, 16, "unique GUID", "unique"),
    (32, 8, "first LBA", "usable"),
    (40, 8, "last LBA", "usable, not before the first"),
    (48, 8, "attributes", "bits 3 to 47 are 0"),
    (56, 72, "name", "UTF-16"),
];

const ESP_ENTRY: Structure = Structure {
    name: "GPT entry of the EFI system partition",
    source: "UEFI 2.10 table 5.6",
    fields: ENTRY,
};

const OTHER_ENTRY: Structure = Structure {
    name: "GPT entry of another partition",
    source: "UEFI 2.10 table 5.6",
    fields: ENTRY,
};

const BOOT_SECTOR: Structure = Structure {
    name: "FAT32 boot sector",
    source: "FAT 1.03, \"Boot Sector and BPB\"",
    fields: &[
        (0, 3, "jump", "EB xx 90 or E9 xx xx"),
        (3, 8, "OEM name", "any"),
        (11, 2, "bytes per sector", "512, 1024, 2048 or 4096"),
        (13, 1, "sectors per cluster", "a power of two"),
        (14, 2, "reserved sectors", "not 0"),
        (16, 1, "number of FATs", "not 0; 2 is advised"),
        (17, 2, "root entries", "0 on FAT32"),
        (19, 2, "sectors, 16 bits", "0 on FAT32"),
        (21, 1, "media", "F0h, F8h to FFh"),
        (22, 2, "FAT sectors, 16 bits", "0 on FAT32"),
        (24, 2, "sectors per track", "for INT 13h only"),
        (26, 2, "heads", "for INT 13h only"),
        (28, 4, "hidden sectors", "those before the partition"),
        (32, 4, "sectors, 32 bits", "not 0; at most the partition's"),
        (36, 4, "FAT sectors, 32 bits", "room for every cluster"),
        (40, 2, "flags", "which FAT, unless all are kept alike"),
        (42, 2, "version", "0.0"),
        (44, 4, "root cluster", "2 or larger"),
        (48, 2, "FSInfo sector", "usually 1"),
        (50, 2, "backup boot sector", "0 or 6"),
        (52, 12, "reserved", "0"),
        (64, 1, "drive number", "for INT 13h only"),
        (65, 1, "reserved", "0"),
        (66, 1, "extended signature", "29h"),
        (67, 4, "volume ID", "any"),
        (71, 11, "label", "any"),
        (82, 8, "type", "any: it says nothing"),
        (90, 420, "boot code", "any"),
        (510, 2, "signature", "55 AA"),
    ],
};

const FSINFO: Structure = Structure {
    name: "FSInfo",
    source: "FAT 1.03, \"FSInfo Sector\"",
    fields: &[
        (0, 4, "first signature", "RRaA"),
        (4, 480, "reserved", "0"),
        (484, 4, "second signature", "rrAa"),
        (488, 4, "free clusters", "advice"),
        (492, 4, "next free cluster", "advice"),
        (508, 4, "third signature", "00 00 55 AA"),
    ],
};

const FAT: Structure = Structure {
    name: "FAT, both copies",
    source: "FAT 1.03, \"FAT Data Structure\"",
    fields: &[
        (0, 4, "entry 0", "media byte and ones"),
        (4, 4, "entry 1", "ones; bits 27 and 26: clean"),
    ],
};

const LOADER_ENTRY: Structure = Structure {
    name: "directory entry of the loader",
    source: "FAT 1.03, \"FAT Directory Structure\"",
    fields: &[
        (0, 11, "name", "upper case, filled with blanks"),
        (11, 1, "attributes", "bits 6 and 7 are 0"),
        (12, 1, "reserved", "0; systems keep the case there"),
        (13, 1, "creation, tenths", "0 to 199"),
        (14, 2, "creation time", "any"),
        (16, 2, "creation date", "any"),
        (18, 2, "last access", "any"),
        (
            20,
            2,
            "first cluster, upper half",
            "a cluster of the volume",
        ),
        (22, 2, "last write, time", "any"),
        (24, 2, "last write, date", "any"),
        (
            26,
            2,
            "first cluster, lower half",
            "a cluster of the volume",
        ),
        (28, 4, "length", "as long as the clusters"),
    ],
};

const PROGRAM: Structure = Structure {
    name: "program headers of the loader",
    source: "Microsoft, \"PE Format\"",
    fields: &[
        (0, 2, "DOS signature", "MZ"),
        (0x3C, 4, "place of the PE header", "inside the file"),
        (0x78, 4, "PE signature", "PE 00 00"),
        (0x7C, 2, "machine", "8664h"),
        (0x7E, 2, "number of sections", "as many as follow"),
        (0x80, 4, "time stamp", "any"),
        (0x84, 4, "symbol table", "any"),
        (0x88, 4, "number of symbols", "any"),
        (0x8C, 2, "optional header's size", "112 and 8 per directory"),
        (0x8E, 2, "characteristics", "executable"),
        (0x90, 2, "magic", "20Bh"),
        (0x92, 2, "linker version", "any"),
        (0x94, 4, "size of code", "any"),
        (0x98, 4, "size of data", "any"),
        (0x9C, 4, "size of zeroed data", "any"),
        (0xA0, 4, "entry point", "in a section with code"),
        (0xA4, 4, "base of code", "any"),
        (0xA8, 8, "image base", "a multiple of 64 KiB"),
        (0xB0, 4, "section alignment", "not below the file alignment"),
        (0xB4, 4, "file alignment", "a power of two"),
        (0xB8, 16, "versions", "any"),
        (0xC8, 4, "image size", "all sections"),
        (0xCC, 4, "headers' size", "all headers"),
        (0xD0, 4, "checksum", "of the file; firmware need not look"),
        (0xD4, 2, "subsystem", "10, an EFI application"),
        (0xD6, 2, "DLL characteristics", "any"),
        (0xD8, 32, "stack and heap", "any"),
        (0xF8, 4, "loader flags", "0"),
        (0xFC, 4, "number of directories", "at most 16"),
    ],
};

/// The values that each field gets: zeros, ones, the lowest bit turned over, the highest.
const VALUES: [&str; 4] = ["zeros", "ones", "lowest bit", "highest bit"];

fn value(which: usize, old: &[u8]) -> Vec<u8> {
    let mut new = old.to_vec();
    match which {
        0 => new.fill(0),
        1 => new.fill(0xFF),
        2 => new[0] ^= 1,
        _ => *new.last_mut().unwrap() ^= 0x80,
    }
    new
}

/// The structures with the bytes of the image at which their copies begin.
fn structures(base: &Base) -> Vec<(Structure, Vec<u64>, Checksums)> {
    let image = &base.image;
    let last = std::fs::metadata(image).unwrap().len() - SECTOR;
    let number = |at, len| {
        let mut bytes = [0; 8];
        bytes[..len].copy_from_slice(&peek(image, at, len));
        u64::from_le_bytes(bytes)
    };
    let entries = [2 * SECTOR, number(last + 72, 8) * SECTOR];
    let nth = |index: u64| entries.map(|at| at + 128 * index).to_vec();
    let esp = base.esp.0;
    let fat = esp + number(esp + 14, 2) * SECTOR;
    let fats = vec![fat, fat + number(esp + 36, 4) * SECTOR];
    let device = DiskFile::open_read(image, Some(512)).unwrap();
    let window = Window::new(&device, extent(512, base.esp)).unwrap();
    let volume = FatVolume::open(&window).unwrap();
    let loader = volume.find("\\EFI\\BOOT\\BOOTX64.EFI").unwrap().unwrap();
    let program = esp + volume.extents_of(&loader).unwrap()[0].first.0 * SECTOR;
    let loader = find_on_esp(image, base.esp, b"BOOTX64 EFI");
    let (anew, left) = (Checksums::MadeAnew, Checksums::Left);
    vec![
        (SECTOR_0, vec![0], left),
        (HEADER, vec![SECTOR, last], anew),
        (ESP_ENTRY, nth(2), anew),
        (OTHER_ENTRY, nth(0), anew),
        (BOOT_SECTOR, vec![esp, esp + 6 * SECTOR], left),
        (FSINFO, vec![esp + SECTOR, esp + 7 * SECTOR], left),
        (FAT, fats, left),
        (LOADER_ENTRY, vec![loader], left),
        (PROGRAM, vec![program], left),
    ]
}

/// A disk with one field changed in all copies; `None` if it had that value.
fn changed(
    base: &Base,
    image: &Path,
    (places, checksums): (&[u64], Checksums),
    (at, len, name, _): Field,
    which: usize,
) -> Option<PathBuf> {
    copy_image(&base.image, image);
    let mut is_changed = false;
    for place in places {
        let old = peek(image, place + at, len);
        let new = value(which, &old);
        is_changed |= new != old;
        poke(image, place + at, &new);
    }
    if checksums == Checksums::MadeAnew && !name.contains("checksum") {
        seal_both(image);
    }
    is_changed.then(|| image.to_owned())
}

fn seal_both(image: &Path) {
    let last = std::fs::metadata(image).unwrap().len() - SECTOR;
    for header in [SECTOR, last] {
        seal(image, 512, header);
    }
}

/// A row of the page up to its cells.
fn row((at, _, name, demand): Field) -> String {
    format!("| {at} | {name} | {demand} |")
}

/// What firmware does with a disk, and what the rehearsal says of it.
fn cell(base: &Base, disk: &str, image: &Path, started: bool, compared: &mut Compared) -> String {
    let rehearsal = base.rehearse(image);
    compared.add(disk, &rehearsal, started);
    let said = match of_firmwares_part(&rehearsal) {
        Answer::Starts => "starts",
        Answer::Depends => "depends",
        _ if is_about_content(&rehearsal) => "content",
        _ => "does not",
    };
    format!("{}, {said}", if started { "yes" } else { "no" })
}

/// All values are tried where the page is made; else one of each field, which must be what the page says.
#[test]
#[ignore = "needs outside programs"]
fn every_field_that_firmware_reads_is_judged_as_real_firmware_judges_it() {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/firmware-fields.md");
    let is_made = std::env::var_os("SCHWELLE_RENEW").is_some();
    let known = std::fs::read_to_string(file).unwrap();
    let base = Base::new(512);
    // With the loader that a boot entry names, every fault of the other one would only be a caution.
    let esp = format!("{}@@{}", base.image.display(), base.esp.0);
    tool("mdel", &["-i", &esp, "::/EFI/Microsoft/Boot/bootmgfw.efi"]);
    let mut compared = Compared::default();
    let mut page = HEAD.to_owned();
    for (structure, places, checksums) in structures(&base) {
        let Structure {
            name,
            source,
            fields,
        } = structure;
        let mut images = Vec::new();
        for (index, field) in fields.iter().enumerate() {
            let values =
                (0..VALUES.len()).filter(|which| is_made || index % VALUES.len() == *which);
            images.extend(values.map(|which| {
                let image = base.lab.path(&format!("value-{index}-{which}.img"));
                (
                    index,
                    which,
                    changed(&base, &image, (&places, checksums), *field, which),
                )
            }));
        }
        let disks: Vec<PathBuf> = images
            .iter()
            .filter_map(|(.., image)| image.clone())
            .collect();
        let mut started = base.started(&disks).into_iter();
        write!(page, "\n## {name}\n\n{source}\n\n").unwrap();
        let columns = VALUES.join(" | ");
        writeln!(page, "| byte | field | specification | {columns} |").unwrap();
        write!(page, "|---|---|---|{}", "---|".repeat(VALUES.len())).unwrap();
        let section = known
            .split("\n## ")
            .find(|section| section.starts_with(name));
        for (index, which, image) in images {
            let field = fields[index];
            let disk = format!("{name}, {}, {}", field.2, VALUES[which]);
            let cell = match image {
                Some(image) => {
                    let started = started.next().unwrap();
                    let cell = cell(&base, &disk, &image, started, &mut compared);
                    std::fs::remove_file(&image).unwrap();
                    cell
                }
                None => "as it was".to_owned(),
            };
            if which == 0 {
                write!(page, "\n{}", row(field)).unwrap();
            }
            write!(page, " {cell} |").unwrap();
            let line = section
                .and_then(|section| section.lines().find(|line| line.starts_with(&row(field))));
            let cells = line.map(|line| {
                line[row(field).len()..]
                    .split(" |")
                    .map(str::trim)
                    .collect::<Vec<_>>()
            });
            assert!(
                is_made || cells.as_ref().is_some_and(|cells| cells[which] == cell),
                "{file}: {disk}: {cell}, and the page says {cells:?}"
            );
        }
        page.push('\n');
    }
    eprintln!("{compared}");
    renew(Path::new(file), &page);
    assert!(compared.false_go.is_empty(), "{compared}");
}

const HEAD: &str = "\
# Every field on the firmware's path

Each field that firmware reads on its way to the loader gets four odd values, in all of its copies alike and
with checksums made anew, on a converted disk without the loader that a boot entry would name. Each cell
says whether real firmware (OVMF) then starts the loader, and what the rehearsal says of the firmware's
part: it *starts*, it *depends* on the firmware, it *does not* start, or the loader's *content* is not what
Windows brings, at which this firmware does not look. `crates/schwelle/tests/cli/damage/fields.rs` makes
this page and fails where it is not what comes out; chains of clusters are in `file_systems.rs` beside it,
section headers and relocations in `programs.rs`.
";
