//! For the benchmark: `bench_job DISK JOB` converts with all care, `bench_job DISK` writes the same
//! change set bare: the same stages with the same flushes, but no job folder, and nothing read back.
//! Prints the bytes written to the disk, the bytes of the job folder, and the seconds from the finished
//! plan on.

use std::path::Path;
use std::time::Instant;

use anyhow::{Context, Result};
use schwelle_core::device::{BlockDevice, DiskFile};
use schwelle_core::job::{JobFacts, JobFolder, JobKind, JobState};
use schwelle_core::placement::EspRequest;
use schwelle_demo::plan_of;
use schwelle_disk::commit;

fn main() -> Result<()> {
    let mut arguments = std::env::args().skip(1);
    let path = arguments.next().context("usage: bench_job DISK [JOB]")?;
    let job = arguments.next();
    let disk = DiskFile::open_write(path.as_ref(), None)?;
    let plan = plan_of(&disk, EspRequest::default())?;
    disk.flush()?;
    let begun = Instant::now();
    let mut saved = 0;
    if let Some(folder) = &job {
        let facts = JobFacts {
            kind: JobKind::Convert,
            to: plan.table.style(),
            disk_use: plan.placement.disk_use,
            disk: path.into(),
            serial: None,
            computer: None,
        };
        let mut job = JobFolder::create(Path::new(folder), facts, "{}")?;
        job.save(&disk, plan.drafts(), &plan.changes, plan.relied_on.clone())?;
        commit::apply(plan.drafts(), &plan.changes, &disk, &mut job, &mut ())?;
        commit::verify(plan.drafts(), &plan.changes, &disk, &mut ())?;
        job.set_state(JobState::Done)?;
        for entry in std::fs::read_dir(folder)? {
            saved += entry?.metadata()?.len();
        }
    } else {
        for stage in &plan.changes.stages {
            let draft = plan.drafts().of(stage.kind);
            for extent in stage.extents() {
                let offset = extent.first.0 * 512;
                let len = usize::try_from(extent.sectors() * 512)?;
                disk.write_at(offset, &draft.read_vec(offset, len)?)?;
            }
            disk.flush()?;
        }
    }
    let seconds = begun.elapsed().as_secs_f64();
    println!("{} {saved} {seconds:.4}", plan.changes.bytes());
    Ok(())
}
