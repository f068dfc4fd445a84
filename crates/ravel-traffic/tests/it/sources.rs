//! Sources of URLs in every form that people have them in.

use std::io::Write;

use flate2::Compression;
use flate2::write::GzEncoder;
use http::Method;
use proptest::prelude::*;
use ravel_traffic::{Columns, Entry, HitReader, SourceError, SourceFormat};

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

fn columns(url: &str, count: &str) -> Columns {
    let named = |name: &str| (!name.is_empty()).then(|| name.to_owned());
    Columns::default().with_url(named(url)).with_count(named(count))
}

/// What is read, in short: count, method, URL and status, or the error.
fn read(bytes: &[u8], columns: &Columns) -> Result<(SourceFormat, Vec<String>), String> {
    let reader = HitReader::new(bytes, columns).map_err(|error| error.to_string())?;
    let format = reader.format();
    let shown = |entry: Result<Entry, SourceError>| match entry {
        Ok(Entry::Hit(hit)) => {
            let method = hit.method().map(|method| format!("{method} ")).unwrap_or_default();
            let status = hit.status().map(|status| format!(" {status}")).unwrap_or_default();
            format!("{} {method}{}{status}", hit.count(), hit.url())
        }
        Ok(Entry::Sitemap(url)) => format!("sitemap {url}"),
        Err(error) => error.to_string(),
    };
    Ok((format, reader.map(shown).collect()))
}

#[test]
fn each_form_is_recognised_by_itself() {
    use SourceFormat::{Csv, List, Sitemap, Tsv};
    let index =
        "<sitemapindex><sitemap><loc>https://h.example/s.xml</loc></sitemap></sitemapindex>";
    let map = "<?xml version=\"1.0\"?><urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\" \
               xmlns:i=\"urn:i\"><url><loc> https://h.example/?a&amp;b </loc><i:image><i:loc>/x.png\
               </i:loc></i:image></url><url><loc><![CDATA[https://h.example/c]]></loc></url></urlset>";
    let cases: [(&str, SourceFormat, &[&str]); 14] = [
        ("/a\nhttps://h.example/b\n", List, &["1 /a", "1 https://h.example/b"]),
        ("\u{feff}\r\n# old\r\n/a\r\n\r\n/b", List, &["1 /a", "1 /b"]),
        ("     12 /a\n 3 HEAD /b 301", List, &["12 /a", "3 HEAD /b 301"]),
        ("GET /a 200\nPOST /b\n", List, &["1 GET /a 200", "1 POST /b"]),
        ("/a,b\n/12\n/a;v=1\n", List, &["1 /a,b", "1 /12", "1 /a;v=1"]),
        ("", List, &[]),
        ("URL,Visits\n/a,12\n\"/b,c\",\"1,204\"\n", Csv, &["12 /a", "1204 /b,c"]),
        ("page;clicks\n/a;1.204\n", Csv, &["1204 /a"]),
        ("url\n/a\n", Csv, &["1 /a"]),
        ("status,method,path\n404,GET,/a\n,,/b\n", Csv, &["1 GET /a 404", "1 /b"]),
        ("\u{feff}address\thits\n/a\t7\n", Tsv, &["7 /a"]),
        (map, Sitemap, &["1 https://h.example/?a&b", "1 https://h.example/c"]),
        (index, Sitemap, &["sitemap https://h.example/s.xml"]),
        ("<urlset/>", Sitemap, &[]),
    ];
    for (text, format, wanted) in cases {
        let wanted = Ok((format, wanted.iter().map(|&line| line.to_owned()).collect()));
        assert_eq!(read(text.as_bytes(), &Columns::default()), wanted, "{text}");
        assert_eq!(read(&gzip(text.as_bytes()), &Columns::default()), wanted, "{text} with gzip");
    }
}

#[test]
fn columns_may_be_named() {
    let text = "Seite;url;Klicks\n/a;/b;3\n";
    let wanted = |hit: &str| Ok((SourceFormat::Csv, vec![hit.to_owned()]));
    assert_eq!(read(text.as_bytes(), &columns("", "")), wanted("1 /b"));
    assert_eq!(read(text.as_bytes(), &columns("seite", "KLICKS")), wanted("3 /a"));
    for (url, count, why) in [
        ("x", "", "there is no column `x`; there are `Seite`, `url`, `Klicks`"),
        ("", "visits", "there is no column `visits`; there are `Seite`, `url`, `Klicks`"),
    ] {
        assert_eq!(read(text.as_bytes(), &columns(url, count)), Err(why.to_owned()));
    }
    // A list beside a table has no columns, and needs none.
    let list = read(b"/a\n", &columns("Seite", "Klicks"));
    assert_eq!(list, Ok((SourceFormat::List, vec!["1 /a".to_owned()])));
}

