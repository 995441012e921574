//! Sizes as people type them.

/// A size with a binary unit: 300M, 300MiB, 1G, or plain bytes.
pub(crate) fn size(text: &str) -> Result<u64, String> {
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let unit = match text[digits.len()..].to_ascii_lowercase().as_str() {
        "" => 1,
        "k" | "kib" => 1 << 10,
        "m" | "mib" => 1 << 20,
        "g" | "gib" => 1 << 30,
        _ => return Err("the unit is one of K, M, G (binary)".to_owned()),
    };
    let number: u64 = digits
        .parse()
        .map_err(|_fault| "a number and a unit, such as 300M".to_owned())?;
    // Some systems' boot files are ten MiB each; what is larger is a slip of the finger.
    let sensible = |bytes: &u64| (1..=4 << 30).contains(bytes);
    number
        .checked_mul(unit)
        .filter(sensible)
        .ok_or_else(|| "more than nothing, and 4G at most".to_owned())
}

#[cfg(test)]
mod tests {
    #[test]
    fn sizes_have_binary_units() {
        for (text, expected) in [
            ("300M", Some(300 << 20)),
            ("1GiB", Some(1 << 30)),
            ("4096", Some(4096)),
            ("5G", None),
            ("5T", None),
            ("M", None),
            ("0", None),
            ("99999999999G", None),
        ] {
            assert_eq!(super::size(text).ok(), expected, "{text}");
        }
    }
}
