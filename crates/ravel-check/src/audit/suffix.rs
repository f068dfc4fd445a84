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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn suffixes_are_those_of_the_list() {
        for host in ["com", "co.uk", "github.io", "xn--p1ai", "xn--55qx5d.cn", "x.ck"] {
            assert!(is_public_suffix(host), "{host}");
        }
        for host in ["example.com", "ck", "www.ck", "x.y.ck", "h.example", "example", "", "."] {
            assert!(!is_public_suffix(host), "{host}");
        }
        // Every rule is one that can be asked for.
        for rule in RULES.iter() {
            let host = rule.trim_start_matches('!').replace('*', "any");
            assert_eq!(is_public_suffix(&host), !rule.starts_with('!'), "{rule}");
        }
    }
}
