//! Names and ports of this machine in place of those of the web.

use ravel::Rules;
use ravel::address::{Address, Host, Scheme};

/// The ports that a site is served on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Ports {
    pub(crate) http: Option<u16>,
    pub(crate) https: Option<u16>,
}

/// What is for a name of the web on this machine: browsers send all names below it here (RFC
/// 6761, section 6.3).
const LOCAL: &str = ".localhost";
/// Names of this machine itself, which act as a preview host.
pub(crate) const OWN_NAMES: [&str; 3] = ["localhost", "127.0.0.1", "[::1]"];

/// How a visitor named the host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Visitor {
    /// The host of the site that is meant.
    pub(crate) host: String,
    /// Whether it came with `.localhost` behind it.
    local: bool,
    port: Option<u16>,
}

impl Visitor {
    /// Reads a `host` field, or an `:authority`.
    pub(crate) fn of(named: &str, rules: &Rules) -> Visitor {
        let (name, port) = match named.rsplit_once(':') {
            Some((name, port)) if !port.ends_with(']') => (name, port.parse().ok()),
            _ => (named, None),
        };
        let lower = name.trim_end_matches('.').to_ascii_lowercase();
        let meant = lower.strip_suffix(LOCAL).filter(|host| rules.site().has_host(host));
        match meant {
            Some(host) => Visitor { host: host.to_owned(), local: true, port },
            None => Visitor {
                host: if port.is_some() { lower } else { named.to_owned() },
                local: false,
                port,
            },
        }
    }

    /// A `location` as this visitor can follow it: a host of the site keeps the `.localhost` and
    /// the ports they came with.
    pub(crate) fn location(&self, location: &str, rules: &Rules, ports: Ports) -> String {
        let Ok(address) = Address::parse(location) else { return location.to_owned() };
        if !rules.site().has_host(address.host()) {
            return location.to_owned();
        }
        let (port, usual) = match address.scheme() {
            Scheme::Http => (ports.http, 80),
            Scheme::Https => (ports.https, 443),
        };
        let local = if self.local && !OWN_NAMES.contains(&address.host()) { LOCAL } else { "" };
        let port = port
            .filter(|port| self.port.is_some() && *port != usual)
            .map_or(String::new(), |port| format!(":{port}"));
        let origin = format!("{}://{}", address.scheme(), address.host());
        format!("{origin}{local}{port}{}", &location[origin.len()..])
    }
}

/// Rules for which the names of this machine act as preview hosts.
pub(crate) fn with_own_names(rules: &Rules, more: Option<std::net::IpAddr>) -> Rules {
    let more = more.map(|ip| if ip.is_ipv6() { format!("[{ip}]") } else { ip.to_string() });
    let names = OWN_NAMES.iter().map(|name| (*name).to_owned()).chain(more);
    rules.with_previews(names.filter_map(|name| Host::parse(&name).ok()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_ports_are_those_that_the_visitor_came_with() {
        let rules =
            Rules::parse("site https://h.example/\n  alias www.h.example\n  preview *.p.example\n")
                .unwrap();
        let rules = with_own_names(&rules, None);
        let ports = Ports { http: Some(8080), https: Some(8443) };
        let to = "https://h.example/x?y#z";
        let cases = [
            ("h.example", "h.example", to, "https://h.example/x?y#z"),
            ("H.Example.:8080", "h.example", to, "https://h.example:8443/x?y#z"),
            (
                "www.h.example.localhost:8080",
                "www.h.example",
                to,
                "https://h.example.localhost:8443/x?y#z",
            ),
            ("www.h.example.localhost", "www.h.example", to, "https://h.example.localhost/x?y#z"),
            (
                "x.p.example.localhost:8080",
                "x.p.example",
                "http://x.p.example/",
                "http://x.p.example.localhost:8080/",
            ),
            ("localhost:8080", "localhost", "http://localhost/a", "http://localhost:8080/a"),
            ("[::1]:8080", "[::1]", "http://[::1]/a", "http://[::1]:8080/a"),
            ("o.example.localhost:8080", "o.example.localhost", to, "https://h.example:8443/x?y#z"),
            ("h.example.localhost:8080", "h.example", "https://o.example/", "https://o.example/"),
            ("", "", to, to),
        ];
        for (named, host, location, expected) in cases {
            let visitor = Visitor::of(named, &rules);
            assert_eq!(visitor.host.trim_end_matches('.').to_ascii_lowercase(), host, "{named}");
            assert_eq!(visitor.location(location, &rules, ports), expected, "{named}");
        }
        let usual = Ports { http: Some(80), https: Some(443) };
        assert_eq!(Visitor::of("www.h.example:80", &rules).location(to, &rules, usual), to);
    }
}
