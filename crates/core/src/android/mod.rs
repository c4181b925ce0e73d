//! Android packages: what is in one, signing one, verifying one.

mod algorithm;
mod package;
mod refusal;
mod report;
mod rotation;
mod schemes;
mod sign;
mod signing;
mod v1;
mod v4;
mod verify;

pub use algorithm::V2Algorithm;
pub use package::{
    ManifestFault, Misaligned, Package, PackageKind, SHARED_LIBRARY_ALIGNMENT, STORED_ALIGNMENT,
};
pub use refusal::Refusal;
pub use report::{Scheme, SchemeReport, SchemeState, SignatureFault, Signatures, SignerReport};
pub use rotation::{
    Lineage, LineageFault, LineageKey, RangeFault, USUAL_FLAGS, check_ranges, verify_lineage,
};
pub(crate) use schemes::{FIRST_SDK_WITH_V2, FIRST_SDK_WITH_V3, FIRST_TARGET_WITHOUT_V1};
pub use schemes::{Schemes, UnknownScheme};
pub use sign::{Allowed, LaidOut, Opened, Ready, SignError, Signed};
pub use signing::{Identity, Rotation, Signing};
pub use v4::{check_idsig, make_idsig};
pub use verify::verify;
