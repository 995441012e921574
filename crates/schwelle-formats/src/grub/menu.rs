//! The menu, `grub.cfg`: a script, of which the commands that make an entry are read, and none is run.

/// Entries that are read, at most.
const MAX_ENTRIES: usize = 256;
/// Words of one command, at most.
const MAX_WORDS: usize = 256;
/// Blocks in blocks that are followed.
const MAX_DEPTH: usize = 32;

/// What a menu offers.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Menu {
    /// The entries, those of submenus among them, in their order.
    pub entries: Vec<MenuEntry>,
    /// Which entry of the outermost menu is started without a key, counted from 0: where the script says so with a
    /// number. What a variable names is not known.
    pub default: Option<usize>,
    /// The volume that the script itself goes to, outside of entries.
    pub root: Place,
    /// Entries come from files of their own beside it (`blscfg`), which are not read.
    pub has_entries_elsewhere: bool,
}

/// An entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MenuEntry {
    /// Its title; comes from the disk.
    pub title: String,
    /// Where it stands in the outermost menu: an entry of a submenu where that stands.
    pub index: usize,
    /// What it starts.
    pub target: Target,
    /// Where from.
    pub root: Place,
}

/// What an entry starts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// A Linux kernel, with the first file systems that it is given.
    Linux {
        /// Its path on the volume.
        kernel: String,
        /// Those of the initial RAM disks.
        initrds: Vec<String>,
        /// Its command line: `root=...` and the like.
        arguments: Vec<String>,
    },
    /// The boot record of the volume, as a BIOS would start it; or Windows' boot manager there.
    BootRecord,
    /// Something else.
    Other,
}

/// A volume as a menu names it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Place {
    /// The file system's UUID or serial number, as `search --fs-uuid` takes it.
    pub uuid: Option<String>,
    /// Number of the MBR partition, on the disk that was started from.
    pub partition: Option<usize>,
}

impl Menu {
    /// Reads a `grub.cfg`.
    pub fn parse(text: &str) -> Self {
        let mut reader = Reader::default();
        for command in commands(text) {
            reader.take(command);
        }
        reader.menu
    }

    /// The entry that is started without a key; `None` where that is not known.
    pub fn default_entry(&self) -> Option<&MenuEntry> {
        let default = self.default?;
        self.entries.iter().find(|entry| entry.index == default)
    }
}

/// A piece of the script.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Command {
    /// Words up to the end of a line, a semicolon or a brace.
    Words(Vec<String>),
    Open,
    Close,
}

/// Cuts a script into commands, as its shell would: quotes and backslashes keep their characters, `#` begins a comment.
fn commands(text: &str) -> impl Iterator<Item = Command> {
    let (mut commands, mut words) = (Vec::new(), Vec::new());
    let mut word: Option<String> = None;
    let mut chars = text.chars().peekable();
    let end_word = |word: &mut Option<String>, words: &mut Vec<String>| {
        if let Some(word) = word.take()
            && words.len() < MAX_WORDS
        {
            words.push(word);
        }
    };
    let end_command = |words: &mut Vec<String>, commands: &mut Vec<Command>| {
        if !words.is_empty() {
            commands.push(Command::Words(std::mem::take(words)));
        }
    };
    while let Some(next) = chars.next() {
        match next {
            '\'' | '"' => {
                let word = word.get_or_insert_default();
                while let Some(inner) = chars.next().filter(|inner| *inner != next) {
                    match inner {
                        '\\' if next == '"' => word.extend(chars.next()),
                        inner => word.push(inner),
                    }
                }
            }
            '\\' => {
                if let Some(kept) = chars.next().filter(|kept| *kept != '\n') {
                    word.get_or_insert_default().push(kept);
                }
            }
            '#' if word.is_none() => while chars.next_if(|inner| *inner != '\n').is_some() {},
            // A variable in braces is part of a word.
            '$' if chars.peek() == Some(&'{') => {
                let word = word.get_or_insert_default();
                word.push('$');
                for inner in chars.by_ref() {
                    word.push(inner);
                    if inner == '}' {
                        break;
                    }
                }
            }
            '\n' | ';' | '{' | '}' => {
                end_word(&mut word, &mut words);
                end_command(&mut words, &mut commands);
                match next {
                    '{' => commands.push(Command::Open),
                    '}' => commands.push(Command::Close),
                    _ => {}
                }
            }
            space if space.is_whitespace() => end_word(&mut word, &mut words),
            other => word.get_or_insert_default().push(other),
        }
    }
    end_word(&mut word, &mut words);
    end_command(&mut words, &mut commands);
    commands.into_iter()
}

