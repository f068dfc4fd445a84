//! A real browser and `curl` on the served demo.
//!
//! With `RAVEL_PICTURES=FOLDER` pictures of the inspector are kept there.

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::common::{Running, demo};
use crate::webdriver::Browser;
use serde_json::{Value, json};

/// A browser that trusts the server's local authority, as a user who installed it.
fn browser(server: &Running) -> Browser {
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
    Browser::start(&home)
}

fn picture(client: &Browser, name: &str) {
    if let Some(folder) = std::env::var_os("RAVEL_PICTURES") {
        fs::write(Path::new(&folder).join(name), client.screenshot()).unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs Chromium, ChromeDriver and certutil"]
async fn a_browser_finds_the_site_and_the_reasons() {
    let server = demo().await;
    let client = browser(&server);
    let (http, https) = (server.addresses.http().port(), server.addresses.https().port());
    let home = format!("https://lanternferries.example.localhost:{https}");

    for point in [
        format!("http://www.lanternferries.example.localhost:{http}"),
        format!("http://lanternferries.example.localhost:{http}"),
        format!("https://www.lanternferries.example.localhost:{https}"),
        home.clone(),
    ] {
        client.goto(&format!("{point}/fleet"));
        assert_eq!(client.url(), format!("{home}/fleet"), "from {point}");
    }

    // The deep link of the app is opened and refreshed; the app's script runs there.
    let deep = format!("{home}/book/seat/14A");
    client.goto(&deep);
    client.refresh();
    assert_eq!(client.url(), deep);
    let shown = client.find("#app").unwrap().text();
    assert!(!shown.is_empty(), "the app did not run");

    let script = "const done = arguments[0]; fetch('/book/missing.js').then(answer => done([answer.status, answer.headers.get('content-type')]))";
    let missing = client.execute_async(script, &[]);
    assert_eq!(missing[0], 404, "{missing}");

    let inspector = format!("http://localhost:{}/", server.addresses.inspect().port());
    client.goto(&inspector);
    by_keyboard(&server, &client).await;

    // The box answers without leaving the page, by keyboard alone.
    let field = client.find("input[name=address]").unwrap();
    field.send_keys("http://www.lanternferries.example/sailings.php?from=skerry\u{e007}");
    let journey = client.wait_for("#answer .journey");
    assert!(journey.text().contains("goes to https://lanternferries.example/ports/skerry/"));
    assert_eq!(client.url(), inspector);
    client.wait_for("#entry-points");
    picture(&client, "serve.png");

    has_names_for_a_screen_reader(&client);
    // Dark where the visitor wants it.
    let dark = json!({ "features": [{ "name": "prefers-color-scheme", "value": "dark" }] });
    client.of_browser("Emulation.setEmulatedMedia", &dark);
    let colours = "const style = getComputedStyle(document.body); return [style.backgroundColor, style.color].map((colour) => colour.match(/\\d+/g).slice(0, 3).map(Number))";
    let colours = client.execute(colours);
    let light = |at: usize| {
        colours[at].as_array().unwrap().iter().map(|part| part.as_u64().unwrap()).sum::<u64>()
    };
    assert!(light(0) < 120 && light(1) > 600, "{colours}");
    picture(&client, "serve-dark.png");

    // Nothing runs over the edge of a narrow window.
    client.resize(360, 800);
    let wide = client.execute("return document.documentElement.scrollWidth - window.innerWidth");
    picture(&client, "serve-narrow.png");
    assert!(wide.as_i64().unwrap() <= 0, "{wide} pixels too wide");
    drop(client);
    server.end().await;
}

/// The tree that a screen reader is given: the roles and names of all that is not passed over.
fn read_out(client: &Browser) -> Vec<(String, String)> {
    let tree = client.of_browser("Accessibility.getFullAXTree", &json!({}));
    let nodes = tree["nodes"].as_array().unwrap().iter().filter(|node| node["ignored"] == false);
    let text = |value: &Value| value["value"].as_str().unwrap_or_default().to_owned();
    let told = nodes.map(|node| (text(&node["role"]), text(&node["name"])));
    told.filter(|(role, _)| !role.ends_with("Text") && role != "InlineTextBox").collect()
}

/// What a screen reader says of the page: each thing that can be used has a name, and the list is
/// one, with a row for each request.
fn has_names_for_a_screen_reader(client: &Browser) {
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
    let told = read_out(client);
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
fn becomes(client: &Browser, css: &str, wanted: &str) -> String {
    let mut text = String::new();
    for _ in 0..400 {
        if let Some(element) = client.find(css) {
            text = element.text();
        }
        if text.contains(wanted) {
            return text;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    panic!("{wanted} is not in {text}");
}

/// Chooses, unfolds, opens, narrows and asks with keys alone.
async fn by_keyboard(server: &Running, client: &Browser) {
    const CHOSEN: &str = "#log [aria-selected=true]";
    let press = |keys: &str| client.active().send_keys(keys);
    // One stop for the whole list.
    let stops = "return [...document.querySelectorAll('#log, #log *')].filter((one) => one.tabIndex >= 0).length";
    assert_eq!(client.execute(stops), json!(1));
    client.execute("document.getElementById('log').focus()");
    // The app's page has loaded its script and style; they are folded away.
    let folded = "return [...document.querySelectorAll('#log > [aria-level=\"2\"]')].every((one) => one.hidden)";
    assert_eq!(client.execute(folded), json!(true));
    let app = "const rows = [...document.querySelectorAll('#log > li:not([hidden])')];\
        return rows.findIndex((row) => row.textContent.includes('/book/seat/14A') && row.hasAttribute('aria-expanded'))";
    let down = client.execute(app).as_i64().unwrap();
    assert!(down >= 0, "the app's page has no assets: {}", client.find("#log").unwrap().text());
    for _ in 0..down {
        press("\u{e015}");
    }
    assert!(becomes(client, CHOSEN, "/book/seat/14A").contains("asset"));
    press("\u{e014}");
    press("\u{e015}");
    becomes(client, "#log [aria-selected=true][aria-level='2']", "GET");
    press("\u{e012}");
    press("\u{e012}");
    press("\u{e007}");
    let text = becomes(client, "#details", "fallback /book{/step*} -> /book/");
    assert!(
        text.contains("matched") && text.contains("Copy as curl") && text.contains(" ms"),
        "{text}"
    );
    assert_eq!(client.active().attribute("id").as_deref(), Some("details"));
    // What a screen reader is told.
    let tree = "const tree = document.getElementById('log'); const chosen = document.getElementById(tree.getAttribute('aria-activedescendant'));\
        return [tree.role ?? tree.getAttribute('role'), tree.ariaLabel, chosen.ariaSelected, chosen.ariaLevel, chosen.ariaExpanded, tree.ariaLive]";
    let told = client.execute(tree);
    assert_eq!(told, json!(["tree", "Requests, the newest first", "true", "1", "false", null]));
    // A request that comes while the page is open is added to it.
    server.ask("GET", "http://www.lanternferries.example/loyalty/while-open", &[]).await;
    becomes(client, "#log", "/loyalty/while-open");
    // `/` goes to the search, and what is typed narrows the list.
    press("/");
    press("while-open");
    becomes(client, "#count", "1 of ");
    press("\u{e00c}");
    let choose = "const line = document.querySelector('[data-by=line]'); line.value = [...line.options].find((one) => one.value.endsWith('edge.ravel:41')).value; line.dispatchEvent(new Event('input', { bubbles: true }))";
    client.execute(choose);
    becomes(client, "#count", "1 of ");
    let all = "const line = document.querySelector('[data-by=line]'); line.value = ''; line.dispatchEvent(new Event('input', { bubbles: true }))";
    client.execute(all);
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
