//! JAR signing (scheme v1): which entries are its own, what it announces, and its text files ([`manifest`]).

pub mod manifest;

use crate::limits::Limits;

/// The manifest of scheme v1.
pub const MANIFEST: &str = "META-INF/MANIFEST.MF";

/// Whether an entry belongs to a v1 signature: `MANIFEST.MF`, `*.SF`, `*.RSA`, `*.DSA`, `*.EC` or `SIG-*`
/// directly in `META-INF`, compared without case.
pub fn is_signature_file(name: &[u8]) -> bool {
    let Ok(name) = std::str::from_utf8(name) else { return false };
    let upper = name.to_ascii_uppercase();
    let Some(file) = upper.strip_prefix("META-INF/") else { return false };
    !file.contains('/')
        && (file == "MANIFEST.MF"
            || file.starts_with("SIG-")
            || [".SF", ".RSA", ".DSA", ".EC"].iter().any(|ending| file.ends_with(ending)))
}

/// Whether an entry is a signature file proper, the part that a v1 signer signs.
pub fn is_signed_manifest(name: &[u8]) -> bool {
    is_signature_file(name) && name.to_ascii_uppercase().ends_with(b".SF")
}

/// The schemes that a signature file announces in `X-Android-APK-Signed`, so that a device notices when
/// they were taken out, as many as the limits allow signers. Lines are joined first; header names compare without case.
pub fn announced_schemes(signature_file: &[u8], limits: &Limits) -> Vec<u32> {
    let text = String::from_utf8_lossy(signature_file).replace("\r\n", "\n").replace('\r', "\n");
    let unfolded = text.replace("\n ", "");
    let main_section = unfolded.split("\n\n").next().unwrap_or_default();
    main_section
        .lines()
        .filter_map(|line| line.split_once(':'))
        .filter(|(name, _)| name.eq_ignore_ascii_case("X-Android-APK-Signed"))
        .flat_map(|(_, value)| value.split(','))
        .filter_map(|scheme| scheme.trim().parse().ok())
        .take(usize::try_from(limits.signers).unwrap_or(usize::MAX))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signature_files_are_told_by_place_and_ending() {
        for name in ["META-INF/MANIFEST.MF", "meta-inf/cert.rsa", "META-INF/A.SF", "META-INF/SIG-X"] {
            assert!(is_signature_file(name.as_bytes()), "{name}");
        }
        for name in ["META-INF/services/a.SF", "MANIFEST.MF", "META-INF/a.version", "res/A.RSA"] {
            assert!(!is_signature_file(name.as_bytes()), "{name}");
        }
    }

    #[test]
    fn announced_schemes_are_read_from_the_main_section_only() {
        let file = b"Signature-Version: 1.0\r\nx-android-apk-signed: 2,\r\n  3\r\n\r\nName: a\r\n\
            X-Android-APK-Signed: 9\r\n\r\n";
        assert_eq!(announced_schemes(file, &Limits::SMALL), [2, 3]);
        assert_eq!(announced_schemes(b"Signature-Version: 1.0\r\n\r\n", &Limits::SMALL), [] as [u32; 0]);
    }
}
