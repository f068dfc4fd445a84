//! The first rules of a build that is in memory, and what its pages are linked as.
//!
//! `cargo run --example first_rules`

use ravel_draft::Draft;

fn main() -> Result<(), ravel_draft::DraftError> {
    let files = [
        ("index.html", "<html lang=en><a href=/timetable.html>Timetable</a>"),
        ("timetable.html", "<a href=/index.html>Home</a><script>print()</script>"),
        ("404.html", "<h1>Not found</h1>"),
    ];
    let names = files.map(|(name, _)| name);
    let read = |name: &str| {
        let file = files.iter().find(|(known, _)| *known == name);
        file.map(|(_, text)| text.as_bytes().to_vec()).ok_or("no such file")
    };
    let draft = Draft::of("https://harbour.example/", "dist", &names, read)?;
    print!("{}", draft.rules());
    assert!(draft.rules().contains("pages   exact"));
    Ok(())
}
