//! The hosts that a site can be asked on, each with its scheme; of hosts that a `*.` stands for,
//! those that rules tell apart.

use super::capture::CaptureTest;
use ravel::address::Scheme;
use ravel::program::{Program, Role, Site, TestKind, TextSet};
use ravel::template::OriginPattern;

/// A scheme and a host, below one setting of the site.
#[derive(Debug, Clone)]
pub(crate) struct Origin {
    pub(crate) scheme: Scheme,
    pub(crate) host: Box<str>,
    pub(crate) role: Role,
    pub(super) region: usize,
    /// Whether it stands for every host below a `*.` that nothing tells apart.
    pub(super) is_any: bool,
}

/// Paths that are seen from one place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Region {
    /// The prefix of every path of it, without its final `/`.
    pub(super) prefix: Box<str>,
    /// Whether it is below a base path; patterns without a host match only there.
    pub(super) inside: bool,
    /// Base paths that are another region's, behind the prefix and without their final `/`.
    pub(super) without: Vec<Box<str>>,
}

impl Origin {
    pub(crate) fn is_preview(&self) -> bool {
        self.role == Role::Preview
    }

    /// Whether it stands for a host, which is none of those that are told apart.
    pub(super) fn stands_for(&self, host: &str) -> bool {
        let parent = |host: &str| host.split_once('.').map(|(_, parent)| parent.to_owned());
        self.is_any && parent(&self.host) == parent(host)
    }

    /// Whether a whole-URL pattern is for this origin.
    pub(super) fn takes(
        &self,
        pattern: &OriginPattern,
        tests: Option<&[CaptureTest<'_>]>,
        site: &Site,
    ) -> bool {
        if pattern.scheme() != self.scheme
            && !(pattern.scheme() == Scheme::Https && site.upgrades())
        {
            return false;
        }
        let host = pattern.host().host().as_str();
        match tests {
            None => {
                host == &*self.host || (self.is_preview() && pattern.host().host() == site.host())
            }
            Some(tests) => match self.host.split_once('.') {
                Some((label, rest)) => {
                    rest == host && tests.iter().all(|test| test.holds(label.as_bytes()))
                }
                None => false,
            },
        }
    }
}

/// `told_apart`: the programs whose rules and hosts are told apart below a `*.`.
pub(super) fn of_site(program: &Program, told_apart: &[&Program]) -> (Vec<Origin>, Vec<Region>) {
    let site = program.site();
    let mut settings: Vec<(Box<str>, Role, &str)> =
        vec![(site.host().as_str().into(), Role::Canonical, site.base())];
    settings.extend(
        site.aliases()
            .iter()
            .map(|alias| (alias.host().as_str().into(), Role::Alias, alias.base())),
    );
    for preview in site.previews().iter().filter(|preview| !preview.wildcard()) {
        settings.push((preview.host().as_str().into(), Role::Preview, site.base()));
    }
    let mut any: Vec<Box<str>> = Vec::new();
    for preview in site.previews().iter().filter(|preview| preview.wildcard()) {
        let (labels, fresh) = labels(told_apart, preview.host().as_str());
        for label in labels {
            let host: Box<str> = format!("{label}.{}", preview.host()).into();
            if label == fresh {
                any.push(host.clone());
            }
            if !settings.iter().any(|(known, ..)| *known == host) {
                settings.push((host, Role::Preview, site.base()));
            }
        }
    }
    let mut regions: Vec<Region> = Vec::new();
    let mut origins = Vec::new();
    for (number, (host, role, base)) in settings.iter().enumerate() {
        let own = |other: &&(Box<str>, Role, &str)| other.0 == *host;
        let longer = |other: &&(Box<str>, Role, &str)| {
            other.2.len() > base.len() && other.2.starts_with(base)
        };
        let open = |base: &str| -> Box<str> { base[..base.len() - 1].into() };
        let prefix = open(base);
        let below = |(_, _, longer): &(Box<str>, Role, &str)| open(longer)[prefix.len()..].into();
        let without = settings.iter().filter(own).filter(longer).map(below).collect();
        let inside = Region { prefix, inside: true, without };
        let bases = settings.iter().filter(own).map(|(_, _, base)| *base);
        let outside = (settings.iter().position(|other| own(&other)) == Some(number)
            && !bases.clone().any(|base| base == "/"))
        .then(|| Region { prefix: "".into(), inside: false, without: bases.map(open).collect() });
        for region in std::iter::once(inside).chain(outside) {
            let at = regions.iter().position(|known| *known == region).unwrap_or_else(|| {
                regions.push(region);
                regions.len() - 1
            });
            // HTTPS first: an example is best one that people would type.
            for scheme in [Scheme::Https, Scheme::Http] {
                let (host, is_any) = (host.clone(), any.contains(host));
                origins.push(Origin { scheme, host, role: *role, region: at, is_any });
            }
        }
    }
    // The canonical origin comes first of all.
    origins.sort_by_key(|origin| (origin.role != Role::Canonical, origin.scheme != site.scheme()));
    (origins, regions)
}

/// The labels below a host that some rule tells apart from others, or redirects to, and one that none
/// does, which is given for itself, too.
fn labels(programs: &[&Program], below: &str) -> (Vec<String>, String) {
    let mut labels: Vec<String> = Vec::new();
    let label_of = |host: &str| {
        host.split_once('.').filter(|(_, rest)| *rest == below).map(|(label, _)| label.to_owned())
    };
    for program in programs {
        let hosts = program.site().hosts().filter(|host| !host.starts_with("*."));
        labels.extend(hosts.filter_map(|host| label_of(&host)));
    }
    for rule in programs.iter().flat_map(|program| program.all_rules()) {
        for test in rule.tests().iter() {
            if let TestKind::Host(hosts) = test.kind() {
                labels.extend(hosts.iter().filter_map(|host| label_of(host.as_str())));
            }
        }
        let target = rule.redirect().and_then(|redirect| redirect.target().origin());
        labels.extend(target.and_then(|origin| label_of(origin.host().host().as_str())));
        let Some(origin) = rule.pattern().origin() else { continue };
        let Some(name) = origin.host().capture() else {
            labels.extend(label_of(origin.host().host().as_str()));
            continue;
        };
        for (set, _) in rule.tests().of_capture(name) {
            match set {
                TextSet::OneOf(list) => labels.extend(list.iter().map(|label| label.to_string())),
                TextSet::Digits { least, .. } => labels.push("1".repeat((*least).min(63))),
                TextSet::Matches(regex) => labels.extend(regex.shortest()),
            }
        }
    }
    labels.retain(|label| ravel::address::Host::parse(&format!("{label}.{below}")).is_ok());
    let name = |number: usize| match number {
        0 => "branch".to_owned(),
        number => format!("branch-{number}"),
    };
    // Of one name more than there are labels, one is not among them.
    let mut names = (0..=labels.len()).map(name);
    let fresh = names.find(|name| !labels.contains(name)).unwrap_or_default();
    labels.push(fresh.clone());
    labels.sort();
    labels.dedup();
    (labels, fresh)
}
