//! Makes an access log in Combined Log Format, the same each time: that of the demo, or a large one.
//!
//! `cargo run --example access_log -- demo > access.log` makes two years of Lantern Ferries, 20 000
//! lines, of which the first are shown where `demo` is left out; `… -- 3000000 200000` so many lines
//! of so many distinct paths.

use std::io::{self, BufWriter, Write};

use time::{Duration, OffsetDateTime};

/// 2025-03-01, in seconds since 1970.
const START: i64 = 1_740_787_200;
const DAYS: i64 = 730;
const LINES: u64 = 20_000;
/// So many are shown of the demo's.
const SHOWN: usize = 10;

/// The same numbers in every run (SplitMix64).
struct Random(u64);

impl Random {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    fn below(&mut self, bound: u64) -> u64 {
        self.next() % bound
    }

    fn of<T: Copy>(&mut self, list: &[T]) -> T {
        list[self.below(list.len() as u64) as usize]
    }

    /// One of some, each as often as it says.
    fn weighted<T: Copy>(&mut self, list: &[(u64, T)]) -> T {
        let all = list.iter().map(|(weight, _)| weight).sum();
        let mut at = self.below(all);
        for (weight, one) in list {
            match at.checked_sub(*weight) {
                Some(rest) => at = rest,
                None => return *one,
            }
        }
        list[0].1
    }
}

