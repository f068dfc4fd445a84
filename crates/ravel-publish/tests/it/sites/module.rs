//! The module in a JavaScript engine.

use boa_engine::{Context, JsString, JsValue, Source, js_string};
use proptest::test_runner::{Config, TestRunner};
use ravel::Edge;
use ravel_publish as publish;
use serde_json::Value;

/// The module in an engine.
pub(crate) struct Module(Context);

impl Module {
    pub(crate) fn new(edge: &Edge) -> Module {
        Module::load(&publish::module(&publish::table(edge)).replace("\nexport ", "\n"))
    }

    /// A module without its exports.
    pub(crate) fn load(text: &str) -> Module {
        let mut context = Context::default();
        context.eval(Source::from_bytes(text.as_bytes())).unwrap_or_else(|error| panic!("{error}"));
        Module(context)
    }

    pub(crate) fn decide(&mut self, request: &Value) -> Value {
        let global = self.0.global_object();
        let text = JsValue::from(JsString::from(request.to_string().as_str()));
        global.set(js_string!("asked"), text, true, &mut self.0).unwrap();
        let answer = self.0.eval(Source::from_bytes("JSON.stringify(decide(JSON.parse(asked)))"));
        let answer = answer.unwrap_or_else(|error| panic!("{error}: {request}"));
        serde_json::from_str(&answer.as_string().unwrap().to_std_string().unwrap()).unwrap()
    }
}

/// A runner that tries the same cases every time.
pub(crate) fn runner(cases: u32) -> TestRunner {
    let config =
        Config { cases, failure_persistence: None, max_shrink_iters: 400, ..Config::default() };
    let rng = proptest::test_runner::TestRng::deterministic_rng(
        proptest::test_runner::RngAlgorithm::ChaCha,
    );
    TestRunner::new_with_rng(config, rng)
}
