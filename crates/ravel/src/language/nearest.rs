//! The word that a mistyped one most likely meant.

/// The candidate that a mistyped word most likely meant, if any is near.
///
/// ```
/// use ravel::language::nearest;
///
/// assert_eq!(nearest("redirct", ["redirect", "gone"]), Some("redirect"));
/// assert_eq!(nearest("x", ["redirect", "gone"]), None);
/// ```
pub fn nearest<'c>(word: &str, candidates: impl IntoIterator<Item = &'c str>) -> Option<&'c str> {
    let word = word.to_lowercase();
    let far = (word.chars().count() / 3).max(1);
    let scored =
        candidates.into_iter().map(|candidate| (strsim::osa_distance(&word, candidate), candidate));
    scored
        .filter(|(distance, _)| *distance <= far)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}
