//! Documents with examples: a section has a mistake, its message, and the fix.

use std::fs;
use std::path::Path;

/// The block of a section with this name.
pub(crate) fn block<'t>(section: &'t str, kind: &str) -> Option<&'t str> {
    let (_, rest) = section.split_once(&format!("```{kind}\n"))?;
    rest.split_once("```").map(|(text, _)| text)
}

/// Holds each section with a wrong example against what `said` gives for it, by the section's name;
/// with `RAVEL_BLESS=1` writes the messages of now.
pub(crate) fn compare(document: &str, mut said: impl FnMut(&str, &str) -> String) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(document);
    let text = fs::read_to_string(&path).unwrap();
    let bless = std::env::var_os("RAVEL_BLESS").is_some();
    let mut blessed = String::new();
    for section in text.split_inclusive("\n### ").flat_map(|part| part.split_inclusive("\n## ")) {
        if block(section, "wrong").is_none() {
            blessed.push_str(section);
            continue;
        }
        let name = section.split(['\n', ' ']).next().unwrap();
        let now = said(name, section);
        if !bless {
            assert_eq!(block(section, "output"), Some(now.as_str()), "{name}");
        }
        let start = section.find("```output\n").unwrap() + "```output\n".len();
        let end = start + section[start..].find("```").unwrap();
        blessed.extend([&section[..start], &now, &section[end..]]);
    }
    if bless {
        fs::write(&path, blessed).unwrap();
    }
}
