//! Who tries builds.

use std::io;

use ninekeys_ops::store::testers::{
    GroupSaid, TestersGroupReport, TestersInviteReport, TestersListReport, TestersRemoveReport,
};
use ninekeys_portal::store::Tester;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// `inside the company, 3 testers, 2 accepted`
fn about(group: &GroupSaid) -> String {
    let place = if group.outside { "outside the company" } else { "inside the company" };
    let apps: Vec<&str> = group.apps.iter().map(|app| app.title.as_str()).collect();
    let apps = if apps.is_empty() { String::new() } else { format!(", for {}", apps.join(", ")) };
    let many = words::count(group.testers.len(), "tester");
    format!("{place}{apps}: {many}, {} accepted", group.accepted)
}

fn name(tester: &Tester) -> String {
    tester.name.as_ref().map_or_else(|| tester.address.clone(), |name| format!("{name} <{}>", tester.address))
}

impl Report for TestersListReport {
    const SCHEMA: &'static str = "ninekeys.testers-list/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.groups.is_empty() {
            paper.put(&Line::new().text("The store has no group of testers."))?;
            return paper.put(&Line::new().dim("  next   ").command(&["testers", "group", "NAME"]));
        }
        for (at, group) in self.groups.iter().enumerate() {
            if at > 0 {
                paper.blank()?;
            }
            paper.put(&Line::new().bold(&group.group).text("   ").text(about(group)).hang(2))?;
            if !group.deliveries.is_empty() {
                let builds = format!(
                    "  has {}: {}",
                    words::count(group.deliveries.len(), "build"),
                    group.deliveries.join(", ")
                );
                paper.put(&Line::new().dim(builds).hang(4))?;
            }
            let heads = ["tester", "invited", "accepted"];
            paper.table_of(2, &heads, &group.testers, |one| {
                let (mark, accepted) = match one.accepted {
                    Some(at) => (Sign::Fine, words::day_and_distance(self.at, at)),
                    None => (Sign::Due, "not yet".to_owned()),
                };
                [
                    Line::new().sign(mark).text(" ").text(name(one)),
                    Line::new().text(words::day_and_distance(self.at, one.invited)),
                    Line::new().like(mark, accepted),
                ]
            })?;
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for TestersGroupReport {
    const SCHEMA: &'static str = "ninekeys.testers-group/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let done = if self.known { "is changed" } else { "is there now" };
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.group.group);
        paper.put(&head.text(format!("   {done}: {}", about(&self.group))).hang(2))?;
        let next = ["testers", "invite", "ADDRESS", "--group", &self.group.group];
        paper.put(&Line::new().dim("  next   ").command(&next))
    }
}

impl Report for TestersInviteReport {
    const SCHEMA: &'static str = "ninekeys.testers-invite/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let many = words::count(self.invited.len(), "tester");
        let head = Line::new().sign(Sign::Fine).text(format!(" {many} invited to ")).bold(&self.group);
        let known = match self.known.len() {
            0 => String::new(),
            many => format!("   {many} had been invited before"),
        };
        paper.put(&head.dim(known).hang(2))?;
        for one in &self.invited {
            paper.put(&Line::new().text("  ").text(name(one)).hang(4))?;
        }
        Ok(())
    }
}

impl Report for TestersRemoveReport {
    const SCHEMA: &'static str = "ninekeys.testers-remove/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(name(&self.tester));
        paper.put(&head.text(format!("   is in {} no more", self.tester.group)).hang(2))
    }
}
