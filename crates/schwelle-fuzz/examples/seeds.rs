//! Writes the seeds of each target: `cargo run --release -p schwelle-fuzz --example seeds -- FOLDER`.

fn main() -> std::io::Result<()> {
    let folder = std::env::args().nth(1).unwrap_or("fuzz/corpus".to_owned());
    for target in schwelle_fuzz::TARGETS {
        let of_target = std::path::Path::new(&folder).join(target.name);
        std::fs::create_dir_all(&of_target)?;
        for (number, seed) in (target.seeds)().into_iter().enumerate() {
            std::fs::write(of_target.join(format!("seed-{number}")), seed)?;
        }
    }
    Ok(())
}
