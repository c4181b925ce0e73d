//! What is at the store.

use std::io;

use jiff::Timestamp;
use ninekeys_ops::store::DeliverySaid;
use ninekeys_ops::store::advance::AdvanceReport;
use ninekeys_ops::store::candidates::CandidatesReport;
use ninekeys_ops::store::deliveries::DeliveriesReport;
use ninekeys_ops::store::fetch::FetchReport;
use ninekeys_ops::store::keys::StoreKeysReport;
use ninekeys_ops::store::publish::Published;
use ninekeys_ops::store::upload::UploadReport;
use ninekeys_portal::store::{Origin, Stage};

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 14;
/// The same where an app or its keys are described.
const BESIDE_APPS: usize = 16;

fn row<'a>(label: &'a str, value: impl Into<std::borrow::Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

/// The same where labels are longer.
fn wide<'a>(label: &'a str, value: impl Into<std::borrow::Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(BESIDE_APPS).text(value).hang(BESIDE_APPS)
}

/// The mark of a stage.
fn sign(stage: Stage) -> Sign {
    match stage {
        Stage::Live => Sign::InUse,
        Stage::Testing | Stage::Ready => Sign::Fine,
        Stage::Processing | Stage::InReview | Stage::Approved => Sign::Due,
        Stage::Rejected => Sign::Bad,
    }
}

/// `Crossing 2.4.0 (12) · Android`
fn called_on(one: &DeliverySaid) -> String {
    format!("{} · {}", called(one), one.delivery.platform.title())
}

/// `Crossing 2.4.0 (12)`
fn called(one: &DeliverySaid) -> String {
    let title = one.app.as_ref().map_or(one.delivery.id.as_str(), |app| app.title.as_str());
    format!("{title} {} ({})", one.delivery.version, one.delivery.number)
}

/// A time that somebody waits for, in its largest unit.
fn lasted(seconds: u64) -> String {
    match seconds {
        0..=119 => words::tied(&format!("{seconds} s")),
        120..=7_199 => words::tied(&format!("{} min", seconds / 60)),
        7_200..=172_799 => words::tied(&format!("{} h", seconds / 3_600)),
        _ => words::tied(&format!("{} d", seconds / 86_400)),
    }
}

/// How far a build is, since when, and how long that took before.
fn stands(one: &DeliverySaid, at: Timestamp) -> String {
    let since = one.since.map(|since| {
        let seconds = u64::try_from(at.duration_since(since).as_secs()).unwrap_or(0);
        format!(" for {}", lasted(seconds))
    });
    let before = one.took_before.map(|seconds| format!("; {} the last time", lasted(seconds)));
    let own =
        format!("{}{}{}", one.delivery.stage.words(), since.unwrap_or_default(), before.unwrap_or_default());
    [Some(own), how(one), one.delivery.because.clone()].into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// Who has it, or will have it, where that is not everyone at once.
fn how(one: &DeliverySaid) -> Option<String> {
    let delivery = &one.delivery;
    match (delivery.stage, delivery.share, delivery.on) {
        (Stage::Live, Some(share), _) if delivery.held => Some(format!("held at {}", percent(share))),
        (Stage::Live, Some(share), _) => Some(format!("for {}", percent(share))),
        (Stage::InReview | Stage::Approved, share, on) => {
            let on = on.map(|on| format!("live from {}", words::moment(on)));
            let share = share.map(|share| format!("for {} first", percent(share)));
            let all: Vec<String> = on.into_iter().chain(share).collect();
            (!all.is_empty()).then(|| all.join(", "))
        }
        (Stage::Testing, ..) if !delivery.groups.is_empty() => {
            Some(format!("with {}", delivery.groups.join(", ")))
        }
        _ => None,
    }
}

fn percent(share: u8) -> String {
    words::tied(&format!("{share} %"))
}

impl Report for UploadReport {
    const SCHEMA: &'static str = "ninekeys.upload/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let one = &self.delivery;
        let head = Line::new().sign(Sign::Fine).text(" ").bold(called_on(one));
        let size = words::size(one.delivery.size);
        let store = words::the_store(self.store.as_deref());
        paper.put(&head.text(format!("   is at {store} · {size} · {}", one.delivery.file)).hang(2))?;
        paper.blank()?;
        if let Some(raised) = &self.raised {
            let was =
                format!("{} was {} ({}), and is signed again", raised.from, raised.version, raised.number);
            paper.put(&row("  raised", was))?;
        }
        let sent = match self.resumed {
            0 => words::size(self.sent),
            there => format!("{}, {} were there from before", words::size(self.sent), words::size(there)),
        };
        paper.put(&row("  sent", sent))?;
        paper.put(&row("  stands", stands(one, self.at)))?;
        if self.warnings > 0 {
            paper.put(&row("  check", words::stops_nothing(self.warnings)))?;
        }
        let next = Line::new().dim("  next").to(VALUE);
        paper.put(&next.command(&["deliveries", "--watch"]).hang(VALUE))
    }
}

