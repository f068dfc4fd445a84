//! Rules, and a host and a target on the last two lines: the published module under Node answers as
//! the library does.

#![no_main]

#[path = "../../crates/ravel-publish/tests/it/sites/module.rs"]
#[allow(dead_code, reason = "tests load one module each")]
mod module;

use std::sync::{LazyLock, Mutex};

use libfuzzer_sys::fuzz_target;
use ravel::address::Scheme;
use ravel::{Edge, FileList, Request, Rules};
use module::Module;
use serde_json::json;

static NODE: LazyLock<Mutex<Module>> = LazyLock::new(|| Mutex::new(Module::start()));

fuzz_target!(|text: &str| {
    let Some((rest, target)) = text.rsplit_once('\n') else { return };
    let Some((rules, host)) = rest.rsplit_once('\n') else { return };
    let text = format!("site https://h.example/\n{rules}");
    let Ok(rules) = Rules::parse(&text) else { return };
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "a.html", "b/index.html"]));
    let mut module = NODE.lock().expect("no case before it failed");
    let text = ravel_publish::module(&ravel_publish::table(&edge));
    module.reload(&text).expect("the module loads");
    for host in ["h.example", host] {
        let asked = json!({ "method": "GET", "scheme": "https", "host": host, "target": target });
        let said = module.decide(&asked);
        let request = Request::from_parts(http::Method::GET, Scheme::Https, host, target);
        let answer = edge.answer(&request);
        assert_eq!(answer, *edge.explain(&request).answer());
        assert_eq!(said["status"], json!(answer.status()), "{asked}");
        assert_eq!(said["file"], json!(answer.file()), "{asked}");
        let headers: Vec<_> =
            answer.headers().iter().map(|header| json!([header.name(), header.value()])).collect();
        assert_eq!(said["headers"], json!(headers), "{asked}");
    }
});
