//! Without a portal that has an API: up to the next file that a person has to fetch.

use std::path::PathBuf;

use ninekeys_cabinet::Cabinet;
use ninekeys_core::ios::setup::signs_for;
use ninekeys_core::model::Destination;
use ninekeys_formats::pem;
use ninekeys_formats::request::LABEL;

use super::{
    Does, Job, PrepareError, PrepareReport, Step, Waits, ends_soon, is_wanted, lacks_link, make_request,
    waiting,
};
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
    let needs_identity =
        job.look(&inventory, |setup| setup.taken().is_none_or(|identity| ends_soon(setup, identity)));
    if needs_identity {
        let known = waiting(&inventory, job.destination);
        let name = known.as_ref().map_or_else(|| job.identity_name(&inventory), |(name, _)| name.clone());
        let to = PathBuf::from(format!("{name}.csr"));
        let path = job.ctx.path(&to);
        outputs::refuse_ours(job.ctx, &[&path], &[])?;
        let der = match known {
            Some((_, der)) => der,
            None => {
                job.ctx.unlock(cabinet)?;
                report.steps.push(Step::new(Does::MakeKey, name.clone()));
                make_request(job, cabinet, &name)?
            }
        };
        if !path.exists() {
            let text = pem::encode(LABEL, &der).map(String::into_bytes).unwrap_or(der);
            Outgoing::write_whole(job.ctx, &path, &text, Access::Usual, Taken::Refuse)?;
        }
        let word = signs_for(job.destination).word();
        report.waits = Some(Waits {
            what: format!("upload {} at the portal, and fetch the certificate for a {word}", to.display()),
            file: Some(to.display().to_string()),
            next: ["identity", "accept", "FILE"].map(str::to_owned).into(),
        });
        return Ok(());
    }
    if let Some((name, issuer)) = job.look(&inventory, lacks_link) {
        report.waits = Some(Waits {
            what: format!("fetch the certificate of {issuer}, which issued that of {name}"),
            file: None,
            next: ["identity", "accept", "FILE"].map(str::to_owned).into(),
        });
        return Ok(());
    }
    report.waits = job.look(&inventory, |setup| {
        let part = setup.parts.iter().find(|part| is_wanted(setup, part))?;
        let serial = setup.taken()?.certificate?.serial.clone();
        let devices = match job.destination {
            Destination::Development | Destination::Devices => ", with all devices",
            _ => "",
        };
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
