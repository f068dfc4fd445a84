//! Which pages are made for a host that only serves files, and their support.

use ravel::{Edge, FileList, Rules};
use ravel_publish::{Page, Support, files};

#[test]
fn pages_stand_where_file_servers_show_them() {
    let cases: &[(&str, &str)] = &[
        ("/summer", "summer/index.html"),
        ("/summer/", "summer/index.html"),
        ("/a/b.html", "a/b.html"),
        ("/caf%C3%A9", "caf\u{e9}/index.html"),
        ("/two%20words", "two words/index.html"),
        ("/__proto__", "__proto__/index.html"),
        // What is sent as another type, is not the name of a file, or would be hidden is left to the
        // missing page.
        ("/old.php", ""),
        ("/data.json", ""),
        ("/a%2Fb", ""),
        ("/a//b", ""),
        ("/.hidden", ""),
        ("/bad%FF", ""),
        // A file stands where a folder would have to be, or a folder where the file would.
        ("/plain/more", ""),
        ("/folder.html", ""),
    ];
    for (path, expected) in cases {
        let rules =
            Rules::parse(&format!("site https://h.example/\nredirect {path} -> /\n")).unwrap();
        let edge =
            Edge::new(&rules, FileList::from_iter(["index.html", "plain", "folder.html/x.txt"]));
        let published = files(&edge, None);
        let pages: Vec<&str> = published
            .pages()
            .keys()
            .map(String::as_str)
            .filter(|name| *name != "404.html")
            .collect();
        let expected: Vec<&str> =
            Some(*expected).filter(|name| !name.is_empty()).into_iter().collect();
        assert_eq!(pages, expected, "{path}");
        // Where a folder is, hosts show what is in it, whatever a rule says.
        let is_folder = *path == "/folder.html";
        let support = if is_folder { Support::None } else { Support::Partial };
        let line =
            published.lines().iter().find(|line| line.what().starts_with("redirect")).unwrap();
        assert_eq!(line.support(), support, "{path}");
    }
}

#[test]
fn what_a_script_cannot_see_is_not_promised() {
    let rules = Rules::parse(
        "site https://h.example/\n  languages en, de\nredirect /a{/r*} -> /b\n  when header x-a\nredirect /b{/r*} -> /c\n  when cookie c\n\
         redirect /c{/r*} -> /d\n  when not method is POST\nfallback /app -> /shell\nfallback /deep{/r*} -> /shell\nrewrite /w{/r*} -> /shell\nrewrite /v/ -> /shell\n",
    )
    .unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "shell.html", "d.html"]));
    let published = files(&edge, Some(b"<!DOCTYPE html><HTML><HEAD lang=en><title>x</title>"));
    let done: Vec<(&str, &str)> =
        published.lines()[1..].iter().map(|line| (line.what(), line.support().as_str())).collect();
    assert_eq!(
        done,
        [
            ("redirect /a{/r*} -> /b", "not"),
            ("redirect /b{/r*} -> /c", "partially"),
            ("redirect /c{/r*} -> /d", "not"),
            ("fallback /app -> /shell", "partially"),
            ("fallback /deep{/r*} -> /shell", "partially"),
            ("rewrite /w{/r*} -> /shell", "partially"),
            ("rewrite /v/ -> /shell", "fully"),
        ]
    );
    assert_eq!(published.pages()["app/index.html"], Page::Copy("shell.html".into()));
    let missing = text_of(&published.pages()["404.html"]);
    assert!(
        missing
            .starts_with("<!DOCTYPE html><HTML><HEAD lang=en><meta charset=\"utf-8\">\n<script>")
            && missing.ends_with("<title>x</title>")
    );
}

