//! The blocks of a file in PEM (RFC 7468).

use pem::Pem;

use super::CertificateError;

/// All blocks, in their order. One that is not closed is an error, not the end.
pub(super) fn blocks(text: &[u8]) -> Result<Vec<Pem>, CertificateError> {
    let blocks = pem::parse_many(text).map_err(|_| CertificateError::Pem)?;
    let begun = text.split(|byte| *byte == b'\n').filter(|line| line.starts_with(b"-----BEGIN "));
    match begun.count() == blocks.len() {
        true => Ok(blocks),
        false => Err(CertificateError::Pem),
    }
}
