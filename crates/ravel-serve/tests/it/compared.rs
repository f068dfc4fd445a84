//! Each request is held against the edition that was published until now.

use std::fs;
use std::sync::Arc;
use std::time::Duration;

use crate::common::{Running, demo_of};
use ravel::{FileList, Rules};
use ravel_check::DifferenceKind;
use ravel_serve::OldEdition;

const SITE: &str = "site https://lanternferries.example/\n  files dist\n";
const OLD: &str =
    "redirect /summer -> /fleet\ngone /about\nheaders /ports/ on served\n  set x-old: 1\n";

/// The files of the demo under other rules, compared with the old ones for the same files or for
/// others.
async fn compared(files: Option<FileList>) -> Running {
    let rules = Rules::parse(&format!("{SITE}{OLD}")).unwrap();
    demo_of(|options| {
        fs::write(options.rules(), format!("{SITE}redirect /summer -> /ports/\n")).unwrap();
        options.with_old_edition(OldEdition::new("main", rules, files))
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_is_marked_where_it_was_answered_differently() {
    let server = compared(None).await;
    let site = "https://lanternferries.example";
    let cases = [
        ("/about", Some((DifferenceKind::Status, "410 gone", "200 about.html"))),
        ("/fleet", None),
        ("/nowhere", None),
        ("/ports/", Some((DifferenceKind::Headers, "x-old: 1", "no x-old"))),
    ];
    for (path, wanted) in cases {
        server.ask("GET", &format!("{site}{path}"), &[]).await;
        let record = Arc::clone(&server.log.last()[0]);
        let found = record.difference().map(|one| (one.kind(), one.before(), one.after()));
        match wanted {
            Some((kind, before, after)) => {
                let (of, was, is) = found.expect(path);
                assert!(
                    of == kind && was.contains(before) && is.contains(after),
                    "{path}: {found:?}"
                );
            }
            None => assert_eq!(found, None, "{path}"),
        }
    }
    // On this machine's own names, too.
    server.ask("GET", &format!("{site}.localhost:1/summer"), &[]).await;
    let record = Arc::clone(&server.log.last()[0]);
    let difference = record.difference().unwrap();
    assert_eq!(
        (difference.kind(), difference.lines()),
        (DifferenceKind::Target, &["edge.ravel:3".to_owned()][..])
    );
    let json = serde_json::to_value(&*record).unwrap();
    assert_eq!(json["difference"]["kind"], "target");
    let text = |body: &[u8]| String::from_utf8_lossy(body).into_owned();
    let page = text(server.inspect("GET", "/", &[]).await.body());
    assert!(page.contains("compared with <code>main</code>"), "{page}");
    assert_eq!(page.matches("data-difference=\"yes\"").count(), 3, "{page}");
    for target in ["/request/1?part=1", "/try?address=/about&part=1"] {
        let details = text(server.inspect("GET", target, &[]).await.body());
        assert!(details.contains("410 gone") && details.contains("before"), "{details}");
    }
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_those_of_the_old_edition_or_those_that_are_served() {
    for (files, wanted) in
        [(None, None), (Some(FileList::from_iter(["index.html"])), Some(DifferenceKind::Found))]
    {
        let server = compared(files).await;
        fs::write(server.path("dist/news.html"), "news").unwrap();
        let url = "https://lanternferries.example/news";
        for _ in 0..400 {
            if server.ask("GET", url, &[]).await.status() == 200 {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let record = Arc::clone(&server.log.last()[0]);
        assert_eq!(record.sent().status(), 200);
        assert_eq!(record.difference().map(|difference| difference.kind()), wanted);
        server.end().await;
    }
}
