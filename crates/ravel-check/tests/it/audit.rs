//! What is found on small sites, and what is not: every finding of each case is named.

use ravel::finding::{Finding, FindingPlace};
use ravel::rules::Code;
use ravel::{Edge, FileList, Rules};
use ravel_check::{Audit, Report};

fn report(rules: &str, folder: &[(&str, &str)]) -> Report {
    let rules = Rules::parse(rules).unwrap_or_else(|problems| panic!("{rules}{problems}"));
    let edge = Edge::new(&rules, FileList::from_iter(folder.iter().map(|(name, _)| *name)));
    let bytes = |name: &str| {
        folder
            .iter()
            .find(|(known, _)| *known == name)
            .map(|(_, text)| text.as_bytes().to_vec())
            .ok_or("")
    };
    Audit::new(&edge).all(bytes, Vec::new()).0
}

fn shown(findings: &[Finding]) -> Vec<String> {
    let place = |finding: &Finding| match finding.place() {
        FindingPlace::Line(line) => line.number().to_string(),
        FindingPlace::File { name, at } => {
            format!("{name}{}", at.as_ref().map_or(String::new(), |(line, _)| format!(":{line}")))
        }
        other => panic!("{other:?} is not of the rules or the folder"),
    };
    findings.iter().map(|finding| format!("{} {}", place(finding), finding.code())).collect()
}

const HEAD: &str = "site https://h.example/\n  files dist\n  missing /404.html\n  alias www.h.example\n  preview *.p.example\n";
const FILES: [&str; 6] =
    ["index.html", "404.html", "a.html", "b/index.html", "app/index.html", "pic.png"];

