//! Names that change with the content of their files.
//!
//! A piece of a name is weighed: how likely a build draws it from its alphabet, beside how likely
//! somebody writes it. One piece rarely says enough; what else is in the folder does.

use std::collections::{HashMap, HashSet};

use ravel::files::is_known_type;

/// The alphabets that builds write hashes in, with their size and the lengths that occur.
const ALPHABETS: [(Alphabet, f64, &[usize]); 4] = [
    (Alphabet::Hex, 16.0, &[8, 10, 12, 16, 20, 24, 32, 40, 56, 64, 96, 128]),
    (Alphabet::Base32, 32.0, &[8]),
    (Alphabet::Base38, 38.0, &[13]),
    (Alphabet::Base64, 64.0, &[8, 10, 13, 14, 15, 16, 20, 21, 22, 43]),
];

/// How often each letter occurs in English, in thousandths, from `a` on.
const LETTERS: [f64; 26] = [
    82.0, 15.0, 28.0, 43.0, 127.0, 22.0, 20.0, 61.0, 70.0, 1.5, 8.0, 40.0, 24.0, 67.0, 75.0, 19.0,
    1.0, 60.0, 63.0, 91.0, 28.0, 10.0, 24.0, 1.5, 20.0, 1.0,
];

/// Most names have no hash: so much must speak for one, in nats.
const PRIOR: f64 = 2.0;
/// The same of a name that would be nothing but a hash.
const WHOLE: f64 = 10.0;
/// So much says one neighbour at most, and all of them together.
const NEIGHBOUR: (f64, f64) = (-4.0, 6.0);
const FOLDER: f64 = 9.0;
/// So much say the other folders.
const ELSEWHERE: f64 = 4.0;
/// Chance gives a date, or the size of an image, to less than one in a thousand hashes of digits.
const TYPICAL: f64 = 8.0;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Alphabet {
    Hex,
    Base32,
    Base38,
    Base64,
}

impl Alphabet {
    /// Whether it could have written this. Words in lower case with marks between them are no Base64:
    /// of eight letters of 64 none is a capital in one of 70 names.
    fn writes(self, token: &str) -> bool {
        let is_written = match self {
            Alphabet::Hex | Alphabet::Base32 => false,
            Alphabet::Base64 => !token.bytes().any(|byte| byte.is_ascii_uppercase()),
            // Several words, as in `any_gcc63_x64`.
            Alphabet::Base38 => {
                let mut words = token.split(['-', '_']);
                words.clone().count() > 2 && words.any(|word| word.len() > 2 && is_word(word))
            }
        };
        !is_written && token.bytes().all(|byte| self.has(byte))
    }

    fn has(self, byte: u8) -> bool {
        match self {
            Alphabet::Hex => matches!(byte, b'0'..=b'9' | b'a'..=b'f'),
            Alphabet::Base32 => matches!(byte, b'A'..=b'Z' | b'2'..=b'7'),
            Alphabet::Base38 => matches!(byte, b'0'..=b'9' | b'a'..=b'z' | b'-' | b'_'),
            Alphabet::Base64 => byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_'),
        }
    }
}

/// Where hashes of one build stand in the names of a folder: after which byte, how long, of what.
type Habit<'n> = (&'n str, u8, usize, Alphabet);

/// Those of the files of a site whose names change with their content. Pages, and files that are
/// asked for by fixed names, never do. `built` are names that a manifest says a build made.
///
/// ```
/// let names = ["index.html", "assets/index-DaoxElbr.css", "assets/index-C_Xhz7D9.js", "photo-20240131.jpg"];
/// let found: Vec<_> = ravel_check::fingerprinted(&names, |_| false).collect();
/// assert_eq!(found, ["assets/index-DaoxElbr.css", "assets/index-C_Xhz7D9.js"]);
/// ```
pub fn fingerprinted<N: AsRef<str>>(
    names: &[N],
    built: impl Fn(&str) -> bool,
) -> impl Iterator<Item = &str> {
    fingerprints(names, built).map(|found| found.name)
}

/// A name that changes with the content of its file.
pub(super) struct Fingerprint<'n> {
    pub(super) name: &'n str,
    /// The part that changes; none where only a manifest tells.
    pub(super) part: Option<&'n str>,
    /// Whether the build itself says so: its manifest, or that it names others alike.
    pub(super) is_certain: bool,
}

