//! One function a parser, shared by the property tests and the fuzz targets: whatever comes in, it returns.

use crate::code_resources::{CodeResources, Ruling};
use crate::code_signature::{self, CodeDirectory, CodeSignature};
use crate::info_plist::{Changes, InfoPlist};
use crate::keystore::{self, jks, pkcs12};
use crate::limits::Limits;
use crate::macho::{self, Slice};
use crate::manifest::{Manifest, Numbers};
use crate::signing_block::{lineage, signer};
use crate::source::Source;
use crate::zip::{Archive, Zip64};
use crate::{
    arsc, axml, ber, cms, crl, ecdsa, entitlements, envelope, idsig, jar, manifest, ocsp, pem, plist,
    profile, protoxml, request, requirement, signing_block, timestamp, x509,
};

/// Opens any bytes as an archive and reads every entry.
pub fn zip(data: &[u8]) {
    let Ok(archive) = Archive::open(&data, Zip64::Read, &Limits::SMALL) else { return };
    for entry in &archive.entries {
        let _ = archive.read(&data, entry, &Limits::SMALL);
    }
}

/// Reads any bytes as a signing block, its signers, or a lineage.
pub fn v2(data: &[u8]) {
    let _ = signer::parse_v2(data, &Limits::SMALL);
    let _ = signer::parse_v3(data, &Limits::SMALL);
    let _ = lineage::parse(data, &Limits::SMALL);
    let _ = signing_block::locate(&data, data.len() as u64, &Limits::SMALL);
}

/// Reads any bytes as a manifest in binary form.
pub fn manifest(data: &[u8]) {
    let _ = axml::parse(data, &Limits::SMALL);
    let Ok(before) = Manifest::parse(data, &Limits::SMALL) else { return };
    renumber(data, false, &before);
}

/// Sets the numbers of a manifest, and looks whether they are what it says then, and nothing else is different.
fn renumber(data: &[u8], is_bundles: bool, before: &Manifest) {
    let numbers = Numbers { code: Some(4_711), name: Some("2.5.0-rc1".into()) };
    let Ok(done) = manifest::renumber(data, is_bundles, &numbers, &Limits::SMALL) else { return };
    let after = match is_bundles {
        true => Manifest::parse_protobuf(&done.bytes, &Limits::USUAL),
        false => Manifest::parse(&done.bytes, &Limits::USUAL),
    };
    let after = after.map(|after| (after.package, after.min_sdk, after.permissions));
    let same = (before.package.clone(), before.min_sdk.clone(), before.permissions.clone());
    assert_eq!(after, Ok(same), "what is set changes nothing else");
}

/// Reads any bytes as a manifest in protobuf form.
pub fn protobuf(data: &[u8]) {
    let _ = protoxml::parse(data, &Limits::SMALL);
    let Ok(before) = Manifest::parse_protobuf(data, &Limits::SMALL) else { return };
    renumber(data, true, &before);
}

/// Reads any bytes as a keystore, and as what stands inside one.
pub fn keystore(data: &[u8]) {
    let _ = keystore::recognise(data);
    let _ = jks::parse(data, &Limits::SMALL);
    let _ = pkcs12::bags(data, &Limits::SMALL);
    let Ok(pfx) = pkcs12::parse(data, &Limits::SMALL) else { return };
    for safe in pkcs12::safes(&pfx.contents, &Limits::SMALL).unwrap_or_default() {
        if let pkcs12::Safe::Plain(contents) = safe {
            let _ = pkcs12::bags(&contents, &Limits::SMALL);
        }
    }
}

/// Reads any bytes as a list of revoked certificates, and as a question and an answer about single ones.
pub fn revocation(data: &[u8]) {
    let _ = crl::RevocationList::parse(data, &Limits::SMALL);
    let _ = ocsp::Question::parse(data, &Limits::SMALL);
    let _ = ocsp::Reply::parse(data, &Limits::SMALL);
}

/// Reads any bytes as a question for a timestamp, an answer, a stamp, and a message with one in it.
pub fn timestamp(data: &[u8]) {
    let _ = timestamp::Question::parse(data);
    let _ = timestamp::Stamp::parse(data);
    if let Ok(timestamp::Answer::Granted(token)) = timestamp::read_answer(data) {
        timestamp(&token);
    }
    let Ok(message) = cms::parse_of(timestamp::STAMP, data, &Limits::SMALL) else { return };
    let _ = message.content.as_deref().map(timestamp::Stamp::parse);
    for attributes in message.signers.iter().filter_map(|signer| signer.attributes.as_ref()) {
        let _ = timestamp::signing_certificate(attributes, &Limits::SMALL);
    }
}

/// Reads any bytes as what lies in a bundle: its property list, its seal, entitlements in DER; and asks the rules of a seal.
pub fn bundle(data: &[u8]) {
    if let Ok(info) = InfoPlist::parse(data, &Limits::SMALL) {
        let changes = Changes { build: Some("42".into()), ..Changes::default() };
        if let Ok(changed) = changes.apply(data, true, &Limits::SMALL) {
            let again = InfoPlist::parse(&changed, &Limits::USUAL).map(|again| again.id);
            assert_eq!(again, Ok(info.id), "what is set changes nothing else");
        }
    }
    if let Ok(seal) = CodeResources::parse(data, &Limits::SMALL) {
        for list in [seal.old, seal.new].into_iter().flatten() {
            let _ = list.files.keys().filter(|path| list.rules.of(path) == Ruling::Sealed).count();
        }
    }
    if let Ok(all) = entitlements::parse_der(data, &Limits::SMALL) {
        assert_eq!(entitlements::to_der(&all).as_deref(), Ok(data), "DER has one form");
    }
}