/// The rules begin on line 6.
#[test]
fn rules_have_these_findings_and_no_others() {
    let cases: &[(&str, &[&str])] = &[
        ("", &[]),
        // A file's type follows from its name.
        ("headers {/x*} type image/*\n  set x-a: 1\n", &[]),
        ("headers {/x*} type imag/png\n  set x-a: 1\n", &["6 unused-headers"]),
        ("headers /b{/x*} type image/png\n  set x-a: 1\n", &["6 unused-headers"]),
        ("headers {/x*} on all type text/plain\n  set x-a: 1\n", &[]),
        ("headers {/x*} type font/woff2\n  set x-a: 1\n", &["6 unused-headers"]),
        // What redirects leave over is 404; canonical redirects are redirects.
        (
            "headers /old/{x} on missing\n  set x-a: 1\nredirect /old/a -> /a\n",
            &["8 missing-slash-variant"],
        ),
        ("headers /a.html on redirects\n  set x-a: 1\n", &[]),
        ("headers /a on redirects\n  set x-a: 1\n", &[]),
        // What only some visitors miss, and the 404 page, are not hidden.
        ("redirect / -> /a\n  when not cookie s\n", &[]),
        ("gone /404\n", &[]),
        ("rewrite /{x} -> /b/\n  where x is not one of b\n", &["6 shadowed-file"]),
        // Immutable files beside an app that answers everything.
        (
            "headers /app/{+file}\n  set cache-control: max-age=31536000\nfallback /app{/x*} -> /app/\n",
            &["7 fallback-cached", "7 html-cached"],
        ),
        // Order, queries, conditions, hosts. Of `?id=x&id=1` the first value is no number, and some
        // value is 1.
        ("redirect /x.html -> /a\nredirect /{y}.html -> /b/\n", &["7 unused-capture"]),
        (
            "redirect /{y}.php -> /b/\n  accept unused-capture \"-\"\nredirect /x.php -> /a\n",
            &["8 unreachable-rule"],
        ),
        ("redirect /x.php?id=1 -> /a\nredirect /x.php -> /b/\n", &[]),
        ("redirect /x.php -> /b/\nredirect /x.php?id=1 -> /a\n", &["7 unreachable-rule"]),
        (
            "redirect /x.php?id={n} -> /a\n  where n is digits\n  accept unused-capture \"-\"\nredirect /x.php?id=1 -> /b/\n",
            &["8 unused-accept"],
        ),
        ("redirect /x.php?id={n} -> /a\n  where n is digits\nredirect /x.php?id=one -> /b/\n", &[]),
        (
            "redirect /x.php?id={n} -> /a\n  where n is digits 1..2\nredirect /x.php?id=123 -> /b/\n",
            &[],
        ),
        ("redirect /x.php -> /a\n  when cookie c\nredirect /x.php -> /b/\n", &[]),
        (
            "redirect /x.php -> /a\n  when cookie c\nredirect /x.php -> /b/\n  when not cookie c\nredirect /x.php -> /app/\n",
            &["10 unreachable-rule"],
        ),
        (
            "redirect /x.php -> /a\n  when cookie c is 1\nredirect /x.php -> /b/\n  when cookie c\n",
            &[],
        ),
        (
            "redirect /x.php -> /a\n  when cookie c\nredirect /x.php -> /b/\n  when cookie c is 1\n",
            &["8 unreachable-rule"],
        ),
        (
            "redirect /x.php -> /a\n  when header x-a contains one\nredirect /x.php -> /b/\n  when header x-a is none\n",
            &["8 unreachable-rule"],
        ),
        (
            "redirect /x.php -> /a\n  when scheme is http\nredirect /x.php -> /b/\n  when scheme is https\nredirect /x.php -> /app/\n",
            &["10 unreachable-rule"],
        ),
        ("redirect /x.php -> /a\n  when host is www.h.example\nredirect /x.php -> /b/\n", &[]),
        (
            "redirect https://www.h.example/x.php -> /a\nredirect /x.php -> /b/\n  when host is www.h.example\n",
            &["7 unreachable-rule"],
        ),
        (
            "redirect /x.php -> /a\n  when method is POST\nredirect /x.php -> /b/\n  when method is GET\n",
            &[],
        ),
        (
            "redirect /x.php -> /a\n  when host is h.example\n  when host is www.h.example\n",
            &["6 unreachable-rule"],
        ),
        (
            "redirect /x.php -> /a\n  when preview\nredirect /x.php -> /b/\n  when not preview\n",
            &[],
        ),
        // Together, two rules cover a third.
        (
            "redirect /s/{n}.php -> /a\n  where n is one of p, q\nredirect /s/{n}.php -> /b/\n  where n is not one of p, q\nredirect /s/r.php -> /app/\n",
            &["10 unreachable-rule"],
        ),
        ("redirect /s{/x*} -> https://o.example{/x*}\ngone /s/t\n", &["7 unreachable-rule"]),
        ("gone /s/t\nredirect /s{/x*} -> https://o.example{/x*}\n", &[]),
        ("gone /s/t/\nelsewhere /s/t/\n", &["7 unreachable-rule"]),
        ("redirect /x.php -> /x.php\n", &["6 redirect-to-missing"]),
        (
            "redirect {/x*} -> https://h.example{/x*}\n  when scheme is https\n  when host is h.example\n",
            &["6 unreachable-rule"],
        ),
        // Where redirects lead.
        ("redirect /x.php -> /y.php\nredirect /y.php -> /x.php\n", &["6 redirect-loop"]),
        (
            "redirect /x.php -> /y.php\n  when cookie c\nredirect /y.php -> /x.php\n  when cookie c\n",
            &["6 redirect-loop"],
        ),
        (
            "redirect /x.php -> /y.php\n  when cookie c\nredirect /y.php -> /x.php\n  when not cookie c\n",
            &["6 redirect-to-missing", "8 redirect-to-missing"],
        ),
        (
            "redirect /x.php -> https://www.h.example/y.php\nredirect /y.php -> /x.php\n",
            &["6 redirect-loop", "6 redirect-to-alias"],
        ),
        ("redirect /b -> /b/\nredirect /b/ -> /b\n", &["6 redirect-loop", "7 shadowed-file"]),
        (
            "redirect /x{/r*} -> /y{/r*}\nredirect /y{/r*} -> /z{/r*}\nredirect /z{/r*} -> https://o.example{/r*}\n",
            &["6 redirect-chain", "7 redirect-chain"],
        ),
        ("redirect /x/{n} -> /{n}\nredirect /y.php -> /x/b\n", &["7 redirect-chain"]),
        ("redirect /x.php -> /a.html\n", &["6 redirect-chain"]),
        ("redirect /x.php -> /nowhere\n", &["6 redirect-to-missing"]),
        ("redirect /x.php?to={n} -> /{n}\n  where n is one of a, c\n", &["6 redirect-to-missing"]),
        ("redirect /x/{n} -> /{n}\n", &[]),
        ("redirect /x/{n} -> /none/{n}\n", &["6 redirect-to-missing"]),
        ("redirect /x/{n} -> https://o.example/{n}\n", &[]),
        ("redirect /x/{n} -> /app/{n}\nfallback /app{/s*} -> /app/\n", &[]),
        ("redirect /x -> /a\n", &["6 missing-slash-variant"]),
        ("redirect /x/ -> /a\n", &["6 missing-slash-variant"]),
        ("redirect /a -> https://o.example/\n", &["6 shadowed-file"]),
        ("gone /b{/x*}\n", &["6 shadowed-file"]),
        ("redirect /b{/x*} -> https://o.example{/x*}\n  when no file\n", &[]),
        // What is shown.
        ("fallback /app{/s*} -> /app/\nfallback /app/x{/s*} -> /b/\n", &["7 unreachable-rule"]),
        ("fallback /app{/s*} -> /app/\nfallback /app/x.js -> /b/ even files\n", &[]),
        // Its captures name a file only at `/`, which is one itself; what `gone` takes has no part
        // in that.
        ("gone {/x*}/q\nfallback {/x*} -> /a/{x}\n", &["7 unreachable-rule"]),
        ("rewrite /today -> /a\nrewrite /today -> /b/\n", &["7 unreachable-rule"]),
        ("rewrite /a -> /b/\n", &["6 shadowed-file"]),
        ("fallback {/s*} -> /app/\n", &["6 catch-all-fallback"]),
        ("fallback {/s*} -> /app/\n  when cookie c\n", &[]),
        ("fallback /{s} -> /app/\n", &[]),
        ("missing /p{/x*} -> /a\nmissing /p/q{/x*} -> /b/\n", &["7 unreachable-rule"]),
        // Headers.
        ("headers /pic.png\n  set cache-control: max-age=60\n", &[]),
        ("headers /old/{+x}\n  set x-a: 1\n", &["6 unused-headers"]),
        ("headers /old/{+x} on missing\n  set x-a: 1\n", &[]),
        ("headers {/x*} on redirects\n  set x-a: 1\n", &[]),
        ("headers {/x*}\n  set x-a: 1\nheaders /a\n  set x-a: 2\n", &["9 header-set-twice"]),
        (
            "headers {/x*}\n  set x-a: 1\nheaders /a on missing\n  set x-a: 2\n",
            &["8 unused-headers"],
        ),
        ("headers {/x*}\n  add x-a: 1\nheaders /a\n  add x-a: 2\n", &[]),
        ("headers {/x*}\n  set x-frame-options: DENY\n", &["7 header-not-on-404"]),
        ("headers /a\n  set cache-control: max-age=7200\n", &["7 html-cached"]),
        ("headers /a\n  set cache-control: max-age=7200, no-cache\n", &[]),
        (
            "fallback /app{/s*} -> /app/\nheaders /app/static/{+f}\n  set cache-control: max-age=7200\n",
            &["8 fallback-cached"],
        ),
    ];
    for (rules, expected) in cases {
        let files: Vec<(&str, &str)> = FILES.iter().map(|name| (*name, "")).collect();
        let report = report(&format!("{HEAD}{rules}"), &files);
        assert_eq!(shown(report.findings()), *expected, "{rules}{:#?}", report.findings());
    }
}

