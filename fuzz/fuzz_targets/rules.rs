//! Any text as a rules file: it is read or refused, and what is read answers and is checked.

#![no_main]

use libfuzzer_sys::fuzz_target;
use ravel::{Edge, FileList, Request, Rules};

fuzz_target!(|text: &str| {
    let table = |_: &str| Ok::<_, String>(b"old,new\n/a,/b\n/c/{x},/d/{x}\n".to_vec());
    match Rules::parse_with(text, table) {
        Err(problems) => assert!(!problems.to_string().is_empty()),
        Ok(rules) => {
            let edge =
                Edge::new(&rules, FileList::from_iter(["index.html", "a.html", "b/index.html"]));
            for path in ["/", "/a", "/b/", "/c/d?q=1", "//a", "/%41"] {
                let url = format!("{}{}", edge.site().url().trim_end_matches('/'), path);
                let request = Request::get(&url).expect("the site's URL with a path is one");
                assert_eq!(edge.answer(&request), *edge.explain(&request).answer());
            }
        }
    }
});