/// What is asked: how often, the request line, and the status that the server gave then.
type Asked = (u64, (&'static str, u16));

const PAGES: &[Asked] = &[
    (190, ("GET / HTTP/1.1", 200)),
    (120, ("GET /timetable/ HTTP/1.1", 200)),
    (60, ("GET /timetable/weekday HTTP/1.1", 200)),
    (40, ("GET /timetable/weekend HTTP/1.1", 200)),
    (45, ("GET /timetable/today HTTP/1.1", 200)),
    (70, ("GET /tickets/ HTTP/1.1", 200)),
    (60, ("GET /book/ HTTP/1.1", 200)),
    (18, ("GET /book/seat/14A HTTP/1.1", 200)),
    (12, ("GET /book/passengers HTTP/1.1", 200)),
    (30, ("GET /ports/ HTTP/1.1", 200)),
    (24, ("GET /ports/northquay/ HTTP/1.1", 200)),
    (18, ("GET /ports/skerry/ HTTP/1.1", 200)),
    (14, ("GET /ports/heronsea/ HTTP/1.1", 200)),
    (20, ("GET /fleet HTTP/1.1", 200)),
    (14, ("GET /about HTTP/1.1", 200)),
    (14, ("GET /contact HTTP/1.1", 200)),
    (9, ("POST /contact HTTP/1.1", 200)),
    (90, ("GET /assets/site.e5fe29f4.css HTTP/1.1", 200)),
    (40, ("GET /assets/site.e5fe29f4.css HTTP/1.1", 304)),
    (40, ("GET /assets/lantern.11f36481.svg HTTP/1.1", 200)),
    (30, ("GET /assets/book.a0cfddff.js HTTP/1.1", 200)),
    (26, ("GET /api/seats?route=skerry HTTP/1.1", 200)),
];

/// Links of other people, and of the print shop.
const OLD: &[Asked] = &[
    (40, ("GET /prices.html HTTP/1.1", 301)),
    (30, ("GET /ships.html HTTP/1.1", 301)),
    (34, ("GET /fares HTTP/1.1", 301)),
    (18, ("GET /piers HTTP/1.1", 301)),
    (26, ("GET /sailings.php?from=skerry HTTP/1.1", 301)),
    (20, ("GET /sailings.php?from=northquay&utm_source=guide HTTP/1.1", 301)),
    (9, ("GET /sailings.php?from=lowmoor HTTP/1.1", 200)),
    (24, ("GET /timetables.html HTTP/1.1", 200)),
    (16, ("GET /harbours/north.html HTTP/1.1", 301)),
    (14, ("GET /contact-us.html HTTP/1.1", 200)),
    (12, ("GET /fleet.html HTTP/1.1", 200)),
    (12, ("GET /news/2026/storm HTTP/1.1", 200)),
    (10, ("GET /loyalty/card HTTP/1.1", 200)),
    (22, ("GET /q/7 HTTP/1.1", 302)),
    (8, ("GET /images/map.gif HTTP/1.1", 200)),
];

const TYPOS: &[Asked] = &[
    (12, ("GET /timetabel/ HTTP/1.1", 404)),
    (9, ("GET /ticket HTTP/1.1", 404)),
    (7, ("GET /Fleet HTTP/1.1", 404)),
    (6, ("GET /ports/skery/ HTTP/1.1", 404)),
    (4, ("GET /f\\xc3\\xa4hre HTTP/1.1", 404)),
    (3, ("GET /about%20us HTTP/1.1", 404)),
];

const BOTS: &[Asked] = &[
    (30, ("GET /robots.txt HTTP/1.1", 200)),
    (26, ("GET /sitemap.xml HTTP/1.1", 200)),
    (22, ("GET /wp-login.php HTTP/1.1", 404)),
    (16, ("POST /xmlrpc.php HTTP/1.1", 404)),
    (14, ("GET /.env HTTP/1.1", 404)),
    (10, ("HEAD / HTTP/1.1", 200)),
    (8, ("GET /favicon.ico HTTP/1.1", 404)),
    (3, ("\\x16\\x03\\x01\\x02\\x00\\x01\\x00\\x01\\xfc\\x03\\x03", 400)),
    (3, ("-", 408)),
    (1, ("OPTIONS * HTTP/1.0", 200)),
    (1, ("CONNECT relay.example:443 HTTP/1.1", 405)),
];

/// What posters of two summers led to.
const CAMPAIGN: &[Asked] = &[
    (60, ("GET /summer HTTP/1.1", 302)),
    (30, ("GET /offers/summer-2026/ HTTP/1.1", 200)),
    (14, ("GET /summer?utm_source=poster&utm_campaign=islands HTTP/1.1", 302)),
];

const AGENTS: [&str; 4] = [
    "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0",
    "Mozilla/5.0 (iPhone; CPU iPhone OS 19_0 like Mac OS X) AppleWebKit/605.1.15 Version/19.0 Safari/605.1.15",
    "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 Chrome/140.0 Safari/537.36",
    "Mozilla/5.0 (Linux; Android 16) AppleWebKit/537.36 Chrome/140.0 Mobile Safari/537.36",
];

fn client(random: &mut Random) -> String {
    match random.below(4) {
        0 => format!("192.0.2.{}", 1 + random.below(250)),
        1 => format!("198.51.100.{}", 1 + random.below(250)),
        2 => format!("203.0.113.{}", 1 + random.below(250)),
        _ => format!("2001:db8::{:x}", 1 + random.below(4_000)),
    }
}

/// `01/Mar/2025:00:00:00 +0000`.
fn time_of(seconds: i64) -> String {
    let time = OffsetDateTime::UNIX_EPOCH + Duration::seconds(seconds);
    let month = &time.month().to_string()[..3];
    format!(
        "{:02}/{month}/{}:{:02}:{:02}:{:02} +0000",
        time.day(),
        time.year(),
        time.hour(),
        time.minute(),
        time.second()
    )
}

pub(crate) fn demo(out: &mut impl Write) -> io::Result<()> {
    let mut random = Random(7);
    // More come in summer, and more each year; posters hang from June to August.
    let is_summer = |day: i64| (92..184).contains(&(day % 365));
    let weight = |day: i64| 10 + day / 90 + if is_summer(day) { 9 } else { 0 };
    let all: i64 = (0..DAYS).map(weight).sum();
    let (mut written, mut before) = (0, 0);
    for day in 0..DAYS {
        before += weight(day);
        let until = LINES * before as u64 / all as u64;
        let mut seconds: Vec<i64> = (written..until).map(|_| random.below(86_400) as i64).collect();
        seconds.sort_unstable();
        written = until;
        for second in seconds {
            let campaign = if is_summer(day) { 150 } else { 4 };
            let list = random.weighted(&[
                (700, PAGES),
                (90, OLD),
                (14, TYPOS),
                (80, BOTS),
                (campaign, CAMPAIGN),
            ]);
            let (request, status) = random.weighted(list);
            let agent = match list.as_ptr() == BOTS.as_ptr() {
                true => "probe/1.0 (+https://probe.example/)",
                false => random.of(&AGENTS),
            };
            let referer = random.weighted(&[
                (5, "-"),
                (3, "https://lanternferries.example/"),
                (1, "https://islands.example/getting-here"),
            ]);
            let (client, bytes) = (client(&mut random), 512 * (1 + random.below(24)));
            let time = time_of(START + day * 86_400 + second);
            writeln!(
                out,
                "{client} - - [{time}] \"{request}\" {status} {bytes} \"{referer}\" \"{agent}\""
            )?;
        }
    }
    Ok(())
}

/// Few paths are asked often, and many seldom, as on any site.
pub(crate) fn large(out: &mut impl Write, lines: u64, paths: u64) -> io::Result<()> {
    const SECTIONS: [&str; 6] = ["news", "ports", "timetable", "blog/archive", "guides", "photos"];
    let mut random = Random(11);
    for line in 0..lines {
        // Each path comes, and the first ones come most.
        let number = match line < paths {
            true => line,
            false => {
                let part = random.below(1 << 20) as f64 / f64::from(1 << 20);
                (part * part * part * paths as f64) as u64
            }
        };
        let section = SECTIONS[(number % 6) as usize];
        let query = if number % 10 == 9 { "?utm_source=letter" } else { "" };
        let status = random.weighted(&[(90, 200), (5, 301), (5, 404)]);
        let (client, bytes) = (client(&mut random), 300 + random.below(90_000));
        let time = time_of(START + (line as i64 * DAYS * 86_400) / lines as i64);
        let agent = random.of(&AGENTS);
        writeln!(
            out,
            "{client} - - [{time}] \"GET /{section}/{:04x}/the-ferry-of-the-day-{number}{query} HTTP/1.1\" \
             {status} {bytes} \"https://lanternferries.example/{section}/\" \"{agent}\"",
            number / 64
        )?;
    }
    Ok(())
}

fn main() -> io::Result<()> {
    let mut out = BufWriter::new(io::stdout().lock());
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let numbers: Vec<u64> = arguments.iter().filter_map(|text| text.parse().ok()).collect();
    let done = match numbers[..] {
        [lines, paths, ..] => large(&mut out, lines.max(1), paths.max(1)),
        _ if arguments.iter().any(|text| text == "demo") => demo(&mut out),
        _ => {
            let mut all = Vec::new();
            demo(&mut all)?;
            let mut first = all.split_inclusive(|byte| *byte == b'\n').take(SHOWN);
            first.try_for_each(|line| out.write_all(line))
        }
    };
    match done.and_then(|()| out.flush()) {
        // Whoever reads has seen enough.
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        done => done,
    }
}
