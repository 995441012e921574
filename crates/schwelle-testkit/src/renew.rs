//! Files that are made from the code.

use std::fs;
use std::path::Path;

/// Puts into a file what it says now, when `SCHWELLE_RENEW` is set: look at it before it is kept.
pub fn renew(file: &Path, now: &str) {
    if std::env::var_os("SCHWELLE_RENEW").is_none() {
        return;
    }
    let made = file.parent().map_or(Ok(()), fs::create_dir_all);
    let made = made.and_then(|()| fs::write(file, now));
    made.unwrap_or_else(|error| panic!("{}: {error}", file.display()));
}

/// Fails where a file that is made from the code does not say what the code says now.
pub fn is_up_to_date(file: &Path, now: &str) {
    renew(file, now);
    let known = fs::read_to_string(file).unwrap_or_default();
    // The texts are long: which line differs is seen by renewing.
    let name = file.display();
    assert!(known == now, "{name} is out of date: SCHWELLE_RENEW=1");
}