/// `404.html` has the rules that no page stands in for, at little more than the length of their
/// text.
#[test]
fn the_404_page_has_what_no_page_stands_in_for() {
    let size = |rules: &str| {
        let rules = Rules::parse(&format!("site https://h.example/\n{rules}")).unwrap();
        let published = files(&Edge::new(&rules, FileList::from_iter(["index.html"])), None);
        (text_of(&published.pages()["404.html"]), published.pages().len())
    };
    let line = |at: usize, end: &str| {
        format!("redirect /shop/item-{at}/of-season{end} -> /catalogue/item-{at}/\n")
    };
    let by_script: String = (0..2_000).map(|at| line(at, ".php")).collect();
    let by_pages: String = (0..2_000).map(|at| line(at, "")).collect();
    let (without, _) = size("redirect /a.php -> /b\n");
    let (with, made) = size(&format!("{by_script}{by_pages}"));
    assert_eq!(made, 2_001);
    assert!(!with.contains("item-7/of-season\"") && with.contains("item-7/of-season.php\""));
    let kinds = [
        "redirect /shop/item-7/{season}/of-{year} -> /catalogue/{year}/7/\n",
        "redirect /product.php?id=7 -> /catalogue/item-7/\n",
        "redirect /shop/{kind}/list.php?category=7&page={page} -> /catalogue/{kind}/7?page={page}\n",
        "redirect /season-7.php -> /season/#of-7 301 drop query\n",
        "redirect /guide-7.php -> https://guide.example/volume-7/\n",
        "redirect /shop/7/{year} -> /archive/{year}/7\n  where year is digits 4\n",
        "redirect /offer-7.php -> /offers/spring/\n  when cookie campaign is spring-7\n",
        "rewrite /reader-7.php -> /\n",
        "fallback /app-7{/rest*} -> /\n",
    ];
    let many = kinds.map(|rule| -> String {
        (0..2_000).map(|at| rule.replace('7', &at.to_string())).collect()
    });
    for (page, rules) in many.iter().map(|rules| (size(rules).0, rules)).chain([(with, &by_script)])
    {
        let ratio = (page.len() - without.len()) as f64 / rules.len() as f64;
        assert!(ratio <= 1.3, "{ratio} of {}", &rules[..90]);
    }
}

/// A name that file systems do not take is left to the 404 page, and says so.
#[test]
fn names_that_are_too_long_name_their_rules() {
    let (part, path) = ("x".repeat(300), "/yy".repeat(400));
    let rules = format!(
        "site https://h.example/\nredirect /{part} -> /\nredirect {path} -> /\nredirect /{} -> /\n",
        &part[..255]
    );
    let rules = Rules::parse(&rules).unwrap();
    let published = files(&Edge::new(&rules, FileList::from_iter(["index.html"])), None);
    let how: Vec<&str> = published.lines().iter().map(|line| line.how()).collect();
    let said = |bytes: usize| {
        format!(
            "404.html leads on, instead of a 302; a file name of {bytes} bytes is too long for file systems"
        )
    };
    assert_eq!(how[..2], [said(300), said(path.len() - 1 + "/index.html".len())]);
    assert!(how[2].ends_with("/index.html leads on, instead of a 302"), "{}", how[2]);
    assert_eq!(published.pages().len(), 2);
}

/// What a folder has and the rules hide is not shown: a page leads on in its place, and other files
/// are left out.
#[test]
fn hidden_files_are_replaced_or_left_out() {
    let rules = Rules::parse(
        "site https://h.example/\nredirect /old -> /about\nredirect /old.pdf -> /about\ngone /dead\nredirect /self -> /self?a=1\n\
         redirect /kept -> /about\n  when cookie c\nrewrite /shown -> /kept-for-rewrite\nredirect /kept-for-rewrite -> /about\n",
    )
    .unwrap();
    let names = [
        "about.html",
        "old.html",
        "old.pdf",
        "dead.html",
        "self.html",
        "kept.html",
        "kept-for-rewrite.html",
    ];
    let published = files(&Edge::new(&rules, FileList::from_iter(names)), None);
    let left_out: Vec<&str> = published.left_out().iter().map(String::as_str).collect();
    assert_eq!(left_out, ["dead.html", "old.pdf"]);
    assert!(text_of(&published.pages()["old.html"]).contains("url=/about\""));
    let line = |what: &str| {
        let line = published.lines().iter().find(|line| line.what().starts_with(what)).unwrap();
        (line.support(), line.how())
    };
    assert_eq!(
        line("redirect /old.pdf").1,
        "404.html leads on, instead of a 302; old.pdf is left out"
    );
    assert_eq!(line("gone /dead").1, "404 instead of 410; dead.html is left out");
    assert_eq!(
        line("redirect /kept "),
        (
            Support::None,
            "/kept shows kept.html at /kept whatever `when cookie c` says, but not on hosts that show pages only with their `.html`"
        )
    );
    for name in ["self.html", "kept.html", "kept-for-rewrite.html"] {
        assert!(!published.pages().contains_key(name), "{name}");
    }
}

