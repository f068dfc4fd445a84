//! Names and ports of this machine in place of those of the web.

use http::header::{LOCATION, SET_COOKIE};
use http::uri::Authority;
use http::{HeaderMap, HeaderValue};
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
        let Ok(address) = Address::parse_location(location) else { return location.to_owned() };
        // A site is answered on the standard ports alone; what has another is another server.
        if address.port().is_some() || !rules.site().has_host(address.host()) {
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

impl Visitor {
    /// What another service says of the site's hosts, or of itself, as this visitor can follow and
    /// keep it: `location`, and the domain of cookies.
    pub(crate) fn come_back(
        &self,
        headers: &mut HeaderMap,
        rules: &Rules,
        ports: Ports,
        service: Option<&Authority>,
    ) {
        let text = |value: &HeaderValue| value.to_str().ok().map(str::to_owned);
        if let Some(location) = headers.get(LOCATION).and_then(text) {
            let own =
                service.and_then(|service| location.strip_prefix(&format!("http://{service}")));
            let to = match own {
                Some("") => "/".to_owned(),
                Some(rest) if rest.starts_with(['/', '?', '#']) => rest.to_owned(),
                _ => self.location(&location, rules, ports),
            };
            if let Ok(to) = HeaderValue::from_str(&to) {
                headers.insert(LOCATION, to);
            }
        }
        let cookies: Vec<HeaderValue> = headers.get_all(SET_COOKIE).iter().cloned().collect();
        headers.remove(SET_COOKIE);
        for cookie in cookies {
            let here = text(&cookie).map(|cookie| self.cookie(&cookie, rules));
            let here = here.and_then(|cookie| HeaderValue::from_str(&cookie).ok());
            headers.append(SET_COOKIE, here.unwrap_or(cookie));
        }
    }

    /// A cookie whose domain is that of the site becomes one of the names that were asked.
    fn cookie(&self, cookie: &str, rules: &Rules) -> String {
        let parts = cookie.split(';').filter_map(|part| {
            let Some((name, domain)) = part.split_once('=') else { return Some(part.to_owned()) };
            let plain = domain.trim().trim_start_matches('.').to_ascii_lowercase();
            let is_above = self.host.strip_suffix(&plain).is_some_and(|rest| rest.ends_with('.'));
            let is_of_site = rules.site().has_host(&plain) || is_above;
            if !name.trim().eq_ignore_ascii_case("domain") || !is_of_site {
                return Some(part.to_owned());
            }
            match (self.local, OWN_NAMES.contains(&&*self.host)) {
                (true, _) => Some(format!("{name}={plain}{LOCAL}")),
                // A name of this machine has no domain above it.
                (false, true) => None,
                (false, false) => Some(part.to_owned()),
            }
        });
        parts.collect::<Vec<_>>().join(";")
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
    fn what_another_service_writes_comes_back_to_the_visitor() {
        let rules = Rules::parse("site https://h.example/\n  alias www.h.example\n").unwrap();
        let rules = with_own_names(&rules, None);
        let ports = Ports { http: Some(8080), https: Some(8443) };
        let service: Authority = "127.0.0.1:3000".parse().unwrap();
        let cases = [
            // How the visitor came, what the service writes, and what comes back.
            (
                "h.example.localhost:8443",
                "https://h.example/in",
                "https://h.example.localhost:8443/in",
            ),
            ("h.example.localhost:8443", "http://127.0.0.1:3000/in?a", "/in?a"),
            ("h.example.localhost:8443", "http://127.0.0.1:3000", "/"),
            ("h.example.localhost:8443", "http://127.0.0.1:30001/x", "http://127.0.0.1:30001/x"),
            ("h.example.localhost:8443", "/in", "/in"),
            ("h.example.localhost:8443", "https://other.example/", "https://other.example/"),
        ];
        for (named, location, expected) in cases {
            let mut headers = HeaderMap::new();
            headers.insert(LOCATION, HeaderValue::from_str(location).unwrap());
            Visitor::of(named, &rules).come_back(&mut headers, &rules, ports, Some(&service));
            assert_eq!(headers[LOCATION], expected, "{location}");
        }
        let cookies = [
            (
                "h.example.localhost:8443",
                "a=1; Domain=h.example; Secure",
                "a=1; Domain=h.example.localhost; Secure",
            ),
            (
                "h.example.localhost:8443",
                "a=1; domain=.H.example",
                "a=1; domain=h.example.localhost",
            ),
            ("www.h.example.localhost", "a=1; domain=h.example", "a=1; domain=h.example.localhost"),
            ("localhost:8443", "a=1;domain=h.example;path=/", "a=1;path=/"),
            ("h.example", "a=1; domain=h.example", "a=1; domain=h.example"),
            ("h.example.localhost", "a=1; domain=other.example", "a=1; domain=other.example"),
        ];
        for (named, cookie, expected) in cookies {
            let mut headers = HeaderMap::new();
            headers.append(SET_COOKIE, HeaderValue::from_static("first=1"));
            headers.append(SET_COOKIE, HeaderValue::from_str(cookie).unwrap());
            Visitor::of(named, &rules).come_back(&mut headers, &rules, ports, None);
            let all: Vec<_> = headers.get_all(SET_COOKIE).iter().collect();
            assert_eq!(all, ["first=1", expected], "{named}");
        }
    }

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
