//! Changes of what redirects write of a query, and into one.

use crate::answers::told;
use crate::universe::FILES;
use ravel::{Edge, FileList, Request, Rules};
use ravel_check::{Comparison, compare};

/// The first paths are answered differently, and the others are not; that is what is told.
fn assert_told(
    edges: &[Edge; 2],
    comparison: &Comparison<'_>,
    (differ, same): (&[&str], &[&str]),
    about: &str,
) {
    let paths = differ.iter().map(|path| (path, true));
    for (path, wanted) in paths.chain(same.iter().map(|path| (path, false))) {
        let request = Request::get(&format!("https://h.example{path}")).unwrap();
        let found = told(edges, comparison, &request, about);
        assert_eq!(found.is_some(), wanted, "{path}: {about}");
    }
}

/// A redirect writes a value of the query into a path: which values lead where is told.
#[test]
fn what_a_query_names_is_told_apart() {
    let site = "site https://h.example/\n  missing /404.html\n";
    let by_number = "redirect /?p={id} -> /{id}/\n";
    let below = "redirect /{x}?p={id} -> /a/{id}/\n  where id matches \"[a-z/]+\"\n";
    let files = &FILES[..];
    let fewer = &["404.html", "index.html", "a.html"][..];
    let table = [
        // What one value comes to is not the same.
        (
            by_number,
            "redirect /b/ -> /ab\n",
            (files, files),
            &["/?p=b", "/?p=b&p=a"][..],
            &["/?p=a", "/?p=b/", "/?p"][..],
        ),
        (
            by_number,
            "redirect /{x}/ -> /k/{x}\n",
            (files, files),
            &["/?p=a", "/?p=a%2Fb", "/?p=%C3%A4"],
            &["/?p=..", "/?p=&q=a", "/?p=%01"],
        ),
        // A file of that name comes, or goes.
        (by_number, "", (files, fewer), &["/?p=b", "/?z&p=b"], &["/?p=a", "/?p=c", "/?p=b%2F"]),
        (by_number, "", (fewer, files), &["/?p=b"], &["/?p=B", "/?p=c"]),
        // A rule asks the value before, and the path that it makes after.
        (
            below,
            "gone /a/b%2Fc/\n",
            (files, files),
            &["/k?p=b/c", "/a/b%2Fc/"],
            &["/k?p=b", "/k?p=7", "/k"],
        ),
        (
            below,
            "redirect /a/{y}/?p -> /c\n",
            (files, files),
            &["/a/b/?p=7", "/a/b/?p"],
            &["/k?p=b", "/a/b/"],
        ),
        // It names the file that is shown.
        (
            "rewrite /{x}/?k={q} -> /{q}\n",
            "",
            (files, fewer),
            &["/a/?k=b", "/k/?k=b&k=a"],
            &["/a/?k=a", "/a/?k=c", "/k/"],
        ),
        (
            "missing /{x}?k={q} -> /{q}\n",
            "missing /{y}?k -> /a\n",
            (files, files),
            &["/k?k=c", "/k?k"],
            &["/k?k=a", "/k"],
        ),
        // Without it, a redirect leads to the file that some of its values name.
        (
            "missing /{y}?k -> /a\n",
            "rewrite /{y}{/x*}?k={q} -> /{q}\n",
            (files, files),
            &["/b?k=b", "/b?k=a", "/b?k=c"],
            &["/b", "/k", "/b/?k=b"],
        ),
        // Two redirects in a row write it.
        (
            "redirect /?p={id} -> /{id}\nredirect /a{y} -> /k/{y}\n",
            "gone /k/b\n",
            (files, files),
            &["/?p=ab", "/ab", "/k/b"],
            &["/?p=a", "/?p=b", "/?p=abc"],
        ),
    ];
    for (all, more, (before, after), differ, same) in table {
        let [old, new] =
            ["", more].map(|more| Rules::parse(&format!("{site}{all}{more}")).unwrap());
        let edges = [(&old, before), (&new, after)]
            .map(|(rules, files)| Edge::new(rules, FileList::from_iter(files.iter().copied())));
        let comparison = compare(&edges[0], &edges[1]);
        let about = format!("{all}, then {more} {after:?}");
        assert_told(&edges, &comparison, (differ, same), &about);
        for difference in comparison.differences() {
            assert_eq!(difference.why(), None, "{about}: {}", difference.example().url());
        }
    }
}

