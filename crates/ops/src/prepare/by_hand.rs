//! Without a portal that has an API: up to the next file that a person has to fetch.

use std::path::PathBuf;

use ninekeys_cabinet::Cabinet;
use ninekeys_core::model::IdentityPurpose;
use ninekeys_formats::pem;
use ninekeys_formats::request::LABEL;

use super::{Asked, Does, Job, PrepareError, PrepareReport, Step, Waits, is_wanted, lacks_link, request_for};
use crate::files::{Access, Taken};
use crate::outgoing::Outgoing;
use crate::outputs;

/// Goes as far as it can without a portal that has an API: up to the next file that a person has to fetch.
pub(super) fn by_hand(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    report: &mut PrepareReport,
) -> Result<(), PrepareError> {
    let inventory = cabinet.inventory()?;
    if let Some(asked) = Asked::to_sign(job, &inventory) {
        return ask(job, cabinet, &asked, report);
    }
    if let Some((name, issuer)) = job.look(&inventory, lacks_link) {
        report.waits = Some(Waits {
            what: format!("fetch the certificate of {issuer}, which issued that of {name}"),
            file: None,
            next: ["identity", "accept", "FILE"].map(str::to_owned).into(),
        });
        return Ok(());
    }
    if let Some(asked) = Asked::to_send(job, &inventory) {
        return ask(job, cabinet, &asked, report);
    }
    report.waits = job.look(&inventory, |setup| {
        let part = setup.parts.iter().find(|part| is_wanted(setup, part))?;
        let serial = setup.taken()?.certificate?.serial.clone();
        let devices = if job.destination.has_devices() { ", with all devices" } else { "" };
        Some(Waits {
            what: format!(
                "have a profile made at the portal for {}, for {}, with the certificate of serial number {serial}{devices}",
                part.bundle_id,
                job.destination.phrase()
            ),
            file: None,
            next: ["profile", "import", "FILE"].map(str::to_owned).into(),
        })
    });
    Ok(())
}

/// Writes the request for an identity, and waits for its certificate.
fn ask(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    asked: &Asked,
    report: &mut PrepareReport,
) -> Result<(), PrepareError> {
    if asked.request.is_none() {
        job.ctx.unlock(cabinet)?;
        report.steps.push(Step::new(Does::MakeKey, asked.name.clone()));
    }
    report.waits = Some(write_request(job, cabinet, asked)?);
    Ok(())
}

/// Writes the request for an identity, its key made where it is not there; tells what a person has to do with it.
pub(crate) fn write_request(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    asked: &Asked,
) -> Result<Waits, PrepareError> {
    let to = PathBuf::from(format!("{}.csr", asked.name));
    let path = job.ctx.path(&to);
    outputs::refuse_ours(job.ctx, &[&path], &[])?;
    let der = request_for(job, cabinet, asked)?;
    if !path.exists() {
        let text = pem::encode(LABEL, &der).map(String::into_bytes).unwrap_or(der);
        Outgoing::write_whole(job.ctx, &path, &text, Access::Usual, Taken::Refuse)?;
    }
    let word = asked.purpose.nine_key().word();
    let whose = match asked.purpose {
        IdentityPurpose::Push(servers) => format!(" ({}) of {}", servers.word(), job.ios.bundle_id),
        IdentityPurpose::Development | IdentityPurpose::Distribution => String::new(),
    };
    Ok(Waits {
        what: format!("upload {} at the portal, and fetch the certificate for a {word}{whose}", to.display()),
        file: Some(to.display().to_string()),
        next: ["identity", "accept", "FILE"].map(str::to_owned).into(),
    })
}
