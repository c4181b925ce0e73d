//! Apps: added, changed, listed, taken out.

use std::borrow::Cow;
use std::io;

use ninekeys_core::model::{App, BuildNumber, Destination};
use ninekeys_ops::app::add::AppAddReport;
use ninekeys_ops::app::change::AppChangeReport;
use ninekeys_ops::app::list::AppListReport;
use ninekeys_ops::app::next::AppNextReport;
use ninekeys_ops::app::remove::AppRemoveReport;
use ninekeys_ops::app::statement::AppStatementReport;

use super::line::{Line, Paper, Sign};
use super::{Report, store, words};

/// Where values stand behind labels.
const VALUE: usize = 16;

fn row<'a>(label: &'a str, value: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

/// An app as the project file describes it.
fn describe(name: &str, app: &App, file: &str, paper: &mut Paper<'_>) -> io::Result<()> {
    let head = Line::new().sign(Sign::Fine).text(" ").bold(name).text("   ").text(&app.title);
    paper.put(&head.dim(format!("   written into {file}")).hang(2))?;
    sides(app, paper)?;
    if let Some(version) = &app.version {
        paper.put(&row("  version", version))?;
    }
    let Some(review) = &app.review else { return Ok(()) };
    let contact = review.contact.as_ref().map(|contact| format!("{} <{}>", contact.name, contact.email));
    let answers = words::count(review.declarations.len(), "answer");
    paper.put(&row("  review", [contact, Some(answers)].into_iter().flatten().collect::<Vec<_>>().join(", ")))
}

fn places(all: &[Destination]) -> String {
    all.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

fn sides(app: &App, paper: &mut Paper<'_>) -> io::Result<()> {
    if let Some(android) = &app.android {
        let places = places(&android.destinations);
        paper.put(&row("  android", format!("{}   {places}", android.package)))?;
    }
    if let Some(ios) = &app.ios {
        paper.put(&row("  ios", format!("{}   {}", ios.bundle_id, places(&ios.destinations))))?;
        if let Some(team) = &ios.team {
            paper.put(&row("  team", team))?;
        }
        if !ios.capabilities.is_empty() {
            let words: Vec<&str> = ios.capabilities.iter().map(|one| one.word()).collect();
            paper.put(&row("  capabilities", words.join(", ")))?;
        }
        for (name, id) in &ios.extensions {
            paper.put(&row("  inside it", format!("{name}   {id}")))?;
        }
        if !ios.entitlements.is_empty() {
            let keys: Vec<&str> = ios.entitlements.keys().map(String::as_str).collect();
            paper.put(&row("  has to claim", keys.join(", ")))?;
        }
    }
    Ok(())
}

impl Report for AppAddReport {
    const SCHEMA: &'static str = "ninekeys.app-add/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        describe(&self.app, &self.says, &self.project, paper)?;
        store::published(&self.published, paper)?;
        if self.says.ios.is_some() {
            let text = "once it is registered at the portal, a bundle id is for ever: it cannot be changed or given back";
            paper.put(&row("  bundle id", text))?;
        }
        if self.says.android.is_none() {
            let next = ["check", "--app", &self.app];
            return paper.put(&Line::new().dim("  next").to(VALUE).command(&next));
        }
        let next = |label: &'static str| Line::new().dim(label).to(VALUE).hang(VALUE);
        for (index, keystore) in self.could_serve.iter().take(3).enumerate() {
            // one keystore for many apps is how people work: what is there may serve before a new one is made
            let label = if index == 0 { "  next" } else { "" };
            let words = ["keystore", "change", keystore, "--add-app", &self.app];
            paper.put(&next(label).command(&words).text("   to sign with the same key"))?;
        }
        let keystore = format!("{}-signing", self.app);
        let words = ["keystore", "create", &keystore, "--app", &self.app, "--common-name", "NAME"];
        let label = if self.could_serve.is_empty() { "  next" } else { "  or" };
        paper.put(&next(label).command(&words))
    }
}

impl Report for AppNextReport {
    const SCHEMA: &'static str = "ninekeys.app-next/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for side in &self.sides {
            let next = format!("{} ({})", side.next.version, side.next.number);
            let head = Line::new().bold(&self.title).text(format!(" · {}   ", side.platform.title()));
            let raised = if side.next.raised { "   the version before it is live, and closed" } else { "" };
            paper.put(&head.bold(next).text(raised).hang(2))?;
            let number = |number: &Option<BuildNumber>| match number {
                Some(number) => format!("{number}, the highest"),
                None => "none".into(),
            };
            paper.put(&row("  signed", number(&side.signed)))?;
            let there = match self.store_asked {
                true => number(&side.delivered),
                false => "not asked".into(),
            };
            let label = self
                .store
                .as_ref()
                .map_or_else(|| "  store has".to_owned(), |store| format!("  {store} has"));
            paper.put(&row(&label, there))?;
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for AppChangeReport {
    const SCHEMA: &'static str = "ninekeys.app-change/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        describe(&self.app, &self.says, &self.project, paper)?;
        store::published(&self.published, paper)?;
        if self.profiles_too_old.is_empty() {
            return Ok(());
        }
        let text = format!(
            "{} {} not grant what the app has now, and {} to be made again",
            self.profiles_too_old.join(", "),
            if self.profiles_too_old.len() == 1 { "does" } else { "do" },
            if self.profiles_too_old.len() == 1 { "has" } else { "have" },
        );
        paper.put(&Line::new().text("  ").sign(Sign::Warn).to(VALUE).text(text).hang(VALUE))
    }
}

impl Report for AppListReport {
    const SCHEMA: &'static str = "ninekeys.app-list/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.apps.is_empty() {
            paper.put(&Line::new().text("The project file has no apps yet."))?;
            let next = ["app", "add", "NAME", "--package", "PACKAGE", "--for", "direct"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        paper.put(&Line::new().text(words::count(self.apps.len(), "app")))?;
        for one in &self.apps {
            paper.blank()?;
            let head = Line::new().text("  ").bold(&one.app);
            let title = if one.says.title == one.app { "" } else { &one.says.title };
            paper.put(&head.text("   ").text(title))?;
            sides(&one.says, paper)?;
            if let Some(version) = &one.says.version {
                paper.put(&row("  version", version))?;
            }
            let keys =
                if one.keystores.is_empty() { "none yet".to_owned() } else { one.keystores.join(", ") };
            paper.put(&row("  keystores", keys))?;
            for (index, account) in one.accounts.iter().enumerate() {
                let label = if index == 0 { "  accounts" } else { "" };
                let more = [account.role.as_deref(), account.email.as_deref(), account.team.as_deref()];
                let more: Vec<&str> = more.into_iter().flatten().collect();
                paper.put(&row(label, "").bold(&account.account).text(format!("   {}", more.join(", "))))?;
            }
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for AppRemoveReport {
    const SCHEMA: &'static str = "ninekeys.app-remove/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.app).text("   ").text(&self.title);
        paper.put(&head.dim(format!("   taken out of {}", self.project)).hang(2))?;
        if !self.keystores.is_empty() {
            paper.put(&row("  keys", format!("stay as they are, in {}", self.keystores.join(", "))))?;
        }
        if self.releases > 0 {
            let many = words::count(self.releases, "release");
            paper.put(&row("  ledger", format!("keeps its {many}")))?;
        }
        Ok(())
    }
}

impl Report for AppStatementReport {
    const SCHEMA: &'static str = "ninekeys.app-statement/1";

    /// The file itself, ready to be put in its place.
    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let text = serde_json::to_string_pretty(&self.statements)?;
        text.lines().try_for_each(|line| paper.put(&Line::new().text(line)))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}
