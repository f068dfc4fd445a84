//! Security headers that fit the pages: the tightest Content Security Policy that what they load
//! needs (CSP Level 3).

use std::collections::BTreeSet;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use ring::digest::{SHA256, digest};

use crate::page::LoadKind;
use crate::survey::{MAX_HASHES, Survey};

/// A policy, with what it rests on.
pub(crate) struct Policy {
    pub(crate) value: String,
    pub(crate) evidence: Vec<String>,
}

/// The tightest policy for the pages of a site on a host.
pub(crate) fn policy(survey: &Survey<'_>, host: &str) -> Policy {
    let mut evidence = Vec::new();
    let own = |more: BTreeSet<String>| -> Vec<String> {
        std::iter::once("'self'".to_owned()).chain(more).collect()
    };
    let mut scripts = own(survey.origins_of(LoadKind::Script, host));
    let inline = &survey.scripts;
    let has_handlers = survey.pages.values().any(|page| page.has_handlers);
    if has_handlers || inline.len() > MAX_HASHES {
        scripts.push("'unsafe-inline'".to_owned());
        evidence.push(match has_handlers {
            true => "pages have event handlers as attributes, so scripts in pages are allowed"
                .to_owned(),
            false => {
                format!("pages have more than {MAX_HASHES} scripts of their own, which are allowed")
            }
        });
    } else {
        scripts.extend(inline.iter().map(|script| hash(script)));
        if !inline.is_empty() {
            evidence.push(format!(
                "{} allowed by hash: a build that changes them needs new ones",
                count(inline.len(), "script in pages is", "scripts in pages are")
            ));
        }
    }
    let mut styles = own(survey.origins_of(LoadKind::Style, host));
    if survey.pages.values().any(|page| page.has_styles) {
        styles.push("'unsafe-inline'".to_owned());
        evidence.push("pages have styles of their own".to_owned());
    }
    let mut images = own(survey.origins_of(LoadKind::Image, host));
    if survey.has_data_images {
        images.push("data:".to_owned());
    }
    images.extend(survey.style_origins.iter().cloned());
    let mut fonts = own(survey.origins_of(LoadKind::Font, host));
    fonts.extend(survey.style_origins.iter().cloned());
    let connect = own(survey.script_origins.clone());
    if connect.len() > 1 {
        evidence.push(
            "scripts name the origins of connect-src; take out what they do not ask".to_owned(),
        );
    }
    let mut directives = vec![
        ("default-src", vec!["'self'".to_owned()]),
        ("script-src", scripts),
        ("style-src", styles),
        ("img-src", images),
        ("font-src", fonts),
        ("connect-src", connect),
        ("media-src", own(survey.origins_of(LoadKind::Media, host))),
        ("frame-src", own(survey.origins_of(LoadKind::Frame, host))),
        ("form-action", own(survey.origins_of(LoadKind::Form, host))),
        ("object-src", vec!["'none'".to_owned()]),
        ("base-uri", vec!["'self'".to_owned()]),
        ("frame-ancestors", vec!["'self'".to_owned()]),
    ];
    // What is as the default need not be said; forms and frames around have none.
    let is_default = |name: &str, sources: &[String]| {
        name.ends_with("-src") && name != "default-src" && sources == ["'self'"]
    };
    directives.retain(|(name, sources)| !is_default(name, sources));
    let texts = directives.iter_mut().map(|(name, sources)| {
        sources.dedup();
        format!("{name} {}", sources.join(" "))
    });
    Policy { value: texts.collect::<Vec<_>>().join("; "), evidence }
}

/// The hash of a script, as a policy names it (CSP Level 3, section 2.3.1).
fn hash(script: &str) -> String {
    format!("'sha256-{}'", BASE64_STANDARD.encode(digest(&SHA256, script.as_bytes())))
}

pub(crate) fn count(number: usize, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}
