//! The grammar as its users meet it: a word with a letter missing is answered with the word, at its
//! place; and what a word stands for is written in the reference.

use ravel::Rules;
use ravel::language::grammar::{Form, tables};

const SITE: &str = "site https://h.example/\n  languages en, de\n";

/// A rules file in which the last word stands where this table's words do.
fn file(table: &str, word: &str) -> Option<String> {
    Some(match table {
        "setting of `site`" => format!("site https://h.example/\n  {word} x\n"),
        "statement" => format!("{SITE}{word} /a -> /b\n"),
        "line of `headers`" => format!("{SITE}headers /a\n  {word} x-a: 1\n"),
        "`on`" => format!("{SITE}headers /a on {word}\n  set x-a: 1\n"),
        "`when [not]`" => format!("{SITE}redirect /a -> /b\n  when {word} x\n"),
        "`where NAME`" => format!("{SITE}redirect /{{x}} -> /b\n  where x {word} a\n"),
        "setting of `domain`" => format!("{SITE}domain h.example\n  {word} x\n"),
        "outcome" => format!("{SITE}expect /a is {word}\n"),
        "part of an expectation" => format!("{SITE}expect /a {word} x-a\n"),
        _ => return None,
    })
}

fn forms() -> impl Iterator<Item = (&'static str, &'static Form)> {
    tables().into_iter().flat_map(|(table, forms)| forms.iter().map(move |form| (table, form)))
}

/// Words of three letters and fewer are near to nothing.
#[test]
fn a_word_with_a_letter_missing_is_answered_with_the_word() {
    let mut seen = 0;
    for (table, form) in forms().filter(|(_, form)| form.word().len() > 4) {
        let word = form.word();
        let short = &word[..word.len() - 1];
        let text = file(table, short).unwrap_or_else(|| panic!("the table `{table}` is new"));
        let problems = Rules::parse(&text).expect_err(&text);
        let said = problems.to_string();
        assert!(said.contains(&format!("`{short}`")), "{text}\n{said}");
        // Of `on` and of conditions all words are listed; elsewhere the nearest is named.
        assert!(said.contains(word), "{text}\n{said}");
        let first = problems.iter().next().unwrap();
        let line = text.lines().nth(first.place().line().number() as usize - 1).unwrap();
        assert_eq!(&line[first.place().columns().clone()], short, "{text}\n{said}");
        seen += 1;
    }
    assert!(seen > 30, "{seen}");
}

#[test]
fn each_word_stands_once_in_its_table_and_says_what_it_does() {
    for (table, list) in tables() {
        let mut names: Vec<&str> = list.iter().map(|form| form.name()).collect();
        names.sort_unstable();
        let before = names.len();
        names.dedup();
        assert_eq!(names.len(), before, "{table}");
        for form in list {
            assert!(form.form().starts_with(form.word()), "{} in {table}", form.form());
            assert!(
                !form.about().is_empty() && !form.about().ends_with('.'),
                "{} in {table}",
                form.form()
            );
        }
    }
}

/// What is in no place of the language is refused everywhere.
#[test]
fn a_word_of_another_place_is_refused() {
    let places: Vec<&str> = tables().iter().map(|(table, _)| *table).collect();
    for place in places {
        for (table, form) in forms().filter(|(table, _)| *table != place) {
            let elsewhere =
                forms().any(|(other, known)| other == place && known.word() == form.word());
            if elsewhere || form.word().len() < 3 {
                continue;
            }
            let text = file(place, form.word()).unwrap();
            assert!(
                Rules::parse(&text).is_err(),
                "`{}` of {table} in {place}:\n{text}",
                form.word()
            );
        }
    }
}
