//! Chromium by WebDriver (W3C), as much as the tests need. It waits for each answer: in an
//! asynchronous test, what it visits runs on other threads.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::Duration;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use serde_json::{Value, json};

const ARGUMENTS: [&str; 10] = [
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--hide-scrollbars",
    "--window-size=1280,800",
];

/// The name under which a response has an element.
const ELEMENT: &str = "element-6066-11e4-a52e-4f735466cecf";

/// A browser with one window; it ends when it is dropped.
pub(crate) struct Browser {
    driver: Child,
    port: u16,
    session: String,
}

/// Something on the page.
pub(crate) struct Element<'b> {
    browser: &'b Browser,
    path: String,
}

impl Browser {
    /// Starts one whose home folder is `home`.
    pub(crate) fn start(home: &Path) -> Browser {
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .env("HOME", home)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver runs");
        let mut browser = Browser { driver, port, session: String::new() };
        let options = json!({ "goog:chromeOptions": { "args": ARGUMENTS } });
        let asked = json!({ "capabilities": { "alwaysMatch": options } });
        for _ in 0..400 {
            if let Ok(made) = browser.call("POST", "/session", &asked) {
                browser.session = format!("/session/{}", made["sessionId"].as_str().unwrap());
                return browser;
            }
            sleep(Duration::from_millis(100));
        }
        panic!("no session with the browser");
    }

    fn call(&self, method: &str, path: &str, body: &Value) -> Result<Value, String> {
        let failed = |error: std::io::Error| error.to_string();
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).map_err(failed)?;
        let body = if method == "POST" { body.to_string() } else { String::new() };
        write!(
            stream,
            "{method} {path} HTTP/1.1\r\nhost: localhost:{}\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
            self.port,
            body.len()
        )
        .map_err(failed)?;
        let mut answer = BufReader::new(stream);
        let (mut line, mut length) = (String::new(), 0);
        while line != "\r\n" {
            line.clear();
            if answer.read_line(&mut line).map_err(failed)? == 0 {
                return Err("the driver closed the connection".to_owned());
            }
            if let Some(stated) = line.to_ascii_lowercase().strip_prefix("content-length:") {
                length = stated.trim().parse().map_err(|_| "no length".to_owned())?;
            }
        }
        let mut text = vec![0; length];
        answer.read_exact(&mut text).map_err(failed)?;
        let answer: Value = serde_json::from_slice(&text).map_err(|error| error.to_string())?;
        match answer["value"].get("error") {
            Some(error) => Err(format!("{error}: {}", answer["value"]["message"])),
            None => Ok(answer["value"].clone()),
        }
    }

    fn post(&self, path: &str, body: &Value) -> Value {
        let called = self.call("POST", &format!("{}{path}", self.session), body);
        called.unwrap_or_else(|error| panic!("{path} {body}: {error}"))
    }

    fn get(&self, path: &str) -> Value {
        let called = self.call("GET", &format!("{}{path}", self.session), &Value::Null);
        called.unwrap_or_else(|error| panic!("{path}: {error}"))
    }

    pub(crate) fn goto(&self, url: &str) {
        self.post("/url", &json!({ "url": url }));
    }

    pub(crate) fn refresh(&self) {
        self.post("/refresh", &json!({}));
    }

    pub(crate) fn url(&self) -> String {
        self.get("/url").as_str().unwrap().to_owned()
    }

    /// What a script returns.
    pub(crate) fn execute(&self, script: &str) -> Value {
        self.post("/execute/sync", &json!({ "script": script, "args": [] }))
    }

    /// What a script hands to its last argument.
    pub(crate) fn execute_async(&self, script: &str, arguments: &[Value]) -> Value {
        self.post("/execute/async", &json!({ "script": script, "args": arguments }))
    }

    /// The first element that a selector matches.
    pub(crate) fn find(&self, css: &str) -> Option<Element<'_>> {
        let asked = json!({ "using": "css selector", "value": css });
        let found = self.call("POST", &format!("{}/element", self.session), &asked).ok()?;
        Some(self.element(&found))
    }

    /// The same, once it is there; within twenty seconds.
    pub(crate) fn wait_for(&self, css: &str) -> Element<'_> {
        for _ in 0..400 {
            if let Some(element) = self.find(css) {
                return element;
            }
            sleep(Duration::from_millis(50));
        }
        panic!("there is no {css}");
    }

    /// The element that has the focus.
    pub(crate) fn active(&self) -> Element<'_> {
        self.element(&self.get("/element/active"))
    }

    fn element(&self, found: &Value) -> Element<'_> {
        let path = format!("/element/{}", found[ELEMENT].as_str().unwrap());
        Element { browser: self, path }
    }

    /// A picture of the window, as PNG.
    pub(crate) fn screenshot(&self) -> Vec<u8> {
        BASE64_STANDARD.decode(self.get("/screenshot").as_str().unwrap()).unwrap()
    }

    pub(crate) fn resize(&self, width: u32, height: u32) {
        self.post("/window/rect", &json!({ "width": width, "height": height }));
    }

    /// A command of the browser's own protocol, which has what WebDriver does not.
    pub(crate) fn of_browser(&self, command: &str, params: &Value) -> Value {
        self.post("/goog/cdp/execute", &json!({ "cmd": command, "params": params }))
    }
}

impl Element<'_> {
    /// Its text; empty where it is gone.
    pub(crate) fn text(&self) -> String {
        let path = format!("{}{}/text", self.browser.session, self.path);
        let text = self.browser.call("GET", &path, &Value::Null).unwrap_or_default();
        text.as_str().unwrap_or_default().to_owned()
    }

    pub(crate) fn send_keys(&self, keys: &str) {
        self.browser.post(&format!("{}/value", self.path), &json!({ "text": keys }));
    }

    pub(crate) fn attribute(&self, name: &str) -> Option<String> {
        let value = self.browser.get(&format!("{}/attribute/{name}", self.path));
        value.as_str().map(str::to_owned)
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.call("DELETE", &self.session, &Value::Null);
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