/// What a block is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Block {
    Entry,
    Submenu,
    /// A function, or another that groups commands.
    Other,
}

#[derive(Debug, Default)]
struct Reader {
    menu: Menu,
    blocks: Vec<Block>,
    next: Option<Block>,
    /// Entries and submenus of the outermost menu so far.
    count: usize,
    entry: Option<MenuEntry>,
}

impl Reader {
    fn take(&mut self, command: Command) {
        match command {
            Command::Open if self.blocks.len() < MAX_DEPTH => {
                let block = self.next.take().unwrap_or(Block::Other);
                self.blocks.push(block);
            }
            Command::Open => {}
            Command::Close => self.close(),
            Command::Words(words) => self.words(&words),
        }
    }

    fn close(&mut self) {
        let block = self.blocks.pop();
        let is_inner = matches!(block, Some(Block::Entry | Block::Submenu));
        if block == Some(Block::Entry)
            && let Some(entry) = self.entry.take()
            && self.menu.entries.len() < MAX_ENTRIES
        {
            self.menu.entries.push(entry);
        }
        if is_inner && !self.blocks.contains(&Block::Submenu) {
            self.count += 1;
        }
    }

    fn words(&mut self, words: &[String]) {
        let Some((name, rest)) = words.split_first() else {
            return;
        };
        let first = rest.first();
        match name.as_str() {
            "menuentry" => {
                self.next = Some(Block::Entry);
                self.entry = Some(MenuEntry {
                    title: first.cloned().unwrap_or_default(),
                    index: self.count,
                    target: Target::Other,
                    root: Place::default(),
                });
            }
            "submenu" => self.next = Some(Block::Submenu),
            "blscfg" => self.menu.has_entries_elsewhere = true,
            "set" if self.entry.is_none() => {
                let value = first.and_then(|set| set.strip_prefix("default="));
                if let Some(value) = value {
                    // Of several the last one holds; the ones before are for a single start.
                    self.menu.default = value.parse().ok();
                }
            }
            _ => match &mut self.entry {
                Some(entry) => entry.take(name, rest),
                None => self.menu.root.take(name, rest),
            },
        }
    }
}

impl Place {
    fn take(&mut self, name: &str, rest: &[String]) {
        match name {
            "set" => {
                let root = rest.first().and_then(|set| set.strip_prefix("root="));
                if let Some(root) = root {
                    self.partition = mbr_partition(root);
                }
            }
            // The older form is a command of its own, with the UUID first.
            "search.fs_uuid" => self.uuid = rest.first().cloned(),
            "search" => {
                let is_uuid = rest.iter().any(|word| word == "--fs-uuid" || word == "-u");
                let named = rest.iter().rev().find(|word| !word.starts_with('-'));
                if let Some(uuid) = named.filter(|_| is_uuid) {
                    self.uuid = Some(uuid.clone());
                }
            }
            _ => {}
        }
    }
}

