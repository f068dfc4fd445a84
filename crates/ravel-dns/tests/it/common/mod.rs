//! The rules and the zones that the tests of domains share.

use ravel::Rules;
use ravel_dns::{Moment, Zone};

pub(crate) const SETTINGS: &str = "host site.host.example\naddress 192.0.2.44, 2001:db8:44::1\nverification _edge-proof \"p-1\"\n";

pub(crate) fn rules(settings: &str) -> Rules {
    let settings: String = settings.lines().map(|line| format!("  {line}\n")).collect();
    let text = format!(
        "site https://harbour.example/\n  alias www.harbour.example, other.example\n  preview *.preview.harbour.example\n\
         domain harbour.example\n{settings}"
    );
    Rules::parse(&text).unwrap_or_else(|problems| panic!("{text}{problems}"))
}

pub(crate) fn zone(body: &str) -> Zone {
    let text = format!("$TTL 1h\n@ SOA ns1 host 7 7200 900 1209600 600\n{body}");
    Zone::parse("harbour.example", &text).unwrap_or_else(|error| panic!("{error}\n{text}"))
}

pub(crate) fn moment() -> Moment {
    "2027-03-01T06:00:00Z".parse().unwrap()
}
