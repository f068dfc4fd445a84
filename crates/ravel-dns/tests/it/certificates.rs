//! Certificates, judged as OpenSSL judges them at one moment.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

use ravel::Rules;
use ravel::rules::Code;
use ravel_dns::{Certificate, CertificateCheck, Moment, Roots, certificate_findings};
use rcgen::{
    BasicConstraints, CertificateParams, CertifiedIssuer, DnType, ExtendedKeyUsagePurpose,
    GeneralSubtree, IsCa, KeyPair, KeyUsagePurpose, NameConstraints,
};

const HOST: &str = "www.harbour.example";
const NOW: &str = "2027-01-15T12:00:00Z";

fn judged(pem: &str, roots: Option<&str>) -> Vec<(Code, String)> {
    let rules = Rules::parse(&format!(
        "site https://{HOST}/\ndomain harbour.example\n  host site.host.example\n  certificate site.pem\n"
    ))
    .unwrap();
    let certificate = Certificate::read(pem.as_bytes()).unwrap();
    let roots = roots.map(|pem| Roots::read(pem.as_bytes()).unwrap());
    let mut check = CertificateCheck::at(NOW.parse().unwrap());
    if let Some(roots) = &roots {
        check = check.with_roots(roots);
    }
    let found = certificate_findings(rules.site(), &rules.domains()[0], &certificate, &check);
    found.iter().map(|finding| (finding.code(), finding.message().to_owned())).collect()
}

type Issuer = CertifiedIssuer<'static, KeyPair>;

fn authority(name: &str, by: Option<&Issuer>, more: impl FnOnce(&mut CertificateParams)) -> Issuer {
    let mut params = CertificateParams::new(Vec::new()).unwrap();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    params.use_authority_key_identifier_extension = true;
    params.distinguished_name.push(DnType::CommonName, name);
    more(&mut params);
    let key = KeyPair::generate().unwrap();
    match by {
        Some(by) => CertifiedIssuer::signed_by(params, key, by).unwrap(),
        None => CertifiedIssuer::self_signed(params, key).unwrap(),
    }
}

/// The site's certificates: sound, and in every way that one can be wrong.
fn leaves() -> Vec<(&'static str, CertificateParams)> {
    let leaf = |names: &[&str], more: &dyn Fn(&mut CertificateParams)| {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        let mut params = CertificateParams::new(names).unwrap();
        params.use_authority_key_identifier_extension = true;
        params.distinguished_name = rcgen::DistinguishedName::new();
        params.distinguished_name.push(DnType::CommonName, "a site");
        params.not_before = rcgen::date_time_ymd(2026, 12, 1);
        params.not_after = rcgen::date_time_ymd(2027, 6, 1);
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        more(&mut params);
        params
    };
    vec![
        ("sound", leaf(&[HOST, "harbour.example"], &|_| {})),
        ("any use", leaf(&[HOST], &|params| params.extended_key_usages.clear())),
        ("wildcard", leaf(&["*.harbour.example"], &|_| {})),
        ("wildcard of two labels", leaf(&["*.example"], &|_| {})),
        ("capitals", leaf(&["WWW.Harbour.Example"], &|_| {})),
        ("another host", leaf(&["harbour.example"], &|_| {})),
        (
            "name in the subject",
            leaf(&[], &|params| {
                params.distinguished_name = rcgen::DistinguishedName::new();
                params.distinguished_name.push(DnType::CommonName, HOST);
            }),
        ),
        ("expired", leaf(&[HOST], &|params| params.not_after = rcgen::date_time_ymd(2027, 1, 15))),
        ("not yet", leaf(&[HOST], &|params| params.not_before = rcgen::date_time_ymd(2027, 2, 1))),
        (
            "for clients",
            leaf(&[HOST], &|params| {
                params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth]
            }),
        ),
        (
            "an authority",
            leaf(&[HOST], &|params| params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained)),
        ),
    ]
}

/// The certificates after the site's, and who signs that.
fn chains(root: &Issuer) -> Vec<(&'static str, Issuer, Vec<String>)> {
    let own = |name| authority(name, Some(root), |_| {});
    let of = |what, issuer: Issuer, more: &[String]| {
        let mut after = vec![issuer.as_ref().pem()];
        after.extend_from_slice(more);
        (what, issuer, after)
    };
    let stranger = authority("Foreign Root", None, |_| {});
    let (upper, above) = (
        own("Upper"),
        authority("Short Upper", Some(root), |params| {
            params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        }),
    );
    let namesake = own("Namesake");
    vec![
        of("one", own("Quay Authority"), &[]),
        of("one and the root", own("Quay Authority"), &[root.as_ref().pem()]),
        of("two", authority("Lower", Some(&upper), |_| {}), &[upper.as_ref().pem()]),
        of("too many", authority("Lower", Some(&above), |_| {}), &[above.as_ref().pem()]),
        of("no authority", authority("Plain", Some(root), |params| params.is_ca = IsCa::NoCa), &[]),
        of(
            "no signer",
            authority("Mute", Some(root), |params| {
                params.key_usages = vec![KeyUsagePurpose::CrlSign]
            }),
            &[],
        ),
        of(
            "old authority",
            authority("Old", Some(root), |params| {
                params.not_after = rcgen::date_time_ymd(2026, 12, 31)
            }),
            &[],
        ),
        of(
            "other names",
            authority("Narrow", Some(root), |params| {
                params.name_constraints = Some(NameConstraints {
                    permitted_subtrees: vec![GeneralSubtree::DnsName("other.example".into())],
                    excluded_subtrees: Vec::new(),
                })
            }),
            &[],
        ),
        of(
            "unknown root",
            authority("Far Authority", Some(&stranger), |_| {}),
            &[stranger.as_ref().pem()],
        ),
        of("superfluous", own("Quay Authority"), &[own("Another").as_ref().pem()]),
        ("alone", own("Quay Authority"), Vec::new()),
        ("another key", own("Namesake"), vec![namesake.as_ref().pem()]),
    ]
}

