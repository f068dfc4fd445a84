//! The local certificate authority: one for each site, for that site's hosts alone, and never among
//! the files.

use std::fs;
use std::time::Duration;

use crate::common::{copy, demo, tls};
use ravel_dns::Certificate;
use ravel_serve::{Options, Server};
use tokio::net::TcpStream;
use tokio_rustls::rustls::pki_types::ServerName;

/// Whether a handshake with a server verifies against a certificate on disk.
async fn verifies(
    address: std::net::SocketAddr,
    host: &str,
    certificate: &std::path::Path,
) -> bool {
    let stream = TcpStream::connect(address).await.unwrap();
    let host = ServerName::try_from(host.to_owned()).unwrap();
    tls(certificate, &[]).connect(host, stream).await.is_ok()
}

/// Two servers that begin at once on an empty folder share one authority, fifty times over.
#[tokio::test(flavor = "multi_thread")]
async fn two_first_starts_agree() {
    let folder = tempfile::TempDir::new().unwrap();
    copy(
        &std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/lantern-ferries"),
        &folder.path().join("site"),
    );
    for round in 0..50 {
        let data = folder.path().join(format!("data-{round}"));
        let begin = |data: std::path::PathBuf| {
            let options = Options::new(folder.path().join("site/edge.ravel"), data);
            tokio::spawn(Server::bind(options))
        };
        let (one, other) = (begin(data.clone()), begin(data.clone()));
        let servers = [one.await.unwrap().unwrap(), other.await.unwrap().unwrap()];
        let certificate = data.join("lanternferries.example/authority.pem");
        let mut ends = Vec::new();
        for server in servers {
            let address = server.addresses().https();
            let (end, ended) = tokio::sync::oneshot::channel::<()>();
            let running = tokio::spawn(server.run(async move { drop(ended.await) }, |_| {}));
            assert!(
                verifies(address, "lanternferries.example", &certificate).await,
                "round {round}"
            );
            ends.push((end, running));
        }
        for (end, running) in ends {
            drop(end);
            running.await.unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn it_is_for_the_hosts_of_its_site() {
    let server = demo().await;
    let own = server.folder.path().join("data/lanternferries.example/authority.pem");
    assert_eq!(server.authority, own);
    let text = fs::read(&own).unwrap();
    let names = format!("{:?}", Certificate::read(&text).unwrap().permitted().unwrap());
    for name in ["www.lanternferries.example", "preview.lanternferries.example", "localhost"] {
        assert!(names.contains(name), "{name} is not in {names}");
    }
    let https = server.addresses.https();
    for host in [
        "lanternferries.example",
        "x.preview.lanternferries.example",
        "localhost",
        "www.lanternferries.example.localhost",
    ] {
        assert!(verifies(https, host, &own).await, "{host}");
    }
    // A new host makes another, with which it verifies.
    let rules = server.path("edge.ravel");
    let more = fs::read_to_string(&rules)
        .unwrap()
        .replace("  alias   www.", "  alias   ferries.example, www.");
    assert!(more.contains("ferries.example, www."));
    fs::write(&rules, more).unwrap();
    let mut changed = false;
    for _ in 0..400 {
        changed = fs::read(&own).unwrap() != text;
        if changed {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(changed, "a host that falls outside makes another authority");
    // The key is written before the listener has it.
    let mut is_known = false;
    for _ in 0..400 {
        is_known = verifies(https, "ferries.example", &own).await;
        if is_known {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(is_known);
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn it_is_never_among_the_files() {
    let server = demo().await;
    let inside = Options::new(server.path("edge.ravel"), server.path("dist/keys"));
    let error = Server::bind(inside).await.err().unwrap().to_string();
    assert!(error.contains("its key would be published"), "{error}");
    assert!(!server.path("dist/keys").exists());
    // A folder that becomes one of the files is left out.
    let rules = server.path("edge.ravel");
    let wider = fs::read_to_string(&rules).unwrap().replace("files   dist", "files   ..");
    fs::write(&rules, wider).unwrap();
    for _ in 0..400 {
        if server.live.site().edge().files().contains("site/dist/index.html") {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let site = server.live.site();
    assert!(site.edge().files().contains("site/dist/index.html"));
    assert!(!site.edge().files().names().iter().any(|name| name.contains("authority")));
    server.end().await;
}

#[cfg(unix)]
#[tokio::test]
async fn a_folder_that_is_there_keeps_its_permissions() {
    use std::os::unix::fs::PermissionsExt;
    let server = demo().await;
    let data = server.folder.path().join("shared");
    fs::create_dir(&data).unwrap();
    fs::set_permissions(&data, fs::Permissions::from_mode(0o755)).unwrap();
    let options = Options::new(server.path("edge.ravel"), &data);
    let authority = Server::bind(options).await.unwrap().authority();
    let mode = |path: &std::path::Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode(&data), 0o755);
    assert_eq!(mode(authority.path().parent().unwrap()), 0o700);
    assert_eq!(mode(&authority.path().with_file_name("authority.key")), 0o600);
    // A key that others could have read is not used again.
    fs::set_permissions(
        authority.path().with_file_name("authority.key"),
        fs::Permissions::from_mode(0o644),
    )
    .unwrap();
    let again = Server::bind(Options::new(server.path("edge.ravel"), &data)).await.unwrap();
    assert_eq!(again.authority().replaced(), Some("others could read its key"));
    server.end().await;
}
