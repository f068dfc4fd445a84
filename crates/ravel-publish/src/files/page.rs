//! The pages that are made: one that leads on, and the 404 page.

use maud::{DOCTYPE, PreEscaped, html};
use serde_json::Value;

use crate::text::script_text;

/// A page that leads on at once, for people and for machines.
pub(super) fn stub(to: &str, origin: &str, drop_query: bool) -> String {
    let here = to.strip_prefix(origin).filter(|rest| rest.starts_with('/')).unwrap_or(to);
    let script = format!("{}({}, {drop_query});", LEAD_ON.trim_end(), script_text(here));
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="robots" content="noindex";
                link rel="canonical" href=(to);
                script { (PreEscaped(script)) }
                noscript { meta http-equiv="refresh" content=(format!("0; url={here}")); }
                title { "This page has moved" }
                style { (PreEscaped(STUB_STYLE)) }
            }
            body {
                main {
                    h1 { "This page has moved" }
                    p { "It is now at " a href=(here) { (to) } "." }
                }
            }
        }
    };
    format!("{}\n", page.into_string())
}

const STUB_STYLE: &str = "body{font:1.1rem/1.6 system-ui,sans-serif;margin:0;color:#26221c;background:#fffdf8}main{max-width:38rem;margin:18vh auto;padding:0 1.5rem}\
     h1{font-size:1.6rem}a{color:#0b6157;overflow-wrap:anywhere}";

/// Leads on, with the parameters and the fragment that the visitor came with, as the edge does; but
/// not where a host sends the visitor straight back.
const LEAD_ON: &str = r##"((to, drop) => {
  const key = (part) => decodeURIComponent(part.split("=")[0].replaceAll("+", " ").replace(/%(?![0-9a-f]{2})/gi, "%25"));
  const parts = (query) => query.split("&").filter((part) => part !== "");
  const [rest, hash] = to.split("#");
  const [path, given] = rest.split("?");
  const safe = (part) => { try { return key(part); } catch { return part; } };
  const kept = new Set(parts(given ?? "").map(safe));
  const carried = drop ? [] : parts(location.search.slice(1)).filter((part) => !kept.has(safe(part)));
  const query = [...(given === undefined ? [] : [given]), ...carried].join("&");
  const own = location.href.split("#")[0];
  if (document.referrer.split("#")[0] !== own) location.replace(path + (query === "" ? "" : "?" + query) + (hash === undefined ? location.hash : "#" + hash));
})
"##;

/// The site's own missing page with a script before all else that takes what rules say of addresses
/// without a file. The page stays in its own encoding.
pub(super) fn missing(table: &Value, lost: Option<&[u8]>) -> Vec<u8> {
    let reader = crate::reader_of(&super::packed::expression(table)).replace("\nexport ", "\n");
    let mut script = format!("<script>\n{{\n{reader}{{\n{TAKE}}}\n}}\n</script>\n");
    let page = lost.unwrap_or(
        b"<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>There is no such page</title>\n</head>\n\
         <body>\n<h1>There is no such page</h1>\n<p><a href=\"/\">The first page</a></p>\n</body>\n</html>\n",
    );
    // Browsers look for the encoding at the very beginning.
    let encoding = match std::str::from_utf8(page) {
        Ok(_) => Some("utf-8"),
        Err(_) => {
            script = in_ascii(&script);
            declared_encoding(page)
        }
    };
    let meta = encoding.map(|name| format!("<meta charset=\"{name}\">\n")).unwrap_or_default();
    let (head, rest) = page.split_at(head_end(page));
    [head, meta.as_bytes(), script.as_bytes(), rest].concat()
}

/// A script with escapes for all that is not ASCII.
fn in_ascii(script: &str) -> String {
    let mut out = String::with_capacity(script.len());
    let mut units = [0; 2];
    for c in script.chars() {
        match c.is_ascii() {
            true => out.push(c),
            false => {
                let escaped =
                    c.encode_utf16(&mut units).iter().map(|unit| format!("\\u{unit:04x}"));
                out.extend(escaped);
            }
        }
    }
    out
}

