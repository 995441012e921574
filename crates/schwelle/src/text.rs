//! Text from disks and numbers, made fit for a screen.

use std::path::Path;

use schwelle_core::host::this_pc;
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

/// The same of a JSON document, which may be read on a terminal as well: such characters are written as escapes, so that
/// what the document says stays the same. Line feeds stand between its lines.
pub(crate) fn safe_json(document: &str) -> String {
    let mut out = String::with_capacity(document.len());
    for c in document.chars() {
        if c != '\n' && (c.is_control() || is_hidden(c)) {
            for unit in c.encode_utf16(&mut [0; 2]) {
                out.push_str(&format!("\\u{unit:04x}"));
            }
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
        '\u{061C}'
        | '\u{200B}'..='\u{200F}'
        | '\u{2028}'..='\u{202E}'
        | '\u{2060}'..='\u{206F}'
        | '\u{FEFF}'
        | '\u{FFF9}'..='\u{FFFB}'
        | '\u{E0000}'..='\u{E0FFF}')
}

/// What a terminal can show.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Glyphs {
    /// No terminal: the reader decides what to do with it.
    AsTheyAre,
    /// All characters. Right-to-left ones keep to themselves.
    All,
    /// The 7-bit ones.
    Ascii,
}

impl Glyphs {
    /// What a terminal with these settings (POSIX: the first of `LC_ALL`, `LC_CTYPE` and `LANG` that is not
    /// empty) can show.
    pub(crate) fn of_terminal(setting: impl Fn(&str) -> Option<String>) -> Self {
        let names = ["LC_ALL", "LC_CTYPE", "LANG"];
        let mut shown = names.into_iter().filter_map(setting);
        let locale = shown.find(|value| !value.is_empty()).unwrap_or_default();
        let locale = locale.to_ascii_lowercase();
        if locale.ends_with("utf-8") || locale.ends_with("utf8") {
            Self::All
        } else {
            Self::Ascii
        }
    }

    /// Text in characters that can be shown, each in as many columns as before.
    pub(crate) fn fit(self, text: &str) -> String {
        match self {
            Self::AsTheyAre => text.to_owned(),
            Self::All => isolated(text),
            Self::Ascii => text
                .chars()
                .map(|c| match c.is_ascii() {
                    true => c.to_string(),
                    false => "?".repeat(c.width().unwrap_or(0)),
                })
                .collect(),
        }
    }
}

/// True for a terminal (`TERM`) that shows line and block characters where its locale has them. The bare console
/// has a font of 256 or 512 signs, and not all of these.
pub(crate) fn can_draw(terminal: Option<&str>) -> bool {
    !matches!(terminal, None | Some("" | "dumb" | "linux"))
}

/// Puts right-to-left text between isolates (UAX #9), which take no column, so that a terminal that turns
/// it round leaves what stands beside it where it is.
fn isolated(text: &str) -> String {
    const ISOLATE: char = '\u{2068}';
    const END: char = '\u{2069}';
    let mut out = String::with_capacity(text.len());
    // Blanks after a right-to-left word, which belong to it when another one follows.
    let (mut inside, mut blanks) = (false, String::new());
    for c in text.chars() {
        match (is_right_to_left(c), inside) {
            (true, false) => {
                out.push(ISOLATE);
                inside = true;
            }
            (false, true) if c == ' ' => {
                blanks.push(c);
                continue;
            }
            (false, true) => {
                out.push(END);
                inside = false;
            }
            _ => {}
        }
        out.push_str(&std::mem::take(&mut blanks));
        out.push(c);
    }
    if inside {
        out.push(END);
    }
    out + &blanks
}

/// The scripts that are written from right to left (Unicode, DerivedBidiClass: R and AL), with their digits
/// and signs.
fn is_right_to_left(c: char) -> bool {
    matches!(c,
        '\u{0590}'..='\u{08FF}'
        | '\u{FB1D}'..='\u{FDFF}'
        | '\u{FE70}'..='\u{FEFE}'
        | '\u{10800}'..='\u{10FFF}'
        | '\u{1E800}'..='\u{1EFFF}')
}

/// A note as a sentence: with a capital letter, where it begins with a word, and a full stop.
pub(crate) fn sentence(text: &str) -> String {
    let first = text.split([' ', ',']).next().unwrap_or_default();
    let is_word = first
        .chars()
        .all(|c| c.is_ascii_lowercase() || "-'".contains(c));
    let mut out = match text.chars().next() {
        Some(c) if is_word => {
            c.to_ascii_uppercase().to_string() + text.get(1..).unwrap_or_default()
        }
        _ => text.to_owned(),
    };
    if !out.is_empty() && !out.ends_with(['.', '!', '?', ':']) {
        out.push('.');
    }
    out
}

