//! What depends on the system that the program runs on: how it names disks, what it calls things, how a
//! technician gets there.

use schwelle_core::host::{System, this_pc};

/// The words of one system.
#[derive(Debug)]
pub(crate) struct Here {
    /// A disk, in examples.
    pub(crate) disk: &'static str,
    /// A disk that is not named yet, in examples.
    pub(crate) some_disk: &'static str,
    /// A folder on a stick, in examples.
    pub(crate) stick: &'static str,
    /// A folder of images, in examples.
    pub(crate) folder: &'static str,
    /// A pattern, as it is typed in examples.
    pub(crate) pattern: &'static str,
    /// Who tells what the system knows.
    pub(crate) says: &'static str,
    /// The system does not know it.
    pub(crate) silent: &'static str,
    /// With the right to see this PC's own disks and firmware.
    pub(crate) with_rights: &'static str,
    /// How to get a console with these rights.
    pub(crate) get_rights: &'static str,
    /// How to free a disk.
    pub(crate) free_it: &'static str,
    /// Its console shows all characters, whatever the settings are.
    pub(crate) all_characters: bool,
    /// The folders in which a policy is looked for.
    pub(crate) settings: &'static str,
    /// What is to be known of what it says of this PC.
    pub(crate) about_facts: Option<&'static str>,
    /// What is to be known before a real disk is written here.
    pub(crate) before_writing: Option<&'static str>,
}

const LINUX: Here = Here {
    disk: "/dev/sda",
    some_disk: "/dev/sdX",
    stick: "/media/stick",
    folder: "/images",
    pattern: "'/more/*.raw'",
    says: "the kernel says so",
    silent: "this session's kernel does not report it",
    with_rights: "as root",
    get_rights: "Become root first: sudo -i",
    free_it: "Unmount it, switch the swap off, or stop what holds it",
    all_characters: false,
    settings: "$XDG_CONFIG_HOME, ~/.config or /etc",
    about_facts: None,
    before_writing: None,
};

const WINDOWS: Here = Here {
    disk: r"\\.\PhysicalDrive1",
    some_disk: r"\\.\PhysicalDriveN",
    stick: r"E:",
    folder: r"D:\images",
    pattern: r"D:\more\*.raw",
    says: "Windows says so",
    silent: "this Windows does not report it",
    with_rights: "as administrator",
    get_rights: "Open a console with these rights: powershell Start-Process cmd -Verb RunAs",
    free_it: "Close the windows and programs that show files of it",
    all_characters: true,
    settings: "%APPDATA% or %ProgramData%",
    about_facts: Some(
        "These facts come from Windows' own calls. They were tested with stand-ins only, never on a running Windows.",
    ),
    before_writing: Some(
        "Writing real disks from Windows was tested with stand-ins only, never on a running Windows. Images are not \
         concerned; a disk can also be written from the rescue stick, as was tested with a real kernel.",
    ),
};

/// The words of this system.
pub(crate) fn here() -> &'static Here {
    of(this_pc().system())
}

/// The words of a system.
pub(crate) fn of(system: System) -> &'static Here {
    match system {
        System::Linux => &LINUX,
        System::Windows => &WINDOWS,
    }
}