/// The encoding that a page says it is in, where browsers look for that (HTML, 13.2.3.2).
fn declared_encoding(page: &[u8]) -> Option<&str> {
    let start = std::str::from_utf8(&page[..page.len().min(1024)]);
    let start = match start {
        Ok(text) => text,
        Err(error) => std::str::from_utf8(&page[..error.valid_up_to()]).ok()?,
    };
    let at = start.to_ascii_lowercase().find("charset=")? + "charset=".len();
    let name = start[at..].trim_start_matches(['"', '\'']);
    let end = name.find(|c: char| !(c.is_ascii_alphanumeric() || "-_:.".contains(c)));
    Some(&name[..end.unwrap_or(name.len())]).filter(|name| !name.is_empty())
}

/// Where the content of a page's head begins, or the page's own text where there is no head.
fn head_end(page: &[u8]) -> usize {
    let lower = page.to_ascii_lowercase();
    let find = |what: &[u8], from: usize| {
        lower[from..].windows(what.len()).position(|part| part == what).map(|at| from + at)
    };
    let after = |tag: &[u8]| {
        let mut from = 0;
        loop {
            let start = find(tag, from)?;
            from = start + tag.len();
            if matches!(lower.get(from), Some(b' ' | b'>' | b'\n' | b'\t' | b'\r')) {
                return find(b">", start).map(|end| end + 1);
            }
        }
    };
    after(b"<head").or_else(|| after(b"<html")).or_else(|| after(b"<!doctype")).unwrap_or(0)
}

const TAKE: &str = r##"
// On a host that is none of the site's, such as localhost, the canonical one is meant.
const known = hasHost(location.hostname);
const home = new URL(site());
const asked = known ? location : home;
const answer = decide({
  method: "GET",
  scheme: asked.protocol.slice(0, -1),
  host: asked.host,
  target: location.pathname + location.search,
  headers: [["accept-language", (navigator.languages ?? []).join(", ")], ["cookie", document.cookie]],
});
// The 404 page is not shown while something else is on its way.
const veil = (value) => { document.documentElement.style.visibility = value; };
const show = async (file) => {
  const response = await fetch(table.base + "/" + file.split("/").map(encodeURIComponent).join("/"));
  if (!response.ok) return veil("");
  const text = await response.text();
  document.open();
  document.write(text);
  document.close();
};
// Nothing leads back to where it came from, whatever the host makes of a URL: what this page has left
// in the last seconds is kept while the browser comes from there, or comes very often.
const leaves = (here) => {
  const [key, now] = ["ravel-left", Date.now()];
  let stored = null;
  try { stored = sessionStorage.getItem(key); } catch { stored = name.startsWith(key) ? name.slice(key.length) : null; }
  let [at, urls] = [0, []];
  try { [at, urls] = JSON.parse(stored ?? ""); } catch {}
  if (!(now - at < 10000)) urls = [];
  const from = document.referrer.split("#")[0];
  if (urls.length > 20 || (urls.includes(here) && from === urls[urls.length - 1])) return false;
  stored = JSON.stringify([now, [...urls, here]]);
  try { sessionStorage.setItem(key, stored); } catch { if (name === "" || name.startsWith(key)) name = key + stored; }
  return true;
};
const lost = table.lost === null ? null : anyFile(table.lost);
const to = answer.headers.find(([name]) => name === "location")?.[1];
if (to !== undefined && leaves(location.href.split("#")[0])) {
  const here = !known && to.startsWith(home.origin + "/") ? location.origin + to.slice(home.origin.length) : to;
  veil("hidden");
  location.replace(here + (here.includes("#") ? "" : location.hash));
} else if (to === undefined && answer.file !== null && (answer.outcome === "file" || answer.file !== (lost === null ? null : table.files[lost][0]))) {
  veil("hidden");
  show(answer.file).catch(() => veil(""));
}
"##;
