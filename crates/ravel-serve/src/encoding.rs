//! Which encoding a representation has for a client (RFC 9110, section 12.5.3).

use http::HeaderMap;
use http::header::ACCEPT_ENCODING;

/// How a body is encoded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Encoding {
    Identity,
    Gzip,
}

impl Encoding {
    /// The `content-encoding`; none for what is not encoded.
    pub(crate) fn name(self) -> Option<&'static str> {
        match self {
            Encoding::Identity => None,
            Encoding::Gzip => Some("gzip"),
        }
    }

    /// The one that a client likes best; none where it takes none of ours. What does not compress
    /// is encoded only for those who refuse it as it is.
    pub(crate) fn chosen(headers: &HeaderMap, compresses: bool) -> Option<Encoding> {
        let lines = headers.get_all(ACCEPT_ENCODING).iter();
        let joined: Vec<&str> = lines.filter_map(|line| line.to_str().ok()).collect();
        // Without the header any is acceptable.
        if joined.is_empty() {
            return Some(Encoding::Identity);
        }
        let joined = joined.join(",");
        let stated = |name: &str| {
            let quality = |item: &str| {
                let (coding, parameters) = item.split_once(';').unwrap_or((item, ""));
                let quality = match parameters.trim().strip_prefix("q=") {
                    Some(text) => text.trim().parse::<f32>().unwrap_or(0.0),
                    None => 1.0,
                };
                coding.trim().eq_ignore_ascii_case(name).then_some(quality)
            };
            joined.split(',').find_map(quality)
        };
        let any = stated("*");
        let identity = stated("identity").or(any.filter(|quality| *quality == 0.0));
        let refused = identity == Some(0.0);
        let of = |name| stated(name).or(any).unwrap_or(0.0);
        let gzip = stated("x-gzip").map_or(of("gzip"), |other| other.max(of("gzip")));
        // One that does not name identity likes all others better.
        if gzip > 0.0 && (refused || (compresses && gzip >= identity.unwrap_or(0.0))) {
            return Some(Encoding::Gzip);
        }
        (!refused).then_some(Encoding::Identity)
    }
}

/// Whether a type gets smaller; pictures, films and archives are compressed already.
pub(crate) fn compresses(content_type: &str) -> bool {
    let essence = content_type.split(';').next().unwrap_or_default().trim();
    let named = [
        "application/javascript",
        "application/json",
        "application/xml",
        "application/wasm",
        "application/rtf",
        "application/vnd.ms-fontobject",
        "font/ttf",
        "font/otf",
        "image/bmp",
        "image/x-icon",
        "image/vnd.microsoft.icon",
    ];
    essence.starts_with("text/")
        || essence.ends_with("+json")
        || essence.ends_with("+xml")
        || named.contains(&essence)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn encodings_are_negotiated() {
        use Encoding::{Gzip, Identity};
        let cases: &[(&[&str], Option<Encoding>, Option<Encoding>)] = &[
            // What it gets of a text, and of a picture.
            (&["gzip"], Some(Gzip), Some(Identity)),
            (&["gzip, br"], Some(Gzip), Some(Identity)),
            (&["gzip;q=1.0, br;q=0.5"], Some(Gzip), Some(Identity)),
            (&["br;q=0, gzip;q=0.1"], Some(Gzip), Some(Identity)),
            (&["br"], Some(Identity), Some(Identity)),
            (&["br, identity;q=0"], None, None),
            (&["gzip", "br"], Some(Gzip), Some(Identity)),
            (&["GZIP ; q=0.8"], Some(Gzip), Some(Identity)),
            (&["x-gzip"], Some(Gzip), Some(Identity)),
            (&["*"], Some(Gzip), Some(Identity)),
            (&["*;q=0"], None, None),
            (&["*;q=0, gzip"], Some(Gzip), Some(Gzip)),
            (&["identity;q=0"], None, None),
            (&["identity;q=0, gzip"], Some(Gzip), Some(Gzip)),
            (&["identity, gzip;q=0.5"], Some(Identity), Some(Identity)),
            (&["identity;q=0.5, gzip"], Some(Gzip), Some(Identity)),
            (&["deflate, zstd"], Some(Identity), Some(Identity)),
            (&["gzip;q=x"], Some(Identity), Some(Identity)),
            (&[""], Some(Identity), Some(Identity)),
            (&["compress;q=0.5, gzip;q=0"], Some(Identity), Some(Identity)),
        ];
        for (lines, text, picture) in cases {
            let mut headers = HeaderMap::new();
            for line in *lines {
                headers.append(ACCEPT_ENCODING, line.parse().unwrap());
            }
            assert_eq!(Encoding::chosen(&headers, true), *text, "{lines:?}");
            assert_eq!(Encoding::chosen(&headers, false), *picture, "{lines:?}");
        }
        assert_eq!(Encoding::chosen(&HeaderMap::new(), true), Some(Identity));
    }
}
