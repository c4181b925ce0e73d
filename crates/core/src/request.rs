//! Requests for certificates (PKCS#10): made with a key, and shown to be made with it.

use der::Encode;
use der::asn1::Any;
use ninekeys_formats::request::{self, Request};
use spki::AlgorithmIdentifierOwned;

use crate::certificate::{CertificateError, Subject};
use crate::keys::{PrivateKey, PublicKey, SignatureKind, Signer, verify};

/// Makes a request for a certificate over that key, in DER. It asks for no extensions: what a certificate is good for is
/// said by who issues it.
///
/// # Errors
/// [`CertificateError`] when the subject cannot be written or the key refuses.
pub fn make(key: &PrivateKey, subject: &Subject) -> Result<Vec<u8>, CertificateError> {
    let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
    let name = subject.to_name()?.to_der().map_err(encoding)?;
    let info = request::info(&name, key.public().as_der()).map_err(encoding)?;
    let kind = key.certificate_kind();
    let algorithm = algorithm_id(kind)?;
    let signature = key.sign(kind, &info)?;
    request::write(&info, &algorithm, &signature).map_err(encoding)
}

/// The AlgorithmIdentifier of a way to sign, in DER: RSA's has NULL for parameters, ECDSA's has none.
///
/// # Errors
/// [`CertificateError::Encoding`] for a way that no one identifier names.
pub(crate) fn algorithm_id(kind: SignatureKind) -> Result<Vec<u8>, CertificateError> {
    let oid = kind.oid().ok_or_else(|| CertificateError::Encoding(kind.to_string()))?;
    let parameters = kind.is_rsa().then(Any::null);
    let written = AlgorithmIdentifierOwned { oid, parameters }.to_der();
    written.map_err(|error| CertificateError::Encoding(error.to_string()))
}

/// Whether a request is signed with the key that it is for; nothing for algorithms that cannot be verified.
pub fn holds(request: &Request) -> Option<bool> {
    let kind = SignatureKind::named(&request.signature_algorithm)?;
    let key = PublicKey::from_der(&request.public_key).ok()?;
    verify(&key, kind, &request.info, &request.signature)
}
