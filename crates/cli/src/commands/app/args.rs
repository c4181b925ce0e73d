//! What the project file is to say of an app: the same words whether it is added or changed.

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_core::model::{Capability, Contact, Destination, ReviewSays};
use ninekeys_ops::app::ios::IosSays;
use ninekeys_ops::app::{PublishSays, Request};

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
    /// iOS: the team that it belongs to, where it is not the project's
    #[arg(long, value_name = "TEAM", help_heading = "iOS side")]
    team: Option<String>,
    /// iOS: push, app-groups, associated-domains, health-data, tag-reading or network-extensions; several times for several
    #[arg(long, value_name = "CAPABILITY", help_heading = "iOS side", add = ArgValueCandidates::new(complete::capabilities))]
    capability: Vec<Capability>,
    /// iOS: a capability that it has no more
    #[arg(long, value_name = "CAPABILITY", help_heading = "iOS side", add = ArgValueCandidates::new(complete::capabilities))]
    without_capability: Vec<Capability>,
    /// iOS: something inside it with a profile of its own; several times for several
    #[arg(long, value_name = "NAME=BUNDLE-ID", help_heading = "iOS side", value_parser = extension)]
    extension: Vec<(String, String)>,
    /// iOS: a property list with what its builds have to claim
    #[arg(long, value_name = "FILE", help_heading = "iOS side")]
    entitlements: Option<PathBuf>,
    /// The version that the next build should have
    #[arg(long, value_name = "VERSION")]
    version_name: Option<String>,
    /// Make it known to the store, so that its builds can go there
    #[arg(long, help_heading = "Store")]
    publish: bool,
    /// What the account calls it in its reports, once for each app; the app's name when left out
    #[arg(long, value_name = "TEXT", requires = "publish", help_heading = "Store")]
    sku: Option<String>,
    /// The language that its texts are in first; `en` when left out
    #[arg(long, value_name = "LANGUAGE", requires = "publish", help_heading = "Store")]
    language: Option<String>,
    /// Who of the account may see it at the store, by an address for mail; several times for several, everybody when left out
    #[arg(long, value_name = "ADDRESS", requires = "publish", help_heading = "Store")]
    seen_by: Vec<String>,
    /// Whom the people of a review ask
    #[arg(long, value_name = "NAME <ADDRESS>", help_heading = "Store", value_parser = contact)]
    review_contact: Option<Contact>,
    /// What they have to know to try it
    #[arg(long, value_name = "TEXT", help_heading = "Store")]
    review_notes: Option<String>,
    /// The item with the account and the password that they log in with
    #[arg(long, value_name = "NAME", help_heading = "Store")]
    review_login: Option<String>,
    /// The answer to a question of the store, yes or no; several times for several
    #[arg(long, value_name = "QUESTION=ANSWER", help_heading = "Store", value_parser = declared)]
    declare: Vec<(String, String)>,
}

/// `NAME <ADDRESS>`
fn contact(text: &str) -> Result<Contact, String> {
    let wrong = || {
        "write a name, and an address for mail in angles: Ferry desk <desk@gannetpoint.example>".to_owned()
    };
    let (name, rest) = text.split_once('<').ok_or_else(wrong)?;
    let (name, email) = (name.trim(), rest.strip_suffix('>').ok_or_else(wrong)?.trim());
    let good = !name.is_empty() && !email.is_empty() && !text.chars().any(char::is_control);
    if good { Ok(Contact { name: name.into(), email: email.into(), phone: None }) } else { Err(wrong()) }
}

/// `QUESTION=ANSWER`
fn declared(text: &str) -> Result<(String, String), String> {
    let pair = text.split_once('=').filter(|(name, answer)| !name.is_empty() && !answer.is_empty());
    let pair = pair.map(|(name, answer)| (name.to_owned(), answer.to_owned()));
    pair.ok_or_else(|| "write the name of a question, an equals sign, and yes or no: location=yes".to_owned())
}

/// What stands for a value that is still to be written is none.
fn review(
    contact: Option<Contact>,
    notes: Option<String>,
    login: Option<String>,
    declare: Vec<(String, String)>,
) -> Result<ReviewSays, String> {
    if let Some(contact) = contact.as_ref().filter(|contact| !contact.email.contains('@')) {
        return Err(format!("{} is no address for mail", contact.email));
    }
    let answered = declare.into_iter().map(|(name, answer)| match answer.as_str() {
        "yes" => Ok((name, true)),
        "no" => Ok((name, false)),
        _ => Err(format!("{name} is answered with yes or no, and not with {answer}")),
    });
    Ok(ReviewSays { contact, notes, login, declarations: answered.collect::<Result<_, _>>()? })
}

/// `NAME=BUNDLE-ID`
fn extension(text: &str) -> Result<(String, String), String> {
    let pair = text.split_once('=').map(|(name, id)| (name.to_owned(), id.to_owned()));
    pair.ok_or_else(|| "write a name, an equals sign and a bundle id: share=BUNDLE-ID".to_owned())
}

impl AppArgs {
    /// The request for the app of this name.
    ///
    /// # Errors
    /// What a value lacks.
    pub(super) fn request(self, name: String) -> Result<Request, String> {
        let review = review(self.review_contact, self.review_notes, self.review_login, self.declare)?;
        Ok(Request {
            name,
            title: self.title,
            package: self.package,
            bundle_id: self.bundle_id,
            destinations: self.destinations,
            version: self.version_name,
            ios: IosSays {
                team: self.team,
                capabilities: self.capability,
                without: self.without_capability,
                extensions: self.extension,
                entitlements: self.entitlements,
            },
            review,
            publish: self.publish.then_some(PublishSays {
                sku: self.sku,
                language: self.language,
                seen_by: self.seen_by,
            }),
        })
    }
}
