//! What a person has to be told beside the answer.

use std::io;
use std::path::Path;

use ninekeys_cabinet::Standing;
use ninekeys_ops::Notice;
use serde_json::{Value, json};

use super::line::{Line, Paper, Sign};

/// For people.
pub(super) fn text(notice: &Notice, folder: &Path, paper: &mut Paper<'_>) -> io::Result<()> {
    let line = Line::new();
    match notice {
        Notice::NotCurrent(standing) => {
            let line = line.sign(Sign::Bad).text(" ").text(said(standing)).hang(2);
            paper.put(&line)?;
            paper.put(&Line::new().dim("  look").to(10).command(&["cabinet", "status"]))
        }
        Notice::NotPinned(identity) => {
            let short: String = identity.to_string().chars().take(16).collect();
            let text =
                format!(" nothing said which cabinet is meant; from now on this machine expects {short}…");
            paper.put(&line.dim("·").dim(text).hang(2))
        }
        Notice::SetAside(path) => {
            let path = path.strip_prefix(folder).unwrap_or(path).display().to_string();
            paper.put(&line.sign(Sign::Warn).text(" what had the name before is now ").bold(path).hang(2))
        }
    }
}

/// For programs.
pub(super) fn json(notice: &Notice, folder: &Path) -> Value {
    let schema = "ninekeys.notice/1";
    match notice {
        Notice::NotCurrent(standing) => {
            json!({ "schema": schema, "notice": "not-current", "standing": standing })
        }
        Notice::NotPinned(identity) => {
            json!({ "schema": schema, "notice": "not-pinned", "identity": identity })
        }
        Notice::SetAside(path) => {
            let path = path.strip_prefix(folder).unwrap_or(path).display().to_string();
            json!({ "schema": schema, "notice": "set-aside", "path": path })
        }
    }
}

fn said(standing: &Standing) -> String {
    match standing {
        Standing::Current => "the cabinet is current".into(),
        Standing::Older { by, known, found } => format!(
            "this cabinet is older than it should be: {by} has seen change {known}, and it ends with change {found}"
        ),
        Standing::Parted { by, row } => {
            format!(
                "this cabinet and another copy of it were both changed: change {row} is not the one that {by} has seen"
            )
        }
    }
}
