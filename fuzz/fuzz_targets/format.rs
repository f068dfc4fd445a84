//! The canonical form of a rules file is its own canonical form, and means the same.

#![no_main]

use libfuzzer_sys::fuzz_target;
use ravel::Rules;
use ravel::language::format;
use ravel::program::Stage;

fuzz_target!(|text: &str| {
    let load = |_: &str| Ok::<_, String>(b"old,new\n/a,/b\n".to_vec());
    let Ok(rules) = Rules::parse_with(text, load) else { return };
    let formatted = format(text).expect("what can be read can be formatted");
    let again = Rules::parse_with(&formatted, load).expect("the canonical form can be read");
    assert_eq!(format(&formatted).as_ref(), Ok(&formatted));
    for stage in Stage::ALL {
        let shown = |rules: &Rules| {
            rules.program().rules(stage).map(|rule| rule.to_string()).collect::<Vec<_>>()
        };
        assert_eq!(shown(&rules), shown(&again));
    }
});