#[test]
fn references_are_followed_as_browsers_do() {
    let page = |text: &'static str| vec![("index.html", text)];
    type Files = Vec<(&'static str, &'static str)>;
    let cases: Vec<(Files, &[&str])> = vec![
        (
            page(
                "<a href=\"/a\">a</a> <a href=b/>b</a> <a href='#top'>t</a> <a href=mailto:x@h.example>m</a>",
            ),
            &[],
        ),
        (page("<a href=\"/x?y=1&amp;z=2#f\">"), &["index.html:1 broken-link"]),
        (page("\n<a href=\"//o.example/x\"> <a href=\"https://o.example/\">"), &[]),
        (page("<!-- <a href=/x> --><script>'<a href=/x>'</script>"), &[]),
        (page("<a href=/b>"), &["index.html:1 link-redirects"]),
        (page("<a href=https://www.h.example/b/>"), &["index.html:1 link-redirects"]),
        (
            page("<img srcset=\"/pic.png 1x, /pic2.png 2x\" src=/pic.png>"),
            &["index.html:1 broken-link"],
        ),
        (page("<style>.a { background: url(/pic2.png) }</style>"), &["index.html:1 broken-link"]),
        (page("<base href=/b/><img src=pic.png>"), &["index.html:1 broken-link"]),
        (
            page("<script src=http://o.example/x.js></script><a href=http://o.example/>o</a>"),
            &["index.html:1 mixed-content"],
        ),
        (page("<link rel=stylesheet href=/app/style>"), &["index.html:1 asset-gets-html"]),
        (page("<link rel=canonical href=https://h.example/>"), &[]),
        (
            page("<link rel=canonical href=https://h.example/index.html>"),
            &["index.html:1 canonical-mismatch"],
        ),
        (
            page("<form action=/search></form><form method=post action=/x></form>"),
            &["index.html:1 broken-link"],
        ),
        (
            vec![("site.css", "@import '/b.css';\n\n.a { src: url( \"pic2.png\" ) }")],
            &["site.css:1 broken-link", "site.css:3 broken-link"],
        ),
        (
            vec![("site.css", "/* url(/x.png) */ .a { background: image-set(url(pic.png) 1x) }")],
            &[],
        ),
        (
            vec![(
                "site.webmanifest",
                "{\"start_url\": \"/\",\n \"icons\": [{\"src\": \"/i.png\"}],\n \"shortcuts\": [{\"url\": \"/x\"}]}",
            )],
            &["site.webmanifest:2 broken-link", "site.webmanifest:3 broken-link"],
        ),
        (
            vec![(
                "sitemap.xml",
                "<urlset><url><loc>https://h.example/a</loc></url>\n<url><loc>https://h.example/x?a=1&amp;b=2</loc></url></urlset>",
            )],
            &["sitemap.xml:2 canonical-mismatch"],
        ),
        (vec![("404.html", "<img src=pic.png>")], &["404.html:1 broken-link"]),
        (
            vec![("app/index.html", "<script src=/pic.png></script><img src=../pic.png>")],
            &["app/index.html:1 broken-link"],
        ),
    ];
    for (changed, expected) in cases {
        let mut files: Vec<(&str, &str)> = FILES.iter().map(|name| (*name, "")).collect();
        files.retain(|(name, _)| changed.iter().all(|(other, _)| other != name));
        files.extend(&changed);
        let report = report(&format!("{HEAD}fallback /app{{/s*}} -> /app/\n"), &files);
        assert_eq!(shown(report.findings()), expected, "{changed:?}{:#?}", report.findings());
    }
}

