//! A Rust server that answers below `/api` itself and leaves all else to a site.
//!
//! `cargo run -p ravel-serve --example mount -- 8080` listens on a port; without one it asks itself
//! two addresses and ends.

use std::path::Path;
use std::sync::Arc;

use http::{Request, Response};
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt, Empty, Full};
use hyper::body::Incoming;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use hyper_util::service::TowerToHyperService;
use ravel::address::Scheme;
use ravel_serve::{Live, SiteService};
use tower::{ServiceExt, service_fn};

type Body = UnsyncBoxBody<bytes::Bytes, std::io::Error>;

/// What the program answers itself.
fn seats() -> Response<Body> {
    let body = Full::from("12 seats").map_err(|never| match never {});
    Response::new(body.boxed_unsync())
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let rules = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/lantern-ferries/edge.ravel");
    // A server behind a proxy that ends TLS answers for HTTPS.
    let site = SiteService::new(Arc::new(Live::read(&rules, None)?)).over(Scheme::Https);
    let app = async move |request: Request<Body>| {
        if request.uri().path().starts_with("/api/") {
            return Ok(seats());
        }
        site.clone().oneshot(request).await.map(|response| response.map(BodyExt::boxed_unsync))
    };
    let app = Arc::new(app);
    if let Some(port) = std::env::args().nth(1) {
        let listener = tokio::net::TcpListener::bind(("127.0.0.1", port.parse::<u16>()?)).await?;
        loop {
            let (stream, _) = listener.accept().await?;
            let app = Arc::clone(&app);
            let service = service_fn(move |request: Request<Incoming>| {
                let app = Arc::clone(&app);
                async move {
                    app(request.map(|body| body.map_err(std::io::Error::other).boxed_unsync()))
                        .await
                }
            });
            tokio::spawn(async move {
                let builder = Builder::new(TokioExecutor::new());
                let service = TowerToHyperService::new(service);
                let _ = builder.serve_connection(TokioIo::new(stream), service).await;
            });
        }
    }
    for path in ["/api/seats", "/book/seat/14A"] {
        let body = Empty::new().map_err(|never| match never {}).boxed_unsync();
        let request = Request::get(path).header("host", "lanternferries.example").body(body)?;
        let response = app(request).await?;
        println!("{path}: {}", response.status());
        assert!(response.status().is_success());
    }
    Ok(())
}
