//! Changes on disk act, and mistakes and rebuilds do no harm.

use std::fs;
use std::time::Duration;

use crate::common::{Running, demo};

/// Asks until the answer is as wanted; changes are seen within moments, and how fast hangs on the
/// machine.
async fn becomes(server: &Running, url: &str, wanted: u16) -> bool {
    for _ in 0..400 {
        if server.ask("GET", url, &[]).await.status().as_u16() == wanted {
            return true;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    false
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_act_and_mistakes_do_not() {
    let server = demo().await;
    let url = "https://lanternferries.example/new";
    assert_eq!(server.ask("GET", url, &[]).await.status(), 404);
    let rules = server.path("edge.ravel");
    let text = fs::read_to_string(&rules).unwrap();
    fs::write(&rules, format!("{text}\ngone /new\n")).unwrap();
    assert!(becomes(&server, url, 410).await, "a good change acts");
    fs::write(&rules, format!("{text}\ngone /new -> /a\n")).unwrap();
    for _ in 0..400 {
        if server.live.problem().is_some() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(
        server.live.problem().unwrap().to_string().contains("edge.ravel:"),
        "the problem has its place"
    );
    assert_eq!(server.ask("GET", url, &[]).await.status(), 410, "the last good rules answer");
    let page = server.inspect("GET", "/", &[]).await;
    assert!(String::from_utf8_lossy(page.body()).contains("The rules cannot be read"));
    fs::write(&rules, &text).unwrap();
    assert!(becomes(&server, url, 404).await);
    fs::write(server.path("dist/new.html"), "new").unwrap();
    assert!(becomes(&server, url, 200).await, "a new file is seen");
    fs::write(server.path("short-links.ravel"), "redirect /new -> /about\n").unwrap();
    assert!(becomes(&server, url, 302).await, "an included file is seen");
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_may_go_come_back_and_be_others() {
    let server = demo().await;
    let dist = server.path("dist");
    let beside = server.path("beside");
    let url = "https://lanternferries.example/new";
    let page = |text: &str| {
        crate::common::copy(&dist, &beside);
        fs::write(beside.join("new.html"), text).unwrap();
    };
    // Removed, and made again.
    page("1");
    fs::remove_dir_all(&dist).unwrap();
    tokio::time::sleep(Duration::from_millis(400)).await;
    fs::rename(&beside, &dist).unwrap();
    assert!(becomes(&server, url, 200).await, "a folder that was made again is seen");
    assert!(server.live.problem().is_none(), "a rebuild is no problem");
    fs::remove_file(dist.join("new.html")).unwrap();
    assert!(becomes(&server, url, 404).await, "what happens in it is seen");
    // Replaced at one moment.
    page("2");
    let old = server.path("old");
    fs::rename(&dist, &old).unwrap();
    fs::rename(&beside, &dist).unwrap();
    assert!(becomes(&server, url, 200).await, "a folder that was put in its place is seen");
    // A new folder with a page in it.
    fs::create_dir_all(dist.join("deep/er")).unwrap();
    fs::write(dist.join("deep/er/page.html"), "deep").unwrap();
    assert!(becomes(&server, "https://lanternferries.example/deep/er/page", 200).await);
    // Moved away, and back at once.
    tokio::time::sleep(Duration::from_millis(400)).await;
    fs::rename(&dist, &beside).unwrap();
    fs::rename(&beside, &dist).unwrap();
    tokio::time::sleep(Duration::from_millis(400)).await;
    fs::write(dist.join("back.html"), "back").unwrap();
    assert!(becomes(&server, "https://lanternferries.example/back", 200).await, "it is the same");
    #[cfg(unix)]
    {
        // A link that leads elsewhere.
        fs::rename(&dist, server.path("first")).unwrap();
        std::os::unix::fs::symlink("old", &dist).unwrap();
        assert!(becomes(&server, url, 404).await, "a link is followed");
        std::os::unix::fs::symlink("first", server.path("link")).unwrap();
        fs::rename(server.path("link"), &dist).unwrap();
        assert!(becomes(&server, url, 200).await, "a link that leads elsewhere is followed");
        fs::write(server.path("first/more.html"), "more").unwrap();
        assert!(becomes(&server, "https://lanternferries.example/more", 200).await);
    }
    assert!(server.live.problem().is_none());
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_written_without_pause_holds_no_change_up() {
    let server = demo().await;
    let noisy = server.path("dist/noisy.txt");
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let stopped = std::sync::Arc::clone(&stop);
    let writer = std::thread::spawn(move || {
        while !stopped.load(std::sync::atomic::Ordering::Relaxed) {
            fs::write(&noisy, "again").unwrap();
            std::thread::sleep(Duration::from_millis(10));
        }
    });
    fs::write(server.path("dist/new.html"), "new").unwrap();
    let seen = becomes(&server, "https://lanternferries.example/new", 200).await;
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    writer.join().unwrap();
    assert!(seen);
    server.end().await;
}

/// What is kept of a file is not sent once the file is another, whatever its times and length say.
#[cfg(unix)]
#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_kept_is_sent_as_it_is_now() {
    let server = demo().await;
    let (file, outside) = (server.path("dist/kept.txt"), server.path("outside.txt"));
    let url = "https://lanternferries.example/kept.txt";
    let long_ago = std::time::SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000_000);
    let write = |path: &std::path::Path, text: &str| {
        fs::write(path, text).unwrap();
        fs::File::options().write(true).open(path).unwrap().set_modified(long_ago).unwrap();
    };
    write(&file, "one");
    write(&outside, "out");
    assert!(becomes(&server, url, 200).await);
    // Nothing is kept of a file that was written within two seconds.
    tokio::time::sleep(Duration::from_millis(2_100)).await;
    for text in ["one", "one", "two", "two", "six"] {
        if fs::read_to_string(&file).unwrap() != text {
            write(&file, text);
        }
        assert_eq!(server.ask("GET", url, &[]).await.body(), text);
    }
    fs::remove_file(&file).unwrap();
    std::os::unix::fs::symlink(&outside, &file).unwrap();
    assert_eq!(server.ask("GET", url, &[]).await.status(), 404, "it leads out of the folder");
    server.end().await;
}
