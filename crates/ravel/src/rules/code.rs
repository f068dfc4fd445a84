//! The kinds of findings, by the names that `accept` knows them by.

use std::fmt;

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Severity {
    /// Visitors get something wrong, or a line does nothing.
    Problem,
    /// It works, and could be better.
    Advice,
}

impl Severity {
    /// The word for it.
    ///
    /// ```
    /// assert_eq!(ravel::rules::Code::Circle.severity().as_str(), "problem");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            Severity::Problem => "problem",
            Severity::Advice => "advice",
        }
    }
}

macro_rules! codes {
    ($($(#[$doc:meta])* $code:ident $name:literal $weight:ident,)*) => {
        /// A kind of finding.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        #[non_exhaustive]
        pub enum Code {
            $($(#[$doc])* $code,)*
        }

        impl Code {
            /// Every kind.
            pub const ALL: &[Code] = &[$(Code::$code,)*];

            /// The name that `accept` and `--why` know it by.
            pub fn name(self) -> &'static str {
                match self { $(Code::$code => $name,)* }
            }

            /// How much it matters.
            pub fn severity(self) -> Severity {
                match self { $(Code::$code => Severity::$weight,)* }
            }
        }
    };
}

codes! {
    /// A rule that acts on no request.
    NeverActs "never-acts" Problem,
    /// A rule that says what an earlier one says.
    SameRule "same-rule" Problem,
    /// Redirects without an end.
    Circle "circle" Problem,
    /// A redirect to an address that redirects.
    Chain "chain" Advice,
    /// A permanent redirect to an address that only redirects for now.
    PermanentToTemporary "permanent-to-temporary" Problem,
    /// A redirect that ends in 404.
    EndsMissing "ends-missing" Problem,
    /// A redirect over an alias of the site.
    ThroughAlias "through-alias" Advice,
    /// A redirect to plain HTTP.
    PlainTarget "plain-target" Advice,
    /// A captured host label before a domain under which anybody can register names.
    OpenRedirect "open-redirect" Problem,
    /// A redirect or a rewrite on the address of a file.
    HidesFile "hides-file" Problem,
    /// A capture that nothing uses.
    UnusedCapture "unused-capture" Advice,
    /// A redirect of one form of an address that leaves the other missing.
    OneSlashForm "one-slash-form" Advice,
    /// A rule names a file that is not there.
    NoSuchFile "no-such-file" Problem,
    /// A fallback for the whole site.
    FallbackEverywhere "fallback-everywhere" Problem,
    /// `headers` that change no answer.
    HeadersNever "headers-never" Problem,
    /// Two `set` lines for one field that both act.
    SetTwice "set-twice" Advice,
    /// A long life on the answer of a fallback.
    LongLifeFallback "long-life-fallback" Problem,
    /// A promise of HTTPS that rules break.
    HstsBroken "hsts-broken" Problem,
    /// More rules than are asked quickly match one URL.
    ManyRulesAsked "many-rules-asked" Advice,
    /// A question that was given up.
    NotDecided "not-decided" Advice,
    /// An entry point that takes more redirects than it needs.
    WayInHops "way-in-hops" Problem,
    /// An entry point that ends on plain HTTP.
    WayInPlain "way-in-plain" Problem,
    /// An entry point that goes from HTTPS to plain HTTP.
    WayInBack "way-in-back" Problem,
    /// An `accept` that keeps nothing quiet.
    NothingAccepted "nothing-accepted" Problem,
    /// No index file at the root.
    NoIndex "no-index" Problem,
    /// No missing page.
    NoMissingPage "no-missing-page" Advice,
    /// A folder of sources instead of built files.
    Sources "sources" Problem,
    /// Files that are not published.
    LeftOut "left-out" Advice,
    /// A page with two addresses.
    TwoAddresses "two-addresses" Problem,
    /// Names of files that are one in URLs.
    SameUrl "same-url" Problem,
    /// Names that differ only in case.
    CaseOnly "case-only" Advice,
    /// A page kept too long.
    PageKept "page-kept" Problem,
    /// A fingerprinted file that is asked for again and again.
    AssetNotKept "asset-not-kept" Advice,
    /// A security header on pages and not on the missing page.
    MissingLacksHeader "missing-lacks-header" Advice,
    /// A reference that leads out of the base path.
    OutsideBase "outside-base" Problem,
    /// A reference to nothing.
    BrokenLink "broken-link" Problem,
    /// A reference to an address that redirects.
    LinkRedirects "link-redirects" Advice,
    /// A script or style that gets a page.
    GetsPage "gets-page" Problem,
    /// Content over plain HTTP on an HTTPS site.
    PlainContent "plain-content" Problem,
    /// A canonical link or a sitemap's entry that is not the page's address.
    NotCanonical "not-canonical" Problem,
    /// An app shell that no fallback shows.
    AppWithoutFallback "app-without-fallback" Problem,
    /// A file that cannot be read.
    Unreadable "unreadable" Problem,
    /// A CNAME at the name of a zone.
    CnameAtApex "cname-at-apex" Problem,
    /// A CNAME with other records at its name.
    CnameBesideOthers "cname-beside-others" Problem,
    /// An address of a former host beside the new ones.
    AddressLeftOver "address-left-over" Problem,
    /// A record of its own that keeps a preview host from its wildcard.
    HidesWildcard "hides-wildcard" Problem,
    /// A host in a part of the zone that is delegated.
    HostDelegated "host-delegated" Problem,
    /// CAA records under which no certificate can be issued.
    CaaForbids "caa-forbids" Problem,
    /// CAA records that name the only authorities that may issue.
    CaaNames "caa-names" Advice,
    /// Other name servers in the zone than the registry names.
    NameserversDiffer "nameservers-differ" Problem,
    /// A long life on a record that is about to change.
    LongLife "long-life" Advice,
    /// Records that are to be added, changed or removed.
    RecordsToDo "records-to-do" Advice,
    /// A host that the certificate does not name.
    CertificateLacksHost "certificate-lacks-host" Problem,
    /// A certificate that has expired or is not yet valid.
    CertificateDates "certificate-dates" Problem,
    /// A certificate chain in the wrong order.
    CertificateChain "certificate-chain" Problem,
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl std::str::FromStr for Code {
    type Err = UnknownCode;

    fn from_str(name: &str) -> Result<Code, UnknownCode> {
        Code::ALL.iter().copied().find(|code| code.name() == name).ok_or(UnknownCode(()))
    }
}

/// A name that no finding has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UnknownCode(());

impl fmt::Display for UnknownCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("no finding has this name")
    }
}

impl std::error::Error for UnknownCode {}