/// Reads any bytes as an executable, its slices and their signatures, and as a signature alone.
pub fn executable(data: &[u8]) {
    let signature = |bytes: &[u8]| {
        let Ok(signature) = CodeSignature::parse(bytes) else { return };
        for blob in signature.directories() {
            if let Ok(directory) = CodeDirectory::parse(blob) {
                let _ = (directory.pages().count(), directory.special(code_signature::INFO_PLIST));
            }
        }
        if let Some(blob) = signature.find(code_signature::REQUIREMENTS) {
            let _ =
                requirement::designated(blob.bytes, &Limits::SMALL).map(|all| all.map(|one| one.to_string()));
        }
        if let Some(blob) = signature.find(code_signature::ENTITLEMENTS) {
            let _ = entitlements::parse(blob.body(), &Limits::SMALL);
        }
    };
    signature(data);
    let _ = requirement::designated(data, &Limits::SMALL);
    let _ = code_signature::short_hashes(data, &Limits::SMALL);
    let _ = macho::recognise(data);
    for at in macho::slices(&data).unwrap_or_default() {
        let Ok(slice) = Slice::read(&data, &at, &Limits::SMALL) else { continue };
        let _ = (slice.misplaced(), slice.room());
        let range = slice.signature.map(|range| at.range.start + range.start..at.range.start + range.end);
        if let Some(bytes) = range.and_then(|range| data.bytes(range, Limits::SMALL.block).ok()) {
            signature(&bytes);
        }
    }
}

/// Brings any bytes into definite lengths: what comes out stays as it is the second time.
///
/// # Panics
/// When it does not.
pub fn definite(data: &[u8]) {
    let Ok(der) = ber::to_definite(data, &Limits::SMALL) else { return };
    assert_eq!(ber::to_definite(&der, &Limits::SMALL), Ok(der.clone()), "definite once, definite for good");
}

/// Reads any bytes as the file of scheme v4: what is written anew from it is read as the same.
///
/// # Panics
/// When it is not.
pub fn tree(data: &[u8]) {
    let Ok(file) = idsig::parse(data, &Limits::SMALL) else { return };
    if file.salt.is_empty() {
        let bytes = idsig::write(file.root, &file.signers, file.tree);
        assert_eq!(idsig::parse(&bytes, &Limits::SMALL), Ok(file), "written and read again");
    }
}

/// Reads any bytes as a package's resources.
pub fn resources(data: &[u8]) {
    let ids = [0x7f01_0000, 0x7f01_0001, 0x7f02_0000, 0x0101_0000];
    let _ = arsc::values(data, &ids, &Limits::SMALL);
}

/// Reads any bytes as certificates.
pub fn certificate(data: &[u8]) {
    for der in pem::blocks(data, pem::CERTIFICATE, &Limits::SMALL) {
        let _ = x509::Certificate::parse(&der, &Limits::SMALL);
    }
    let Ok(found) = x509::Certificate::parse(data, &Limits::SMALL) else { return };
    extensions(&found.extensions);
    let unit = der::asn1::ObjectIdentifier::new_unwrap("2.5.4.11");
    let _ = x509::name_values(&found.subject_der, unit);
}

fn extensions(all: &x509::Extensions) {
    let _ = (all.basic_constraints(), all.key_usage(), all.purposes());
    let _ = (all.key_id(), all.issuer_key_id(), all.issuer_addresses());
}

/// Reads any bytes as a certificate request, and as a signature in either form.
pub fn request(data: &[u8]) {
    let _ = (ecdsa::to_fixed(data, 32), ecdsa::from_fixed(data));
    let Ok(found) = request::Request::parse(data, &Limits::SMALL) else { return };
    extensions(&found.extensions);
}

/// Reads any bytes as a profile, as its property list, and as a bundle of certificates; what is read as a profile is
/// written back and read as the same.
///
/// # Panics
/// When it is not.
pub fn profile(data: &[u8]) {
    let _ = cms::bundle(data, &Limits::SMALL);
    if let Ok(message) = cms::parse(data, &Limits::SMALL) {
        let content = message.content.unwrap_or_default();
        let _ = profile::Profile::parse(&content, &Limits::SMALL);
    }
    let _ = plist::parse(data, &Limits::SMALL).map(|list| entitlements::Entitlement::from_plist(&list));
    let Ok(found) = profile::Profile::parse(data, &Limits::SMALL) else { return };
    let Ok(written) = profile::write(&found) else { return };
    {
        assert_eq!(
            profile::Profile::parse(&written, &Limits::USUAL).as_ref(),
            Ok(&found),
            "written and read again"
        );
    }
}

/// Reads any bytes as the files of a v1 signature.
pub fn jar(data: &[u8]) {
    let _ = jar::announced_schemes(data, &Limits::SMALL);
    let _ = jar::is_signature_file(data);
    let _ = jar::manifest::parse(data, &Limits::SMALL);
    let _ = cms::parse(data, &Limits::SMALL);
}

/// Reads any bytes as an authenticated envelope; what is read is written back as it was.
pub fn envelope(data: &[u8]) {
    let _ = envelope::recipients(data, &Limits::SMALL);
    let Ok(found) = envelope::parse_authenticated(data, &Limits::SMALL) else { return };
    let to = envelope::Recipient::Key { id: found.recipient };
    let Ok(info) = envelope::write_agreement(&to, &found.point, &found.wrapped_key) else { return };
    let written = envelope::write_authenticated(&info, &found.nonce, &found.encrypted, &found.tag);
    assert!(written.is_ok());
}