impl MenuEntry {
    fn take(&mut self, name: &str, rest: &[String]) {
        match name {
            "linux" | "linux16" | "linuxefi" => {
                if let Some((kernel, arguments)) = rest.split_first() {
                    self.target = Target::Linux {
                        kernel: kernel.clone(),
                        initrds: Vec::new(),
                        arguments: arguments.to_vec(),
                    };
                }
            }
            "initrd" | "initrd16" | "initrdefi" => {
                if let Target::Linux { initrds, .. } = &mut self.target {
                    initrds.extend(rest.iter().cloned());
                }
            }
            "chainloader" | "ntldr" => self.target = Target::BootRecord,
            other => self.root.take(other, rest),
        }
    }
}

/// The number of an MBR partition of the disk that was started from, as "hd0,msdos1" or "(hd0,1)".
fn mbr_partition(name: &str) -> Option<usize> {
    let name = name.trim_start_matches('(').trim_end_matches(')');
    let (disk, part) = name.split_once(',')?;
    let number = part.strip_prefix("msdos").unwrap_or(part);
    number
        .parse()
        .ok()
        .filter(|_| disk == "hd0" || disk.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_are_read_with_what_they_start_and_where_from() {
        let text = "set default=\"${saved}\"\nset default=\"0\" # the first\n\
            function load { insmod all_video; }\n\
            menuentry 'Lampe (a \"b\")' --class x $id {\n load\n set root='hd0,msdos1'\n\
            if [ x$feature = xy ]; then\n search --no-floppy --fs-uuid --set=root --hint=hd0,msdos1 aa-bb\nelse\n\
            search --no-floppy --fs-uuid --set=root aa-bb\nfi\n linux /boot/k root=UUID=${u} ro \\\n quiet\n\
            initrd /boot/a /boot/b }\n\
            submenu \"More\" { menuentry \"Old \\\" one\" { linux16 /k2 } menuentry third { set root=(hd1,2); linux /k } }\n\
            menuentry 'Fenster' { set root='hd0,msdos3'\n chainloader +1\n}\nmenuentry nothing { halt }";
        let menu = Menu::parse(text);
        let titles: Vec<_> = menu
            .entries
            .iter()
            .map(|entry| (entry.title.as_str(), entry.index))
            .collect();
        let expected = [
            ("Lampe (a \"b\")", 0),
            ("Old \" one", 1),
            ("third", 1),
            ("Fenster", 2),
            ("nothing", 3),
        ];
        assert_eq!(titles, expected);
        let [lampe, _, third, fenster, nothing] = &menu.entries[..] else {
            panic!("{menu:?}");
        };
        assert_eq!(menu.default_entry(), Some(lampe));
        let place = |uuid: Option<&str>, partition| Place {
            uuid: uuid.map(str::to_owned),
            partition,
        };
        assert_eq!(lampe.root, place(Some("aa-bb"), Some(1)));
        let words = |words: &[&str]| {
            words
                .iter()
                .map(|&word| word.to_owned())
                .collect::<Vec<_>>()
        };
        assert_eq!(
            lampe.target,
            Target::Linux {
                kernel: "/boot/k".to_owned(),
                initrds: words(&["/boot/a", "/boot/b"]),
                arguments: words(&["root=UUID=${u}", "ro", "quiet"]),
            }
        );
        // Another disk's.
        assert_eq!(third.root, Place::default());
        assert_eq!(
            (&fenster.root, &fenster.target),
            (&place(None, Some(3)), &Target::BootRecord)
        );
        assert_eq!(nothing.target, Target::Other);
    }

    #[test]
    fn no_script_is_too_strange() {
        for text in [
            "",
            "menuentry",
            "}}}{{{",
            "menuentry a {",
            "'",
            "\\",
            "${",
            "set default=",
        ] {
            assert!(Menu::parse(text).entries.is_empty(), "{text}");
        }
        let many = "menuentry a { menuentry b { ".repeat(5000) + &"}".repeat(10_000);
        assert!(Menu::parse(&many).entries.len() <= MAX_ENTRIES);
        assert!(Menu::parse("blscfg").has_entries_elsewhere);
    }
}
