//! The file in which the emulator's firmware keeps its variables: read and changed without a start.

use std::fs;
use std::path::Path;

/// A variable in the firmware's file: its header (60 bytes: signature, state, attributes, count, time, key,
/// lengths, namespace), its name, its content (EDK II, `VariableFormat.h`, authenticated form).
struct Stored {
    at: usize,
    name: String,
    space: uuid::Uuid,
    attributes: u32,
    data: Vec<u8>,
}

const HEAD: usize = 60;
const IN_USE: u8 = 0x3F;
const DELETED: u8 = 0x3D;

/// Where the variables begin: after the headers of the volume and of the store.
fn begin(file: &[u8]) -> usize {
    assert_eq!(&file[40..44], b"_FVH");
    usize::from(u16::from_le_bytes([file[48], file[49]])) + 28
}

/// The variables in use, and where the free space begins.
fn stored(file: &[u8]) -> (Vec<Stored>, usize) {
    let u32_at = |at: usize| u32::from_le_bytes(file[at..at + 4].try_into().unwrap());
    let (mut found, mut at) = (Vec::new(), begin(file));
    while file[at..at + 2] == [0xAA, 0x55] {
        let (name, data) = (u32_at(at + 36) as usize, u32_at(at + 40) as usize);
        let end = at + HEAD + name + data;
        if file[at + 2] == IN_USE {
            let units = file[at + HEAD..at + HEAD + name - 2].chunks(2);
            let units: Vec<u16> = units
                .map(|unit| u16::from_le_bytes([unit[0], unit[1]]))
                .collect();
            found.push(Stored {
                at,
                name: String::from_utf16(&units).unwrap(),
                space: uuid::Uuid::from_slice_le(&file[at + 44..at + 60]).unwrap(),
                attributes: u32_at(at + 4),
                data: file[end - data..end].to_vec(),
            });
        }
        at = end.next_multiple_of(4);
    }
    (found, at)
}

/// Puts the firmware's variables into a folder, a file each, as Linux shows them.
pub(crate) fn unpack(file: &Path, folder: &Path) {
    fs::create_dir(folder).unwrap();
    for variable in stored(&fs::read(file).unwrap()).0 {
        let name = format!("{}-{}", variable.name, variable.space);
        let content = [&variable.attributes.to_le_bytes()[..], &variable.data].concat();
        fs::write(folder.join(name), content).unwrap();
    }
}

/// Gives a variable in the firmware's file another content; one that is not there comes to be.
pub(crate) fn put(file: &Path, name: &str, space: uuid::Uuid, data: &[u8]) {
    let mut bytes = fs::read(file).unwrap();
    let (variables, mut at) = stored(&bytes);
    for old in variables
        .iter()
        .filter(|old| old.name == name && old.space == space)
    {
        bytes[old.at + 2] = DELETED;
    }
    let utf16: Vec<u8> = name
        .encode_utf16()
        .chain([0])
        .flat_map(u16::to_le_bytes)
        .collect();
    let mut head = [0; HEAD];
    head[..3].copy_from_slice(&[0xAA, 0x55, IN_USE]);
    // Lasting, readable always, written only with a signature.
    head[4] = 0x27;
    head[36..40].copy_from_slice(&u32::try_from(utf16.len()).unwrap().to_le_bytes());
    head[40..44].copy_from_slice(&u32::try_from(data.len()).unwrap().to_le_bytes());
    head[44..60].copy_from_slice(&space.to_bytes_le());
    for part in [&head[..], &utf16, data] {
        assert!(
            bytes[at..at + part.len()].iter().all(|&byte| byte == 0xFF),
            "no free space"
        );
        bytes[at..at + part.len()].copy_from_slice(part);
        at += part.len();
    }
    fs::write(file, bytes).unwrap();
}
