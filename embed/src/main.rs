//! The decision as a `tower` service: it answers what the rules say, and names the file to be sent.

use futures_executor::block_on;
use http::{Request, Response};
use ravel::address::Scheme;
use ravel::{Edge, FileList, Rules};
use std::{error::Error, sync::Arc};
use tower::{ServiceExt, service_fn};

const RULES: &str = "\
site https://lanternferries.example/
fallback /book{/step*} -> /book/
redirect /summer -> /offers/summer-2027/
";

fn main() -> Result<(), Box<dyn Error>> {
    let files = FileList::from_iter(["index.html", "book/index.html"]);
    let edge = Arc::new(Edge::new(&Rules::parse(RULES)?, files));
    let service = service_fn(move |request: Request<()>| {
        let edge = Arc::clone(&edge);
        async move {
            let host = request.headers()["host"].to_str()?.to_owned();
            let target = request.uri().to_string();
            let asked =
                ravel::Request::from_parts(request.method().clone(), Scheme::Https, &host, &target);
            let answer = edge.answer(&asked.with_headers(request.headers().clone()));
            let response = Response::<()>::try_from(&answer)?;
            Ok::<_, Box<dyn Error>>(response.map(|()| answer.file().map(str::to_owned)))
        }
    });
    for target in ["/book/seat", "/summer"] {
        let request = Request::get(target).header("host", "lanternferries.example").body(())?;
        let response = block_on(service.clone().oneshot(request))?;
        println!("{target}  {} {}", response.status(), response.body().as_deref().unwrap_or("-"));
    }
    Ok(())
}
