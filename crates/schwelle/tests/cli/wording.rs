//! Plain English in the field's own terms: messages, help and docs have none of the words for which there is a
//! better one.

use std::fs;
use std::path::{Path, PathBuf};

use crate::support::Lab;

/// A word or phrase, and what to say.
const WORDS: &[(&str, &str)] = &[
    ("trim", "shrink (trim is what an SSD does)"),
    ("trims", "shrinks"),
    ("trimmed", "shrunk"),
    ("becomes smaller", "is shrunk"),
    ("file table", "MFT"),
    ("boot store", "BCD store"),
    ("boot stores", "BCD stores"),
    ("old boot partition", "System Reserved partition"),
    ("extended container", "extended partition"),
    ("compatibility module", "CSM"),
    ("fast start-up", "Fast Startup"),
    ("maker", "manufacturer"),
    ("makers", "manufacturers"),
    ("delivered keys", "factory-default keys"),
    ("second signed set", "signed in 2023"),
    ("firmware's width", "firmware architecture"),
    ("short name", "disk name; FAT has short (8.3) names"),
    ("told", "reported, shown"),
    ("is said", "is reported, is shown"),
    ("are said", "are reported, are shown"),
    ("behind", "after, beyond"),
    ("in front of", "before"),
    ("stands against", "blocks; a blocking issue"),
    ("stand against", "block"),
    ("way out", "what to do"),
    ("unseen", "without being inspected"),
    ("when that is said", "needs the option"),
    ("where that cannot be", "otherwise"),
    ("a reason to refuse", "blocks"),
    ("true headers", "valid headers"),
    ("says to it", "to check a disk"),
    ("time and nerves", "is avoidable"),
    ("somebody", "you, or a subject"),
    ("nobody", "a passive"),
    ("whoever", "a subject"),
    ("makes no sense", "is invalid"),
    ("make no sense", "are invalid"),
    ("books balance", "is consistent"),
    ("lies open", "is stored in the clear"),
    ("crossing", "conversion"),
    ("cross over", "are carried over"),
    ("settle", "edit, decide"),
    ("settles", "edits, decides"),
    ("settled", "edited, decided"),
    ("receipt", "marker"),
    ("starter", "boot code"),
    ("wish", "request"),
    ("circumstances", "inputs"),
    ("misfit", "obstacle"),
    ("a Windows is", "an installed Windows is"),
    ("a Windows that", "an installed Windows that"),
    ("the Windows is", "the installed Windows is"),
    ("the Windows on", "Windows on"),
    ("the Windows that", "the installed Windows that"),
];

/// Where a word stands for something else: the end of the path, the word, why.
const EXCEPT: &[(&str, &str, &str)] = &[
    ("powerless.rs", "nobody", "the account of that name"),
    ("CHANGELOG.md", "trim", "as it was called"),
    ("CHANGELOG.md", "settle", "as it was called"),
    ("CHANGELOG.md", "short name", "as it was called"),
    ("CHANGELOG.md", "maker", "as it was called"),
    ("job-folder.md", "trim", "in older journals"),
    ("job-folder.md", "settle", "in older journals"),
];

/// Where `phrase` stands in `text` as words of its own, upper and lower case alike but for Windows.
fn stands_in(text: &str, phrase: &str) -> bool {
    let (text, phrase) = match phrase.contains("Windows") {
        true => (text.to_owned(), phrase.to_owned()),
        false => (text.to_lowercase(), phrase.to_owned()),
    };
    let is_part = |c: Option<char>| c.is_some_and(|c| c.is_alphanumeric() || "_-.(\\".contains(c));
    text.match_indices(&phrase).any(|(at, _)| {
        let before = text[..at].chars().next_back();
        let after = text[at + phrase.len()..].chars().next();
        !is_part(before) && !after.is_some_and(|c| c.is_alphanumeric() || "_-(".contains(c))
    })
}

/// The text of all string literals in a source, up to its unit tests, a line each.
fn literals(source: &str) -> String {
    let source = source.split("#[cfg(test)]").next().unwrap();
    let mut out = String::new();
    let mut rest = source.chars().peekable();
    while let Some(c) = rest.next() {
        match c {
            '/' if rest.peek() == Some(&'/') => {
                rest.by_ref().find(|&c| c == '\n');
            }
            // A character literal of a quotation mark.
            '\'' if rest.peek() == Some(&'"') => {
                rest.next();
            }
            '"' => {
                while let Some(c) = rest.next() {
                    match c {
                        '"' => break,
                        '\\' => match rest.next() {
                            Some('n' | 't' | '\n') => out.push(' '),
                            Some(c) => out.push(c),
                            None => {}
                        },
                        c => out.push(c),
                    }
                }
                out.push('\n');
            }
            _ => {}
        }
    }
    out
}

