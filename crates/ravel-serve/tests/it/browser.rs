//! A real browser and `curl` on the served demo.
//!
//! With `RAVEL_PICTURES=FOLDER` pictures of the inspector are kept there.

use std::fs;
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use crate::common::{Running, demo};
use fantoccini::wd::WebDriverCompatibleCommand;
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::{Value, json};
use url::Url;

/// Ends the process when the test does, however that ends.
struct Ending(Child);

impl Drop for Ending {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A browser that trusts the server's local authority, as a user who installed it.
async fn browser(server: &Running) -> (Client, Ending) {
    let home = server.folder.path().join("home");
    let store = home.join(".pki/nssdb");
    fs::create_dir_all(&store).unwrap();
    let store = format!("sql:{}", store.display());
    let certutil = |arguments: &[&str]| {
        let status = Command::new("certutil")
            .args(["-d", &store])
            .args(arguments)
            .status()
            .expect("certutil runs");
        assert!(status.success(), "certutil {arguments:?}");
    };
    certutil(&["-N", "--empty-password"]);
    certutil(&["-A", "-t", "C,,", "-n", "ravel", "-i", server.authority.to_str().unwrap()]);
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let driver = Command::new("chromedriver")
        .arg(format!("--port={port}"))
        .env("HOME", &home)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("chromedriver runs");
    let driver = Ending(driver);
    let arguments = [
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
    let options: Value = json!({ "goog:chromeOptions": { "args": arguments } });
    for _ in 0..400 {
        let mut builder =
            ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new());
        let client = builder
            .capabilities(options.as_object().unwrap().clone())
            .connect(&format!("http://127.0.0.1:{port}"))
            .await;
        if let Ok(client) = client {
            return (client, driver);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("no session with the browser");
}

async fn picture(client: &Client, name: &str) {
    if let Some(folder) = std::env::var_os("RAVEL_PICTURES") {
        fs::write(Path::new(&folder).join(name), client.screenshot().await.unwrap()).unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs Chromium, ChromeDriver and certutil"]
async fn a_browser_finds_the_site_and_the_reasons() {
    let server = demo().await;
    let (client, _driver) = browser(&server).await;
    let (http, https) = (server.addresses.http().port(), server.addresses.https().port());
    let home = format!("https://lanternferries.example.localhost:{https}");

    for point in [
        format!("http://www.lanternferries.example.localhost:{http}"),
        format!("http://lanternferries.example.localhost:{http}"),
        format!("https://www.lanternferries.example.localhost:{https}"),
        home.clone(),
    ] {
        client.goto(&format!("{point}/fleet")).await.unwrap();
        assert_eq!(
            client.current_url().await.unwrap().as_str(),
            format!("{home}/fleet"),
            "from {point}"
        );
    }

    // The deep link of the app is opened and refreshed; the app's script runs there.
    let deep = format!("{home}/book/seat/14A");
    client.goto(&deep).await.unwrap();
    client.refresh().await.unwrap();
    assert_eq!(client.current_url().await.unwrap().as_str(), deep);
    let shown = client.find(Locator::Css("#app")).await.unwrap().text().await.unwrap();
    assert!(!shown.is_empty(), "the app did not run");

    let script = "const done = arguments[0]; fetch('/book/missing.js').then(answer => done([answer.status, answer.headers.get('content-type')]))";
    let missing = client.execute_async(script, Vec::new()).await.unwrap();
    assert_eq!(missing[0], 404, "{missing}");

    let inspector = format!("http://localhost:{}/", server.addresses.inspect().port());
    client.goto(&inspector).await.unwrap();
    by_keyboard(&server, &client).await;

    // The box answers without leaving the page, by keyboard alone.
    let field = client.find(Locator::Css("input[name=address]")).await.unwrap();
    field
        .send_keys("http://www.lanternferries.example/sailings.php?from=skerry\u{e007}")
        .await
        .unwrap();
    let journey = client
        .wait()
        .at_most(Duration::from_secs(10))
        .for_element(Locator::Css("#answer .journey"))
        .await
        .unwrap();
    assert!(
        journey
            .text()
            .await
            .unwrap()
            .contains("goes to https://lanternferries.example/ports/skerry/")
    );
    assert_eq!(client.current_url().await.unwrap().as_str(), inspector);
    client
        .wait()
        .at_most(Duration::from_secs(20))
        .for_element(Locator::Css("#entry-points"))
        .await
        .unwrap();
    picture(&client, "serve.png").await;

    has_names_for_a_screen_reader(&client).await;
    // Dark where the visitor wants it.
    let dark = json!({ "features": [{ "name": "prefers-color-scheme", "value": "dark" }] });
    of_browser(&client, "Emulation.setEmulatedMedia", dark).await;
    let colours = "const style = getComputedStyle(document.body); return [style.backgroundColor, style.color].map((colour) => colour.match(/\\d+/g).slice(0, 3).map(Number))";
    let colours = client.execute(colours, Vec::new()).await.unwrap();
    let light = |at: usize| {
        colours[at].as_array().unwrap().iter().map(|part| part.as_u64().unwrap()).sum::<u64>()
    };
    assert!(light(0) < 120 && light(1) > 600, "{colours}");
    picture(&client, "serve-dark.png").await;

    // Nothing runs over the edge of a narrow window.
    client.set_window_size(360, 800).await.unwrap();
    let wide = client
        .execute("return document.documentElement.scrollWidth - window.innerWidth", Vec::new())
        .await
        .unwrap();
    picture(&client, "serve-narrow.png").await;
    assert!(wide.as_i64().unwrap() <= 0, "{wide} pixels too wide");
    client.close().await.unwrap();
    server.end().await;
}

/// A command of the browser's own protocol, which has what WebDriver does not.
#[derive(Debug)]
struct OfBrowser(Value);

impl WebDriverCompatibleCommand for OfBrowser {
    fn endpoint(&self, base: &Url, session: Option<&str>) -> Result<Url, url::ParseError> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(self.0.to_string()))
    }
}

async fn of_browser(client: &Client, command: &str, params: Value) -> Value {
    client.issue_cmd(OfBrowser(json!({ "cmd": command, "params": params }))).await.unwrap()
}

/// The tree that a screen reader is given: the roles and names of all that is not passed over.
async fn read_out(client: &Client) -> Vec<(String, String)> {
    let tree = of_browser(client, "Accessibility.getFullAXTree", json!({})).await;
    let nodes = tree["nodes"].as_array().unwrap().iter().filter(|node| node["ignored"] == false);
    let text = |value: &Value| value["value"].as_str().unwrap_or_default().to_owned();
    let told = nodes.map(|node| (text(&node["role"]), text(&node["name"])));
    told.filter(|(role, _)| !role.ends_with("Text") && role != "InlineTextBox").collect()
}

/// What a screen reader says of the page: each thing that can be used has a name, and the list is
/// one, with a row for each request.
async fn has_names_for_a_screen_reader(client: &Client) {
    const USED: &[&str] = &[
        "button",
        "link",
        "textbox",
        "searchbox",
        "combobox",
        "tree",
        "treeitem",
        "region",
        "main",
        "table",
    ];
    let told = read_out(client).await;
    let nameless = told.iter().filter(|(role, name)| {
        USED.contains(&role.as_str()) && name.trim().is_empty() && role != "main"
    });
    assert_eq!(nameless.collect::<Vec<_>>(), Vec::<&(String, String)>::new(), "of {told:#?}");
    let has = |role: &str, name: &str| told.iter().any(|one| one.0 == role && one.1.contains(name));
    for (role, name) in [
        ("tree", "Requests, the newest first"),
        ("treeitem", "410 GET http://www.lanternferries.example/loyalty/while-open"),
        ("searchbox", "Search"),
        ("combobox", "Status"),
        ("textbox", "URL"),
        ("button", "Ask"),
        ("button", "Clear"),
        ("heading", "Findings"),
    ] {
        assert!(has(role, name), "no {role} {name} in {told:#?}");
    }
}

/// The text of an element, once it is as wanted.
async fn becomes(client: &Client, css: &str, wanted: &str) -> String {
    let mut text = String::new();
    for _ in 0..400 {
        if let Ok(element) = client.find(Locator::Css(css)).await {
            text = element.text().await.unwrap_or_default();
        }
        if text.contains(wanted) {
            return text;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{wanted} is not in {text}");
}

/// Chooses, unfolds, opens, narrows and asks with keys alone.
async fn by_keyboard(server: &Running, client: &Client) {
    const CHOSEN: &str = "#log [aria-selected=true]";
    let press = |keys: &'static str| async move {
        client.active_element().await.unwrap().send_keys(keys).await.unwrap();
    };
    let log = client.find(Locator::Css("#log")).await.unwrap();
    // One stop for the whole list.
    let stops = "return [...document.querySelectorAll('#log, #log *')].filter((one) => one.tabIndex >= 0).length";
    assert_eq!(client.execute(stops, Vec::new()).await.unwrap(), json!(1));
    client.execute("document.getElementById('log').focus()", Vec::new()).await.unwrap();
    // The app's page has loaded its script and style; they are folded away.
    let folded = "return [...document.querySelectorAll('#log > [aria-level=\"2\"]')].every((one) => one.hidden)";
    assert_eq!(client.execute(folded, Vec::new()).await.unwrap(), json!(true));
    let app = "const rows = [...document.querySelectorAll('#log > li:not([hidden])')];\
        return rows.findIndex((row) => row.textContent.includes('/book/seat/14A') && row.hasAttribute('aria-expanded'))";
    let down = client.execute(app, Vec::new()).await.unwrap().as_i64().unwrap();
    assert!(down >= 0, "the app's page has no assets: {}", log.html(false).await.unwrap());
    for _ in 0..down {
        press("\u{e015}").await;
    }
    assert!(becomes(client, CHOSEN, "/book/seat/14A").await.contains("asset"));
    press("\u{e014}").await;
    press("\u{e015}").await;
    becomes(client, "#log [aria-selected=true][aria-level='2']", "GET").await;
    press("\u{e012}").await;
    press("\u{e012}").await;
    press("\u{e007}").await;
    let text = becomes(client, "#details", "fallback /book{/step*} -> /book/").await;
    assert!(
        text.contains("matched") && text.contains("Copy as curl") && text.contains(" ms"),
        "{text}"
    );
    assert_eq!(
        client.active_element().await.unwrap().attr("id").await.unwrap().as_deref(),
        Some("details")
    );
    // What a screen reader is told.
    let tree = "const tree = document.getElementById('log'); const chosen = document.getElementById(tree.getAttribute('aria-activedescendant'));\
        return [tree.role ?? tree.getAttribute('role'), tree.ariaLabel, chosen.ariaSelected, chosen.ariaLevel, chosen.ariaExpanded, tree.ariaLive]";
    let told = client.execute(tree, Vec::new()).await.unwrap();
    assert_eq!(told, json!(["tree", "Requests, the newest first", "true", "1", "false", null]));
    // A request that comes while the page is open is added to it.
    server.ask("GET", "http://www.lanternferries.example/loyalty/while-open", &[]).await;
    becomes(client, "#log", "/loyalty/while-open").await;
    // `/` goes to the search, and what is typed narrows the list.
    press("/").await;
    press("while-open").await;
    becomes(client, "#count", "1 of ").await;
    press("\u{e00c}").await;
    let choose = "const line = document.querySelector('[data-by=line]'); line.value = 'edge.ravel:41'; line.dispatchEvent(new Event('input', { bubbles: true }))";
    client.execute(choose, Vec::new()).await.unwrap();
    becomes(client, "#count", "1 of ").await;
    let all = "const line = document.querySelector('[data-by=line]'); line.value = ''; line.dispatchEvent(new Event('input', { bubbles: true }))";
    client.execute(all, Vec::new()).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs curl"]
async fn curl_ends_at_the_canonical_address_from_all_four_ways() {
    let server = demo().await;
    let (http, https) = (server.addresses.http().port(), server.addresses.https().port());
    for (scheme, port) in [("http", http), ("https", https)] {
        for host in ["lanternferries.example", "www.lanternferries.example"] {
            let mut command = Command::new("curl");
            command.args([
                "-sS",
                "--fail",
                "-L",
                "--noproxy",
                "*",
                "-o",
                "/dev/null",
                "-w",
                "%{url_effective} %{num_redirects} %{http_version}",
            ]);
            command.arg("--cacert").arg(&server.authority);
            for known in ["lanternferries.example", "www.lanternferries.example"] {
                for port in [http, https] {
                    command.arg("--resolve").arg(format!("{known}:{port}:127.0.0.1"));
                }
            }
            command.arg(format!("{scheme}://{host}:{port}/ports/skerry"));
            let output = tokio::task::spawn_blocking(move || command.output().expect("curl runs"))
                .await
                .unwrap();
            let told = String::from_utf8_lossy(&output.stdout).into_owned();
            let errors = String::from_utf8_lossy(&output.stderr).into_owned();
            assert_eq!(
                told,
                format!("https://lanternferries.example:{https}/ports/skerry/ 1 2"),
                "{errors}"
            );
        }
    }
    server.end().await;
}
