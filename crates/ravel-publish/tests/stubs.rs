//! Pages that lead on, on a host that only serves files: where visitors end, and what is left of the site.

use std::collections::BTreeMap;

use ravel::{Edge, FileList, Request, Rules};
use ravel_publish::{Page, table};

/// What a host that only serves files shows for a path; `tidy` ones know pages without their ending.
/// Pages that lead on are followed, as a browser does.
fn plain_host(files: &BTreeMap<String, String>, path: &str, tidy: bool) -> Result<String, String> {
    let mut path = path.to_owned();
    for _ in 0..9 {
        let name = path.trim_start_matches('/').to_owned();
        let folder = format!("{name}/index.html");
        let page = format!("{name}.html");
        let found = match name.is_empty() || name.ends_with('/') {
            true => format!("{name}index.html"),
            false if files.contains_key(&name) => name,
            false if tidy && files.contains_key(&page) => page,
            false if files.contains_key(&folder) => {
                path.push('/');
                continue;
            }
            false => name,
        };
        let Some(text) = files.get(&found) else { return Ok("404.html".to_owned()) };
        match text.split_once("content=\"0; url=") {
            Some((_, rest)) => path = rest.split('"').next().unwrap().to_owned(),
            None => return Ok(found),
        }
    }
    Err(format!("{path} is never left"))
}

#[test]
fn pages_that_lead_on_never_take_the_place_of_what_they_lead_to() {
    let folder =
        ["index.html", "about.html", "ports/index.html", "old.html", "404.html", "a/b.html"];
    let cases = [
        "redirect /index.html -> /",
        "redirect /about.html -> /about",
        "redirect /about/ -> /about",
        "redirect /about/index.html -> /about",
        "redirect /ports -> /ports/",
        "redirect /ports/index.html -> /ports/",
        "redirect /ports.html -> /ports/",
        "redirect /ports/ -> /ports.html",
        "redirect /old.html -> /about",
        "redirect /old -> /about",
        "redirect /old/ -> /old.html",
        "redirect / -> /index.html",
        "redirect / -> /about",
        "redirect /a -> /a/b",
        "redirect /a/b/ -> /a/b",
        "redirect /a/b.html -> /a/b/\nredirect /a/b/ -> /a/b",
        "redirect /new -> /about.html\nredirect /new.html -> /about",
        "redirect /x -> /y\nredirect /y -> /z\nredirect /z -> /about",
        "redirect /about -> /about/#top",
        "redirect /%61bout.html -> /about?x=1",
    ];
    for case in cases {
        let rules =
            Rules::parse(&format!("site https://h.example/\n  missing /404.html\n{case}\n"))
                .unwrap();
        let edge = Edge::new(&rules, FileList::from_iter(folder));
        let published = ravel_publish::files(&edge, &table(&edge), None);
        let mut files: BTreeMap<String, String> =
            folder.iter().map(|name| ((*name).to_owned(), format!("content of {name}"))).collect();
        for (name, page) in published.pages() {
            let text = match page {
                Page::Text(text) if name == "404.html" => {
                    format!("content of 404.html {}", text.len())
                }
                Page::Text(text) => text.clone(),
                Page::Copy(of) => format!("content of {of}"),
            };
            files.insert(name.clone(), text);
        }
        let said = case.split([' ', '\n']).filter(|word| word.starts_with('/'));
        for path in said.chain(["/", "/index.html", "/about.html", "/ports/", "/a/b.html"]) {
            for tidy in [false, true] {
                let end = plain_host(&files, path.split(['?', '#']).next().unwrap(), tidy);
                assert!(end.is_ok(), "{case}: {path} tidy {tidy}: {end:?}");
            }
        }
        // What the edge still shows somewhere, a host that knows pages without their ending shows there.
        for (name, path) in [("index.html", "/"), ("about.html", "/about"), ("a/b.html", "/a/b")] {
            let request = Request::get(&format!("https://h.example{path}")).unwrap();
            if edge.answer(&request).file() == Some(name) {
                assert_eq!(plain_host(&files, path, true).as_deref(), Ok(name), "{case}: {path}");
            }
        }
    }
}
