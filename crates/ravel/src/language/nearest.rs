/// The candidate that a mistyped word most likely meant, if any is near.
pub(crate) fn nearest<'c>(word: &str, candidates: impl IntoIterator<Item = &'c str>) -> Option<&'c str> {
    let far = (word.chars().count() / 3).max(1);
    let scored = candidates.into_iter().map(|candidate| (distance(word, candidate), candidate));
    scored.filter(|(distance, _)| *distance <= far).min_by_key(|(distance, _)| *distance).map(|(_, candidate)| candidate)
}

/// Insertions, deletions, replacements and swaps of neighbours between two words.
fn distance(a: &str, b: &str) -> usize {
    let a: Vec<char> = a.chars().map(|c| c.to_ascii_lowercase()).collect();
    let b: Vec<char> = b.chars().collect();
    let mut rows = vec![(0..=b.len()).collect::<Vec<_>>()];
    for i in 1..=a.len() {
        let mut row = vec![i];
        for j in 1..=b.len() {
            let replaced = rows[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
            let mut least = replaced.min(rows[i - 1][j] + 1).min(row[j - 1] + 1);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                least = least.min(rows[i - 2][j - 2] + 1);
            }
            row.push(least);
        }
        rows.push(row);
    }
    rows[a.len()][b.len()]
}
