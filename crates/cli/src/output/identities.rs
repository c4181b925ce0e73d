//! Identities: asked for, accepted, imported, exported.

use std::borrow::Cow;
use std::io;

use jiff::Timestamp;
use ninekeys_core::model::{PushEnvironment, Wholeness};
use ninekeys_ops::answers::CertificateSaid;
use ninekeys_ops::identity::accept::{Accepted, IdentityAcceptReport, Outcome};
use ninekeys_ops::identity::export::IdentityExportReport;
use ninekeys_ops::identity::import::{IdentityImportReport, Imported};
use ninekeys_ops::identity::request::IdentityRequestReport;
use ninekeys_ops::identity::revoke::IdentityRevokeReport;
use ninekeys_ops::identity::{ChainSaid, IdentitySaid};
use ninekeys_ops::keystore::export::Form;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 18;

fn row<'a>(label: &'a str, value: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

fn warn<'a>(text: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().text("  ").sign(Sign::Warn).to(VALUE).text(text).hang(VALUE)
}

fn next(words: &[&str]) -> Line<'static> {
    Line::new().dim("  next").to(VALUE).command(words).hang(VALUE)
}

/// What an identity is: `distribution identity`, `push identity (sandbox)`.
fn kind(said: &IdentitySaid) -> String {
    match said.environment {
        Some(environment) => format!("{} ({})", said.kind.word(), environment.word()),
        None => said.kind.word().to_owned(),
    }
}

/// The apps that it is for.
fn apps(said: &IdentitySaid) -> String {
    let titles: Vec<&str> = said.apps.iter().map(|app| app.title.as_str()).collect();
    if titles.is_empty() { "all apps of the team".into() } else { titles.join(", ") }
}

/// Where the private key is.
pub(super) fn key_place(said: &IdentitySaid) -> (Sign, String) {
    let which = said.key.as_ref().map(|key| format!("{}, {}", key.algorithm, words::short(&key.sha256)));
    let which = which.unwrap_or_default();
    match (said.state, &said.held_by) {
        (_, Some(holder)) => (Sign::Note, format!("key held by {holder}   {which}")),
        (Wholeness::WithoutKey, None) => {
            (Sign::Warn, format!("not here: nothing can be signed with it   {which}"))
        }
        _ => (Sign::Fine, format!("here, sealed   {which}")),
    }
}

/// What tells one identity from another that looks like it.
fn told_apart(said: &IdentitySaid, at: Timestamp) -> String {
    let serial = said.serial.as_deref().map(words::short).unwrap_or_default();
    let until = said.certificate.as_ref().map(|c| words::day_and_distance(at, c.not_after));
    let key = match said.state {
        Wholeness::Whole => "key here",
        Wholeness::HeldElsewhere => "key held elsewhere",
        Wholeness::WithoutKey | Wholeness::Waiting => "key not here",
    };
    format!("{}: serial {serial}, until {}, {key}", said.identity, until.unwrap_or_default())
}

/// Certificate, key and chain of an identity.
fn body(said: &IdentitySaid, chain: &ChainSaid, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    if let Some(certificate) = &said.certificate {
        let serial = said.serial.as_deref().map(words::short).unwrap_or_default();
        let which = format!("{}   serial {serial}", words::short(&certificate.sha256));
        paper.put(&row("  certificate", which))?;
        paper.put(&row("  subject", &certificate.subject))?;
        dates(certificate, at, paper)?;
    }
    paper.put(&row("  for", apps(said)))?;
    key_row(said, paper)?;
    chain_row(chain, paper)
}

/// The same for one that is looked at, as everything that is shown stands: labels to another column.
pub(super) fn shown(
    said: &IdentitySaid,
    chain: Option<&ChainSaid>,
    at: Timestamp,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    paper.put(&row("  kind", kind(said)))?;
    if let Some(team) = &said.team {
        paper.put(&row("  team", team))?;
    }
    match chain {
        Some(chain) => body(said, chain, at, paper),
        None => {
            paper.put(&row("  for", apps(said)))?;
            key_row(said, paper)?;
            paper.put(&row("  certificate", "asked for, and not here yet"))?;
            paper.put(&next(&["identity", "accept", "FILE"]))
        }
    }
}

