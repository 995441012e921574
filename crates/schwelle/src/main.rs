//! The program `schwelle`; what it does is in the library beside it.

fn main() -> std::process::ExitCode {
    schwelle::run()
}
