//! Android packages: what is in one, signing one, verifying one.

mod algorithm;
mod package;
mod sign;
mod verify;

pub use algorithm::V2Algorithm;
pub use package::{ManifestFault, Misaligned, Package, SHARED_LIBRARY_ALIGNMENT, STORED_ALIGNMENT};
pub use sign::{LaidOut, Opened, Ready, Refusal, SignError, Signed};
pub use verify::{Scheme, SchemeReport, SchemeState, SignatureFault, Signatures, SignerReport, verify};
