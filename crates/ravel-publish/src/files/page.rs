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
                meta http-equiv="refresh" content=(format!("0; url={here}"));
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

/// Leads on, with the parameters and the fragment that the visitor came with, as the edge does.
const LEAD_ON: &str = r##"((to, drop) => {
  const key = (part) => decodeURIComponent(part.split("=")[0].replaceAll("+", " ").replace(/%(?![0-9a-f]{2})/gi, "%25"));
  const parts = (query) => query.split("&").filter((part) => part !== "");
  const [rest, hash] = to.split("#");
  const [path, own] = rest.split("?");
  const safe = (part) => { try { return key(part); } catch { return part; } };
  const kept = new Set(parts(own ?? "").map(safe));
  const carried = drop ? [] : parts(location.search.slice(1)).filter((part) => !kept.has(safe(part)));
  const query = [...(own === undefined ? [] : [own]), ...carried].join("&");
  location.replace(path + (query === "" ? "" : "?" + query) + (hash === undefined ? location.hash : "#" + hash));
})
"##;

/// The site's own missing page with a script before all else that takes what rules say of addresses
/// without a file.
pub(super) fn missing(table: &Value, lost: Option<&str>) -> String {
    let reader = crate::reader_of(&super::packed::expression(table)).replace("\nexport ", "\n");
    // Browsers look for the encoding at the very beginning.
    let script =
        format!("<meta charset=\"utf-8\">\n<script>\n{{\n{reader}{{\n{TAKE}}}\n}}\n</script>\n");
    let page = lost.unwrap_or(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>There is no such page</title>\n</head>\n\
         <body>\n<h1>There is no such page</h1>\n<p><a href=\"/\">The first page</a></p>\n</body>\n</html>\n",
    );
    let at = head_end(page);
    format!("{}{script}{}", &page[..at], &page[at..])
}

/// Where the content of a page's head begins, or the page's own text where there is no head.
fn head_end(page: &str) -> usize {
    let lower = page.to_ascii_lowercase();
    let after = |tag: &str| {
        let start = lower
            .match_indices(tag)
            .map(|(at, _)| at)
            .find(|at| lower[at + tag.len()..].starts_with([' ', '>', '\n', '\t', '\r']))?;
        Some(start + lower[start..].find('>')? + 1)
    };
    after("<head").or_else(|| after("<html")).or_else(|| after("<!doctype")).unwrap_or(0)
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
const show = async (name) => {
  const response = await fetch(table.base + "/" + name.split("/").map(encodeURIComponent).join("/"));
  if (!response.ok) return veil("");
  const text = await response.text();
  document.open();
  document.write(text);
  document.close();
};
const lost = table.lost === null ? null : anyFile(table.lost);
const to = answer.headers.find(([name]) => name === "location")?.[1];
if (to !== undefined) {
  const here = !known && to.startsWith(home.origin + "/") ? location.origin + to.slice(home.origin.length) : to;
  veil("hidden");
  location.replace(here + (here.includes("#") ? "" : location.hash));
} else if (answer.file !== null && (answer.outcome === "file" || answer.file !== (lost === null ? null : table.files[lost][0]))) {
  veil("hidden");
  show(answer.file).catch(() => veil(""));
}
"##;
