//! A Rust server that answers below `/api` itself and leaves all else to a site.
//!
//! `cargo run -p ravel-serve --example mount -- 8080` listens on a port; without one it asks itself
//! two addresses and ends.

use std::path::Path;
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::http::Request;
use axum::routing::get;
use ravel::address::Scheme;
use ravel_serve::{Live, SiteService};
use tower::ServiceExt;

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let rules = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/lantern-ferries/edge.ravel");
    // A server behind a proxy that ends TLS answers for HTTPS.
    let site = SiteService::new(Arc::new(Live::read(&rules, None)?)).over(Scheme::Https);
    let app =
        Router::new().route("/api/seats", get(|| async { "12 seats" })).fallback_service(site);
    if let Some(port) = std::env::args().nth(1) {
        let listener = tokio::net::TcpListener::bind(("127.0.0.1", port.parse::<u16>()?)).await?;
        axum::serve(listener, app).await?;
        return Ok(());
    }
    for path in ["/api/seats", "/book/seat/14A"] {
        let request =
            Request::get(path).header("host", "lanternferries.example").body(Body::empty())?;
        let response = app.clone().oneshot(request).await?;
        println!("{path}: {}", response.status());
        assert!(response.status().is_success());
    }
    Ok(())
}