fn text_of(page: &Page) -> String {
    match page {
        Page::Made(bytes) => String::from_utf8(bytes.clone()).unwrap(),
        Page::Copy(of) => panic!("a copy of {of}"),
    }
}

#[test]
fn a_folder_beside_a_page_leads_to_the_page() {
    let cases = [
        // Files, rules, the index that is made, and where it leads.
        (&["docs.html", "docs/intro.html"][..], "", Some("/docs.html")),
        (&["docs.html"], "redirect /docs/old -> /", Some("/docs.html")),
        (&["docs.html", "docs/logo.svg"], "redirect /docs.html -> /", Some("/docs.html")),
        (&["docs.html", "docs/logo.svg", "new.html"], "redirect /docs -> /new", Some("/new")),
        // The edge has something else there, or nothing.
        (&["docs.html", "docs/intro.html", "docs/index.html"], "", None),
        (&["docs.html", "docs/intro.html"], "gone /docs/", None),
        (&["docs.html", "docs/intro.html"], "redirect /docs/ -> /\n  when cookie c", None),
        (&["docs.html", "docs/intro.html"], "!exact", None),
        (&["docs/intro.html"], "", None),
    ];
    for (names, rules, expected) in cases {
        let (setting, rules) = match rules {
            "!exact" => ("  pages exact\n", ""),
            rules => ("", rules),
        };
        let text = format!("site https://h.example/\n{setting}{rules}\n");
        let edge =
            Edge::new(&Rules::parse(&text).unwrap(), FileList::from_iter(names.iter().copied()));
        let published = files(&edge, None);
        let index = published.pages().get("docs/index.html").map(text_of);
        let leads = index.as_ref().and_then(|page| page.split("0; url=").nth(1));
        assert_eq!(leads.and_then(|rest| rest.split('"').next()), expected, "{names:?} {rules}");
    }
}

#[test]
fn a_line_names_the_hosts_on_which_it_holds() {
    let rules = Rules::parse("site https://h.example/\nredirect /docs/ -> /new\n  when cookie c\n")
        .unwrap();
    let edge = Edge::new(&rules, FileList::from_iter(["docs.html", "docs/a.html", "new.html"]));
    let published = files(&edge, None);
    let said: Vec<String> =
        published.lines().iter().map(|line| format!("{}: {}", line.what(), line.how())).collect();
    assert_eq!(
        said,
        [
            "the URLs of pages: /docs is missing, but not on hosts that show pages without `.html`",
            "redirect /docs/ -> /new: 404.html leads on, instead of a 302",
        ]
    );
}

#[test]
fn a_404_page_in_another_encoding_stays_in_it() {
    let edge = Edge::new(
        &Rules::parse("site https://h.example/\nredirect /\u{e9}{/r*} -> /\n").unwrap(),
        FileList::from_iter(["index.html", "404.html"]),
    );
    let lost = b"<html><head><meta charset=ISO-8859-1><title>Caf\xe9</title></head></html>";
    let published = files(&edge, Some(lost));
    let Page::Made(bytes) = &published.pages()["404.html"] else { panic!() };
    assert!(bytes.starts_with(b"<html><head><meta charset=\"ISO-8859-1\">\n<script>"));
    assert!(bytes.ends_with(b"<meta charset=ISO-8859-1><title>Caf\xe9</title></head></html>"));
    assert_eq!(bytes.iter().filter(|byte| !byte.is_ascii()).count(), 1);
}
