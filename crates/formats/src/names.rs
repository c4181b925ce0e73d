//! What algorithms and curves are called, for people: certificates and signatures name them by object identifier.

/// Names by object identifier, in its dotted form (RFC 4055, RFC 5480, RFC 5639, RFC 5758, RFC 8017, RFC 8410,
/// FIPS 180-4).
const NAMES: &[(&str, &str)] = &[
    ("1.2.840.113549.2.5", "MD5"),
    ("1.3.14.3.2.26", "SHA-1"),
    ("2.16.840.1.101.3.4.2.1", "SHA-256"),
    ("2.16.840.1.101.3.4.2.2", "SHA-384"),
    ("2.16.840.1.101.3.4.2.3", "SHA-512"),
    ("2.16.840.1.101.3.4.2.4", "SHA-224"),
    ("1.2.840.113549.1.1.1", "RSA"),
    ("1.2.840.113549.1.1.4", "MD5 with RSA"),
    ("1.2.840.113549.1.1.5", "SHA-1 with RSA"),
    ("1.2.840.113549.1.1.10", "RSASSA-PSS"),
    ("1.2.840.113549.1.1.11", "SHA-256 with RSA"),
    ("1.2.840.113549.1.1.12", "SHA-384 with RSA"),
    ("1.2.840.113549.1.1.13", "SHA-512 with RSA"),
    ("1.2.840.113549.1.1.14", "SHA-224 with RSA"),
    ("1.2.840.10040.4.1", "DSA"),
    ("1.2.840.10040.4.3", "SHA-1 with DSA"),
    ("2.16.840.1.101.3.4.3.2", "SHA-256 with DSA"),
    ("1.2.840.10045.2.1", "EC"),
    ("1.2.840.10045.4.1", "SHA-1 with ECDSA"),
    ("1.2.840.10045.4.3.1", "SHA-224 with ECDSA"),
    ("1.2.840.10045.4.3.2", "SHA-256 with ECDSA"),
    ("1.2.840.10045.4.3.3", "SHA-384 with ECDSA"),
    ("1.2.840.10045.4.3.4", "SHA-512 with ECDSA"),
    ("1.2.840.10045.3.1.1", "P-192"),
    ("1.2.840.10045.3.1.7", "P-256"),
    ("1.3.132.0.10", "secp256k1"),
    ("1.3.132.0.33", "P-224"),
    ("1.3.132.0.34", "P-384"),
    ("1.3.132.0.35", "P-521"),
    ("1.3.36.3.3.2.8.1.1.7", "brainpoolP256r1"),
    ("1.3.36.3.3.2.8.1.1.11", "brainpoolP384r1"),
    ("1.3.36.3.3.2.8.1.1.13", "brainpoolP512r1"),
    ("1.3.101.110", "X25519"),
    ("1.3.101.112", "Ed25519"),
    ("1.3.101.113", "Ed448"),
];

/// The name of an algorithm, or its object identifier where it has none here.
pub fn algorithm_name(oid: &str) -> &str {
    NAMES.iter().find(|(known, _)| *known == oid).map_or(oid, |(_, name)| name)
}