fn key_row(said: &IdentitySaid, paper: &mut Paper<'_>) -> io::Result<()> {
    let (sign, text) = key_place(said);
    let line = Line::new().dim("  private key").to(VALUE).sign(sign);
    paper.put(&line.text(format!(" {text}")).hang(VALUE + 2))
}

fn dates(certificate: &CertificateSaid, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    let line = Line::new().dim("  valid until").to(VALUE);
    let until = words::day_and_distance(at, certificate.not_after);
    if certificate.not_after < at {
        return paper.put(&line.sign(Sign::Bad).text(format!(" {until}: it has ended")).hang(VALUE));
    }
    if certificate.not_before > at {
        let from = words::day_and_distance(at, certificate.not_before);
        return paper.put(&line.sign(Sign::Warn).text(format!(" {until}; it begins {from}")).hang(VALUE));
    }
    paper.put(&line.text(until).hang(VALUE))
}

/// Who vouches for a certificate.
fn chain_row(chain: &ChainSaid, paper: &mut Paper<'_>) -> io::Result<()> {
    let line = Line::new().dim("  chain").to(VALUE);
    let top = chain.above.last().map_or("itself", |top| top.subject.as_str());
    let (sign, text) = match (&chain.lacks, chain.trusted) {
        (Some(lacks), _) => (Sign::Warn, format!(" not complete: the certificate of {lacks} is missing")),
        (None, _) if !chain.complete => (Sign::Warn, " longer than any that is believed".into()),
        (None, Some(true)) => (Sign::Fine, format!(" complete, to {top}, which the project names")),
        (None, Some(false)) => {
            (Sign::Warn, format!(" complete, to {top}, which is not among the roots that the project names"))
        }
        (None, None) => (
            Sign::Note,
            format!(" complete, to {top}; `roots` in the project file would say whether to trust it"),
        ),
    };
    paper.put(&line.sign(sign).text(text).hang(VALUE + 2))?;
    for address in &chain.addresses {
        paper.put(&row("", format!("it can be had from {address}")))?;
    }
    if chain.lacks.is_some() {
        return paper.put(&next(&["identity", "accept", "FILE"]));
    }
    Ok(())
}

impl Report for IdentityRequestReport {
    const SCHEMA: &'static str = "ninekeys.identity-request/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let said = &self.identity;
        let what = match (self.again, &said.held_by) {
            (true, _) => "asked for as before",
            (false, Some(_)) => "asked for by somebody else",
            (false, None) => "asked for",
        };
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&said.identity);
        paper.put(&head.text(format!("   {}, {what}", kind(said))).hang(2))?;
        paper.blank()?;
        paper.put(&row("  for", apps(said)))?;
        key_row(said, paper)?;
        if !self.key_shared_with.is_empty() {
            paper.put(&row("", format!("the same as that of {}", self.key_shared_with.join(", "))))?;
        }
        let file = self.file.as_deref().map_or_else(String::new, |file| format!("{file}   "));
        paper.put(&row("  request", format!("{file}{}", self.subject)))?;
        if let Some(file) = &self.file {
            let text = format!("upload {file} at the portal, and take the certificate in that comes back");
            paper.put(&row("", text))?;
        }
        paper.put(&next(&["identity", "accept", "FILE"]))
    }
}

impl Report for IdentityAcceptReport {
    const SCHEMA: &'static str = "ninekeys.identity-accept/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for (index, one) in self.accepted.iter().enumerate() {
            if index > 0 {
                paper.blank()?;
            }
            accepted(one, self.at, paper)?;
        }
        if !self.accepted.is_empty() && !self.authorities.is_empty() {
            paper.blank()?;
        }
        authorities(&self.authorities, paper)?;
        if self.accepted.is_empty() && self.authorities.is_empty() {
            return paper
                .put(&Line::new().sign(Sign::Fine).text(" The cabinet has these certificates already."));
        }
        Ok(())
    }
}

fn authorities(all: &[CertificateSaid], paper: &mut Paper<'_>) -> io::Result<()> {
    for one in all {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&one.subject);
        paper.put(&head.text("   an authority's certificate, kept for chains").hang(2))?;
    }
    Ok(())
}

