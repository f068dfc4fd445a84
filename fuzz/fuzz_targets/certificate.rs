//! Any bytes as a certificate: they are read, or it is said why not.

#![no_main]

use libfuzzer_sys::fuzz_target;
use ravel_dns::Certificate;

fuzz_target!(|bytes: &[u8]| {
    match Certificate::read(bytes) {
        Ok(certificate) => assert!(certificate.hosts().len() < bytes.len()),
        Err(why) => assert!(!why.to_string().is_empty()),
    }
});
