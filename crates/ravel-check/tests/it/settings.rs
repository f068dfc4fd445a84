//! Changes of settings: one difference for each reason, whatever rules there are.

use crate::answers::told;
use crate::universe::FILES;
use ravel::{Edge, FileList, Request, Rules};
use ravel_check::{DifferenceKind, compare};

const RULES: &str = "\
redirect /q/{p} -> /{p} permanent
redirect /?p={id} -> /{id}
redirect / -> /b/
  when language is de
fallback /ab{/x*} -> /a
gone /old{/x*}
";

const SITE: &str = "site https://h.example/\n  languages en, de\n";

/// The kinds of differences that have a pattern, with it.
type Wanted<'t> = &'t [(DifferenceKind, &'t str)];

/// What each change of the settings comes to: the kinds, with the patterns that they are about; those
/// that are about single paths alone are left out. Nothing stays undecided.
#[test]
fn a_setting_is_one_reason_for_one_difference() {
    use DifferenceKind::{File, Found, Headers, Hops, Missing, Target};
    let alias = "  alias w.example\n";
    let table: [(&str, &str, &str, Wanted<'_>); 11] = [
        (
            SITE,
            "",
            alias,
            &[(Found, "http://w.example{/any*}"), (Found, "https://w.example{/any*}")],
        ),
        (
            SITE,
            "  preview *.w.example\n",
            "",
            &[(Missing, "http://*.w.example{/any*}"), (Missing, "https://*.w.example{/any*}")],
        ),
        (SITE, "", "  http allow\n", &[(Hops, "http://h.example{/any*}")]),
        (
            SITE,
            alias,
            "  alias w.example\n  http allow\n",
            &[(Target, "http://w.example{/any*}"), (Hops, "http://h.example{/any*}")],
        ),
        ("site http://h.example/\n  languages en, de\n", "", "  http allow\n", &[]),
        (
            SITE,
            "  missing /404.html\n",
            "  missing /a\n",
            &[(File, "/old{/x*}"), (File, "{/any*}")],
        ),
        (SITE, "", "  hsts 1y\n", &[(Headers, "{/any*}")]),
        // Who asks for no language is given the first: redirects lead to the home page, too.
        (SITE, "", "  languages de, en\n", &[(Target, "/?p={id}"), (Target, "/q/{p}")]),
        (SITE, "", "  hops each\n", &[(Hops, "/?p={id}"), (Hops, "/q/{p}")]),
        (SITE, "  files dist\n", "  files build\n", &[]),
        (
            SITE,
            "  alias w.example\n  missing /404.html\n",
            "  missing /404.html\n  alias w.example\n",
            &[],
        ),
    ];
    for (site, old, new, wanted) in table {
        let rules = [old, new].map(|settings| {
            // A setting that is given again takes the place of the site's.
            let is_given = settings.contains("languages");
            let site =
                if is_given { site.replace("  languages en, de\n", "") } else { site.to_owned() };
            Rules::parse(&format!("{site}{settings}{RULES}")).unwrap()
        });
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        let about = format!("from {old:?} to {new:?}");
        let patterns = comparison.differences().iter().filter(|one| !one.is_of_empty_segments());
        let mut patterns: Vec<(DifferenceKind, &str)> =
            patterns.filter_map(|one| Some((one.kind(), one.pattern()?))).collect();
        patterns.sort_unstable();
        patterns.dedup();
        let mut wanted = wanted.to_vec();
        wanted.sort_unstable();
        assert_eq!(patterns, wanted, "{about}");
        for origin in
            ["https://h.example", "http://h.example", "https://w.example", "http://a.w.example"]
        {
            for path in [
                "/", "/a", "/a.html", "/b", "/c", "/q/a", "/q/c", "/?p=a", "/?p=c", "/ab/c",
                "/old/a",
            ] {
                let request = Request::get(&format!("{origin}{path}")).unwrap();
                told(&edges, &comparison, &request, &about);
            }
        }
    }
}

/// A site that moves to another host, or below a path, is missing where it was and found where it is.
#[test]
fn a_site_that_moves_is_missing_there_and_found_here() {
    let sites = ["https://h.example/", "https://n.example/", "https://h.example/s/"];
    let rules = sites.map(|url| {
        let site = SITE.replace("https://h.example/", url);
        Rules::parse(&format!("{site}  alias w.example\n{RULES}")).unwrap()
    });
    let edge = |number: usize| Edge::new(&rules[number], FileList::from_iter(FILES));
    for [old, new] in [[0, 1], [1, 0], [0, 2], [2, 0]] {
        let pair = [edge(old), edge(new)];
        let comparison = compare(&pair[0], &pair[1]);
        let about = format!("from {} to {}", sites[old], sites[new]);
        let kind = |url: &str| {
            let request = Request::get(url).unwrap();
            let number = told(&pair, &comparison, &request, &about)?;
            Some(comparison.differences()[number].kind())
        };
        for path in ["a", "b/", "q/a", "ab/c"] {
            let both = [old, new].map(|side| kind(&format!("{}{path}", sites[side])));
            assert_eq!(
                both,
                [Some(DifferenceKind::Missing), Some(DifferenceKind::Found)],
                "{path} {about}"
            );
            let alias = kind(&format!("https://w.example/{path}"));
            assert!(
                matches!(
                    alias,
                    Some(DifferenceKind::Target | DifferenceKind::Missing | DifferenceKind::Found)
                ),
                "{path} {about}"
            );
        }
        if [old, new] == [2, 0] {
            continue;
        }
        let away = format!("{}{{/any*}}", sites[old].trim_end_matches('/'));
        let missing = comparison.differences().iter().find(|one| one.pattern() == Some(&away));
        let example = missing.expect("a difference of the old place").before();
        assert_eq!(example.statuses().last(), Some(&Some(200)), "{about}");
    }
}

/// A redirect to a host below a `*.` stays on the site; so does one to any other host there.
#[test]
fn redirects_to_hosts_below_a_wildcard_stay_on_the_site() {
    let preview = "  preview *.p.example\n";
    let table = [
        ("", preview, "redirect /k/{x} -> https://o.p.example/{x}\n"),
        (
            preview,
            "  preview *.p.example\n  hops each\n",
            "redirect /k/{x} -> https://o.p.example/{x}\n",
        ),
        (
            preview,
            "  preview *.p.example\n  pages exact\n",
            "redirect https://{n}.p.example/s/k/{x} -> https://{n}.p.example/s/{x}\n",
        ),
        ("  ignore case\n  preview *.p.example\n", preview, "redirect /k/{x} -> /{x}\n"),
    ];
    for (old, new, rule) in table {
        let rules = [old, new].map(|settings| {
            Rules::parse(&format!("site https://h.example/s/\n{settings}{rule}")).unwrap()
        });
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        for host in ["h.example", "o.p.example", "x.p.example"] {
            for path in ["/s/k/a", "/s/k/c", "/s/k/a.html", "/s/a", "/S/a", "/s/A", "/a", "/k/a"] {
                let request = Request::get(&format!("https://{host}{path}")).unwrap();
                told(
                    &edges,
                    &comparison,
                    &request,
                    &format!("from {old:?} to {new:?} with {rule}"),
                );
            }
        }
    }
}