pub(super) fn fingerprints<'n, N: AsRef<str>>(
    names: &'n [N],
    built: impl Fn(&str) -> bool,
) -> impl Iterator<Item = Fingerprint<'n>> {
    let pages: HashSet<&str> =
        names.iter().filter_map(|name| name.as_ref().strip_suffix(".html")).collect();
    let candidates: Vec<Vec<(Habit<'n>, f64, &'n str)>> = names
        .iter()
        .map(|name| match is_of_page(name.as_ref(), &pages) {
            true => Vec::new(),
            false => candidates(name.as_ref()),
        })
        .collect();
    let mut habits: HashMap<Habit<'n>, f64> = HashMap::new();
    // One build writes its hashes alike in all folders.
    let mut everywhere: HashMap<Habit<'n>, f64> = HashMap::new();
    for (habit, weight, _) in candidates.iter().flatten() {
        let weight = weight.clamp(NEIGHBOUR.0, NEIGHBOUR.1);
        *habits.entry(*habit).or_default() += weight;
        *everywhere.entry(("", habit.1, habit.2, habit.3)).or_default() += weight;
    }
    let mut alike: HashMap<(u8, usize, Alphabet), usize> = HashMap::new();
    for (habit, ..) in candidates.iter().flatten().filter(|(_, weight, _)| *weight > 0.0) {
        *alike.entry((habit.1, habit.2, habit.3)).or_default() += 1;
    }
    names.iter().zip(candidates).filter_map(move |(name, candidates)| {
        let is_hash = |(habit, weight, _): &&(Habit<'n>, f64, &'n str)| {
            let others = habits[habit] - weight.clamp(NEIGHBOUR.0, NEIGHBOUR.1);
            let (_, separator, length, alphabet) = *habit;
            let elsewhere = everywhere[&("", separator, length, alphabet)] - habits[habit];
            let habit = others.clamp(-FOLDER, FOLDER) + elsewhere.clamp(0.0, ELSEWHERE);
            let prior = if separator == 0 { WHOLE } else { PRIOR };
            weight + habit > prior
        };
        let name = name.as_ref();
        let hash = candidates.iter().find(is_hash);
        let is_built = built(name);
        let has_others = |habit: &Habit<'n>| {
            alike.get(&(habit.1, habit.2, habit.3)).is_some_and(|number| *number > 1)
        };
        (is_built || hash.is_some()).then(|| Fingerprint {
            name,
            part: hash.map(|(.., part)| *part),
            is_certain: is_built || hash.is_some_and(|(habit, ..)| has_others(habit)),
        })
    })
}

/// Whether a file goes with a page of its name, which others know: the page's name does not change.
fn is_of_page(name: &str, pages: &HashSet<&str>) -> bool {
    name.rsplit_once('.').is_some_and(|(stem, _)| pages.contains(stem))
}

/// The pieces of a name that could be a hash, what speaks for that, in nats, and the pieces.
fn candidates(name: &str) -> Vec<(Habit<'_>, f64, &str)> {
    let (folder, last) = name.rsplit_once('/').unwrap_or(("", name));
    let Some((stem, ending)) = last.rsplit_once('.') else { return Vec::new() };
    if has_fixed_name(stem, ending) || !is_known_type(name) {
        return Vec::new();
    }
    let mut found = Vec::new();
    let mut start = 0;
    for piece in stem.split('.') {
        let whole = if start == 0 { 0 } else { b'.' };
        let after = piece.bytes().enumerate().filter(|(_, byte)| matches!(byte, b'-' | b'_'));
        let begins = std::iter::once((0, whole)).chain(after.map(|(at, byte)| (at + 1, byte)));
        for (at, separator) in begins.filter(|(at, _)| !is_uuid(&piece[..*at])) {
            let token = &piece[at..];
            for (alphabet, size, lengths) in ALPHABETS {
                if lengths.contains(&token.len()) && alphabet.writes(token) {
                    let habit = (folder, separator, token.len(), alphabet);
                    let weight = written(token) - token.len() as f64 * size.ln();
                    found.push((habit, weight, token));
                }
            }
        }
        start += piece.len() + 1;
    }
    found
}

/// The files that a build's manifest maps the names of its sources to, where it added a piece to
/// them, below the manifest's folder or the one that this is in.
pub(super) fn of_manifest(name: &str, text: &str) -> Vec<String> {
    let mut built = Vec::new();
    let Ok(serde_json::Value::Object(entries)) = serde_json::from_str(text) else { return built };
    let folder = name.rsplit_once('/').map_or("", |(folder, _)| folder);
    let above = folder.rsplit_once('/').map_or("", |(above, _)| above);
    // Some have a list of all files in them.
    let nested = entries.values().filter_map(serde_json::Value::as_object).flatten();
    for (source, value) in entries.iter().chain(nested) {
        let Some(file) = value.as_str().or(value["file"].as_str()) else { continue };
        let [source, last] = [source, file].map(|path| path.rsplit('/').next().unwrap_or(path));
        let stem = source.split('.').next().unwrap_or(source);
        let added = last.strip_prefix(stem).is_some_and(|rest| rest.starts_with(['.', '-', '_']));
        if added && last.len() > source.len() {
            let file = file.trim_start_matches("./").trim_start_matches('/');
            built.extend([folder, above, ""].map(|folder| match folder {
                "" => file.to_owned(),
                _ => format!("{folder}/{file}"),
            }));
        }
    }
    built
}

