//! JAR signing (scheme v1): what old devices read, over the content of every entry.
//!
//! `MANIFEST.MF` has a digest of each entry's content, `NAME.SF` a digest of `MANIFEST.MF` and of each of its
//! sections, and the block file a detached CMS signature over `NAME.SF`. Every entry is inflated for it, a window
//! at a time, on all cores.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};

use aws_lc_rs::digest::{Algorithm, Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA384, SHA512, digest};
use ninekeys_formats::jar::manifest::{self, Section, Writer};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::{Certificate, KeyShape};
use ninekeys_formats::zip::{Archive, Entry, ZipError};
use ninekeys_formats::{cms, jar};
use rayon::prelude::*;

use super::report::{Scheme, SignatureFault, SignerReport};
use super::schemes::Schemes;
use super::signing::Identity;
use crate::digest::{sha256, sha256_hex};
use crate::env::Env;
use crate::keys::{KeyError, SignatureKind, Signer};
use crate::signed::SHA256_ID;
use crate::signed::{self, SignerFault};
use crate::stream::DigestError;

/// AlgorithmIdentifier of rsaEncryption with NULL parameters, DER.
const RSA_ID: &[u8] = b"\x30\x0d\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x01\x01\x05\x00";
/// AlgorithmIdentifier of ecdsa-with-SHA256, DER.
const ECDSA_ID: &[u8] = b"\x30\x0a\x06\x08\x2a\x86\x48\xce\x3d\x04\x03\x02";

/// The digests that the files of scheme v1 can have, strongest first: name of the attribute, algorithm.
const DIGESTS: [(&str, &Algorithm); 4] = [
    ("SHA-512-Digest", &SHA512),
    ("SHA-384-Digest", &SHA384),
    ("SHA-256-Digest", &SHA256),
    ("SHA1-Digest", &SHA1_FOR_LEGACY_USE_ONLY),
];

/// Whether scheme v1 signs an entry: all but folders and its own files.
fn is_signed(entry: &Entry) -> bool {
    !entry.is_directory() && !jar::is_signature_file(&entry.name)
}

/// An entry and the digest of its content, or why it has none.
type EntryDigest<'a> = (&'a Entry, Result<Vec<u8>, ZipError>);

/// The digest of each wanted entry's content, in the order of the entries.
fn content_digests<'a>(
    source: &dyn Source,
    wanted: &[(&'a Entry, &'static Algorithm)],
    env: &Env<'_>,
) -> Result<Vec<EntryDigest<'a>>, DigestError> {
    let total = wanted.iter().map(|(entry, _)| entry.compressed).sum();
    let done = AtomicU64::new(0);
    let digests = wanted
        .par_iter()
        .map(|(entry, algorithm)| {
            if env.stopped() {
                return Err(DigestError::Stopped);
            }
            let mut context = Context::new(algorithm);
            let content = entry.stream(source, &mut |window| {
                context.update(window);
                !env.stopped()
            });
            let so_far = done.fetch_add(entry.compressed, Ordering::Relaxed) + entry.compressed;
            env.progress.step("reading entries", so_far, total);
            match content {
                Ok(()) => Ok((*entry, Ok(context.finish().as_ref().to_vec()))),
                Err(ZipError::Read(error)) => Err(error.into()),
                Err(ZipError::Stopped) => Err(DigestError::Stopped),
                Err(error) => Ok((*entry, Err(error))),
            }
        })
        .collect();
    env.progress.over();
    digests
}

/// The three files of a v1 signature, to be put in front of the other entries.
pub(super) struct V1Files(pub(super) Vec<(String, Vec<u8>)>);

/// Why a v1 signature was not made.
pub(super) enum V1Error {
    Digest(DigestError),
    Zip(ZipError),
    Key(KeyError),
    /// The certificate or the block file cannot be encoded.
    Encoding,
}

