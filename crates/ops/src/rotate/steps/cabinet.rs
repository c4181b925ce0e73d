//! Steps of the cabinet's own keys.

use ninekeys_core::model::Does;

use super::{Outcome, Work};
use crate::rotate::RotateError;

/// New keys for the cabinet; the project file's pin goes with them.
pub(super) fn reseal(work: &mut Work<'_, '_>) -> Result<Outcome, RotateError> {
    work.cabinet.change("rotate: cabinet key", &work.ctx.env, |change| change.seal_anew())?;
    work.file.raise_pin(work.ctx, &work.cabinet.pin())?;
    Ok(Outcome::Done(Vec::new()))
}

/// A copy of the cabinet with the new keys is what is waited for: one that has the row which changed them.
pub(super) fn back_up(work: &Work<'_, '_>, step: &Does) -> Result<Outcome, RotateError> {
    let changed = work.cabinet.pin().head.seq;
    if work.cabinet.last_backup().is_some_and(|backup| backup.seq >= changed) {
        return Ok(Outcome::Done(Vec::new()));
    }
    let next = ["cabinet", "backup", "FOLDER"].map(str::to_owned).into();
    Ok(Outcome::waits(ninekeys_core::rotation::said(step), None, next))
}
