//! The kinds of findings, by the names that `accept` knows them by.

use std::fmt;

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Severity {
    /// Visitors get something wrong, or a line does nothing.
    Error,
    /// It works, and could be better.
    Warning,
    /// A habit that some want to know of: shown where it is asked for.
    Note,
}

impl Severity {
    /// Every severity, the gravest first.
    pub const ALL: &[Severity] = &[Severity::Error, Severity::Warning, Severity::Note];

    /// The word for it, which is also the level of SARIF 2.1.0 (section 3.27.10).
    ///
    /// ```
    /// assert_eq!(ravel::rules::Code::RedirectLoop.severity().as_str(), "error");
    /// ```
    pub fn as_str(self) -> &'static str {
        match self {
            Severity::Error => "error",
            Severity::Warning => "warning",
            Severity::Note => "note",
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
    /// A rule that no request reaches.
    UnreachableRule "unreachable-rule" Error,
    /// A rule that says what an earlier one says.
    DuplicateRule "duplicate-rule" Error,
    /// Redirects that come back to where they began, or grow for ever.
    RedirectLoop "redirect-loop" Error,
    /// A redirect to a URL that redirects.
    RedirectChain "redirect-chain" Warning,
    /// A permanent redirect to a URL with a temporary one.
    PermanentToTemporary "permanent-to-temporary" Error,
    /// A redirect that ends in 404.
    RedirectToMissing "redirect-to-missing" Error,
    /// A redirect over an alias of the site.
    RedirectToAlias "redirect-to-alias" Warning,
    /// A redirect to plain HTTP.
    RedirectToHttp "redirect-to-http" Warning,
    /// A captured host label before a domain under which anybody can register names.
    OpenRedirect "open-redirect" Error,
    /// A rule whose path begins with the base path.
    RepeatedBasePath "repeated-base-path" Error,
    /// A redirect that happens without the rule, or to the page itself.
    NeedlessRedirect "needless-redirect" Warning,
    /// A redirect or a rewrite on the URL of a file.
    ShadowedFile "shadowed-file" Error,
    /// A capture that nothing uses.
    UnusedCapture "unused-capture" Note,
    /// A redirect of a URL whose variant with or without a trailing slash is missing.
    MissingSlashVariant "missing-slash-variant" Note,
    /// A rule names a file that is not there.
    MissingFile "missing-file" Error,
    /// A fallback for the whole site.
    CatchAllFallback "catch-all-fallback" Error,
    /// `headers` that change no answer.
    UnusedHeaders "unused-headers" Error,
    /// Two `set` lines for one header of one answer.
    HeaderSetTwice "header-set-twice" Warning,
    /// A long cache lifetime on the answer of a fallback.
    FallbackCached "fallback-cached" Error,
    /// A promise of HTTPS that rules break.
    HstsBroken "hsts-broken" Error,
    /// So many rules match one URL that answers are slow.
    SlowRules "slow-rules" Warning,
    /// A question that could not be decided.
    Undecided "undecided" Warning,
    /// An entry point that takes more redirects than it needs.
    EntryPointHops "entry-point-hops" Error,
    /// An entry point that ends on plain HTTP.
    EntryPointHttp "entry-point-http" Error,
    /// An entry point that goes from HTTPS to plain HTTP.
    EntryPointDowngrade "entry-point-downgrade" Error,
    /// An `accept` for a finding that there is not.
    UnusedAccept "unused-accept" Error,
    /// No index file at the root.
    MissingIndex "missing-index" Error,
    /// No 404 page.
    Missing404Page "missing-404-page" Warning,
    /// A folder of sources instead of built files.
    SourceFolder "source-folder" Error,
    /// Files that are not published.
    UnpublishedFile "unpublished-file" Warning,
    /// Two files that are one page by name.
    DuplicatePage "duplicate-page" Error,
    /// Names of files that are one URL.
    DuplicateUrl "duplicate-url" Error,
    /// Names that differ only in case.
    CaseVariants "case-variants" Warning,
    /// A page with a long cache lifetime.
    HtmlCached "html-cached" Error,
    /// A fingerprinted file without a long cache lifetime.
    AssetNotCached "asset-not-cached" Warning,
    /// A file whose name may change with its content, without a long cache lifetime.
    PossibleFingerprint "possible-fingerprint" Note,
    /// A security header on pages and not on the 404 page.
    HeaderNotOn404 "header-not-on-404" Warning,
    /// A reference that leads out of the base path.
    LinkOutsideBase "link-outside-base" Error,
    /// A reference to nothing.
    BrokenLink "broken-link" Error,
    /// A reference to a URL that redirects.
    LinkRedirects "link-redirects" Warning,
    /// A script or style that gets a page.
    AssetGetsHtml "asset-gets-html" Error,
    /// Content over plain HTTP on an HTTPS site.
    MixedContent "mixed-content" Error,
    /// A canonical link or a sitemap's entry that is not the canonical URL.
    CanonicalMismatch "canonical-mismatch" Error,
    /// A single-page app without a fallback.
    AppWithoutFallback "app-without-fallback" Error,
    /// A file that cannot be read.
    UnreadableFile "unreadable-file" Error,
    /// A CNAME at the name of a zone.
    CnameAtApex "cname-at-apex" Error,
    /// A CNAME with other records at its name.
    CnameConflict "cname-conflict" Error,
    /// CNAME records that lead to each other.
    CnameLoop "cname-loop" Error,
    /// A DNAME above a host.
    DnameAbove "dname-above" Error,
    /// An HTTPS or SVCB record that leads elsewhere.
    ServiceElsewhere "service-elsewhere" Error,
    /// Records of one name and type with different TTLs.
    TtlsDiffer "ttls-differ" Warning,
    /// A zone without name servers.
    NoNameServers "no-name-servers" Warning,
    /// A record in the zone's file whose name is in another zone.
    OutsideZone "outside-zone" Warning,
    /// Names of the zone that HSTS covers and the site does not serve.
    HstsCoversOthers "hsts-covers-others" Warning,
    /// `hsts … preload` without the domain itself.
    HstsPreload "hsts-preload" Warning,
    /// A domain that only visitors with IPv6 reach.
    Ipv6Only "ipv6-only" Note,
    /// Other names that still lead to the former host.
    FormerHost "former-host" Warning,
    /// A signed zone in which records must change.
    SignedZone "signed-zone" Warning,
    /// An address of a former host beside the new ones.
    StaleAddress "stale-address" Error,
    /// A record that keeps a preview host from its wildcard.
    WildcardBlocked "wildcard-blocked" Error,
    /// A host in a part of the zone that is delegated.
    HostDelegated "host-delegated" Error,
    /// CAA records under which no certificate can be issued.
    CaaForbids "caa-forbids" Error,
    /// CAA records that name the only certificate authorities that may issue.
    CaaRestricts "caa-restricts" Warning,
    /// Other name servers in the zone than the registry names.
    NameserverMismatch "nameserver-mismatch" Error,
    /// A long TTL on a record that is about to change.
    LongTtl "long-ttl" Warning,
    /// Records that are to be added, changed or removed.
    PendingRecords "pending-records" Warning,
    /// A host that the certificate does not name.
    CertificateHostMismatch "certificate-host-mismatch" Error,
    /// A certificate that has expired or is not yet valid.
    CertificateValidity "certificate-validity" Error,
    /// A certificate that expires soon.
    CertificateExpires "certificate-expires" Warning,
    /// A certificate chain in the wrong order.
    CertificateChainOrder "certificate-chain-order" Error,
    /// A certificate chain that cannot be verified.
    CertificateChainBroken "certificate-chain-broken" Error,
    /// A certificate of no authority that is trusted.
    CertificateUntrusted "certificate-untrusted" Error,
    /// A file with more in it than certificates.
    CertificateFile "certificate-file" Warning,
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl Code {
    /// What a finding is called now that had this name in earlier versions.
    ///
    /// ```
    /// use ravel::rules::Code;
    ///
    /// assert_eq!(Code::renamed("never-acts"), Some(Code::UnreachableRule));
    /// assert_eq!(Code::renamed("unreachable-rule"), None);
    /// ```
    pub fn renamed(name: &str) -> Option<Code> {
        RENAMED.iter().find(|(earlier, _)| *earlier == name).map(|(_, code)| *code)
    }
}

/// Earlier names.
const RENAMED: &[(&str, Code)] = &[
    ("never-acts", Code::UnreachableRule),
    ("same-rule", Code::DuplicateRule),
    ("circle", Code::RedirectLoop),
    ("chain", Code::RedirectChain),
    ("ends-missing", Code::RedirectToMissing),
    ("through-alias", Code::RedirectToAlias),
    ("plain-target", Code::RedirectToHttp),
    ("hides-file", Code::ShadowedFile),
    ("one-slash-form", Code::MissingSlashVariant),
    ("no-such-file", Code::MissingFile),
    ("fallback-everywhere", Code::CatchAllFallback),
    ("headers-never", Code::UnusedHeaders),
    ("set-twice", Code::HeaderSetTwice),
    ("long-life-fallback", Code::FallbackCached),
    ("many-rules-asked", Code::SlowRules),
    ("not-decided", Code::Undecided),
    ("way-in-hops", Code::EntryPointHops),
    ("way-in-plain", Code::EntryPointHttp),
    ("way-in-back", Code::EntryPointDowngrade),
    ("nothing-accepted", Code::UnusedAccept),
    ("no-index", Code::MissingIndex),
    ("no-missing-page", Code::Missing404Page),
    ("sources", Code::SourceFolder),
    ("left-out", Code::UnpublishedFile),
    ("two-addresses", Code::DuplicatePage),
    ("same-url", Code::DuplicateUrl),
    ("case-only", Code::CaseVariants),
    ("page-kept", Code::HtmlCached),
    ("asset-not-kept", Code::AssetNotCached),
    ("missing-lacks-header", Code::HeaderNotOn404),
    ("outside-base", Code::LinkOutsideBase),
    ("gets-page", Code::AssetGetsHtml),
    ("plain-content", Code::MixedContent),
    ("not-canonical", Code::CanonicalMismatch),
    ("unreadable", Code::UnreadableFile),
    ("cname-beside-others", Code::CnameConflict),
    ("address-left-over", Code::StaleAddress),
    ("hides-wildcard", Code::WildcardBlocked),
    ("caa-names", Code::CaaRestricts),
    ("nameservers-differ", Code::NameserverMismatch),
    ("long-life", Code::LongTtl),
    ("records-to-do", Code::PendingRecords),
    ("certificate-lacks-host", Code::CertificateHostMismatch),
    ("certificate-dates", Code::CertificateValidity),
    ("certificate-chain", Code::CertificateChainOrder),
];

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