fn openssl(folder: &Path, arguments: &[&str]) -> (bool, String) {
    let run = Command::new("openssl").args(arguments).current_dir(folder).output().unwrap();
    let said = [run.stdout, run.stderr].concat();
    (run.status.success(), String::from_utf8_lossy(&said).into_owned())
}

/// Judged otherwise on purpose: the common name names no host (RFC 9525, section 2.2), and what
/// comes after the chain is a finding.
#[test]
#[ignore = "needs openssl"]
fn certificates_are_judged_as_openssl_judges_them() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    let root = authority("Harbour Root", None, |_| {});
    write("root.pem", &root.as_ref().pem());
    let seconds = NOW.parse::<Moment>().unwrap().unix().to_string();
    let mut counts: BTreeMap<(bool, bool), usize> = BTreeMap::new();
    for (chain, issuer, after) in chains(&root) {
        for (leaf, params) in leaves() {
            let own = params.signed_by(&KeyPair::generate().unwrap(), &issuer).unwrap();
            let pem = own.pem() + &after.concat();
            write("site.pem", &pem);
            let verify = [
                "verify",
                "-attime",
                &seconds,
                "-purpose",
                "sslserver",
                "-x509_strict",
                "-CAfile",
                "root.pem",
                "-untrusted",
                "site.pem",
                "site.pem",
            ];
            let (verified, said) = openssl(folder.path(), &verify);
            let check = ["x509", "-in", "site.pem", "-noout", "-checkhost", HOST];
            let named = openssl(folder.path(), &check).1.contains("does match");
            let found = judged(&pem, Some(&root.as_ref().pem()));
            let is = |code| found.iter().any(|(found, _)| *found == code);
            let names = !is(Code::CertificateHostMismatch);
            let sound = ![
                Code::CertificateValidity,
                Code::CertificateChainOrder,
                Code::CertificateChainBroken,
                Code::CertificateUntrusted,
            ]
            .into_iter()
            .any(is);
            let what = format!("{leaf}, {chain}: {said}\n{found:?}");
            assert_eq!(named == names, leaf != "name in the subject", "{what}");
            match (leaf, chain) {
                (_, "superfluous") => assert!(!sound, "{what}"),
                // Constraints are about host names, too.
                ("name in the subject", "other names") => assert!(sound && !verified, "{what}"),
                _ => assert_eq!(verified, sound, "{what}"),
            }
            *counts.entry((sound, names)).or_default() += 1;
        }
    }
    println!("{counts:?}");
    assert!(counts.values().sum::<usize>() >= 50 && counts.len() == 4, "{counts:?}");
}

#[test]
fn what_is_wrong_with_a_chain_is_said() {
    let root = authority("Harbour Root", None, |_| {});
    let roots = root.as_ref().pem();
    let chains = chains(&root);
    let file = |chain: &str, leaf: &str| {
        let (_, issuer, after) = chains.iter().find(|(name, ..)| *name == chain).unwrap();
        let (_, params) = leaves().into_iter().find(|(name, _)| *name == leaf).unwrap();
        params.signed_by(&KeyPair::generate().unwrap(), issuer).unwrap().pem() + &after.concat()
    };
    let key = KeyPair::generate().unwrap();
    let alone = leaves().remove(0).1.self_signed(&key).unwrap().pem();
    // As tools make one for a trial.
    let trial = leaves().into_iter().find(|(name, _)| *name == "an authority").unwrap().1;
    let trial = trial.self_signed(&key).unwrap().pem();
    let sound = file("one", "sound");
    for (pem, trusted, wanted) in [
        (sound.clone(), true, ""),
        (sound.clone(), false, ""),
        (file("alone", "sound"), true, "stands alone"),
        (file("alone", "sound"), false, "stands alone"),
        (
            file("no authority", "sound"),
            false,
            "certificate 2 of the chain, `CN=Plain`, may not issue",
        ),
        (file("unknown root", "sound"), true, "ends at `CN=Foreign Root`"),
        (file("unknown root", "sound"), false, ""),
        (file("superfluous", "sound"), false, "certificate 3 of the chain is `CN=Another`"),
        (file("one", "an authority"), false, "that of an authority"),
        (file("one", "for clients"), false, "not for web servers"),
        (file("too many", "sound"), true, "more authorities follow each other"),
        (file("other names", "sound"), true, "may not issue for these names"),
        (trial.clone(), false, "self-signed"),
        (trial, true, "self-signed"),
        (alone.clone(), false, "self-signed"),
        (alone, true, "self-signed"),
        (format!("{}{sound}", key.serialize_pem()), true, "a block `PRIVATE KEY`"),
        (format!("\u{feff}{sound}"), true, "a byte order mark"),
    ] {
        let found = judged(&pem, trusted.then_some(&*roots));
        match wanted {
            "" => assert!(found.is_empty(), "{found:?}"),
            wanted => {
                assert!(found.len() == 1 && found[0].1.contains(wanted), "{wanted}: {found:?}");
            }
        }
    }
}
