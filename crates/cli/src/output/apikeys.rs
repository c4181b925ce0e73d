//! API keys: sealed, retired.

use std::borrow::Cow;
use std::io;

use ninekeys_core::model::{NineKey, State};
use ninekeys_ops::apikey::ApiKeySaid;
use ninekeys_ops::apikey::ask::ApiKeyAskReport;
use ninekeys_ops::apikey::create::ApiKeyCreateReport;
use ninekeys_ops::apikey::import::ApiKeyImportReport;
use ninekeys_ops::apikey::retire::ApiKeyRetireReport;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 18;

fn row<'a>(label: &'a str, value: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

/// What an API key is, below its name.
fn body(said: &ApiKeySaid, paper: &mut Paper<'_>) -> io::Result<()> {
    let account = said.kind == NineKey::Service || said.label.is_some();
    let issuer = if account { "  account" } else { "  issuer id" };
    let label = said.label.as_deref().unwrap_or_default();
    for (name, value) in [("  key id", said.key_id.as_str()), (issuer, &said.issuer), ("  label", label)] {
        if !value.is_empty() {
            paper.put(&row(name, value))?;
        }
    }
    let role = if said.role.is_empty() { "not said" } else { &said.role };
    let uses: Vec<String> = said.uses.iter().map(ToString::to_string).collect();
    let uses = if uses.is_empty() { "nothing said".to_owned() } else { uses.join(", ") };
    paper.put(&row("  role", role))?;
    paper.put(&row("  used for", uses))?;
    if let Some(store) = &said.store {
        paper.put(&row("  at", words::the_store(Some(store))))?;
    }
    let titles: Vec<&str> = said.apps.iter().map(|app| app.title.as_str()).collect();
    paper.put(&row("  for", if titles.is_empty() { "all apps".to_owned() } else { titles.join(", ") }))?;
    if let Some(key) = &said.key {
        let text = format!(" here, sealed   {}, {}", key.algorithm, words::short(&key.sha256));
        paper.put(&Line::new().dim("  private key").to(VALUE).sign(Sign::Fine).text(text).hang(VALUE + 2))?;
    }
    said.vendor_number.as_ref().map_or(Ok(()), |number| paper.put(&row("  vendor number", number)))
}

impl Report for ApiKeyImportReport {
    const SCHEMA: &'static str = "ninekeys.apikey-import/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let said = &self.api_key;
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&said.api_key);
        let word = if said.label.is_some() { "upload password" } else { said.kind.word() };
        paper.put(&head.text(format!("   {word}, sealed")).hang(2))?;
        paper.blank()?;
        body(said, paper)?;
        let what = if said.label.is_some() { "the password" } else { "the private key" };
        let text = format!("{} has {what} in it still: delete it once a backup has this one", self.file);
        paper.put(&Line::new().text("  ").sign(Sign::Warn).to(VALUE).text(text).hang(VALUE))?;
        if said.kind == NineKey::StoreApi {
            paper.put(&row("", "the portal gives it out once, and never again"))?;
        }
        paper.put(&Line::new().dim("  next").to(VALUE).command(&["cabinet", "backup", "FOLDER"]))
    }
}

impl Report for ApiKeyAskReport {
    const SCHEMA: &'static str = "ninekeys.apikey-ask/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let said = &self.api_key;
        let head = Line::new().sign(Sign::Due).text(" ").bold(&said.api_key);
        let of = said.asked_of.as_deref().unwrap_or_default();
        paper.put(&head.text(format!("   {}, asked for: the turn of {of}", said.kind.word())).hang(2))?;
        paper.blank()?;
        body(said, paper)?;
        paper.put(&row("", "the board says so until it comes"))?;
        let words = ["apikey", "import", "FILE", "--name", &said.api_key, "--key-id", "ID", "--issuer", "ID"];
        paper.put(&Line::new().dim("  next").to(VALUE).command(&words).hang(VALUE))
    }
}

impl Report for ApiKeyCreateReport {
    const SCHEMA: &'static str = "ninekeys.apikey-create/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let said = &self.api_key;
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&said.api_key);
        paper.put(&head.text(format!("   {}, made and sealed", said.kind.word())).hang(2))?;
        paper.blank()?;
        body(said, paper)?;
        let text =
            "its private key was fetched now, which can be done once: it is nowhere but in this cabinet";
        paper.put(&Line::new().text("  ").sign(Sign::Warn).to(VALUE).text(text).hang(VALUE))?;
        paper.put(&Line::new().dim("  next").to(VALUE).command(&["cabinet", "backup", "FOLDER"]))
    }
}

impl Report for ApiKeyRetireReport {
    const SCHEMA: &'static str = "ninekeys.apikey-retire/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let retired = self.api_key.state == State::Retired;
        let text = match retired {
            true => "   retired: it makes no tokens any more, and is kept",
            false => "   in use again",
        };
        paper.put(&Line::new().sign(Sign::Fine).text(" ").bold(&self.api_key.api_key).text(text).hang(2))?;
        if retired {
            let text = "the portal takes tokens that were made with it until it is revoked there";
            paper.put(&row("  at the portal", text))?;
        }
        Ok(())
    }
}
