//! Any bytes as a certificate: they are read, or it is said why not; whatever the chain is, something can be
//! said of it.

#![no_main]

use libfuzzer_sys::fuzz_target;
use ravel_dns::{Certificate, Moment, Roots};

fuzz_target!(|bytes: &[u8]| {
    match Certificate::read(bytes) {
        Ok(certificate) => {
            assert!(certificate.hosts().len() < bytes.len());
            let now = Moment::from_unix(1_800_000_000);
            let roots = Roots::read(bytes).expect("it has a certificate");
            let _ =
                (certificate.chain_fault(None, now), certificate.chain_fault(Some(&roots), now));
        }
        Err(why) => assert!(!why.to_string().is_empty()),
    }
});