/// Signs every entry of the archive.
pub(super) fn sign(
    source: &dyn Source,
    archive: &Archive,
    identity: Identity<'_>,
    schemes: Schemes,
    env: &Env<'_>,
) -> Result<V1Files, V1Error> {
    let wanted: Vec<_> = archive.entries.iter().filter(|e| is_signed(e)).map(|e| (e, &SHA256)).collect();
    let digests = content_digests(source, &wanted, env).map_err(V1Error::Digest)?;
    let mut by_name = BTreeMap::new();
    for (entry, digest) in digests {
        by_name.insert(entry.name_text(), digest.map_err(V1Error::Zip)?);
    }
    let creator = format!("Nine Keys {}", env!("CARGO_PKG_VERSION"));
    let mut file = Writer::new();
    file.attribute("Manifest-Version", "1.0");
    file.attribute("Created-By", &creator);
    let mut end = file.close();
    let mut sections = Vec::new();
    for (name, digest) in &by_name {
        file.attribute("Name", name);
        file.attribute("SHA-256-Digest", &base64(digest));
        let start = end;
        end = file.close();
        sections.push((name, sha256(file.since(start))));
    }
    let manifest = file.finish();
    let mut file = Writer::new();
    file.attribute("Signature-Version", "1.0");
    file.attribute("Created-By", &creator);
    file.attribute("SHA-256-Digest-Manifest", &base64(&sha256(&manifest)));
    let later = match (schemes.v2, schemes.v3) {
        (true, true) => Some("2, 3"),
        (true, false) => Some("2"),
        (false, true) => Some("3"),
        (false, false) => None,
    };
    if let Some(later) = later {
        file.attribute("X-Android-APK-Signed", later);
    }
    file.close();
    for (name, digest) in sections {
        file.attribute("Name", name);
        file.attribute("SHA-256-Digest", &base64(&digest));
        file.close();
    }
    let signature_file = file.finish();
    let (block, ending) = block_file(identity.signer, identity.certificate, &signature_file)?;
    let name = file_name(identity.alias);
    Ok(V1Files(vec![
        (jar::MANIFEST.into(), manifest),
        (format!("META-INF/{name}.SF"), signature_file),
        (format!("META-INF/{name}.{ending}"), block),
    ]))
}

/// The detached signature over a signature file, and the ending of its name.
fn block_file(
    signer: &dyn Signer,
    certificate: &[u8],
    signature_file: &[u8],
) -> Result<(Vec<u8>, &'static str), V1Error> {
    let (kind, algorithm, ending) = match signer.public().shape() {
        KeyShape::Rsa { .. } => (SignatureKind::RsaSha256, RSA_ID, "RSA"),
        _ => (SignatureKind::EcdsaSha256, ECDSA_ID, "EC"),
    };
    let parsed = Certificate::parse(certificate, &Limits::USUAL).map_err(|_| V1Error::Encoding)?;
    let signature = signer.sign(kind, signature_file).map_err(V1Error::Key)?;
    let signer = cms::NewSigner {
        issuer: &parsed.issuer_der,
        serial: &parsed.serial,
        digest: SHA256_ID,
        algorithm,
        attributes: None,
        signature: &signature,
        unsigned: &[],
    };
    let block = cms::write(None, &[certificate], &signer).map_err(|_| V1Error::Encoding)?;
    Ok((block, ending))
}

/// The name that the files of a v1 signature get from a key's alias: 1 to 8 of `A-Z 0-9 _ -`.
pub(super) fn file_name(alias: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '-' { c.to_ascii_uppercase() } else { '_' };
    let name: String = alias.chars().map(plain).take(8).collect();
    if name.is_empty() { "KEY".into() } else { name }
}

/// Verifies every v1 signature of the archive; what is wrong is added to `faults`.
pub(super) fn check(
    source: &dyn Source,
    archive: &Archive,
    limits: &Limits,
    env: &Env<'_>,
    signers: &mut Vec<SignerReport>,
) -> Result<Vec<SignatureFault>, DigestError> {
    let mut faults = Vec::new();
    // what would be inflated again and again, or to far more than the file, is malformed and said to be so already
    if !archive.is_readable_whole() {
        return Ok(vec![SignatureFault::Jar("its entries cannot all be read".into())]);
    }
    let read = |name: &str| read_file(source, archive, name, limits);
    let Some(manifest) = read(jar::MANIFEST)? else {
        return Ok(vec![SignatureFault::Jar("there is no readable MANIFEST.MF".into())]);
    };
    let sections = match manifest::parse(&manifest, limits) {
        Ok(sections) => sections,
        Err(error) => return Ok(vec![error.into()]),
    };
    if !sections.first().is_some_and(|main| main.begins_with("Manifest-Version")) {
        faults.push(SignatureFault::Jar("MANIFEST.MF does not begin with its version".into()));
    }
    let files = || archive.entries.iter().filter(|entry| jar::is_signed_manifest(&entry.name));
    if files().count() as u64 > limits.signers {
        let text = format!("it has more signature files than {}", limits.signers);
        return Ok(vec![SignatureFault::Jar(text)]);
    }
    for entry in files() {
        let name = entry.name_text();
        let Some(file) = read(&name)? else {
            faults.push(SignatureFault::Jar(format!("{name} cannot be read")));
            continue;
        };
        let stem = name.get(..name.len() - 3).unwrap_or_default();
        let mut block = None;
        for ending in ["RSA", "EC", "DSA"] {
            if block.is_none() {
                block = read(&format!("{stem}.{ending}"))?;
            }
        }
        match block {
            Some(block) => check_block(&block, &file, limits, signers, &mut faults),
            None => faults.push(SignatureFault::Jar(format!("{name} has no readable block file"))),
        }
        check_signature_file(&name, &file, &manifest, &sections, limits, &mut faults);
    }
    check_entries(source, archive, &sections, env, &mut faults)?;
    Ok(faults)
}

