//! Bytes to structures and back: everything Nine Keys knows about file formats, and nothing else.
//!
//! No module here opens a file, knows a policy or computes a signature. Bytes come in as slices through
//! the [`cursor::Cursor`], or, when a file is too large to hold, through a [`source::Source`]; what comes
//! out is a structure that keeps the bytes that were signed, or a [`cursor::ParseError`] that names the
//! field and its byte. Every size, count and depth is checked against [`limits::Limits`] before memory is
//! taken.
//!
//! | module | format |
//! |---|---|
//! | [`zip`] | archives: strict reading, raw copying with alignment |
//! | [`signing_block`] | the APK signing block and what scheme v2 puts into it |
//! | [`idsig`] | the file beside a package that holds scheme v4 |
//! | [`axml`], [`protoxml`], [`manifest`] | XML in binary and in protobuf form, and what an Android manifest says in it |
//! | [`jar`], [`cms`] | the files of scheme v1 in `META-INF` |
//! | [`keystore`] | PKCS#12 and JKS: their structure; what is encrypted in them stays so |
//! | [`envelope`] | CMS EnvelopedData, as it is written |
//! | [`x509`], [`pem`], [`request`] | certificates, and requests for them |
//! | [`crl`], [`ocsp`] | which certificates were revoked: lists, questions and answers |
//! | [`plist`], [`profile`], [`entitlements`] | property lists, and the provisioning profiles written in them |
//! | [`macho`], [`code_signature`], [`requirement`] | executables of the iOS side, the signature in them, and what it demands |
//! | [`ber`] | bringing BER into the one form that the readers take |

pub mod arsc;
pub mod axml;
pub mod ber;
pub mod cms;
pub mod code_resources;
pub mod code_signature;
pub mod crl;
pub mod cursor;
pub mod ecdsa;
pub mod entitlements;
pub mod envelope;
#[doc(hidden)]
pub mod fuzzing;
pub mod idsig;
pub mod info_plist;
pub mod jar;
pub mod keystore;
pub mod limits;
pub mod macho;
pub mod manifest;
pub mod names;
pub mod ocsp;
pub mod pem;
pub mod plist;
pub mod profile;
pub mod protoxml;
pub mod request;
pub mod requirement;
pub mod secret;
pub mod signing_block;
pub mod source;
pub mod timestamp;
mod tlv;
pub mod x509;
pub mod zip;
