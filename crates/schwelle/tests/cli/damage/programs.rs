//! Programs that firmware does not load, each wrong in one field of its headers: the rehearsal says so, and the
//! firmware refuses it too. Others with an odd field are loaded, and the rehearsal lets them pass.

use std::fs;
use std::path::PathBuf;

use schwelle_core::rehearse::StepId;
use schwelle_testkit::tool;

use super::{Base, returning_loader};

/// Where the parts of the stand-in program's headers begin (Microsoft, "PE Format").
const PE: usize = 0x78;
const OPTIONAL: usize = PE + 24;
const DIRECTORIES: usize = OPTIONAL + 112;
const SECTIONS: usize = OPTIONAL + 240;
/// The place of the third section, which has no content in the file: the tables below are put there.
const THIRD: u32 = 0x3000;

/// What is done to a program.
type Change = fn(&mut Vec<u8>);

/// What is wrong, and how it comes about. Each is refused by the firmware.
const REFUSED: &[(&str, Change)] = &[
    ("more directories than there are", |p| {
        put(p, OPTIONAL + 108, 17);
    }),
    ("fewer directories than the header has room for", |p| {
        put(p, OPTIONAL + 108, 15);
    }),
    ("an optional header of another size", |p| {
        put16(p, PE + 20, 232);
    }),
    ("an image that ends in its headers", |p| {
        put(p, OPTIONAL + 56, 0x160);
    }),
    ("an image that ends in its section table", |p| {
        put(p, OPTIONAL + 56, 0x180);
    }),
    ("headers that end before the section table", |p| {
        put(p, OPTIONAL + 60, 0x100);
    }),
    ("headers without room for all sections", |p| {
        put(p, OPTIONAL + 60, 0x1E0);
    }),
    ("headers as long as the image", |p| {
        put(p, OPTIONAL + 60, 0x4000);
    }),
    ("headers longer than the file", |p| {
        put(p, OPTIONAL + 60, 0x3000);
    }),
    ("more sections than the headers have room for", |p| {
        put16(p, PE + 6, 40);
    }),
    ("a section beyond the file", |p| {
        put(p, SECTIONS + 20, 0x4000);
    }),
    ("a section that goes on beyond the file", |p| {
        put(p, SECTIONS + 16, 0x4000);
    }),
    ("a section that goes round", |p| {
        put(p, SECTIONS + 20, 0xFFFF_FFF0);
    }),
    ("a section beyond the image", |p| {
        put(p, SECTIONS + 40 + 12, 0x5000);
    }),
    ("a certificate table beyond the file", |p| {
        directory(p, 4, 0x0010_0000, 16);
    }),
    ("a certificate table that goes round", |p| {
        directory(p, 4, 0xFFFF_FFF0, 0x20);
    }),
    ("relocations beyond the image", |p| {
        directory(p, 5, 0x8000, 12);
    }),
    ("relocations that go on beyond the image", |p| {
        directory(p, 5, 0x3FF8, 12);
    }),
    ("a block of relocations of no length", |p| {
        relocations(p, 0x1000, 0, 0xA000);
    }),
    ("a block of relocations longer than all", |p| {
        relocations(p, 0x1000, 64, 0xA000);
    }),
    ("a block of relocations for elsewhere", |p| {
        relocations(p, 0x5000, 12, 0xA000);
    }),
    ("a relocation beyond the image", |p| {
        relocations(p, 0x3FF0, 12, 0xA010);
    }),
    ("a relocation of no type that x64 has", |p| {
        relocations(p, 0x1000, 12, 0x7000);
    }),
    ("a driver's subsystem that is none", |p| {
        put16(p, OPTIONAL + 68, 3);
    }),
    ("another processor", |p| put16(p, PE + 4, 0xAA64)),
    ("no program at all", |p| p[PE] = b'Q'),
    ("an image larger than any memory", |p| {
        put(p, OPTIONAL + 56, 0x7FFF_F000);
    }),
];

