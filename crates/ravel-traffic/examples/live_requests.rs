//! A service that counts its own requests by what new rules would answer: several threads at once, and
//! a report whenever somebody asks for one.
//!
//! `cargo run -p ravel-traffic --example live_requests`

use std::thread;

use ravel::{Edge, FileList, Rules};
use ravel_traffic::{Hit, Tally, TallyOptions};

/// The requests of two connections.
const CONNECTIONS: [&[&str]; 2] = [
    &["/", "/fares", "/timetables.html", "/fleet", "/fares"],
    &["/timetables.html", "/", "/summer", "/timetables.html", "/.env"],
];

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let rules = Rules::parse(
        "site https://lanternferries.example/\n\
         redirect permanent\n  /fares -> /tickets/\n  /summer -> /offers/\n",
    )?;
    let files = ["index.html", "fleet.html", "tickets/index.html", "timetable/index.html"];
    let edge = Edge::new(&rules, FileList::from_iter(files));
    // Of what is asked with a query, the path alone is kept.
    let tally = Tally::new(&edge, &TallyOptions::default().without_queries(true))?;
    thread::scope(|scope| {
        let counting = CONNECTIONS.map(|requests| {
            let tally = &tally;
            scope.spawn(move || tally.count(requests.iter().map(|path| Hit::of(*path))))
        });
        counting.into_iter().try_for_each(|thread| thread.join().expect("it does not panic"))
    })?;
    let report = tally.report(3);
    println!("{} requests of {} URLs", report.requests(), report.urls());
    for one in report.endings() {
        println!("{:>9}  {}", one.ending().as_str(), one.requests());
    }
    for one in report.missing() {
        println!("           {} asked {} times", one.url(), one.requests());
    }
    for rule in report.rules() {
        println!("{:>9}  {}", rule.requests(), rule.rule());
    }
    Ok(())
}
