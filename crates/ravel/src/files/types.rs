//! Content types by file extension.

/// The known file types: an extension in lower case, and the `content-type` of such a file. Sorted.
///
/// An address that ends in one of them is never answered by a fallback's page unless the rule says
/// `even files`.
#[rustfmt::skip]
pub const KNOWN_TYPES: &[(&str, &str)] = &[
    ("7z", "application/x-7z-compressed"),
    ("aac", "audio/aac"),
    ("apng", "image/apng"),
    ("atom", "application/atom+xml"),
    ("avi", "video/x-msvideo"),
    ("avif", "image/avif"),
    ("bin", "application/octet-stream"),
    ("bmp", "image/bmp"),
    ("br", "application/octet-stream"),
    ("bz2", "application/x-bzip2"),
    ("cjs", "text/javascript; charset=utf-8"),
    ("css", "text/css; charset=utf-8"),
    ("csv", "text/csv; charset=utf-8"),
    ("doc", "application/msword"),
    ("docx", "application/vnd.openxmlformats-officedocument.wordprocessingml.document"),
    ("eot", "application/vnd.ms-fontobject"),
    ("epub", "application/epub+zip"),
    ("flac", "audio/flac"),
    ("geojson", "application/geo+json"),
    ("gif", "image/gif"),
    ("glb", "model/gltf-binary"),
    ("gltf", "model/gltf+json"),
    ("gpx", "application/gpx+xml"),
    ("gz", "application/gzip"),
    ("htm", "text/html; charset=utf-8"),
    ("html", "text/html; charset=utf-8"),
    ("ico", "image/vnd.microsoft.icon"),
    ("ics", "text/calendar; charset=utf-8"),
    ("jpeg", "image/jpeg"),
    ("jpg", "image/jpeg"),
    ("js", "text/javascript; charset=utf-8"),
    ("json", "application/json"),
    ("jsonld", "application/ld+json"),
    ("jxl", "image/jxl"),
    ("kml", "application/vnd.google-earth.kml+xml"),
    ("m4a", "audio/mp4"),
    ("m4v", "video/mp4"),
    ("map", "application/json"),
    ("markdown", "text/markdown; charset=utf-8"),
    ("md", "text/markdown; charset=utf-8"),
    ("mid", "audio/midi"),
    ("mjs", "text/javascript; charset=utf-8"),
    ("mov", "video/quicktime"),
    ("mp3", "audio/mpeg"),
    ("mp4", "video/mp4"),
    ("mpeg", "video/mpeg"),
    ("odp", "application/vnd.oasis.opendocument.presentation"),
    ("ods", "application/vnd.oasis.opendocument.spreadsheet"),
    ("odt", "application/vnd.oasis.opendocument.text"),
    ("oga", "audio/ogg"),
    ("ogg", "audio/ogg"),
    ("ogv", "video/ogg"),
    ("opus", "audio/ogg"),
    ("otf", "font/otf"),
    ("pdf", "application/pdf"),
    ("png", "image/png"),
    ("ppt", "application/vnd.ms-powerpoint"),
    ("pptx", "application/vnd.openxmlformats-officedocument.presentationml.presentation"),
    ("rss", "application/rss+xml"),
    ("rtf", "application/rtf"),
    ("svg", "image/svg+xml"),
    ("tar", "application/x-tar"),
    ("tif", "image/tiff"),
    ("tiff", "image/tiff"),
    ("toml", "application/toml"),
    ("ttf", "font/ttf"),
    ("txt", "text/plain; charset=utf-8"),
    ("vcf", "text/vcard; charset=utf-8"),
    ("vtt", "text/vtt; charset=utf-8"),
    ("wasm", "application/wasm"),
    ("wav", "audio/wav"),
    ("weba", "audio/webm"),
    ("webm", "video/webm"),
    ("webmanifest", "application/manifest+json"),
    ("webp", "image/webp"),
    ("woff", "font/woff"),
    ("woff2", "font/woff2"),
    ("xhtml", "application/xhtml+xml"),
    ("xls", "application/vnd.ms-excel"),
    ("xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"),
    ("xml", "application/xml"),
    ("yaml", "application/yaml"),
    ("yml", "application/yaml"),
    ("zip", "application/zip"),
    ("zst", "application/zstd"),
];

const MAX_EXTENSION_BYTES: usize = 11;

/// The `content-type` of a file: by its extension, in any case, or `application/octet-stream`.
///
/// ```
/// assert_eq!(ravel::files::content_type("a/b.css"), "text/css; charset=utf-8");
/// ```
pub fn content_type(name: &str) -> &'static str {
    known(name).unwrap_or("application/octet-stream")
}

/// Whether a path's last segment ends in the extension of a known file type.
///
/// ```
/// assert!(ravel::files::is_known_type("/a.png") && !ravel::files::is_known_type("/v1.2"));
/// ```
pub fn is_known_type(path: &str) -> bool {
    known(path).is_some()
}

fn known(name: &str) -> Option<&'static str> {
    let last = name.rsplit('/').next()?;
    let (_, extension) = last.rsplit_once('.')?;
    if extension.len() > MAX_EXTENSION_BYTES {
        return None;
    }
    let mut lower = [0; MAX_EXTENSION_BYTES];
    let lower = &mut lower[..extension.len()];
    lower.copy_from_slice(extension.as_bytes());
    lower.make_ascii_lowercase();
    let at = KNOWN_TYPES.binary_search_by(|(known, _)| known.as_bytes().cmp(lower)).ok()?;
    Some(KNOWN_TYPES[at].1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_sorted_and_short_enough() {
        assert!(KNOWN_TYPES.windows(2).all(|pair| pair[0].0 < pair[1].0));
        assert_eq!(
            KNOWN_TYPES.iter().map(|(extension, _)| extension.len()).max(),
            Some(MAX_EXTENSION_BYTES)
        );
        assert_eq!(content_type("a/B.JpEg"), "image/jpeg");
        assert_eq!(content_type("a.d/README"), "application/octet-stream");
    }
}