/// The content of the one entry of that name, without case; nothing when it is missing or damaged.
fn read_file(
    source: &dyn Source,
    archive: &Archive,
    name: &str,
    limits: &Limits,
) -> Result<Option<Vec<u8>>, DigestError> {
    let found = archive.entries.iter().find(|entry| entry.name.eq_ignore_ascii_case(name.as_bytes()));
    match found.map(|entry| archive.read(source, entry, limits)) {
        Some(Ok(content)) => Ok(Some(content)),
        Some(Err(ZipError::Read(error))) => Err(error.into()),
        _ => Ok(None),
    }
}

/// Verifies the signature of a block file over a signature file, by every signer in it.
fn check_block(
    block: &[u8],
    file: &[u8],
    limits: &Limits,
    signers: &mut Vec<SignerReport>,
    faults: &mut Vec<SignatureFault>,
) {
    let message = match cms::parse(block, limits) {
        Ok(message) => message,
        Err(error) => return faults.push(error.into()),
    };
    if message.content.as_ref().is_some_and(|content| content != file) {
        let text = "the block file holds another signature file than the one beside it";
        return faults.push(SignatureFault::Jar(text.into()));
    }
    for signer in &message.signers {
        let certificate = match signed::certificate_of(signer, &message, limits) {
            Ok(certificate) => certificate,
            Err(fault) => {
                faults.push(fault_of(fault));
                continue;
            }
        };
        faults.extend(signed::holds(signer, &certificate, file).err().map(fault_of));
        signers.push(SignerReport {
            scheme: Scheme::V1,
            certificate_fingerprint: sha256_hex(&certificate.der),
            key_fingerprint: sha256_hex(&certificate.public_key),
            content: None,
            certificate,
        });
    }
}

/// What speaks against a signer, in the words of this scheme.
fn fault_of(fault: SignerFault) -> SignatureFault {
    match fault {
        SignerFault::NoCertificate => SignatureFault::NoCertificate,
        SignerFault::PublicKey => SignatureFault::PublicKey,
        SignerFault::Unsupported { algorithm, key } => SignatureFault::UnsupportedV1(algorithm, key),
        SignerFault::OtherContent => {
            SignatureFault::Jar("the block file is over another signature file".into())
        }
        SignerFault::Wrong => SignatureFault::Jar("the signature in the block file is wrong".into()),
    }
}