/// Redirects write captures into queries and fragments: URLs are the same only with these.
#[test]
fn what_redirects_write_behind_a_path_is_told_apart() {
    let table = [
        ("/k/{x} -> /b/c?k={x}", "/k/{x} -> /b/c?k=a", &["/k/b", "/k/c?z"][..], &["/k/a"][..]),
        ("/k/{x} -> /b/c#{x}", "/k/{x} -> /b/c#a", &["/k/b"], &["/k/a", "/k/a?z"]),
        ("/k/{x}/{y} -> /b?k={x}", "/k/{x}/{y} -> /b?k={y}", &["/k/a/b"], &["/k/a/a"]),
        ("/k/{x} -> /b?k={x}", "/k/{y} -> /b?k={y}", &[], &["/k/a", "/k/a?k=b&z"]),
        ("/k/{x} -> /b?k={x}", "/k/{x} -> /b?z={x}", &["/k/a", "/k/a?z=a", "/k/a?k=a"], &[]),
        (
            "/k?k={q} -> /b?k={q}",
            "/k?k={q} -> /b?z={q}",
            &["/k?k=a", "/k?k=b&z=b"],
            &["/k", "/k?k"],
        ),
        ("/k?k={q} -> /b?k={q}", "/k -> /b", &["/k", "/k?k", "/k?k=a&k=b"], &["/k?k=a", "/l?k=a"]),
        (
            "/k?k={q} -> https://o.example/{q}",
            "/k?k -> https://o.example/a",
            &["/k?k=b"],
            &["/k?k=a"],
        ),
        ("/k?k={q} -> /c/{q}", "/k?k={q} -> /c/a", &["/k?k=b", "/k?k=%2F"], &["/k?k=a", "/k?k"]),
        ("/k?k={q} -> /b#{q}", "/k?k={q} -> /c#{q}", &["/k?k=a"], &["/k"]),
        // One of them leads to the URL that was asked, and so nowhere.
        ("/{+x} -> /c?k={x}", "/{+x} -> /c?k={x} permanent", &["/d", "/c", "/c?k=d"], &["/c?k=c"]),
        ("/{+x} -> /c?k=a", "/{+x} -> /c?k=a permanent", &["/d", "/c", "/c?z&k=a"], &["/c?k=a"]),
        // What leads nowhere does not look at the visitor, either.
        (
            "/{+x} -> /c?k={x}\n  when language is de",
            "/{+x} -> /c?k={x} permanent\n  when cookie c",
            &["/d", "/c", "/c?k=d"],
            &["/c?k=c"],
        ),
        // Behind a redirect that is the same, what it wrote is carried along.
        (
            "/k/{x} -> /c?k={x}\nredirect /c -> /d",
            "/k/{x} -> /c?k={x}\nredirect /c -> /d?k=a",
            &["/k/b", "/c", "/c?k=b"],
            &["/k/a", "/c?k=a", "/d"],
        ),
        // What is carried along is what the other writes: the status alone differs.
        ("/k/{x} -> /b?k=a", "/k/{x} -> /b permanent", &["/k/a", "/k/a?k=a", "/k/a?z&k=a"], &[]),
    ];
    for (old, new, differ, same) in table {
        let site = "site https://h.example/\n  languages en, de\n  missing /404.html\n";
        let rules =
            [old, new].map(|rule| Rules::parse(&format!("{site}redirect {rule}\n")).unwrap());
        let edges = rules.each_ref().map(|rules| Edge::new(rules, FileList::from_iter(FILES)));
        let comparison = compare(&edges[0], &edges[1]);
        let about = format!("from {old} to {new}");
        assert_told(&edges, &comparison, (differ, same), &about);
        let is_any = !differ.is_empty();
        assert_eq!(!comparison.differences().is_empty(), is_any, "{about}");
    }
}
