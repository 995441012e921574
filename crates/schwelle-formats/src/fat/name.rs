//! Names: the short form of a long name, and comparing as firmware does.

use std::collections::BTreeSet;

use super::dir_entry::LowerCase;

/// True when `name` is allowed as a long name.
pub fn is_valid_long(name: &str) -> bool {
    let units = name.encode_utf16().count();
    let bad = |c: char| c < ' ' || "\"*/:<>?\\|".contains(c);
    (1..=255).contains(&units) && !name.chars().any(bad) && !name.ends_with([' ', '.'])
}

/// The 8.3 form of a name, and whether it says the whole name, so that no long entries are needed.
pub(super) fn short_name(name: &str, taken: &BTreeSet<[u8; 11]>) -> Option<([u8; 11], bool)> {
    let (stem, extension) = name
        .rsplit_once('.')
        .filter(|(stem, _)| !stem.is_empty())
        .unwrap_or((name, ""));
    let allowed = |c: char| c.is_ascii_alphanumeric() || "$%'-_@~`!(){}^#&".contains(c);
    let clean = |text: &str, len: usize| -> String {
        let kept = text.chars().filter(|&c| c != ' ' && c != '.');
        kept.map(|c| {
            if allowed(c) {
                c.to_ascii_uppercase()
            } else {
                '_'
            }
        })
        .take(len)
        .collect()
    };
    let extension_8_3 = clean(extension, 3);
    let pack = |stem: &str| {
        let mut packed = [b' '; 11];
        packed
            .iter_mut()
            .zip(stem.bytes())
            .for_each(|(to, from)| *to = from);
        packed
            .iter_mut()
            .skip(8)
            .zip(extension_8_3.bytes())
            .for_each(|(to, from)| *to = from);
        packed
    };
    let whole = clean(stem, 8);
    let said = format!("{whole}.{extension_8_3}");
    let said = said.trim_end_matches('.');
    let packed = pack(&whole);
    let is_free = !taken.contains(&packed);
    if said == name {
        return is_free.then_some((packed, true));
    }
    // Only the case is lost: boot code, which looks for the short name, finds it.
    if said.eq_ignore_ascii_case(name) && is_free {
        return Some((packed, false));
    }
    (1..=999_999u32).find_map(|number| {
        let tail = format!("~{number}");
        let packed = pack(&format!("{}{tail}", clean(stem, 8 - tail.len())));
        (!taken.contains(&packed)).then_some((packed, false))
    })
}

/// The text of a short name, in capital letters as it is stored.
pub(super) fn short_text(name: &[u8; 11]) -> String {
    let as_stored = LowerCase {
        stem: false,
        extension: false,
    };
    short_text_in(name, as_stored)
}

/// The text of a short name, its parts in the case in which systems show them.
pub(super) fn short_text_in(name: &[u8; 11], case: LowerCase) -> String {
    let part = |bytes: &[u8], is_lower: bool| {
        let text = String::from_utf8_lossy(bytes);
        let text = text.trim_end();
        if is_lower {
            text.to_ascii_lowercase()
        } else {
            text.to_owned()
        }
    };
    let (stem, extension) = name.split_at(8);
    let stem = part(stem, case.stem);
    match part(extension, case.extension) {
        extension if extension.is_empty() => stem,
        extension => format!("{stem}.{extension}"),
    }
}

/// Firmware and systems find names whatever their case (UEFI 2.10 §13.3.1.1).
pub(super) fn same_name(a: &str, b: &str) -> bool {
    a.chars()
        .flat_map(char::to_uppercase)
        .eq(b.chars().flat_map(char::to_uppercase))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_are_unique_and_know_when_they_say_it_all() {
        let mut taken = BTreeSet::new();
        for (long, short, says_all) in [
            ("EFI", "EFI", true),
            ("BOOTX64.EFI", "BOOTX64.EFI", true),
            ("bootmgfw.efi", "BOOTMGFW.EFI", false),
            ("bootmgfw.efi.mui", "BOOTMG~1.MUI", false),
            ("bootmgfw2.efi", "BOOTMG~1.EFI", false),
            ("zh-CN", "ZH-CN", false),
            ("zh-cn", "ZH-CN~1", false),
            ("bootmgr", "BOOTMGR", false),
            ("Grüße.txt", "GR__E~1.TXT", false),
            (".hidden", "HIDDEN~1", false),
        ] {
            let (packed, all) = short_name(long, &taken).unwrap();
            assert_eq!(
                (short_text(&packed).as_str(), all),
                (short, says_all),
                "{long}"
            );
            assert!(taken.insert(packed));
        }
        assert_eq!(short_name("EFI", &taken), None);
    }
}