#[test]
fn what_is_accepted_is_accepted_where_it_stands() {
    let cases: &[(&str, usize, &[&str])] = &[
        ("redirect /x -> /a\n  accept missing-slash-variant \"-\"\n", 1, &[]),
        (
            "redirect /x -> /a\n  accept redirect-loop \"-\"\n",
            0,
            &["6 missing-slash-variant", "7 unused-accept"],
        ),
        ("redirect\n  accept missing-slash-variant \"-\"\n  /x -> /a\n  /y -> /a\n", 2, &[]),
        (
            "redirect\n  /x -> /a\n  accept missing-slash-variant \"-\"\n  /y -> /a\n",
            1,
            &["9 missing-slash-variant"],
        ),
        (
            "redirect /x -> /a\n  when scheme is https\n  accept redirect-to-http \"-\"\n",
            0,
            &["8 unused-accept"],
        ),
        ("redirect permanent\n  table t.csv\n    accept missing-slash-variant \"-\"\n", 2, &[]),
        (
            "headers {/x*}\n  set x-a: 1\nheaders /a\n  set x-a: 2\n    accept header-set-twice \"-\"\n",
            1,
            &[],
        ),
        ("expect / serves /index.html\n  accept unreachable-rule \"-\"\n", 0, &["7 unused-accept"]),
    ];
    for (rules, accepted, expected) in cases {
        let load = |_: &str| Ok::<_, String>(b"old,new\n/x,/a\n/y,/a\n".to_vec());
        let rules = Rules::parse_with(&format!("{HEAD}{rules}"), load).unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let audit = Audit::new(&edge);
        let report = audit.report(audit.rules());
        assert_eq!(
            (report.accepted(), shown(report.findings())),
            (*accepted, expected.iter().map(|text| text.to_string()).collect())
        );
    }
    let folder = "site https://h.example/\n  files dist\n    accept unpublished-file \"for the old server\"\n  missing /404.html\n";
    let report = report(folder, &[("index.html", ""), ("404.html", ""), (".htaccess", "")]);
    assert_eq!((report.accepted(), report.findings().len()), (1, 0));
}

