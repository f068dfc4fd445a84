//! Rules, and a host and a target on the last two lines: the published module in a JavaScript engine
//! answers as the library does.

#![no_main]

use boa_engine::{Context, JsString, JsValue, Source, js_string};
use libfuzzer_sys::fuzz_target;
use ravel::address::Scheme;
use ravel::{Edge, FileList, Request, Rules};
use serde_json::{Value, json};

fuzz_target!(|text: &str| {
    let Some((rest, target)) = text.rsplit_once('\n') else { return };
    let Some((rules, host)) = rest.rsplit_once('\n') else { return };
    let text = format!("site https://h.example/\n{rules}");
    let Ok(rules) = Rules::parse(&text) else { return };
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "a.html", "b/index.html"]));
    let module = ravel_publish::module(&ravel_publish::table(&edge)).replace("\nexport ", "\n");
    let mut context = Context::default();
    context.eval(Source::from_bytes(module.as_bytes())).expect("the module loads");
    for host in ["h.example", host] {
        let asked = json!({ "method": "GET", "scheme": "https", "host": host, "target": target });
        let said = decide(&mut context, &asked);
        let request = Request::from_parts(http::Method::GET, Scheme::Https, host, target);
        let answer = edge.answer(&request);
        assert_eq!(said["status"], json!(answer.status()), "{asked}");
        assert_eq!(said["file"], json!(answer.file()), "{asked}");
        let headers: Vec<_> =
            answer.headers().iter().map(|header| json!([header.name(), header.value()])).collect();
        assert_eq!(said["headers"], json!(headers), "{asked}");
    }
});

fn decide(context: &mut Context, asked: &Value) -> Value {
    let text = JsValue::from(JsString::from(asked.to_string().as_str()));
    let global = context.global_object();
    global.set(js_string!("asked"), text, true, context).expect("a property is set");
    let said = context.eval(Source::from_bytes("JSON.stringify(decide(JSON.parse(asked)))"));
    let said = said.expect("a decision is made");
    let said = said.as_string().expect("it is text").to_std_string().expect("it is UTF-16");
    serde_json::from_str(&said).expect("it is JSON")
}