/// A path as it is typed in a shell: quoted where it must be, and harmless to show. One that begins with a dash is
/// no option.
pub(crate) fn typed(path: &Path) -> String {
    let path = safe(&path.display().to_string());
    let here = if path.starts_with('-') { "./" } else { "" };
    this_pc().typed(&format!("{here}{path}"))
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

/// Breaks the lines that are wider than `columns`: a command gets a line of its own, and where that is too
/// long as well, goes on after a backslash, so that it can be typed as it stands. Nothing is broken inside a
/// word.
pub(crate) fn fit_lines(text: &str, columns: usize) -> String {
    let mut fitted = String::new();
    for line in text.split_inclusive('\n') {
        let (line, end) = match line.strip_suffix('\n') {
            Some(line) => (line, "\n"),
            None => (line, ""),
        };
        if shown_width(line) <= columns {
            fitted += line;
        } else {
            let indent = line.len() - line.trim_start().len();
            fitted += &broken(line, indent, columns);
        }
        fitted += end;
    }
    fitted
}

fn broken(line: &str, indent: usize, columns: usize) -> String {
    let margin = " ".repeat(indent + 2);
    let (prose, command) = match line.find(" schwelle ").filter(|&at| at > indent) {
        Some(at) => line.split_at(at),
        None => (line, ""),
    };
    let mut lines: Vec<String> = Vec::new();
    let words = match prose.trim().is_empty() {
        true => prose,
        false => prose.trim_end(),
    };
    for word in words.split(' ') {
        match lines.last_mut() {
            Some(last) if shown_width(last) + 1 + shown_width(word) <= columns => {
                last.push(' ');
                last.push_str(word);
            }
            // The blanks in front belong to the line.
            Some(last) if last.trim().is_empty() => {
                last.push(' ');
                last.push_str(word);
            }
            Some(_) => lines.push(format!("{margin}{word}")),
            None => lines.push(word.to_owned()),
        }
    }
    let first_of_command = lines.len();
    for word in arguments(command.trim_start()) {
        let is_first = lines.len() == first_of_command;
        match lines.last_mut().filter(|_| !is_first) {
            // Two columns for the backslash.
            Some(last) if shown_width(last) + 1 + shown_width(word) + 2 <= columns => {
                last.push(' ');
                last.push_str(word);
            }
            Some(last) => {
                last.push_str(" \\");
                lines.push(format!("{margin}  {word}"));
            }
            None => lines.push(format!("{margin}{word}")),
        }
    }
    lines.join("\n")
}

/// The words of a command: blanks inside quotes belong to their word.
fn arguments(command: &str) -> Vec<&str> {
    let mut words = Vec::new();
    let (mut from, mut quoted) = (0, false);
    for (at, c) in command.char_indices() {
        match c {
            '\'' => quoted = !quoted,
            ' ' if !quoted => {
                words.extend(command.get(from..at).filter(|word| !word.is_empty()));
                from = at + 1;
            }
            _ => {}
        }
    }
    words.extend(command.get(from..).filter(|word| !word.is_empty()));
    words
}

/// The columns that a text takes, without the codes of colours in it.
fn shown_width(text: &str) -> usize {
    width(&anstream::adapter::strip_str(text).to_string())
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
    fn a_terminal_gets_what_it_can_show_in_as_many_columns() {
        for (locale, glyphs) in [
            ("de_DE.UTF-8", Glyphs::All),
            ("C.utf8", Glyphs::All),
            ("C", Glyphs::Ascii),
            ("", Glyphs::Ascii),
        ] {
            let setting = |name: &str| (name == "LANG").then(|| locale.to_owned());
            assert_eq!(Glyphs::of_terminal(setting), glyphs, "{locale}");
        }
        for (text, ascii, all) in [
            ("Turm 3", "Turm 3", "Turm 3"),
            ("水-Türme\u{301}", "??-T?rme", "水-Türme\u{301}"),
            (
                "1 מגדל א  12",
                "1 ???? ?  12",
                "1 \u{2068}מגדל א\u{2069}  12",
            ),
            ("برج", "???", "\u{2068}برج\u{2069}"),
        ] {
            assert_eq!(Glyphs::Ascii.fit(text), ascii);
            assert_eq!(Glyphs::All.fit(text), all);
            assert_eq!(Glyphs::AsTheyAre.fit(text), text);
            assert_eq!(
                (width(ascii), width(all)),
                (width(text), width(text)),
                "{text}"
            );
        }
    }

    #[test]
    fn notes_become_sentences() {
        for (note, expected) in [
            ("not asked yet", "Not asked yet."),
            (
                "\\hiberfil.sys holds a session",
                "\\hiberfil.sys holds a session.",
            ),
            ("winload.efi is missing.", "winload.efi is missing."),
            ("mbr.bin: too long", "mbr.bin: too long."),
            ("", ""),
        ] {
            assert_eq!(sentence(note), expected);
        }
    }

    #[test]
    fn paths_can_be_typed_again() {
        for (path, shown) in [
            ("/dev/sda", "/dev/sda"),
            ("my disk.img", "'my disk.img'"),
            ("it's", r"'it'\''s'"),
            ("a\nb", "'a\\u{a}b'"),
            ("--yes", "./--yes"),
        ] {
            assert_eq!(typed(Path::new(path)), shown);
        }
    }

    #[test]
    fn a_command_gets_a_line_of_its_own_and_can_be_typed_from_there() {
        let short = "Done. Next: schwelle check disk.img\n";
        assert_eq!(fit_lines(short, 40), short);
        let line = "  Next: some words before it: schwelle undo --job '/media/my stick/job' --disk SERIAL\nrest";
        assert_eq!(
            fit_lines(line, 40),
            [
                "  Next: some words before it:",
                "    schwelle undo --job \\",
                "      '/media/my stick/job' --disk \\",
                "      SERIAL",
                "rest"
            ]
            .join("\n")
        );
        assert_eq!(
            fit_lines("a word and anunbreakablelongword b", 12),
            "a word and\n  anunbreakablelongword\n  b"
        );
        let coloured = "\u{1b}[31mred\u{1b}[0m words";
        assert_eq!(fit_lines(coloured, 9), coloured);
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
