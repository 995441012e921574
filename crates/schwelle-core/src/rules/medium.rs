//! Rules about the medium: is this a disk that may be written at all?

use super::{Answer, Facts, Rule, Twin};
use crate::device::{Extent, HealthWarning, PowerSource};
use crate::profile::StoppedSign;

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "medium.whole-disk",
        question: "Is this a whole disk?",
        why: "The partition table belongs to the whole disk. A partition given in its place \
            would get a table of its own inside, and the data in it would be lost.",
        to: None,
        check: whole_disk,
    },
    Rule {
        id: "medium.writable",
        question: "Can the disk be written?",
        why: "A disk that the system holds read-only (a write-protected stick, a failing drive \
            that protects itself) would stop the conversion at its first write. Better to know \
            before.",
        to: None,
        check: writable,
    },
    Rule {
        id: "medium.sector-size",
        question: "Does the disk have sectors of 512 or 4096 bytes?",
        why: "Tables, the EFI system partition and firmware are defined for these two sizes. \
            Drives with other sizes are formatted for storage arrays and do not start a PC.",
        to: None,
        check: sector_size,
    },
    Rule {
        id: "medium.readable",
        question: "Can every sector that was looked at be read?",
        why: "A sector that cannot be read is the first sign of a failing drive. Converting writes to it, and \
            moving data reads much more of it than a check does. A copy comes first: what cannot be read today \
            may be more tomorrow.",
        to: None,
        check: readable,
    },
    Rule {
        id: "medium.health",
        question: "Does the drive itself report no trouble?",
        why: "An NVMe drive counts what it could not correct and how much of its endurance is used. A drive that \
            warns may fail during the work. SATA and USB drives are not asked.",
        to: None,
        check: health,
    },
    Rule {
        id: "medium.in-use",
        question: "Is the disk free of other users?",
        why: "A mounted volume, active swap or a driver that holds the disk can write at any \
            time, into a layout that is changing underneath.",
        to: None,
        check: in_use,
    },
    Rule {
        id: "medium.raid",
        question: "Is the disk free of RAID metadata?",
        why: "RAID sets keep their metadata in the last sectors of each disk, where the backup \
            copy of the GPT must lie. Writing it would break the set, and a single member \
            never holds the whole of the data.",
        to: None,
        check: raid,
    },
    Rule {
        id: "medium.job-elsewhere",
        question: "Does the job folder lie on another disk?",
        why: "The job folder holds what is needed to take the conversion back. On the disk being \
            converted it could be lost together with what it protects.",
        to: None,
        check: job_elsewhere,
    },
    Rule {
        id: "medium.job-lasting",
        question: "Would the job folder survive a power cut?",
        why: "On a rescue system most folders are in memory. A job folder there is lost when the power \
            goes, and with it the way to finish or to undo the job. Where there is no other medium, \
            --job-in-memory accepts that by name.",
        to: None,
        check: job_lasting,
    },
    Rule {
        id: "medium.job-writable",
        question: "Can the job folder be written?",
        why: "What is overwritten is saved in the job folder first. A stick that is write-protected, or \
            that the system holds read-only after an error, cannot take it.",
        to: None,
        check: job_writable,
    },
    Rule {
        id: "medium.stopped-job",
        question: "Is the disk free of a job that was stopped?",
        why: "A job that was stopped half-way is finished with resume or taken back with undo, from its job \
            folder. A second job on top would lose what the first one saved. Where the folder is lost for good, \
            --job-lost converts the disk anew as it is now.",
        to: None,
        check: stopped_job,
    },
    Rule {
        id: "medium.copy",
        question: "Is this the only disk with its content?",
        why: "Two disks with the same signature are copies of each other: the disk name that convert asks for \
            is the same on both, and the wrong one may be the customer's only good one. The serial number tells \
            them apart.",
        to: None,
        check: copy,
    },
    Rule {
        id: "medium.power",
        question: "Is the PC on mains power?",
        why: "The conversion can be taken back after a power cut, but a battery that runs empty \
            in the middle of the work costs time and nerves for nothing.",
        to: None,
        check: power,
    },
];

fn whole_disk(facts: &Facts<'_>) -> Vec<Answer> {
    let partition_of = facts.profile.host.partition_of.as_ref();
    let block = |disk: &String| {
        Answer::block(
            "disk",
            format!("this is a partition of {disk}"),
            format!("Name the whole disk: schwelle check /dev/{disk}"),
        )
    };
    partition_of.map(block).into_iter().collect()
}

fn writable(facts: &Facts<'_>) -> Vec<Answer> {
    let remedy = "Lift the write protection (a switch on the stick or adapter), or copy the disk \
        to a sound one and convert the copy.";
    let block = || Answer::block("disk", "the system holds this disk read-only", remedy);
    facts
        .profile
        .host
        .read_only
        .then(block)
        .into_iter()
        .collect()
}

