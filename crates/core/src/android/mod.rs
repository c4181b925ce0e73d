//! Android packages: what is in one, signing one, verifying one.

mod algorithm;
mod package;
mod report;
mod rotation;
mod sign;
mod v1;
mod verify;

pub use algorithm::V2Algorithm;
pub use package::{ManifestFault, Misaligned, Package, SHARED_LIBRARY_ALIGNMENT, STORED_ALIGNMENT};
pub use report::{Scheme, SchemeReport, SchemeState, SignatureFault, Signatures, SignerReport};
pub use rotation::{LineageFault, LineageKey, RangeFault, check_ranges, verify_lineage};
pub use sign::{Allowed, Identity, LaidOut, Opened, Ready, Refusal, SignError, Signed};
pub use verify::verify;
