//! What each rule asks, and why it matters.

use schwelle_core::rules::RuleId;

/// What a rule asks.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Asked {
    /// The question.
    pub(crate) question: &'static str,
    /// Why it matters, in some sentences.
    pub(crate) why: &'static str,
}

const fn asked(question: &'static str, why: &'static str) -> Asked {
    Asked { question, why }
}

/// The question of a rule.
pub(crate) fn of(rule: RuleId) -> Asked {
    match rule {
        RuleId::MediumWholeDisk => asked(
            "Is this a whole disk?",
            "The partition table belongs to the whole disk. A partition given in its place would get a \
             table of its own inside, and the data in it would be lost.",
        ),
        RuleId::MediumWritable => asked(
            "Can the disk be written?",
            "A disk that the system holds read-only (a write-protected stick, a failing drive that \
             protects itself) would stop the conversion at its first write.",
        ),
        RuleId::MediumSectorSize => asked(
            "Does the disk have sectors of 512 or 4096 bytes?",
            "Tables, the EFI system partition and firmware are defined for these two sizes. Drives with \
             other sizes are formatted for storage arrays and do not start a PC.",
        ),
        RuleId::MediumReadable => asked(
            "Can every sector that was looked at be read?",
            "A sector that cannot be read is the first sign of a failing drive. Converting writes to it, \
             and moving data reads much more of it than a check does. A copy comes first: tomorrow more sectors may be unreadable.",
        ),
        RuleId::MediumHealth => asked(
            "Does the drive itself report no trouble?",
            "An NVMe drive counts what it could not correct and how much of its endurance is used. A \
             drive that warns may fail during the work. SATA and USB drives are not asked.",
        ),
        RuleId::MediumInUse => asked(
            "Is the disk unused by anything else?",
            "A mounted volume, active swap or a driver that holds the disk can write at any time, into a \
             layout that is changing underneath.",
        ),
        RuleId::MediumRaid => asked(
            "Is the disk free of RAID metadata?",
            "RAID sets keep their metadata in the last sectors of each disk, where the backup copy of the \
             GPT must lie. Writing it would break the set, and a single member never holds the whole of \
             the data.",
        ),
        RuleId::MediumJobElsewhere => asked(
            "Does the job folder lie on another disk?",
            "The job folder holds what is needed to take the conversion back. On the disk being converted \
             it could be lost together with what it protects.",
        ),
        RuleId::MediumJobLasting => asked(
            "Would the job folder survive a power cut?",
            "On a rescue system most folders are in memory. A job folder there is lost when the power \
             goes, and with it the way to finish or to undo the job. Where there is no other medium, \
             --job-in-memory accepts that by name. On Linux, NTFS is written without its journal: a power cut \
             can leave it so that it is to be repaired before it can be mounted.",
        ),
        RuleId::MediumJobWritable => asked(
            "Can the job folder be written?",
            "What is overwritten is saved in the job folder first. A stick that is write-protected, or \
             that the system holds read-only after an error, cannot take it.",
        ),
        RuleId::MediumStoppedJob => asked(
            "Is there no interrupted job on the disk?",
            "An interrupted job is finished with resume or taken back with undo, from its \
             job folder. A second job on top would lose what the first one saved. Where the folder is \
             lost for good, --job-lost converts the disk anew as it is now.",
        ),
        RuleId::MediumCopy => asked(
            "Is this the only disk with its content?",
            "Two disks with the same signature are copies of each other: the disk name that convert asks \
             for is the same on both, and the wrong one may be the customer's only good one. The serial \
             number distinguishes them.",
        ),
        RuleId::MediumPower => asked(
            "Is the PC on mains power?",
            "The conversion can be taken back after a power cut, but a battery that runs empty in the \
             middle of the work is avoidable.",
        ),
        RuleId::TableMbr => asked(
            "Does the disk have an MBR partition table?",
            "Only an MBR disk is converted, and a blank one where it is to hold data. A disk that is GPT \
             already needs no conversion; a hybrid one names its partitions twice, and it is not clear which table is meant.",
        ),
        RuleId::TableInside => asked(
            "Do all partitions lie inside the disk?",
            "An entry that ends beyond the disk points to a truncated copy, a wrong sector size, or a \
             damaged table. What it names is not all there.",
        ),
        RuleId::TableOverlap => asked(
            "Do the partitions lie side by side?",
            "Where two partitions claim the same sectors, at least one of them is wrong, and writing to \
             one damages the other.",
        ),
        RuleId::TableChain => asked(
            "Is the chain of logical partitions sound?",
            "Logical partitions are found by following links from one extended boot record to the next. A \
             loop or a link outside the extended partition means that partitions may be missing from the list, and \
             what is missing would be taken for free space.",
        ),
        RuleId::TableFlags => asked(
            "Are the entries' flags as they should be?",
            "The flag byte of an entry is 80h (active) or 00h. Anything else is a sign that the sector \
             was overwritten with something that is no table.",
        ),
        RuleId::TableDynamic => asked(
            "Is it a basic disk, not a dynamic one?",
            "A dynamic disk keeps its volumes in a database of its own in the last MiB, and its volumes \
             may reach over several disks. The partition table does not describe them.",
        ),
        RuleId::TableTypes => asked(
            "Is there a GPT type for every partition?",
            "Each partition needs a type in the new table. A type that is not known cannot be carried \
             over without guessing what the partition is for.",
        ),
        RuleId::TableCount => asked(
            "Do all partitions fit into the new table?",
            "The new table has 128 entries, and one of them is for the EFI system partition. Logical \
             partitions have no such limit.",
        ),
        RuleId::TableAlignment => asked(
            "Do the partitions begin at multiples of 4096 bytes?",
            "Disks of the last years write 4096 bytes at a time. A partition that begins in between, as \
             those laid out by cylinders do, is written more slowly. It works, and is kept as it is.",
        ),
        RuleId::RoomPrimaryTable => asked(
            "Are the sectors for the primary table free?",
            "The primary copy of the GPT takes the sectors right after sector 0. Partitions begin after it on all but very old disks; but some boot managers keep code there. It \
             is saved in the job folder, and overwritten only after sector 0 has been replaced, so that the disk \
             starts at every moment; what starts through it does not start afterwards.",
        ),
        RuleId::RoomBackupTable => asked(
            "Are the last sectors free for the backup table?",
            "The backup copy of the GPT lies in the disk's last sectors. A partition that reaches to the \
             very end must be shrunk a little; Schwelle does that for an NTFS volume.",
        ),
        RuleId::RoomSmallest => asked(
            "How far can the NTFS volumes be shrunk?",
            "Where no space is unused, it is taken from the tail of an NTFS volume: what lies there moves to free clusters before it. A volume can give up all the space it does not use, except a small reserve.",
        ),
        RuleId::RoomEsp => asked(
            "Is there a place for the EFI system partition?",
            "UEFI firmware starts the system from a small FAT32 partition. It needs 260 MiB, or at least \
             100 MiB on disks with 512-byte sectors, aligned to 1 MiB: in space that no partition uses, \
             or in the tail of the System Reserved or the Windows volume, whichever moves least. One that \
             is there already is used, where it is sound and large enough. With --place takeover, it replaces the System Reserved partition.",
        ),
        RuleId::VolumeEncryption => asked(
            "Are encrypted volumes open here?",
            "Boot files and state of an encrypted Windows volume can be checked only where it is open: by itself while \
             its protection is suspended, else by its recovery password or key file (--unlock). It stays encrypted and \
             is not shrunk. Its key is bound to the way the PC starts, so that after the switch Windows may ask for the \
             recovery password once.",
        ),
        RuleId::VolumeReadable => asked(
            "Can every volume be read that should be?",
            "A volume whose own structures do not make sense is damaged or overwritten. What cannot be \
             read cannot be proven unharmed afterwards.",
        ),
        RuleId::VolumeHibernation => asked(
            "Is Windows fully shut down?",
            "A hibernated Windows, or one shut down with Fast Startup, keeps the old layout in its \
             memory image. When it wakes on a changed disk, it writes back what it remembers.",
        ),
        RuleId::VolumeClean => asked(
            "Were the volumes closed cleanly?",
            "A volume that is marked for a check, or whose log is in use, has changes under way that only \
             its own system can finish.",
        ),
        RuleId::VolumeConsistent => asked(
            "Are the NTFS volumes consistent?",
            "Every file record is read: each cluster must belong to one file only and be marked as used, \
             and the mirror of the first records and the copy of the boot sector must match. Where they \
             do not, the volume was damaged or cut short, and its own system should repair it before \
             anything is changed around it.",
        ),
        RuleId::VolumeShadowCopies => asked(
            "Are there restore points (shadow copies)?",
            "Windows keeps restore points and previous versions of files as shadow copies. They read what \
             has not changed since from the volume itself, including clusters that are free now. Where a volume is shrunk, moved data goes there, and the copies show the wrong content. \
             Their own store cannot be moved at all.",
        ),
        RuleId::VolumeMatchesType => asked(
            "Does each partition hold what its type says?",
            "A partition whose type names another file system than it holds points to a table that was \
             restored wrongly, or to the wrong sector size.",
        ),
        RuleId::SystemActive => asked(
            "Is exactly one partition active?",
            "BIOS starts from the active partition, and its BCD store is the one that is carried over. \
             None means that the disk does not start today; with two, it is not known from which.",
        ),
        RuleId::SystemWindows => asked(
            "Is Windows installed on the disk?",
            "The boot files for UEFI come from the installed Windows itself. Without one there is nothing \
             to start, and nothing to take them from. A disk that only holds data needs --data-disk; one with a system is then refused, since it would not start \
             afterwards.",
        ),
        RuleId::System64Bit => asked(
            "Is it 64-bit Windows for PCs?",
            "64-bit UEFI firmware starts 64-bit systems only. 32-bit Windows would not start after the switch, and cannot be turned into a 64-bit one in place.",
        ),
        RuleId::SystemBootFiles => asked(
            "Are the UEFI boot files there, readable, and made for this processor?",
            "The EFI system partition is filled with the files that Windows keeps for the purpose. A file that is missing or unreadable there would be missing at the first start.",
        ),
        RuleId::SystemRegistry => asked(
            "Can the registry be read, and was it closed cleanly?",
            "Version, build and the computer's name come from the registry. What is pending in its log is \
             applied before it is read; otherwise it may be out of date.",
        ),
        RuleId::SystemLetters => asked(
            "Can the drive letters be kept?",
            "Windows keeps in its registry which volume has which letter, and names the volumes of an MBR \
             disk by its signature. After the conversion they must be named by their GPT partitions, or letters change and programs and shortcuts point to the wrong drive.",
        ),
        RuleId::SystemSeveral => asked(
            "How many systems are on the disk?",
            "All of them stay where they are, but one brings the boot files, and the BCD store's default \
             decides which starts first. The technician should know their names.",
        ),
        RuleId::SystemStarts => asked(
            "Does everything that starts today start afterwards?",
            "In BIOS mode a disk may start several systems, each by boot code of its own. A converted disk starts \
             what has a UEFI loader. A system that would start no more is given up only by its name: in answer to \
             a question, or with --drop NAME; --yes does not cover it.",
        ),
        RuleId::BootStart => asked(
            "Does the disk start today?",
            "The conversion sets up its own way of starting and does not need the old one. But on a disk that does not start today, \
             nothing can be compared with it: what is wrong may lie deeper than the table, and would be blamed on the conversion.",
        ),
        RuleId::BcdStore => asked(
            "Is there a BCD store that can be read?",
            "The BCD store holds the menu: its entries, order, timeout and languages are carried over to \
             the new EFI system partition. Where it is lost, a new one can be made for the Windows installation found, \
             but not what else was in it.",
        ),
        RuleId::BootDefault => asked(
            "Does the default entry lead to a system on this disk?",
            "The default entry is what the PC starts. If it leads elsewhere, this may not be the disk \
             that the PC starts from, or another disk is needed as well.",
        ),
        RuleId::BootEntries => asked(
            "Can all menu entries be carried over?",
            "Boot sectors and loaders older than the BCD store run under a BIOS only: they are taken out \
             of the menu, by name. Entries for other disks keep their old names and stay. The technician \
             should know both.",
        ),
        RuleId::BootRecovery => asked(
            "Is the Windows recovery environment (WinRE) found and kept?",
            "WinRE is an image file on one of the volumes, named by the BCD store and by a \
             configuration file of Windows. The file stays where it is; the names are updated.",
        ),
        RuleId::BootOtherLoader => asked(
            "Does firmware find the right loader by itself?",
            "Right after the switch the firmware has no boot entry for the disk. It then looks through the FAT volumes, in \
             the order of the table, for \\EFI\\BOOT\\BOOTX64.EFI. The new EFI system partition comes last: a FAT volume \
             before it with a file of that name would be started in its place.",
        ),
        RuleId::FirmwareUefi => asked(
            "Can the PC start in UEFI mode?",
            "A converted disk starts in UEFI mode only. A PC that cannot do that would not start from it \
             at all.",
        ),
        RuleId::FirmwareBits => asked(
            "Is the PC's firmware 64-bit?",
            "UEFI firmware starts only loaders of its own architecture, and 64-bit Windows brings 64-bit \
             loaders. Some tablets and small notebooks have 32-bit firmware with a 64-bit processor.",
        ),
        RuleId::FirmwareCsm => asked(
            "Does Windows start without the compatibility support module (CSM)?",
            "Windows 7 and Server 2008 R2 draw their start screen by the video routines of a BIOS, which \
             UEFI firmware has only with its CSM on. Without it they hang there. \
             They do not support Secure Boot either.",
        ),
        RuleId::FirmwareSecureBoot => asked(
            "Would Secure Boot let the boot manager run?",
            "With Secure Boot on, firmware starts only programs whose signature leads to one of its own \
             certificates, and none that it has revoked. A boot manager signed by a certificate that the \
             firmware does not know ends in a message about a violation.",
        ),
        RuleId::BackTable => asked(
            "Does the disk have a sound GPT?",
            "Only a GPT disk is taken back to MBR, and only when both copies of its table are sound and \
             say the same: they name the partitions that are kept. A damaged copy is mended first.",
        ),
        RuleId::BackFits => asked(
            "Do all partitions fit into an MBR?",
            "An MBR names four partitions, or three and an extended partition with logical ones, each of which \
             needs a free sector before it for its EBR. It reaches 2^32 sectors, 2 TiB at 512 \
             bytes. What lies beyond cannot be named, and would be lost.",
        ),
        RuleId::BackTypes => asked(
            "Is there an MBR type for every partition?",
            "Each partition needs a type byte in the new table. Microsoft's reserved partition has none: \
             it is left out where it holds nothing. A type that is not known cannot be carried over \
             without guessing what the partition is for.",
        ),
        RuleId::BackActive => asked(
            "Can the EFI system partition become the one that a BIOS starts from?",
            "A BIOS starts from the active partition. The EFI system partition takes that part: it gets \
             the boot manager for BIOS mode, a BCD store and a boot record of its own, beside what is on \
             it. No BIOS starts from sectors of 4096 bytes.",
        ),
        RuleId::BackBootFiles => asked(
            "Does Windows bring its boot files for BIOS mode?",
            "The boot manager for BIOS mode comes from the installed Windows itself, as the one for UEFI \
             does. A file that is missing or unreadable there would be missing at the first start.",
        ),
        RuleId::BackFirmware => asked(
            "Can the PC start in BIOS mode?",
            "An MBR disk starts in BIOS mode, which UEFI firmware has only with its CSM. \
             Many PCs of the last years have none: such a PC would not start from this disk at all.",
        ),
        RuleId::BackupMade => asked(
            "Is there a backup of the customer's data?",
            "Schwelle keeps what it overwrites, but a disk can fail on any day, and a disk that needs \
             converting is seldom new. Only the technician knows whether there is a backup: it is asked \
             for and recorded, never assumed.",
        ),
    }
}