fn sector_size(facts: &Facts<'_>) -> Vec<Answer> {
    let size = facts.profile.geometry.logical_sector;
    if let Some(written) = facts.profile.written_with {
        let evidence = format!(
            "the disk shows {size}-byte sectors, but its layout was written with {written}-byte sectors: only so \
             do its partitions begin where a volume begins"
        );
        let remedy = if facts.profile.host.is_block_device {
            "An adapter or dock changes the sector size. Connect the disk directly, or through the adapter that it \
                was partitioned with; then check again."
                .to_owned()
        } else {
            format!("Name the sector size: --sector-size {written}")
        };
        return vec![Answer::block("disk", evidence, remedy)];
    }
    if matches!(size, 512 | 4096) {
        return vec![Answer::pass("disk", format!("{size}-byte sectors"))];
    }
    let remedy = "Copy the disk to one with 512- or 4096-byte sectors and convert that.";
    vec![Answer::block(
        "disk",
        format!("the disk has {size}-byte sectors"),
        remedy,
    )]
}

fn readable(facts: &Facts<'_>) -> Vec<Answer> {
    let remedy = "First copy the disk to a sound one, with a program that goes on after read errors and lists \
        them. Check and convert the copy; keep this disk as it is.";
    let block = |extent: &Extent| {
        let (first, last) = (extent.first, extent.last());
        Answer::block(
            "disk",
            format!("{first} to {}: cannot be read", last.0),
            remedy,
        )
    };
    facts.unreadable.iter().map(block).collect()
}

fn health(facts: &Facts<'_>) -> Vec<Answer> {
    let remedy = "Make a copy of the disk first, and think of a new drive.";
    let told = |warning: &HealthWarning| match *warning {
        HealthWarning::Spare { left, threshold } => {
            format!("{left} % of the spare blocks are left, below the threshold of {threshold} %")
        }
        HealthWarning::Temperature => "the temperature is out of bounds".to_owned(),
        HealthWarning::Unreliable => "it reports that it has become unreliable".to_owned(),
        HealthWarning::ReadOnly => "it reports that it takes no more writes".to_owned(),
        HealthWarning::Backup => {
            "what keeps its cache through a power failure has failed".to_owned()
        }
        HealthWarning::Worn(percent) => format!("{percent} % of its endurance is used"),
        HealthWarning::MediaErrors(count) => {
            format!("{count} times it lost content that could not be corrected")
        }
    };
    let caution = |warning| Answer::caution("disk", format!("SMART: {}", told(warning)), remedy);
    facts.health.iter().map(caution).collect()
}

fn in_use(facts: &Facts<'_>) -> Vec<Answer> {
    let block = |user: &String| {
        Answer::block(
            "disk",
            user,
            "Unmount it, switch the swap off, or stop what holds it; then check again.",
        )
    };
    facts.profile.host.users.iter().map(block).collect()
}

fn raid(facts: &Facts<'_>) -> Vec<Answer> {
    let remedy = "Take the disk out of the set in the controller's setup first (with a backup at \
        hand), or convert the set as a whole where the system shows it as one disk.";
    let block = |mark: &crate::profile::TailMark| {
        Answer::block(
            "disk",
            format!("{}: metadata of {}", mark.at, mark.owner),
            remedy,
        )
    };
    facts.profile.raid.iter().map(block).collect()
}

fn job_elsewhere(facts: &Facts<'_>) -> Vec<Answer> {
    match facts.job.map(|job| job.on_disk) {
        Some(true) => vec![Answer::block(
            "job folder",
            "the job folder lies on the disk to be converted",
            "Name a folder on another disk or stick with --job.",
        )],
        Some(false) => vec![Answer::pass("job folder", "on another disk")],
        None => vec![Answer::pass("job folder", "looked at when one is named")],
    }
}

fn job_lasting(facts: &Facts<'_>) -> Vec<Answer> {
    let remedy = "Name a folder on a stick or on another disk with --job. If there is none: \
        --job-in-memory accepts that a power cut in the middle leaves no way back.";
    match facts.job.map(|job| job.in_memory) {
        Some(Some(true)) => {
            let evidence = "it is on a RAM disk and would be lost on power failure";
            let accepted = facts.job.is_some_and(|job| job.may_be_in_memory);
            vec![if accepted {
                Answer::caution(
                    "job folder",
                    format!("{evidence}; accepted with --job-in-memory"),
                    "Copy the folder to a stick before the PC is switched off.",
                )
            } else {
                Answer::block("job folder", evidence, remedy)
            }]
        }
        Some(Some(false)) => vec![Answer::pass("job folder", "not in memory")],
        Some(None) => vec![Answer::unknown(
            "job folder",
            "the system does not tell what it lies on",
            remedy,
        )],
        None => vec![Answer::pass("job folder", "looked at when one is named")],
    }
}