/// Compares a signature file with the manifest: as a whole, and section by section.
fn check_signature_file(
    name: &str,
    file: &[u8],
    manifest: &[u8],
    sections: &[Section<'_>],
    limits: &Limits,
    faults: &mut Vec<SignatureFault>,
) {
    let signed = match manifest::parse(file, limits) {
        Ok(signed) => signed,
        Err(error) => return faults.push(error.into()),
    };
    let Some((main, entries)) = signed.split_first() else {
        return faults.push(SignatureFault::Jar(format!("{name} is empty")));
    };
    if !main.begins_with("Signature-Version") {
        faults.push(SignatureFault::Jar(format!("{name} does not begin with its version")));
    }
    if entries.iter().any(|section| !section.begins_with("Name")) {
        faults.push(SignatureFault::Jar(format!("a section of {name} does not begin with a name")));
    }
    let whole = DIGESTS
        .iter()
        .find_map(|(attribute, algorithm)| Some((main.get(&format!("{attribute}-Manifest"))?, *algorithm)));
    let agrees = |said: &str, algorithm, bytes: &[u8]| said == base64(digest(algorithm, bytes).as_ref());
    match whole {
        Some((said, algorithm)) if agrees(said, algorithm, manifest) => {}
        Some(_) => faults.push(SignatureFault::Jar(format!("MANIFEST.MF is not the one that {name} signs"))),
        None => faults.push(SignatureFault::Jar(format!("{name} has no digest of MANIFEST.MF"))),
    }
    let by_name: BTreeMap<&str, &Section<'_>> =
        entries.iter().filter_map(|section| Some((section.get("Name")?, section))).collect();
    for section in sections.iter().skip(1) {
        let Some(entry) = section.get("Name") else { continue };
        let said = by_name.get(entry).and_then(|signed| strongest(signed));
        if !said.is_some_and(|(said, algorithm)| agrees(said, algorithm, section.raw)) {
            faults.push(SignatureFault::Jar(format!("{name} does not sign the section of {entry}")));
        }
    }
}

/// The strongest digest in a section.
fn strongest<'a>(section: &'a Section<'_>) -> Option<(&'a str, &'static Algorithm)> {
    DIGESTS.iter().find_map(|(name, algorithm)| Some((section.get(name)?, *algorithm)))
}

/// Compares every entry with its section: none may be missing on either side.
fn check_entries(
    source: &dyn Source,
    archive: &Archive,
    sections: &[Section<'_>],
    env: &Env<'_>,
    faults: &mut Vec<SignatureFault>,
) -> Result<(), DigestError> {
    let mut listed: BTreeMap<&str, &Section<'_>> = BTreeMap::new();
    for section in sections.iter().skip(1) {
        let named = section.get("Name").filter(|_| section.begins_with("Name"));
        match named {
            Some(name) if listed.insert(name, section).is_none() => {}
            Some(name) => faults.push(SignatureFault::Jar(format!("MANIFEST.MF names {name} twice"))),
            None => {
                faults
                    .push(SignatureFault::Jar("a section of MANIFEST.MF does not begin with a name".into()));
            }
        }
    }
    let mut wanted = Vec::new();
    let mut said = Vec::new();
    for entry in archive.entries.iter().filter(|entry| is_signed(entry)) {
        let name = entry.name_text();
        // other files in META-INF need not be listed: no platform asks for it
        let optional = entry.name.starts_with(b"META-INF/");
        match listed.remove(name.as_str()).map(|section| strongest(section)) {
            Some(Some((digest, algorithm))) => {
                wanted.push((entry, algorithm));
                said.push(digest);
            }
            Some(None) => faults.push(SignatureFault::Jar(format!("{name} has no digest that is known"))),
            None if optional => {}
            None => faults.push(SignatureFault::Jar(format!("{name} is not signed"))),
        }
    }
    // folders hold nothing: some programs list them all the same
    for entry in archive.entries.iter().filter(|entry| entry.is_directory() && entry.size == 0) {
        if let Some(Some((digest, algorithm))) = listed.remove(entry.name_text().as_str()).map(strongest) {
            wanted.push((entry, algorithm));
            said.push(digest);
        }
    }
    for name in listed.into_keys() {
        faults.push(SignatureFault::Jar(format!("{name} is signed and not there")));
    }
    let digests = content_digests(source, &wanted, env)?;
    for ((entry, found), said) in digests.into_iter().zip(said) {
        let name = entry.name_text();
        match found {
            Ok(found) if base64(&found) == said => {}
            Ok(_) => faults.push(SignatureFault::Jar(format!("{name} was changed after it was signed"))),
            Err(error) => faults.push(SignatureFault::Jar(error.to_string())),
        }
    }
    Ok(())
}

/// Base64 with padding (RFC 4648, section 4).
fn base64(bytes: &[u8]) -> String {
    use base64ct::{Base64, Encoding};
    Base64::encode_string(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn file_names_are_short_plain_and_never_empty() {
        assert_eq!(file_name("crossing-signing"), "CROSSING");
        assert_eq!(file_name("my key"), "MY_KEY");
        assert_eq!(file_name("ä.b"), "__B");
        assert_eq!(file_name(""), "KEY");
    }
}
