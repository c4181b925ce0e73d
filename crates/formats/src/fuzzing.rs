//! One function a parser, shared by the property tests and the fuzz targets: whatever comes in, it returns.

use crate::limits::Limits;
use crate::signing_block::{lineage, signer};
use crate::zip::Archive;
use crate::{axml, cms, jar, manifest::Manifest, pem, signing_block, x509};

/// Opens any bytes as an archive and reads every entry.
pub fn zip(data: &[u8]) {
    let Ok(archive) = Archive::open(&data, &Limits::SMALL) else { return };
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

/// Reads any bytes as a manifest.
pub fn manifest(data: &[u8]) {
    let _ = axml::parse(data, &Limits::SMALL);
    let _ = Manifest::parse(data, &Limits::SMALL);
}

/// Reads any bytes as certificates.
pub fn certificate(data: &[u8]) {
    for der in pem::blocks(data, pem::CERTIFICATE) {
        let _ = x509::Certificate::parse(&der, &Limits::SMALL);
    }
    let _ = x509::Certificate::parse(data, &Limits::SMALL);
}

/// Reads any bytes as the files of a v1 signature.
pub fn jar(data: &[u8]) {
    let _ = jar::announced_schemes(data);
    let _ = jar::is_signature_file(data);
    let _ = jar::manifest::parse(data, &Limits::SMALL);
    let _ = cms::parse(data, &Limits::SMALL);
}
