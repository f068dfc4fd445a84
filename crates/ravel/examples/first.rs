//! The first example of the README: rules, files, one request, its answer and why.

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let text = "\
site https://lanternferries.example/
  alias www.lanternferries.example
fallback /book{/step*} -> /book/
";
    let rules = ravel::Rules::parse(text)?; // Err: every problem, with its place
    let files = ravel::FileList::from_iter(["index.html", "book/index.html"]);
    let edge = ravel::Edge::new(&rules, files);

    let request = ravel::Request::get("https://lanternferries.example/book/seat")?;
    let answer = edge.answer(&request);
    assert_eq!(answer.status(), Some(200));
    println!("200 {}", answer.file().unwrap_or_default());

    let why = edge.explain(&request); // the same answer, with its steps
    for step in why.words() {
        let line = step.line().map_or(String::new(), |line| format!("line {}", line.number()));
        println!("  {line:7} {}: {}", step.subject(), step.result());
    }
    Ok(())
}
