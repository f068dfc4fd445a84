//! Tables of rules for one path that are told apart by the value of one parameter, as they come of
//! shops: random changes of them, held against asking every value, and two at a time.

use crate::answers::told;
use proptest::prelude::*;
use proptest::sample::Index;
use ravel::{Edge, FileList, Request, Rules};
use ravel_check::{DifferenceKind, compare};

/// The values that rows are for: enough that they are told apart together.
const VALUES: usize = 20;

/// Something that stands among the rows.
const OTHERS: [&str; 7] = [
    "redirect /p -> /all\n",
    "redirect /p?id={x} -> /all\n",
    "redirect /p?id={x} -> /t/{x}\n  where x is one of v3, v18\n",
    "redirect /p?id -> /gone\n",
    "redirect /p?k=1 -> /all drop query\n",
    "gone /p?id=v2\n  when cookie c\n",
    "headers /p?id=v4\n  set x-a: 1\n",
];

#[derive(Debug, Clone)]
enum Change {
    Remove(Index),
    Swap(Index, Index),
    Retarget(Index),
    Add(Index, usize),
    Other(Index, usize),
    Clear,
}

fn row(value: usize) -> String {
    match value % 5 {
        0 => format!("gone /p?id=v{value}\n"),
        1 => format!("redirect /p?id=v{value} -> /all drop query\n"),
        // This leads to the path itself.
        2 => format!("redirect /p?id=v{value} -> /p?id=v{}\n", value + value % 2),
        _ => format!("redirect /p?id=v{value} -> /t/v{value}\n"),
    }
}

fn changed(old: &[String], changes: &[Change]) -> Vec<String> {
    let mut new = old.to_vec();
    for change in changes {
        let count = new.len();
        match change {
            Change::Add(at, value) => new.insert(at.index(count + 1), row(*value)),
            Change::Other(at, other) => new.insert(at.index(count + 1), OTHERS[*other].to_owned()),
            Change::Clear => new.clear(),
            _ if count == 0 => {}
            Change::Remove(at) => drop(new.remove(at.index(count))),
            Change::Swap(a, b) => new.swap(a.index(count), b.index(count)),
            Change::Retarget(at) => {
                let at = at.index(count);
                new[at] = new[at].replace("-> /t/", "-> /s/");
            }
        }
    }
    new
}

fn change() -> impl Strategy<Value = Change> {
    let at = any::<Index>;
    prop_oneof![
        3 => at().prop_map(Change::Remove),
        3 => (at(), at()).prop_map(|(a, b)| Change::Swap(a, b)),
        2 => at().prop_map(Change::Retarget),
        2 => (at(), 0..VALUES + 4).prop_map(|(at, value)| Change::Add(at, value)),
        2 => (at(), 0..OTHERS.len()).prop_map(|(at, other)| Change::Other(at, other)),
        1 => Just(Change::Clear),
    ]
}

fn edge(rows: &[String]) -> Edge {
    let text = format!("site https://h.example/\n  missing /404.html\n{}", rows.concat());
    let files = ["404.html", "all.html", "p.html", "t/v3.html", "t/v8.html", "s/v8.html"];
    Edge::new(&Rules::parse(&text).expect("rules"), FileList::from_iter(files))
}

proptest! {
    #![proptest_config(ravel_testing::config(20))]

    #[test]
    fn rows_that_change_are_told_apart(
        others in prop::collection::vec((any::<Index>(), 0..OTHERS.len()), 0..3),
        changes in prop::collection::vec(change(), 1..4),
    ) {
        let mut old: Vec<String> = (0..VALUES).map(row).collect();
        for (at, other) in others {
            old.insert(at.index(old.len()), OTHERS[other].to_owned());
        }
        let new = changed(&old, &changes);
        let edges = [edge(&old), edge(&new)];
        let comparison = compare(&edges[0], &edges[1]);
        let ids: Vec<String> = (0..VALUES + 4).map(|value| format!("id=v{value}")).collect();
        let mut queries: Vec<String> = vec![String::new(), "?k=1".to_owned(), "?z".to_owned()];
        queries.extend(ids.iter().flat_map(|id| [format!("?{id}"), format!("?{id}&k=1")]));
        let second = |at: usize| ids.iter().skip(at % 4).step_by(4);
        let pairs = ids.iter().enumerate();
        queries.extend(pairs.flat_map(|(at, a)| second(at).map(move |b| format!("?{a}&{b}"))));
        for query in queries {
            let request = Request::get(&format!("https://h.example/p{query}")).expect("a request");
            let cookie = http::HeaderMap::from_iter([(
                http::header::COOKIE,
                http::HeaderValue::from_static("c=1"),
            )]);
            for request in [request.clone(), request.with_headers(cookie)] {
                told(&edges, &comparison, &request, &format!("{}---\n{}", old.concat(), new.concat()));
            }
        }
    }
}

/// Of a thousand rows and more one is taken out; nothing is left undecided, and what asks for two is seen.
#[test]
fn a_row_of_thousands_is_taken_out() {
    let count = ravel_testing::cases(1_500);
    let gone = count / 2;
    let rows: Vec<String> =
        (0..count).map(|at| format!("redirect /p?id={at} -> /t/{at}\n")).collect();
    let mut left = rows.clone();
    left.remove(gone as usize);
    let edges = [edge(&rows), edge(&left)];
    let comparison = compare(&edges[0], &edges[1]);
    let kinds: Vec<_> = comparison.differences().iter().map(|one| one.kind()).collect();
    assert_eq!(kinds, [DifferenceKind::Target, DifferenceKind::Found]);
    let repeated = comparison.differences().iter().map(|one| one.is_of_repeated_parameters());
    assert_eq!(repeated.collect::<Vec<_>>(), [true, false]);
    let (last, more) = (count - 1, gone + 9);
    for query in [
        format!("id={gone}"),
        format!("id={gone}&id={more}"),
        format!("id={more}&id={gone}"),
        format!("id=7&id={gone}"),
        format!("id={last}"),
        "z".to_owned(),
    ] {
        let request = Request::get(&format!("https://h.example/p?{query}")).unwrap();
        told(&edges, &comparison, &request, "one row less");
    }
}