/// What is odd, and loaded all the same.
const LOADED: &[(&str, Change)] = &[
    ("nothing", |_| ()),
    ("relocations as they should be", |p| {
        relocations(p, 0x1000, 12, 0xA100);
    }),
    ("another time stamp", |p| put(p, PE + 8, 0x1234_5678)),
    ("another checksum", |p| put(p, OPTIONAL + 64, 77)),
    ("a section's other name", |p| p[SECTIONS] = b'X'),
];

/// What the rehearsal refuses and this firmware may load: it then writes beyond its memory, goes to a place that holds
/// no code, or only to one address.
const STRICTER: &[(&str, Change)] = &[
    ("a section that goes on beyond the image", |p| {
        put(p, SECTIONS + 80 + 8, 0x2000);
    }),
    ("an entry point in no section", |p| {
        put(p, OPTIONAL + 16, 0x1800);
    }),
    ("relocations that were taken out", |p| {
        put16(p, PE + 22, 0x23);
    }),
    ("no code where it begins", |p| p[0x400..0x600].fill(0)),
];

fn put(program: &mut [u8], at: usize, value: u32) {
    program[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

fn put16(program: &mut [u8], at: usize, value: u16) {
    program[at..at + 2].copy_from_slice(&value.to_le_bytes());
}

fn directory(program: &mut [u8], index: usize, at: u32, bytes: u32) {
    put(program, DIRECTORIES + 8 * index, at);
    put(program, DIRECTORIES + 8 * index + 4, bytes);
}

/// Gives the third section content in the file, one block of relocations of which the directory says that it is 12
/// bytes long: base, length, and two entries.
fn relocations(program: &mut Vec<u8>, base: u32, bytes: u32, entry: u16) {
    let at = u32::try_from(program.len()).unwrap();
    program.extend([base.to_le_bytes(), bytes.to_le_bytes()].concat());
    program.extend([entry.to_le_bytes(), [0, 0]].concat());
    program.resize(program.len().next_multiple_of(512), 0);
    put(program, SECTIONS + 80 + 16, 512);
    put(program, SECTIONS + 80 + 20, at);
    directory(program, 5, THIRD, 12);
}

/// A disk with this program as its only loader.
fn disk(base: &Base, name: &str, change: Change) -> PathBuf {
    let mut program = returning_loader();
    change(&mut program);
    let file = base.lab.path("program.efi");
    fs::write(&file, program).unwrap();
    let image = base.copy(name);
    let esp = format!("{}@@{}", image.display(), base.esp.0);
    let file = file.to_str().unwrap();
    tool(
        "mcopy",
        &["-o", "-i", &esp, file, "::/EFI/BOOT/BOOTX64.EFI"],
    );
    tool("mdel", &["-i", &esp, "::/EFI/Microsoft/Boot/bootmgfw.efi"]);
    image
}

#[test]
#[ignore = "needs outside programs"]
fn firmware_refuses_the_programs_that_the_rehearsal_refuses() {
    let base = Base::new(512);
    let groups = [
        (REFUSED, true, Some(false)),
        (LOADED, false, Some(true)),
        (STRICTER, true, None),
    ];
    for (group, refused, started) in groups {
        let disks: Vec<PathBuf> = (0..)
            .zip(group)
            .map(|(index, (_, change))| disk(&base, &format!("{index}.img"), *change))
            .collect();
        for ((name, _), image) in group.iter().zip(&disks) {
            let rehearsal = base.rehearse(image);
            let fault = rehearsal.first_fault();
            let at_image = fault.is_some_and(|step| step.id == StepId::LoaderImage);
            assert_eq!(at_image, refused, "{name}: {fault:?}");
        }
        for ((name, _), by_firmware) in group.iter().zip(base.started(&disks)) {
            assert!(
                started.is_none_or(|started| started == by_firmware),
                "{name}: {by_firmware}"
            );
        }
    }
}