fn files_below(folder: &Path, extension: &str, into: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files_below(&path, extension, into);
        } else if path.extension().is_some_and(|found| found == extension) {
            into.push(path);
        }
    }
}

/// The project's folder.
fn root() -> &'static Path {
    Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
}

/// The documents that people read.
fn documents() -> Vec<PathBuf> {
    let mut pages = Vec::new();
    files_below(&root().join("docs"), "md", &mut pages);
    let names = [
        "README",
        "ARCHITECTURE",
        "CHANGELOG",
        "CONTRIBUTING",
        "SECURITY",
    ];
    pages.extend(names.map(|name| root().join(name).with_extension("md")));
    pages
}

#[test]
fn messages_help_and_docs_use_the_terms_of_the_field() {
    let lab = Lab::new();
    assert_eq!(lab.run(&["manual", "manual"]).code, 0);
    let mut texts: Vec<(PathBuf, String)> = Vec::new();
    let mut pages = Vec::new();
    files_below(&lab.path("manual"), "1", &mut pages);
    assert!(pages.len() > 15, "{pages:?}");
    pages.extend(documents());
    texts.extend(pages.into_iter().map(|page| {
        let text = fs::read_to_string(&page).unwrap();
        (page, text)
    }));
    for member in [
        "schwelle",
        "schwelle-core",
        "schwelle-formats",
        "schwelle-disk",
    ] {
        let mut sources = Vec::new();
        files_below(
            &root().join("crates").join(member).join("src"),
            "rs",
            &mut sources,
        );
        assert!(sources.len() > 10, "{member}");
        texts.extend(sources.into_iter().map(|source| {
            let text = literals(&fs::read_to_string(&source).unwrap());
            (source, text)
        }));
    }
    none_stands_in(&texts, &[]);
}

#[test]
fn comments_use_the_terms_of_the_field() {
    let mut sources = Vec::new();
    files_below(&root().join("crates"), "rs", &mut sources);
    assert!(sources.len() > 300, "{}", sources.len());
    let comments = sources.into_iter().map(|source| {
        let text = fs::read_to_string(&source).unwrap();
        let lines = text.lines().map(str::trim_start);
        let comments: Vec<_> = lines.filter(|line| line.starts_with("//")).collect();
        (source, comments.join("\n"))
    });
    // In code a short name is one of FAT's.
    none_stands_in(&comments.collect::<Vec<_>>(), &["short name"]);
}

/// Fails with every place where one of the words stands that is not allowed.
fn none_stands_in(texts: &[(PathBuf, String)], allowed: &[&str]) {
    let mut found = Vec::new();
    for (path, text) in texts {
        for line in text.lines() {
            // A literal that is one word is a name, an option or a key.
            if path.extension().is_some_and(|found| found == "rs") && !line.trim().contains(' ') {
                continue;
            }
            for (phrase, better) in WORDS {
                let excepted = EXCEPT
                    .iter()
                    .any(|(file, word, _)| path.ends_with(file) && word == phrase);
                if !excepted && !allowed.contains(phrase) && stands_in(line, phrase) {
                    let at = path.strip_prefix(root()).unwrap_or(path).display();
                    found.push(format!(
                        "{at}: \"{phrase}\" (say: {better}): {}",
                        line.trim()
                    ));
                }
            }
        }
    }
    assert!(
        found.is_empty(),
        "{} found:\n{}",
        found.len(),
        found.join("\n")
    );
}

#[test]
fn prose_wraps_at_110_columns_and_the_readme_is_a_page() {
    for page in documents() {
        let text = fs::read_to_string(&page).unwrap();
        let mut is_output = false;
        for (number, line) in text.lines().enumerate() {
            is_output ^= line.starts_with("```");
            // Tables and outputs are as wide as they are.
            if !is_output && !line.starts_with(['|', ' ']) {
                let width = line.chars().count();
                assert!(width <= 110, "{}:{}: {width}", page.display(), number + 1);
            }
        }
        if page.ends_with("README.md") {
            assert!(
                text.lines().count() <= 100,
                "the README is longer than a page"
            );
        }
    }
}
