//! What the local authority is held to.

use super::*;

fn rules() -> Rules {
    Rules::parse("site https://www.harbour.example/\n  alias harbour.example, 192.0.2.7\n  preview *.p.example\n")
        .unwrap()
}

#[test]
fn a_certificate_names_its_host_and_ends_soon() {
    let folder = tempfile::TempDir::new().unwrap();
    let authority = Authority::in_folder(folder.path(), &rules()).unwrap();
    for host in ["www.harbour.example", "localhost"] {
        let (key, ends) = authority.certify(host).unwrap();
        let read = |der: &CertificateDer<'_>| {
            let text = pem::encode(&pem::Pem::new("CERTIFICATE", der.to_vec()));
            Certificate::read(text.as_bytes()).unwrap()
        };
        let certificate = read(&key.cert[0]);
        let days = (ends - OffsetDateTime::now_utc()).whole_days();
        assert_eq!((days, key.cert.len()), (29, 2), "{host}");
        assert_eq!(certificate.hosts(), [host]);
        let issuer = read(&key.cert[1]);
        assert!(issuer.is_authority() && certificate.issuer() == issuer.subject());
        assert!(issuer.permitted().is_some() && !certificate.is_authority());
        // Its name constraints, `2.5.29.30`, are critical.
        let critical = [6, 3, 0x55, 0x1d, 0x1e, 1, 1, 0xff];
        assert!(key.cert[1].windows(critical.len()).any(|bytes| bytes == critical));
    }
}

/// Damages what is kept, and says why it is made anew.
#[test]
fn what_cannot_be_used_is_made_anew() {
    type Damage = fn(&Path);
    let other = |folder: &Path| {
        let rules = Rules::parse("site https://www.harbour.example/\n").unwrap();
        let beside = tempfile::TempDir::new().unwrap();
        let authority = Authority::in_folder(beside.path(), &rules).unwrap();
        for name in [CERTIFICATE_FILE, KEY_FILE] {
            fs::copy(authority.path().with_file_name(name), folder.join(name)).unwrap();
        }
    };
    let cases: [(Damage, Option<&str>); 6] = [
        (|_| {}, None),
        (
            |folder| fs::remove_file(folder.join(KEY_FILE)).unwrap(),
            Some("its files could not be read"),
        ),
        (
            |folder| fs::write(folder.join(CERTIFICATE_FILE), "x").unwrap(),
            Some("its files could not be read"),
        ),
        (
            |folder| {
                fs::write(folder.join(KEY_FILE), KeyPair::generate().unwrap().serialize_pem())
                    .unwrap()
            },
            Some("its key was not that of its certificate"),
        ),
        (
            |folder| {
                let (mut params, key) =
                    (authority_params(&rules()).unwrap(), KeyPair::generate().unwrap());
                params.not_after = OffsetDateTime::now_utc() + Duration::days(80);
                fs::write(folder.join(CERTIFICATE_FILE), params.self_signed(&key).unwrap().pem())
                    .unwrap();
                fs::write(folder.join(KEY_FILE), key.serialize_pem()).unwrap();
            },
            Some("its end was near"),
        ),
        (other, Some("it was not for all hosts of the site")),
    ];
    for (damage, why) in cases {
        let folder = tempfile::TempDir::new().unwrap();
        let first = Authority::in_folder(folder.path(), &rules()).unwrap();
        damage(first.path().parent().unwrap());
        let second = Authority::in_folder(folder.path(), &rules()).unwrap();
        assert_eq!(second.replaced(), why);
        assert_eq!(second.certificate == first.certificate, why.is_none());
        assert!(
            Authority::in_folder(folder.path(), &rules()).unwrap().certificate
                == second.certificate
        );
    }
}

/// Who reads a file of the folder finds it at every moment, the old one or the new.
#[cfg(target_os = "linux")]
#[test]
fn a_folder_that_is_replaced_is_never_missing() {
    let folder = tempfile::TempDir::new().unwrap();
    let (place, made) = (folder.path().join("place"), folder.path().join("made"));
    let fill = |folder: &Path, text: &str| {
        fs::create_dir(folder).unwrap();
        fs::write(folder.join("file"), text).unwrap();
    };
    fill(&place, "0");
    std::thread::scope(|scope| {
        let reader = scope.spawn(|| {
            let mut last = 0;
            while last < 300 {
                let number = fs::read_to_string(place.join("file")).unwrap().parse().unwrap();
                assert!(number >= last);
                last = number;
            }
        });
        for number in 1..=300 {
            fill(&made, &number.to_string());
            put_in_place(&made, &place).unwrap();
            assert!(!made.exists());
        }
        reader.join().unwrap();
    });
}
