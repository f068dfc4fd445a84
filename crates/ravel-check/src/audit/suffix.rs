//! Domains under which anybody can register names: the Public Suffix List.

use std::sync::LazyLock;

use rustc_hash::FxHashSet;

/// The rules of the list: `com`, `*.ck`, `!www.ck`. `.ci/public-suffixes` writes them.
static RULES: LazyLock<FxHashSet<&str>> = LazyLock::new(|| {
    include_str!("public_suffixes.txt").lines().filter(|line| !line.starts_with("//")).collect()
});

/// Whether a host, in lower case and Punycode, is a public suffix that the list names.
pub(super) fn is_public_suffix(host: &str) -> bool {
    if RULES.contains(host) {
        return true;
    }
    let Some((_, parent)) = host.split_once('.') else { return false };
    RULES.contains(&*format!("*.{parent}")) && !RULES.contains(&*format!("!{host}"))
}
