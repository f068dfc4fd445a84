//! Sites as people have them, made up: what a bench and a test ask of each.

use std::fmt::Write;

use ravel::{Edge, FileList, Rules};

/// A site: its name, its rules with the tables that they name, and its files.
pub(crate) struct Style {
    pub(crate) name: &'static str,
    rules: String,
    table: String,
    files: String,
}

impl Style {
    pub(crate) fn load(&self) -> Edge {
        self.with_rules(&self.rules)
    }

    /// The same after some work: a rule more and one less, a page gone and one come.
    pub(crate) fn changed(&self) -> Edge {
        let mut lines: Vec<&str> = self.rules.lines().collect();
        let last = lines.iter().rposition(|line| line.starts_with("redirect /"));
        if let Some(last) = last {
            lines.remove(last);
            while lines.get(last).is_some_and(|line| line.starts_with(' ')) {
                lines.remove(last);
            }
        }
        let rules = format!("{}\nredirect /brand-new/{{x}} -> /\n", lines.join("\n"));
        let gone = self.files.lines().filter(|name| name.ends_with(".html")).nth(9);
        let files = self.files.lines().filter(|name| Some(*name) != gone);
        let files = files.chain(["brand-new-page.html"]);
        Edge::new(&self.parse(&rules), files.collect::<FileList>())
    }

    /// The same with each of its rules and statements left out, where that is no table of thousands.
    pub(crate) fn without_each(&self, holds: impl FnMut(&usize) -> bool) -> Vec<Edge> {
        let mut statements: Vec<String> = Vec::new();
        for line in self.rules.lines() {
            match statements.last_mut() {
                Some(last) if line.starts_with(' ') => writeln!(last, "{line}"),
                _ => {
                    statements.push(String::new());
                    writeln!(statements.last_mut().expect("one was pushed"), "{line}")
                }
            }
            .expect("a string takes all text");
        }
        let decides =
            |text: &String| !["site", "expect", "tests"].iter().any(|word| text.starts_with(word));
        let numbers = (0..statements.len()).filter(|at| decides(&statements[*at])).filter(holds);
        let without = |left: usize| {
            let others = (0..statements.len()).filter(|at| *at != left);
            let rules: String = others.map(|at| &*statements[at]).collect();
            self.with_rules(&rules)
        };
        if self.table.lines().count() > 1_000 { Vec::new() } else { numbers.map(without).collect() }
    }

    fn with_rules(&self, rules: &str) -> Edge {
        Edge::new(&self.parse(rules), FileList::from_iter(self.files.lines()))
    }

    fn parse(&self, rules: &str) -> Rules {
        let table = |_: &str| Ok::<_, String>(self.table.as_bytes().to_vec());
        Rules::parse_with(rules, table).expect("the rules can be read")
    }
}

/// A blog with dates in its old URLs, documentation with versions and languages, a shop with query
/// parameters, an app below a base path, short links, and years of old URLs.
pub(crate) fn all() -> Vec<Style> {
    let style = |name, rules: &str, table: &str, files: &str| {
        let (rules, table, files) = (rules.to_owned(), table.to_owned(), files.to_owned());
        Style { name, rules, table, files }
    };
    let mut links = String::from("old,new\n");
    for at in 0..3_000 {
        let partner = at % 17;
        writeln!(links, "/s{at:04x},https://partner-{partner}.example/campaign/{at}?from=go")
            .expect("a string takes all text");
    }
    let mut moved = String::from("old,new\n");
    let mut entries = String::from("404.html\nindex.html\nentries.html\n");
    for at in 0..20_160 {
        let (year, month, entry) = (2001 + at / 1_008, at / 84 % 12 + 1, at % 84);
        writeln!(
            moved,
            "/archive/{year}/{month:02}/entry-{entry}.html,/entries/{year}-{month:02}-{entry}"
        )
        .expect("a string takes all text");
        writeln!(entries, "entries/{year}-{month:02}-{entry}.html")
            .expect("a string takes all text");
    }
    let site = |host: &str| format!("site https://{host}/\n  files dist\n  missing /404.html\n");
    let links_rules = format!(
        "{}redirect\n  table links.csv\nredirect /{{code}} -> https://journal.example/links/{{code}}\n\
         expect every /{{code}} is not gone\n",
        site("go.example")
    );
    let moved_rules = format!(
        "{}redirect permanent\n  table moved.csv\nredirect /archive{{/rest*}} -> /entries permanent\n\
         expect every /archive{{/rest*}} is not gone\n",
        site("paper.example")
    );
    vec![
        style("blog", include_str!("blog.ravel"), "", include_str!("blog.files")),
        style(
            "documentation",
            include_str!("documentation.ravel"),
            "",
            include_str!("documentation.files"),
        ),
        style(
            "shop",
            include_str!("shop.ravel"),
            include_str!("shop.csv"),
            include_str!("shop.files"),
        ),
        style("app", include_str!("app.ravel"), "", include_str!("app.files")),
        style("short links", &links_rules, &links, "404.html\nindex.html\n"),
        style("old URLs", &moved_rules, &moved, &entries),
    ]
}
