//! Android packages: what is in one, signing one, verifying one.

mod algorithm;
mod chunks;
mod examine;
mod package;
mod refusal;
mod renumber;
mod report;
mod rotation;
mod schemes;
mod sign;
mod signing;
mod v1;
mod v4;
mod verify;

pub use algorithm::V2Algorithm;
pub use chunks::{Hash, Section, chunked};
pub(crate) use examine::examine;
pub use examine::{AndroidBuild, says};
pub use package::{
    BlockFault, ManifestFault, Misaligned, Package, PackageKind, SHARED_LIBRARY_ALIGNMENT, STORED_ALIGNMENT,
};
pub use refusal::Refusal;
pub use renumber::Renumbered;
pub use report::{Scheme, SchemeReport, SchemeState, SignatureFault, Signatures, SignerReport};
pub use rotation::{
    Lineage, LineageFault, LineageKey, RangeFault, USUAL_FLAGS, check_ranges, verify_lineage,
};
pub(crate) use schemes::LeftOut;
pub use schemes::{Schemes, UnknownScheme};
pub use sign::{Allowed, LaidOut, Opened, Ready, SignError, Signed};
pub use signing::{Identity, Rotation, Signing};
pub use v4::{check_idsig, make_idsig};
pub use verify::verify;
