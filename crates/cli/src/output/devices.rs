//! Devices: registered, listed, renamed.

use std::io;

use ninekeys_ops::device::add::DeviceAddReport;
use ninekeys_ops::device::import::DeviceImportReport;
use ninekeys_ops::device::list::{DeviceListReport, Listed};
use ninekeys_ops::device::rename::DeviceRenameReport;
use ninekeys_ops::device::{Limit, NEAR_LIMIT};

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 16;

/// How much of the year's limit is used.
fn limit(limit: Limit, paper: &mut Paper<'_>) -> io::Result<()> {
    let line = Line::new().dim("  this year").to(VALUE).hang(VALUE + 2);
    let text = format!("{} of {} devices registered", limit.used, limit.most);
    if limit.used + NEAR_LIMIT > limit.most {
        let warning = match limit.used > limit.most {
            true => format!(" {text}: the portal takes no more of them"),
            false => format!(" {text}: the portal takes {} more", limit.most - limit.used),
        };
        return paper.put(&line.sign(Sign::Warn).text(warning));
    }
    paper.put(&line.text(text))
}

impl Report for DeviceAddReport {
    const SCHEMA: &'static str = "ninekeys.device-add/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.device.device);
        paper.put(&head.text(format!("   {}, {}", self.device.title, self.device.identifier)).hang(2))?;
        limit(self.limit, paper)?;
        let text = "profiles that were made before do not allow it: they have to be made again";
        paper.put(&Line::new().dim("  profiles").to(VALUE).text(text).hang(VALUE))
    }
}

impl Report for DeviceImportReport {
    const SCHEMA: &'static str = "ninekeys.device-import/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let many = words::count(self.devices.len(), "device");
        let head = Line::new().sign(Sign::Fine).text(" ").bold(format!("{many} out of {}", self.file));
        let known = match self.known {
            0 => String::new(),
            one => format!("   {one} of the file known already"),
        };
        paper.put(&head.dim(known).hang(2))?;
        limit(self.limit, paper)
    }
}

impl Report for DeviceListReport {
    const SCHEMA: &'static str = "ninekeys.device-list/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.devices.is_empty() {
            paper.put(&Line::new().text("No device is registered."))?;
            let next = ["device", "add", "NAME", "--identifier", "IDENTIFIER"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        paper.put(&Line::new().text(words::count(self.devices.len(), "device")))?;
        paper.blank()?;
        let heads = ["device", "called", "identifier", "since", "profiles"];
        paper.table_of(2, &heads, &self.devices, |one: &Listed| {
            let profiles = if one.profiles.is_empty() { "none".to_owned() } else { one.profiles.join(", ") };
            vec![
                Line::new().bold(&one.device.device),
                Line::new().text(&one.device.title),
                Line::new().text(&one.device.identifier),
                Line::new().text(words::day_and_distance(self.at, one.created)),
                Line::new().text(profiles),
            ]
        })?;
        paper.blank()?;
        limit(self.limit, paper)
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for DeviceRenameReport {
    const SCHEMA: &'static str = "ninekeys.device-rename/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.device.title);
        let text = format!("   was {}; {} stays its name in commands", self.was, self.device.device);
        paper.put(&head.text(text).hang(2))
    }
}