fn job_writable(facts: &Facts<'_>) -> Vec<Answer> {
    match facts.job.map(|job| job.read_only) {
        Some(true) => vec![Answer::block(
            "job folder",
            "its file system is mounted read-only",
            "Lift the write protection and mount it again for writing, or name another folder with --job.",
        )],
        Some(false) => vec![Answer::pass(
            "job folder",
            "its file system is mounted for writing",
        )],
        None => vec![Answer::pass("job folder", "looked at when one is named")],
    }
}

fn stopped_job(facts: &Facts<'_>) -> Vec<Answer> {
    let unfinished = facts.jobs.iter().find(|job| job.state.is_unfinished());
    if let Some(job) = unfinished {
        let path = job.path.display();
        return vec![Answer::block(
            "disk",
            format!("a job on this disk was stopped half-way; its folder is {path}"),
            format!(
                "Finish it: schwelle resume --job {path} . Or take it back: schwelle undo --job {path}"
            ),
        )];
    }
    let lost = "Look for its job folder (on the stick that was used): schwelle resume --job DIR, or schwelle \
        undo --job DIR. If the folder is lost for good, --job-lost converts the disk as it is now.";
    let stopped = |subject: String, evidence: String| match facts.job_lost {
        true => Answer::caution(subject, format!("{evidence}; known with --job-lost"), lost),
        false => Answer::block(subject, evidence, lost),
    };
    let mut answers = Vec::new();
    for sign in &facts.profile.stopped {
        answers.push(match *sign {
            StoppedSign::Shrunk {
                partition,
                beyond_bytes,
                copy_left,
            } => {
                let title = facts.profile.partition(partition).map(|found| found.title());
                let subject = title.unwrap_or_default();
                let mib = beyond_bytes >> 20;
                let evidence = format!("its volume ends {mib} MiB before the partition does");
                if copy_left {
                    let copy = "the boot sector's copy of the larger volume is still in the last sector";
                    stopped(
                        subject,
                        format!("a job was stopped here: {evidence}, and {copy}"),
                    )
                } else {
                    Answer::caution(
                        subject,
                        evidence,
                        "A copy to a larger partition leaves that; so may a job that was stopped. If there \
                            is a job folder of it, use that. Otherwise nothing needs to be done.",
                    )
                }
            }
            StoppedSign::Esp { at, disk: Some(id) } => stopped(
                "disk".to_owned(),
                format!("a job was stopped here: {at} begins the EFI system partition of a conversion to disk {id}"),
            ),
            StoppedSign::Esp { at, disk: None } => Answer::caution(
                "disk",
                format!("{at}: an EFI system partition that no entry names, in unused space"),
                "It may be left from an earlier table, or from a job that was stopped. If there is a job folder, \
                    use that. Otherwise the space counts as unused.",
            ),
        });
    }
    if let Some(job) = facts.jobs.first().filter(|_| answers.is_empty()) {
        let state = job.state.name();
        answers.push(Answer::pass(
            "disk",
            format!(
                "a job folder of this disk: {} ({state})",
                job.path.display()
            ),
        ));
    }
    answers
}

fn copy(facts: &Facts<'_>) -> Vec<Answer> {
    let serial = facts.profile.host.serial.as_deref();
    let told = |twin: &Twin| {
        let evidence = format!("the same signature is on {}", twin.told);
        if facts.named_surely {
            let remedy = "Take one of the two out of the PC before the converted one starts.";
            return Answer::caution(
                "disk",
                format!("{evidence}; this one was named by its serial number"),
                remedy,
            );
        }
        let remedy = match serial {
            Some(serial) => format!(
                "Name this disk by its serial number in place of its path: schwelle convert {serial} --job \
                 DIR . Or take the other one out."
            ),
            None => "This disk tells no serial number: take the other one out.".to_owned(),
        };
        Answer::block("disk", evidence, remedy)
    };
    facts.twins.iter().map(told).collect()
}

fn power(facts: &Facts<'_>) -> Vec<Answer> {
    let answer = match facts.machine.power.value() {
        Some(PowerSource::Battery) => Answer::caution(
            "PC",
            "running on battery",
            "Connect the mains adapter before converting.",
        ),
        Some(PowerSource::Mains) => Answer::pass("PC", "on mains power"),
        Some(PowerSource::Unknown) | None => Answer::pass("PC", facts.machine.power.evidence()),
    };
    vec![answer]
}