/// Whether a file is asked for by a name that others know: a page, a worker, a manifest.
fn has_fixed_name(stem: &str, ending: &str) -> bool {
    let fixed = ["html", "htm", "xhtml", "webmanifest", "xml", "txt", "pdf", "ico"];
    fixed.iter().any(|fixed| ending.eq_ignore_ascii_case(fixed))
        || (ending == "json" && stem.contains("manifest"))
        || (ending == "js" && ["sw", "service-worker", "serviceworker"].contains(&stem))
}

/// Whether this is followed by the last group of a UUID (RFC 9562, section 4).
fn is_uuid(before: &str) -> bool {
    let groups: Vec<&str> = before.trim_end_matches('-').rsplit('-').take(4).collect();
    groups.len() == 4
        && groups.iter().zip([4, 4, 4, 8]).all(|(group, length)| {
            group.len() >= length && group.bytes().all(|byte| byte.is_ascii_hexdigit())
        })
}

/// How much speaks against somebody having written this, in nats: words, numbers, and words in a
/// row with capitals.
fn written(token: &str) -> f64 {
    let mut against = if is_date(token) || is_size(token) { -TYPICAL } else { 0.0 };
    let mut before = Class::Start;
    // Words in capitals are words.
    let is_loud = !token.bytes().any(|byte| byte.is_ascii_lowercase());
    for byte in token.bytes() {
        let byte = if is_loud { byte.to_ascii_lowercase() } else { byte };
        let class = Class::of(byte);
        let letter = byte.to_ascii_lowercase().wrapping_sub(b'a') as usize;
        let among = match class {
            Class::Digit => 0.1,
            Class::Lower | Class::Upper => LETTERS[letter] / 1_000.0,
            Class::Mark | Class::Start => 0.5,
        };
        against -= (before.then(class) * among).ln();
        before = class;
    }
    against
}

fn is_word(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_lowercase())
}

/// Whether digits say a day of this age, in any order of year, month and day.
fn is_date(token: &str) -> bool {
    let number = |range: std::ops::Range<usize>| token.get(range)?.parse::<u32>().ok();
    let digits = token.len() >= 8 && token.bytes().take(8).all(|byte| byte.is_ascii_digit());
    let is_day = |year: Option<u32>, one: Option<u32>, other: Option<u32>| {
        let (Some(one), Some(other)) = (one, other) else { return false };
        let both = (1..=31).contains(&one) && (1..=31).contains(&other) && one.min(other) <= 12;
        year.is_some_and(|year| (1970..2100).contains(&year)) && both
    };
    digits
        && (is_day(number(0..4), number(4..6), number(6..8))
            || is_day(number(4..8), number(0..2), number(2..4)))
}

/// Whether this says the width and the height of an image, at its end or alone.
fn is_size(token: &str) -> bool {
    let digits =
        |bytes: &mut dyn Iterator<Item = u8>| bytes.take_while(u8::is_ascii_digit).count() >= 2;
    token.split_once('x').is_some_and(|(width, height)| {
        digits(&mut width.bytes().rev()) && digits(&mut height.bytes())
    })
}

#[derive(Debug, Clone, Copy)]
enum Class {
    Start,
    Lower,
    Upper,
    Digit,
    Mark,
}

impl Class {
    fn of(byte: u8) -> Class {
        match byte {
            b'a'..=b'z' => Class::Lower,
            b'A'..=b'Z' => Class::Upper,
            b'0'..=b'9' => Class::Digit,
            _ => Class::Mark,
        }
    }

    /// How likely one follows the other in what people write.
    fn then(self, next: Class) -> f64 {
        let [lower, upper, digit, mark] = match self {
            Class::Start => [0.55, 0.2, 0.24, 0.01],
            Class::Lower => [0.9, 0.02, 0.04, 0.04],
            Class::Upper => [0.75, 0.19, 0.03, 0.03],
            Class::Digit => [0.08, 0.03, 0.85, 0.04],
            Class::Mark => [0.6, 0.15, 0.24, 0.01],
        };
        match next {
            Class::Lower => lower,
            Class::Upper => upper,
            Class::Digit => digit,
            Class::Mark | Class::Start => mark,
        }
    }
}