#[test]
fn a_line_that_cannot_be_read_has_its_number_and_hides_no_other() {
    let long = format!("/a\n/{}\n/b\n", "x".repeat(80_000));
    let cases: [(&[u8], &[&str]); 7] = [
        (b"url\n\"/a\n/b\n", &["line 2: `/a /b` goes over several lines; is a quote left open?"]),
        (
            b"/a\nnews\n/b",
            &["1 /a", "line 2: expected a URL, or a path from `/`, found `news`", "1 /b"],
        ),
        (b"/a 700\n/b", &["line 1: `700` is not a valid status", "1 /b"]),
        (b"/a b c\n", &["line 1: expected `[COUNT] [METHOD] URL [STATUS]`, found `/a b c`"]),
        (b"/a\n/\xff\n/b", &["1 /a", "line 2: it is not UTF-8", "1 /b"]),
        (long.as_bytes(), &["1 /a", "line 2: it is longer than 64 KiB", "1 /b"]),
        (
            b"url,hits\n/a\n/b,-1\n,3\nx,3\n/\xff,3\n/c,3,\n/d,e,3\n",
            &[
                "line 2: the row has too few columns",
                "line 3: `-1` is not a count",
                "line 4: the URL is missing",
                "line 5: expected a URL, or a path from `/`, found `x`",
                "line 6: it is not UTF-8",
                "3 /c",
                "line 8: the row has more columns than names; quote what has separators",
            ],
        ),
    ];
    for (bytes, wanted) in cases {
        let (_, lines) = read(bytes, &Columns::default()).unwrap();
        assert_eq!(lines, wanted, "{}", String::from_utf8_lossy(bytes));
    }
}

#[test]
fn what_cannot_be_read_at_all_says_what_to_do() {
    let cut = gzip("/a\n".repeat(100).as_bytes());
    let cases: [(&[u8], &str); 7] = [
        (b"\xff\xfe/\0a\0", "it is UTF-16; save it as UTF-8"),
        (b"/a,12\n", "the first row has no names; write `url,count` above it"),
        (b"12\t/a\n", "the first row has no names"),
        (b"<html></html>", "not a sitemap: it is `<html>`, not `<urlset>` or `<sitemapindex>`"),
        (b"<urlset><url><loc>/a</loc>", "not a sitemap: it ends inside of `<url>`"),
        (b"<urlset><url><loc>\xff</loc></url></urlset>", "it is not UTF-8"),
        (&cut[..cut.len() - 9], "cannot be read: "),
    ];
    for (bytes, wanted) in cases {
        let found = match read(bytes, &Columns::default()) {
            Err(error) => error,
            Ok((_, lines)) => lines.last().cloned().unwrap_or_default(),
        };
        assert!(found.starts_with(wanted), "{found} is not {wanted}");
    }
}

/// A hit as every form can have it.
fn hit() -> impl Strategy<Value = (u64, Option<Method>, String, Option<u16>)> {
    let method = prop::option::of(prop::sample::select(vec![Method::GET, Method::HEAD]));
    let url = "(/[a-z0-9é.;=-]{0,9}[a-z]|https://h\\.example/[a-z]{1,4}\\?[a-z]=[&a-z]{0,3})";
    (1..9_999_999_u64, method, url, prop::option::of(200..500_u16))
}

proptest! {
    #[test]
    fn forms_say_the_same(hits in prop::collection::vec(hit(), 1..20), packed: bool) {
        let text = |method: &Option<Method>| method.as_ref().map_or("", Method::as_str).to_owned();
        let number = |status: &Option<u16>| status.map(|status| status.to_string());
        let mut tables = [b',', b';', b'\t'].map(|delimiter| {
            csv::WriterBuilder::new().delimiter(delimiter).from_writer(Vec::new())
        });
        let mut list = String::from("# hits\n");
        let mut map = String::from("<urlset>");
        tables.iter_mut().for_each(|table| {
            table.write_record(["visits", "method", "url", "status"]).unwrap();
        });
        for (count, method, url, status) in &hits {
            let row = [count.to_string(), text(method), url.clone(), number(status).unwrap_or_default()];
            list.push_str(&format!("{}\n", row.join(" ")));
            map.push_str(&format!("<url><loc>{}</loc></url>", url.replace('&', "&amp;")));
            tables.iter_mut().for_each(|table| table.write_record(&row).unwrap());
        }
        map.push_str("</urlset>");
        let pack = |bytes: Vec<u8>| if packed { gzip(&bytes) } else { bytes };
        let wanted: Vec<String> = hits.iter().map(|(count, method, url, status)| {
            let words = [Some(count.to_string()), method.as_ref().map(Method::to_string), Some(url.clone()), number(status)];
            words.into_iter().flatten().collect::<Vec<_>>().join(" ")
        }).collect();
        let forms = tables.map(|table| table.into_inner().unwrap());
        for form in forms.into_iter().chain([list.into_bytes()]) {
            prop_assert_eq!(&read(&pack(form), &Columns::default()).unwrap().1, &wanted);
        }
        let urls: Vec<String> = hits.iter().map(|(_, _, url, _)| format!("1 {url}")).collect();
        prop_assert_eq!(read(&pack(map.into_bytes()), &Columns::default()).unwrap().1, urls);
    }

    /// Whatever the bytes are, each line that is not blank or a comment is a hit or an error.
    #[test]
    fn no_line_is_lost(lines in prop::collection::vec("[ -~é\\t]{0,20}", 0..12)) {
        let bytes = format!("/first\n{}", lines.join("\n"));
        let (format, read) = read(bytes.as_bytes(), &Columns::default()).unwrap();
        let is_said = |line: &&String| !line.trim().is_empty() && !line.trim().starts_with('#');
        prop_assert_eq!(format, SourceFormat::List);
        prop_assert_eq!(read.len(), 1 + lines.iter().filter(is_said).count());
    }

    #[test]
    fn no_bytes_are_too_much(bytes in prop::collection::vec(any::<u8>(), 0..200), mark in 0..4_usize) {
        let begin: [&[u8]; 4] = [b"", b"url,count\n", b"<urlset>", b"\x1f\x8b\x08\0"];
        let _ = read(&[begin[mark], &bytes].concat(), &Columns::default());
    }
}