fn accepted(one: &Accepted, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    let said = &one.identity;
    let what = match one.outcome {
        Outcome::Answered => "what was asked for is here",
        Outcome::New => "new here",
        Outcome::Known => "here already, nothing changed",
    };
    let team = said.team.as_deref().unwrap_or_default();
    let head = Line::new().sign(Sign::Fine).text(" ").bold(&said.identity);
    paper.put(&head.text(format!("   {} of {team}, {what}", kind(said))).hang(2))?;
    paper.blank()?;
    body(said, &one.chain, at, paper)?;
    for other in &one.alike {
        paper.put(&warn(format!("looks like {}", told_apart(other, at))))?;
    }
    if let Some(waiting) = &one.still_waiting {
        paper.put(&row("", format!("{waiting} has the same key and still waits for its certificate")))?;
    }
    if said.environment == Some(PushEnvironment::Sandbox) {
        paper.put(&row("", "the sandbox reaches development builds alone"))?;
    }
    Ok(())
}

impl Report for IdentityImportReport {
    const SCHEMA: &'static str = "ninekeys.identity-import/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let many = words::count(self.imported.len(), "identity").replace("identitys", "identities");
        let head = Line::new().sign(Sign::Fine).text(format!(" {many} out of "));
        paper.put(&head.bold(&self.file).dim(format!("   {}", self.encryption)).hang(2))?;
        for one in &self.imported {
            paper.blank()?;
            imported(one, self.at, paper)?;
        }
        for left in &self.left {
            paper.blank()?;
            paper.put(&warn(format!("{} stays in the file: {}", left.alias, left.because)))?;
        }
        if !self.authorities.is_empty() {
            paper.blank()?;
        }
        authorities(&self.authorities, paper)
    }
}

fn imported(one: &Imported, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    let what = match one.outcome {
        Outcome::Answered => "has its key now",
        Outcome::New => "new here",
        Outcome::Known => "here already, nothing changed",
    };
    let team = one.identity.team.as_deref().unwrap_or_default();
    let head = Line::new().text("  ").bold(&one.identity.identity);
    paper.put(&head.text(format!("   {} of {team}, {what}", kind(&one.identity))).hang(4))?;
    body(&one.identity, &one.chain, at, paper)
}

impl Report for IdentityExportReport {
    const SCHEMA: &'static str = "ninekeys.identity-export/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let many = words::count(self.chain.above.len() + 1, "certificate");
        let what = match self.form {
            Form::Pkcs12 => format!("PKCS#12, private key and {many}"),
            Form::CertificatePem => format!("{many}, PEM"),
            Form::CertificateDer => "1 certificate, DER".into(),
        };
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.file);
        paper.put(&head.text(format!("   {}, {what}", self.identity.identity)).hang(2))?;
        if self.form != Form::Pkcs12 {
            return Ok(());
        }
        match &self.password_file {
            Some(file) => paper.put(&row("  password", format!("in {file}, which only you can read")))?,
            None => paper.put(&row("  password", "the one that you gave"))?,
        }
        if self.weak_password {
            paper.put(&warn("the password is easy to guess: --random-password makes a strong one up"))?;
        }
        if self.chain.trusted == Some(false) {
            chain_row(&self.chain, paper)?;
        }
        paper.put(&warn(
            "whoever has this file and its password signs in your name; delete it when it is not needed",
        ))
    }
}

impl Report for IdentityRevokeReport {
    const SCHEMA: &'static str = "ninekeys.identity-revoke/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.identity.identity);
        let what = match self.already {
            true => "was revoked before; nothing was changed",
            false => "revoked at the portal; kept here, retired",
        };
        paper.put(&head.text("   ").text(what).hang(2))?;
        paper.put(&row("  since", words::day_and_distance(self.at, self.revoked)))?;
        for one in &self.given_to {
            let text =
                format!("{} was given it {}", one.receiver, words::day_and_distance(self.at, one.given_at));
            paper.put(&row("  tell", text))?;
        }
        if self.profiles.is_empty() {
            return paper.put(&row("  profiles", "none named it"));
        }
        let text = format!("{}: good for nothing without another certificate", self.profiles.join(", "));
        paper.put(&warn(text))?;
        paper.put(&next(&["check", "--all"]))
    }
}
