//! What the project file is to say of an app: the same words whether it is added or changed.

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::Destination;
use ninekeys_ops::app::Request;

use crate::complete;

/// What is said of an app.
#[derive(Debug, clap::Args)]
pub(super) struct AppArgs {
    /// What people call it; a new app's name with a capital when left out
    #[arg(long)]
    title: Option<String>,
    /// Its Android package
    #[arg(long)]
    package: Option<String>,
    /// Its iOS bundle id
    #[arg(long)]
    bundle_id: Option<String>,
    /// Where its builds go, once for each: direct, store, devices, development, in-house
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destinations: Vec<Destination>,
    /// The version that the next build should have
    #[arg(long, value_name = "VERSION")]
    version_name: Option<String>,
}

impl AppArgs {
    /// The request for the app of this name.
    pub(super) fn request(self, name: String) -> Request {
        Request {
            name,
            title: self.title,
            package: self.package,
            bundle_id: self.bundle_id,
            destinations: self.destinations,
            version: self.version_name,
        }
    }
}