#[test]
fn names_of_findings_are_read_back() {
    for code in Code::ALL {
        assert_eq!(code.to_string().parse::<Code>(), Ok(*code));
    }
}

/// A page is an app only while nothing is rendered in it, and what is advised for it is no mistake.
#[test]
fn apps_and_rendered_pages() {
    let page = |mount: &str| {
        format!("<div id=\"app\">{mount}</div><script src=\"/assets/main.js\"></script>")
    };
    let codes = |rules: &str, text: &str| {
        let folder = [("index.html", text), ("404.html", ""), ("assets/main.js", "")];
        shown(report(&format!("{HEAD}{rules}"), &folder).findings())
    };
    let advised = "fallback {/step*} -> /\n  accept catch-all-fallback \"the app answers every URL\"\n\
                   headers /assets/{+file}\n  set cache-control: public, max-age=31536000, immutable\n";
    assert_eq!(codes("", &page(" \n")), ["index.html app-without-fallback"]);
    assert_eq!(codes("", &page("<!-- here --> ")), ["index.html app-without-fallback"]);
    assert_eq!(codes("", &page("<h1>Harbour</h1>")), [""; 0]);
    assert_eq!(codes("", &page("Harbour")), [""; 0]);
    assert_eq!(codes(advised, &page("")), [""; 0]);
}

/// A build that links pages by their files has one finding.
#[test]
fn links_with_endings_have_one_cause() {
    let pages: Vec<String> = (0..30).map(|page| format!("page-{page}.html")).collect();
    let links: String = pages.iter().map(|page| format!("<a href=\"/{page}\">x</a>\n")).collect();
    let mut folder = vec![("index.html", links.as_str()), ("404.html", "")];
    folder.extend(pages.iter().map(|page| (page.as_str(), "")));
    let report = report(HEAD, &folder);
    assert_eq!(shown(report.findings()), ["index.html:1 link-redirects"]);
    assert!(report.findings()[0].help().unwrap().contains("pages exact"));
    let exact = format!("{HEAD}  pages exact\n");
    assert!(self::report(&exact, &folder).findings().is_empty());
}

/// That a link and a frame may lead to a page says nothing of a script.
#[test]
fn a_target_is_judged_by_who_wants_it() {
    let page =
        "<a href=/b/>b</a><iframe src=/b/></iframe><script src=/b/></script><a href=/b/#x>b</a>";
    let folder = [("index.html", page), ("b/index.html", ""), ("404.html", "")];
    let report = report("site https://h.example/\n  files dist\n  missing /404.html\n", &folder);
    assert_eq!(shown(report.findings()), ["index.html:1 asset-gets-html"]);
}

/// Rows of one statement that lack the other slash form are one finding, with a line for each.
#[test]
fn one_slash_form_is_said_once_a_statement() {
    let text = "site https://h.example/\nredirect\n  /fares -> /a\n  /times -> /a\n  /docks/ -> /a\nredirect /one -> /a\n";
    let rules = ravel::Rules::parse(text).unwrap();
    let edge = ravel::Edge::new(&rules, ravel::FileList::from_iter(["a.html"]));
    let audit = ravel_check::Audit::new(&edge);
    let report = audit.report(audit.rules());
    let code = ravel::rules::Code::MissingSlashVariant;
    let found: Vec<_> = report.findings().iter().filter(|finding| finding.code() == code).collect();
    let lines: Vec<_> = found.iter().map(|finding| finding.place().number().unwrap()).collect();
    assert_eq!(lines, [3, 6]);
    assert!(found[0].message().ends_with("(and 2 more alike)") && found[0].edits().len() == 3);
}
