//! Rules as an ECMAScript module for hosts that run code at the edge.

use ravel::{Edge, FileList, Rules};
use ravel_publish as publish;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let rules = Rules::parse(
        "site https://lanternferries.example/\nredirect /news{/story*} -> https://journal.lanternferries.example{/story*}\n\
         fallback /book{/step*} -> /book/\n",
    )?;
    let edge = Edge::new(&rules, FileList::from_iter(["index.html", "book/index.html"]));
    let table = publish::table(&edge);
    println!("{}", serde_json::to_string_pretty(&table["stages"])?);
    println!("edge.mjs has {} bytes", publish::module(&table).len());
    Ok(())
}
