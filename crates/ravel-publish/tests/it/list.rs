//! The list of redirects, beside the edge.

use std::collections::HashMap;

use crate::sites::{FILES, pick, readable, request, request_of, rule, runner, site};
use proptest::prelude::*;
use ravel::program::Stage;
use ravel::{Edge, FileList, Request};
use ravel_publish::{RedirectRow, Support, redirect_list};

/// What a host that reads the list answers: the row of the path, with the visitor's parameters but
/// for those that the URL has itself.
fn by_list(rows: &HashMap<String, &RedirectRow>, request: &Request) -> Option<(u16, String)> {
    let address = request.address().ok()?;
    let row = rows.get(address.path())?;
    let to = ravel::address::Address::parse(row.to()).unwrap();
    let carried = address.query().filter(|_| row.keeps_query()).unwrap_or_default();
    let own: Vec<_> =
        ravel::address::parameters(to.query().unwrap_or_default()).map(|(_, key, _)| key).collect();
    let carried: Vec<&str> = carried
        .split('&')
        .filter(|part| {
            ravel::address::parameters(part).next().is_some_and(|(_, key, _)| !own.contains(&key))
        })
        .collect();
    let (url, fragment) = row.to().split_at(row.to().find('#').unwrap_or(row.to().len()));
    let fragment = match (fragment, address.fragment()) {
        ("", Some(fragment)) => format!("#{fragment}"),
        (own, _) => own.to_owned(),
    };
    let mark = match (carried.is_empty(), url.split_once('?')) {
        (true, _) | (_, Some((_, ""))) => "",
        (false, None) => "?",
        (false, Some(_)) => "&",
    };
    Some((row.status(), format!("{url}{mark}{}{fragment}", carried.join("&"))))
}

/// Each row answers as the edge does, and every URL that differs lies within a rule that is named,
/// or is one that a named setting is about.
#[test]
fn rows_answer_as_the_edge_does() {
    let plain = (
        pick(&["/a", "/b", "/x", "/a/", "/c/"]),
        pick(&["/a", "/b", "/x", "/b?own=1", "/x#part", "https://away.example/"]),
        pick(&["", " permanent", " 307", " drop query"]),
    )
        .prop_map(|(from, to, end)| format!("redirect {from} -> {to}{end}\n"));
    let rules = prop::collection::vec(prop_oneof![2 => rule().boxed(), 3 => plain.boxed()], 0..10);
    let strategy = (site(), rules, prop::collection::vec(request(), 12));
    let (mut compared, mut differing) = (0, 0);
    let counts = std::cell::RefCell::new((&mut compared, &mut differing));
    let result = runner(ravel_testing::cases(10_000)).run(&strategy, |(site, rules, requests)| {
        let rules = readable(&site, &rules);
        let edge = Edge::new(&rules, FileList::from_iter(FILES));
        let list = redirect_list(&edge);
        let rows: HashMap<String, &RedirectRow> =
            list.rows().iter().map(|row| (row.from().to_owned(), row)).collect();
        prop_assert_eq!(rows.len(), list.rows().len(), "two rows are for one path");
        let home = format!("{}://{}", edge.site().scheme(), edge.site().host());
        for row in list.rows() {
            let asked = Request::get(&format!("{home}{}", row.from())).unwrap();
            let answer = edge.answer(&asked);
            let found = answer.location().map(|to| (answer.status(), to));
            prop_assert_eq!(found, Some((Some(row.status()), row.to())), "{}", row.from());
        }
        let others = requests.iter().filter_map(|asked| {
            let request = request_of(asked);
            let path = request.address().ok()?.without_fragment().splitn(4, '/').nth(3)?.to_owned();
            Request::get(&format!("{home}/{path}")).ok()
        });
        let of_rows = list.rows().iter().flat_map(|row| {
            ["", "?k=v&own=2", "?m", "?"]
                .map(|query| Request::get(&format!("{home}{}{query}", row.from())).unwrap())
        });
        for asked in others.chain(of_rows) {
            let answer = edge.answer(&asked);
            let on_edge = answer.status().zip(answer.location().map(str::to_owned));
            *counts.borrow_mut().0 += 1;
            if on_edge == by_list(&rows, &asked) {
                continue;
            }
            *counts.borrow_mut().1 += 1;
            let named: Vec<&str> = list
                .lines()
                .iter()
                .filter(|line| line.support() != Support::Full)
                .map(|line| line.what())
                .collect();
            let within = Stage::ALL
                .into_iter()
                .flat_map(|stage| edge.rules_for(stage, &asked))
                .any(|rule| named.contains(&&*rule.to_string()));
            let route = edge.route(&asked);
            let by_setting = route.decided_by().is_none() || edge.site().ignore_case();
            prop_assert!(
                within || by_setting,
                "{}: {:?} on the edge, {:?} by the list",
                asked.url(),
                on_edge,
                by_list(&rows, &asked)
            );
        }
        Ok(())
    });
    result.unwrap_or_else(|error| panic!("{error}"));
    assert!(
        compared > 10 * ravel_testing::cases(10_000) && differing * 2 < compared,
        "{differing} of {compared} differ"
    );
}
