//! What a change of one line does to visitors: `cargo run --example changed_answers`.

use ravel::{Edge, FileList, Rules};
use ravel_check::{DifferenceKind, compare};

const OLD: &str =
    "site https://lanternferries.example/\nredirect /summer -> /offers/summer-2027/\n";
const NEW: &str =
    "site https://lanternferries.example/\nredirect /summer -> /offers/summer-2028/\n";

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let files = FileList::from_iter(["offers/summer-2027/index.html"]);
    let (old, new) = (Rules::parse(OLD)?, Rules::parse(NEW)?);
    let edges = [Edge::new(&old, files.clone()), Edge::new(&new, files)];

    let comparison = compare(&edges[0], &edges[1]);
    for difference in comparison.differences() {
        let about = difference
            .pattern()
            .map_or_else(|| difference.paths().collect::<Vec<_>>().join(", "), str::to_owned);
        println!("{} {about}", difference.kind());
        println!("  {}", difference.example().url());
        println!("  before {:?} {}", difference.before().statuses(), difference.before().url());
        println!("  after  {:?} {}", difference.after().statuses(), difference.after().url());
    }

    // In a release script: nothing that was answered may be lost.
    let is_lost = |kind| matches!(kind, DifferenceKind::Missing | DifferenceKind::Loop);
    assert!(comparison.differences().iter().any(|one| is_lost(one.kind())));
    Ok(())
}