impl Report for CandidatesReport {
    const SCHEMA: &'static str = "ninekeys.upload-candidates/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let store = words::the_store(self.store.as_deref());
        let ready = self.builds.iter().filter(|one| one.rule.is_none()).count();
        let head = match ready {
            0 => format!("No build that was signed for {store} could go there now"),
            1 => format!("1 build could go to {store}"),
            many => format!("{many} builds could go to {store}"),
        };
        let there = format!("   {} there already", words::count(self.there, "build"));
        paper.put(&Line::new().bold(head).dim(there).hang(2))?;
        if self.builds.is_empty() {
            let next = ["sign", "BUILD", "--for", "store"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        paper.blank()?;
        let heads = ["build", "platform", "signed", "stands in the way", "file"];
        paper.table_of(2, &heads, &self.builds, |one| {
            let mark = if one.rule.is_none() { Sign::Fine } else { Sign::Warn };
            let called = format!("{} {} ({})", one.app, one.version, one.number);
            [
                Line::new().sign(mark).text(" ").bold(called),
                Line::new().text(one.platform.title()),
                Line::new().text(words::day_and_distance(self.at, one.signed)),
                Line::new().like(mark, one.because.as_deref().unwrap_or("nothing")),
                Line::new().text(&one.file),
            ]
        })?;
        match self.builds.iter().find(|one| one.rule.is_none()) {
            Some(one) => paper.put(&Line::new().dim("  next   ").command(&["upload", &one.file])),
            None => Ok(()),
        }
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for DeliveriesReport {
    const SCHEMA: &'static str = "ninekeys.deliveries/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let store = words::the_store(self.store.as_deref());
        if self.deliveries.is_empty() {
            paper.put(&Line::new().text(format!("No build is at {store}.")))?;
            return paper.put(&Line::new().dim("  next   ").command(&["upload", "BUILD"]));
        }
        paper.put(
            &Line::new().bold(words::count(self.deliveries.len(), "build")).text(format!(" at {store}")),
        )?;
        paper.blank()?;
        let heads = ["build", "platform", "stands", "id", "in the ledger", "file"];
        paper.table_of(2, &heads, &self.deliveries, |one| {
            let mark = sign(one.delivery.stage);
            [
                Line::new().sign(mark).text(" ").bold(called(one)),
                Line::new().text(one.delivery.platform.title()),
                Line::new().like(mark, stands(one, self.at)),
                Line::new().dim(&one.delivery.delivery),
                Line::new().text(if one.in_ledger { "yes" } else { "no" }),
                Line::new().text(&one.delivery.file),
            ]
        })
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for AdvanceReport {
    const SCHEMA: &'static str = "ninekeys.advance/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let one = &self.delivery;
        let mark = sign(one.delivery.stage);
        let head = Line::new().sign(mark).text(" ").bold(called_on(one));
        let was = self.was.words();
        let (stage, how) = (one.delivery.stage, how(one).map(|how| format!(", {how}")).unwrap_or_default());
        let was = if stage == self.was { String::new() } else { format!(", and was {was}") };
        paper.put(&head.text(format!("   is {}{how}{was}", stage.words())).hang(2))?;
        paper.put(&row("  SHA-256", one.delivery.sha256.as_str()))?;
        if let Some(review) = &self.review {
            paper.put(&Line::new().text("  The people of the review were told:"))?;
            for (label, text) in review.lines() {
                paper.put(&row(&format!("    {label}"), text))?;
            }
        }
        let next = Line::new().dim("  next").to(VALUE);
        paper.put(&next.command(&["deliveries"]).hang(VALUE))
    }
}

/// What the store knows of an app now.
pub(super) fn published(all: &[Published], paper: &mut Paper<'_>) -> io::Result<()> {
    for one in all {
        let done = if one.known { "was there" } else { "is there now" };
        let record = &one.record;
        let seen = match record.seen_by.as_slice() {
            [] => String::new(),
            some => format!(", seen by {}", some.join(", ")),
        };
        let text = format!(
            "{} for {}, SKU {}, in {}{seen}: {done}",
            record.id,
            record.platform.title(),
            record.sku,
            record.language
        );
        // under what the project file says of the app
        paper.put(&Line::new().dim("  store").to(BESIDE_APPS).text(text).hang(BESIDE_APPS))?;
    }
    Ok(())
}

impl Report for StoreKeysReport {
    const SCHEMA: &'static str = "ninekeys.store-keys/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let store = words::the_store(self.store.as_deref());
        let now = if self.known { "" } else { " now" };
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.title);
        let done = match &self.next_upload {
            Some(next) => format!("takes another upload key from {} on", words::moment(next.from)),
            None => format!("{store} holds its signing key{now}"),
        };
        paper.put(&head.text(format!("   {done} · {}", self.package)).hang(2))?;
        paper.blank()?;
        let came = match &self.origin {
            Origin::HandedOver => "handed over".to_owned(),
            Origin::MadeByStore => "made by the store, and nobody else has it".to_owned(),
            Origin::OfApp(other) => format!("the one of {other}"),
        };
        let since = words::day_and_distance(self.at, self.since);
        paper.put(&wide("  signing key", format!("{came}; the store signs since {since}")))?;
        paper.put(&wide("  devices see", format!("SHA-256 {}", self.signing.sha256)))?;
        paper.put(
            &Line::new().to(BESIDE_APPS).text(format!("SHA-1   {}", self.signing_sha1)).hang(BESIDE_APPS),
        )?;
        paper.put(&wide("  upload key", format!("SHA-256 {}", self.upload.sha256)))?;
        if let Some(next) = &self.next_upload {
            let waits = format!("SHA-256 {}, from {} on", next.certificate.sha256, words::moment(next.from));
            paper.put(&wide("  then", waits))?;
        }
        let next = Line::new().dim("  next").to(BESIDE_APPS);
        paper.put(&next.command(&["sign", "BUILD", "--app", &self.app, "--for", "store"]).hang(BESIDE_APPS))
    }
}

impl Report for FetchReport {
    const SCHEMA: &'static str = "ninekeys.deliveries-get/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.output);
        let whose = if self.as_uploaded { "as it was uploaded" } else { "as the store signs it" };
        let size = words::size(self.output_size);
        paper.put(&head.text(format!("   {}, {whose} · {size}", called_on(&self.delivery))).hang(2))?;
        paper.put(&row("  SHA-256", self.output_sha256.as_str()))?;
        let next = Line::new().dim("  next").to(VALUE);
        paper.put(&next.command(&["inspect", &self.output]).hang(VALUE))
    }
}
