//! For the benchmark: `bench_job IMAGE JOB` converts with all care, `bench_job IMAGE` writes the same
//! change set bare: no job folder, no order, one flush, nothing read back. Prints the bytes written to
//! the disk, the bytes of the job folder, and the seconds from the finished plan on.

use std::path::Path;
use std::time::Instant;

use anyhow::{Context, Result};
use schwelle_core::commit;
use schwelle_core::device::{BlockDevice, DiskFile, ReadDevice};
use schwelle_core::job::{JobFolder, JobState};
use schwelle_core::placement::EspWish;
use schwelle_demo::plan_of;

fn main() -> Result<()> {
    let mut arguments = std::env::args().skip(1);
    let image = arguments.next().context("usage: bench_job IMAGE [JOB]")?;
    let job = arguments.next();
    let disk = DiskFile::open_write(image.as_ref(), Some(512))?;
    let plan = plan_of(&disk, EspWish::default())?;
    disk.flush()?;
    let begun = Instant::now();
    let mut saved = 0;
    if let Some(path) = &job {
        let mut job = JobFolder::create(Path::new(path), "{}")?;
        job.save(&disk, plan.drafts(), &plan.changes, plan.relied_on.clone())?;
        commit::apply(plan.drafts(), &plan.changes, &disk, &mut job, &mut ())?;
        commit::verify(plan.drafts(), &plan.changes, &disk, &mut ())?;
        job.set_state(JobState::Done)?;
        for entry in std::fs::read_dir(path)? {
            saved += entry?.metadata()?.len();
        }
    } else {
        for extent in plan.changes.extents() {
            let offset = extent.first.0 * 512;
            let len = usize::try_from(extent.sectors() * 512)?;
            disk.write_at(offset, &plan.draft.read_vec(offset, len)?)?;
        }
        disk.flush()?;
    }
    let seconds = begun.elapsed().as_secs_f64();
    println!("{} {saved} {seconds:.4}", plan.changes.bytes());
    Ok(())
}
