//! Text from disks and numbers, made fit for a screen.

use std::path::Path;

use unicode_width::UnicodeWidthChar;

/// Makes text from a disk harmless and visible: control characters, direction marks and other
/// invisible ones are shown as `\u{..}`, so that neither the terminal nor the reader is led astray.
pub(crate) fn safe(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if c.is_control() || is_hidden(c) {
            out.extend(c.escape_unicode());
        } else {
            out.push(c);
        }
    }
    out
}

/// The bidirectional controls of Unicode (UAX #9), zero-width characters, separators that break
/// lines, and the format characters that nothing shows.
fn is_hidden(c: char) -> bool {
    matches!(c,
        '\u{200B}'..='\u{200F}'
        | '\u{2028}'..='\u{202E}'
        | '\u{2060}'..='\u{206F}'
        | '\u{FEFF}'
        | '\u{FFF9}'..='\u{FFFB}'
        | '\u{E0000}'..='\u{E0FFF}')
}

/// A path as it is typed in a shell: quoted where it must be, and harmless to show.
pub(crate) fn typed(path: &Path) -> String {
    let text = safe(&path.display().to_string());
    let plain = |c: char| c.is_alphanumeric() || "/._-+,:@%=".contains(c);
    if !text.is_empty() && text.chars().all(plain) {
        text
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

/// Columns that a text takes on a terminal.
pub(crate) fn width(text: &str) -> usize {
    text.chars().map(|c| c.width().unwrap_or(0)).sum()
}

/// Fills `text` with blanks up to `columns`.
pub(crate) fn pad(text: &str, columns: usize) -> String {
    format!("{text}{}", " ".repeat(columns.saturating_sub(width(text))))
}

/// Cuts `text` to `columns`, with a sign that something is missing.
pub(crate) fn cut(text: &str, columns: usize) -> String {
    if width(text) <= columns {
        return text.to_owned();
    }
    let mut out = String::new();
    for c in text.chars() {
        if width(&out) + c.width().unwrap_or(0) + 2 > columns {
            break;
        }
        out.push(c);
    }
    out + ".."
}

/// Breaks `text` at blanks into lines of at most `columns`; a longer word stands alone.
pub(crate) fn wrap(text: &str, columns: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let line = lines.last_mut().expect("there is always a line");
        if line.is_empty() {
            line.push_str(word);
        } else if width(line) + 1 + width(word) <= columns {
            line.push(' ');
            line.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

/// A number of bytes in binary units.
pub(crate) fn bytes(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if bytes < 1024 {
        return format!("{bytes} B");
    }
    // Tenths of a unit, in whole numbers, so that no rounding surprises.
    let (mut tenths, mut unit) = (u128::from(bytes) * 10 / 1024, 0);
    while tenths >= 10_240 && unit < UNITS.len() - 1 {
        tenths /= 1024;
        unit += 1;
    }
    format!("{}.{} {}", tenths / 10, tenths % 10, UNITS[unit])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_from_a_disk_reaches_the_terminal_as_a_command() {
        for (text, shown) in [
            ("plain Turm 水", "plain Turm 水"),
            ("\x1b[2J\x07", "\\u{1b}[2J\\u{7}"),
            ("a\u{202E}b\u{9b}c\n", "a\\u{202e}b\\u{9b}c\\u{a}"),
        ] {
            assert_eq!(safe(text), shown);
        }
    }

    #[test]
    fn paths_can_be_typed_again() {
        for (path, shown) in [
            ("/dev/sda", "/dev/sda"),
            ("my disk.img", "'my disk.img'"),
            ("it's", r"'it'\''s'"),
            ("a\nb", "'a\\u{a}b'"),
        ] {
            assert_eq!(typed(Path::new(path)), shown);
        }
    }

    #[test]
    fn widths_count_columns() {
        assert_eq!(
            (
                width("水a"),
                cut("水水水水", 6).as_str(),
                pad("水", 4).as_str()
            ),
            (3, "水水..", "水  ")
        );
        assert_eq!(wrap("aa bb ccccccccc d", 5), ["aa bb", "ccccccccc", "d"]);
    }

    #[test]
    fn sizes_are_binary() {
        for (number, shown) in [
            (0, "0 B"),
            (1023, "1023 B"),
            (1024, "1.0 KiB"),
            (600 << 20, "600.0 MiB"),
            (2_000_398_934_016, "1.8 TiB"),
            (u64::MAX, "16777215.9 TiB"),
        ] {
            assert_eq!(bytes(number), shown);
        }
    }
}
