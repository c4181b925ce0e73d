//! The cabinet itself: status, history, copies.

use std::io;

use jiff::Timestamp;
use ninekeys_cabinet::{HistoryRow, MemberKind, Role};
use ninekeys_core::findings::Level;
use ninekeys_ops::cabinet::adopt::AdoptReport;
use ninekeys_ops::cabinet::backup::{BackupReport, Kept, KeptCopy};
use ninekeys_ops::cabinet::drill::DrillReport;
use ninekeys_ops::cabinet::history::HistoryReport;
use ninekeys_ops::cabinet::members::add::MemberAddReport;
use ninekeys_ops::cabinet::members::list::MembersReport;
use ninekeys_ops::cabinet::members::remove::MemberRemoveReport;
use ninekeys_ops::cabinet::passphrase::PassphraseReport;
use ninekeys_ops::cabinet::pieces::join::PiecesJoinReport;
use ninekeys_ops::cabinet::pieces::make::PiecesMakeReport;
use ninekeys_ops::cabinet::pin::PinReport;
use ninekeys_ops::cabinet::remember::{ForgetReport, RememberReport};
use ninekeys_ops::cabinet::restore::RestoreReport;
use ninekeys_ops::cabinet::status::StatusReport;
use ninekeys_ops::cabinet::unlock_file::UnlockFileReport;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

const VALUE: usize = 16;

impl Report for StatusReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-status/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let sign = match self.verdict.findings.iter().map(|finding| finding.level).max() {
            None => Sign::Fine,
            Some(Level::Error) => Sign::Bad,
            Some(_) => Sign::Warn,
        };
        let head = Line::new().sign(sign).text(" ").bold(&self.path);
        paper.put(&head.text(format!(
            "   {}, {}",
            words::count(self.keys, "key"),
            words::count(self.items, "record")
        )))?;
        paper.blank()?;
        members(self, paper)?;
        proof(self, paper)?;
        for open in &self.open {
            let text = format!("{}, {} on {}", open.what, words::moment(open.at), open.machine);
            paper.put(&row("  on its way").text(text))?;
        }
        let backup = match &self.last_backup {
            Some(backup) => format!("{}, {}", backup.place, words::day_and_distance(self.at, backup.at)),
            None => "none".into(),
        };
        paper.put(&row("  backup").text(backup))?;
        if let Some(backup) = &self.off_site {
            let text = format!("{}, {}", backup.place, words::day_and_distance(self.at, backup.at));
            paper.put(&row("  elsewhere").text(text))?;
        }
        if let Some(until) = self.remembered_until {
            let line = row("  remembered").text(format!("on this machine until {}   ", words::moment(until)));
            paper.put(&line.command(&["cabinet", "forget"]))?;
        }
        let mut findings = self.verdict.findings.iter().peekable();
        while let Some(finding) = findings.next() {
            let sign = Sign::from(finding.level);
            paper
                .put(&row("").sign(sign).text(" ").like(sign, finding.rule).text("  ").text(&finding.text))?;
            // what one command mends is mended by it once
            let next = findings.peek().and_then(|next| next.mend.as_ref());
            if let Some(mend) = finding.mend.as_ref().filter(|mend| next != Some(*mend)) {
                paper.put(&row("  mend").command(mend))?;
            }
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        self.verdict.findings.is_empty()
    }
}

fn row(label: &str) -> Line<'_> {
    Line::new().dim(label).to(VALUE).hang(VALUE)
}

/// Who can unlock it.
fn members(status: &StatusReport, paper: &mut Paper<'_>) -> io::Result<()> {
    for (index, member) in status.members.iter().enumerate() {
        let label = if index == 0 { "  unlocked by" } else { "" };
        let kind = by(member.kind);
        let id: String = member.id.to_string().chars().take(8).collect();
        let text = format!("   {kind}, {}   ", role(&member.role));
        paper.put(&row(label).bold(&member.label).text(text).dim(id))?;
    }
    Ok(())
}

/// Which cabinet it is, and how far it was proved.
fn proof(status: &StatusReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let identity: String = status.identity.to_string().chars().take(16).collect();
    let pinned: Vec<String> = status.pinned_by.iter().map(ToString::to_string).collect();
    let pinned = if pinned.is_empty() {
        "pinned by nobody".into()
    } else {
        format!("pinned by {}", pinned.join(" and "))
    };
    paper.put(&row("  identity").text(format!("{identity}…   {pinned}")))?;
    let proof = if status.proved { "every seal opened" } else { "seals not opened: add --prove" };
    let chain = format!("proved up to change {}, by {} · {proof}", status.newest.seq, status.newest.by);
    paper.put(&row("  history").text(chain))?;
    let newest = format!(
        "last: {}, {} on {}",
        status.newest.what,
        words::moment(status.newest.at),
        status.newest.machine
    );
    paper.put(&row("").dim(newest))?;
    if !status.remembers {
        paper.put(
            &row("").dim("this machine has no place to remember it: an older file would not be noticed"),
        )?;
    }
    Ok(())
}

/// How somebody unlocks.
fn by(kind: MemberKind) -> &'static str {
    match kind {
        MemberKind::Passphrase => "a passphrase",
        MemberKind::UnlockFile => "an unlock file",
    }
}

impl Report for MembersReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-members/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let count = words::count(self.members.len(), "member");
        paper.put(
            &Line::new().bold(count).text(format!(", {} to open", words::count(self.secrets, "secret"))),
        )?;
        paper.blank()?;
        let mut rows = vec![
            ["member", "by", "may", "opens", "since", "id"]
                .into_iter()
                .map(|head| Line::new().dim(head))
                .collect::<Vec<_>>(),
        ];
        rows.extend(self.members.iter().map(|member| {
            let id: String = member.id.to_string().chars().take(8).collect();
            vec![
                Line::new().bold(&member.member),
                Line::new().text(by(member.kind)),
                Line::new().text(role(&member.role)),
                Line::new().text(format!("{} of {}", member.opens, self.secrets)),
                Line::new().text(words::day_and_distance(self.at, member.added)),
                Line::new().dim(id),
            ]
        }));
        paper.table(2, &rows)
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for MemberAddReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-members-add/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let member = &self.member;
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&member.member);
        paper.put(&head.text(format!("   {}, {}", by(member.kind), role(&member.role))).hang(2))?;
        paper.blank()?;
        paper.put(&row("  opens with").text(format!("{}: whoever has it needs no passphrase", self.file)))?;
        let secrets = words::count(member.opens, "secret");
        paper.put(&row("  opens").text(format!("{secrets}, and nothing else")))?;
        paper.put(&row("  older copies").text("do not open with it"))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for MemberRemoveReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-members-remove/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.member);
        let text = " opens nothing any more; what it could open is sealed under new keys";
        paper.put(&head.text(text).hang(2))?;
        paper.blank()?;
        if self.seen.is_empty() {
            return paper.put(&row("  has seen").text("no key and no password"));
        }
        for (index, seen) in self.seen.iter().enumerate() {
            let label = if index == 0 { "  has seen" } else { "" };
            paper.put(&row(label).text(format!("{} ({})", seen.item, seen.kind)))?;
        }
        paper.put(
            &row("  copies").text("made before still open with its key: what it has seen should be replaced"),
        )?;
        for left in &self.left {
            paper.put(&row("  not drafted").text(&left.because))?;
        }
        match &self.draft {
            Some(draft) => paper.put(&row("  next").command(&["rotate", "carry-out", draft])),
            None => {
                let names = self.seen.iter().map(|seen| seen.item.as_str());
                let words: Vec<&str> = ["rotate", "draft"].into_iter().chain(names).collect();
                paper.put(&row("  next").command(&words))
            }
        }
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for DrillReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-backup-drill/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let (sign, head) = match self.is_good() {
            true => (Sign::Fine, " brings everything back"),
            false => (Sign::Bad, " does not bring everything back"),
        };
        paper.put(&Line::new().sign(sign).text(" ").bold(&self.copy).text(head).hang(2))?;
        paper.blank()?;
        let written = words::day_and_distance(self.at, self.written);
        paper.put(&row("  as of").text(format!("change {}, {written}", self.row)))?;
        let records = words::count(self.items, "record");
        let signed = words::count(self.signed, "key");
        paper.put(&row("  proved").text(format!("{records} opened; {signed} signed a probe that holds")))?;
        for (label, names) in
            [("  untold", &self.untold), ("  broken", &self.broken), ("  missing", &self.missing)]
        {
            if !names.is_empty() {
                paper.put(&row(label).text(names.join(", ")))?;
            }
        }
        match self.is_good() {
            true => Ok(()),
            false => paper.put(&row("  next").command(&["cabinet", "backup", "FOLDER"])),
        }
    }

    fn is_quiet(&self) -> bool {
        self.is_good()
    }
}

impl Report for PiecesMakeReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-pieces-make/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let count = words::count(self.files.len(), "piece");
        let head = Line::new().sign(Sign::Fine).text(" ").bold(count);
        paper.put(
            &head
                .text(format!(", any {} of which open the cabinet; fewer tell nothing", self.needed))
                .hang(2),
        )?;
        paper.blank()?;
        for (index, file) in self.files.iter().enumerate() {
            let label = if index == 0 { "  pieces" } else { "" };
            paper.put(&row(label).text(file))?;
        }
        if self.replaced {
            paper.put(
                &row("  before")
                    .text("pieces that were made before open nothing any more, but for older copies"),
            )?;
        }
        let text =
            " print them, give each to somebody else, and delete the files: together they open everything";
        paper.put(&Line::new().text("  ").sign(Sign::Warn).text(text).hang(4))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for PiecesJoinReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-pieces-join/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let count = words::count(self.pieces, "piece");
        let head = Line::new().sign(Sign::Fine).text(" ").bold(count).text(" opened the cabinet");
        paper.put(&head.text(format!("; {} opens it from now on, as {}", self.file, self.member)).hang(2))?;
        let next = ["cabinet", "passphrase", "--unlock-file", &self.file];
        paper.put(&Line::new().dim("  next").to(VALUE).command(&next).hang(VALUE))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for PassphraseReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-passphrase/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let (what, copies) = if self.replaced {
            let what = "has a new passphrase, and everything is sealed anew; the old one opens nothing now";
            (what, "copies made before still open with the old one")
        } else {
            (
                "is a new member: its passphrase opens the cabinet, beside what opened it before",
                "copies made before do not open with it",
            )
        };
        paper.put(
            &Line::new().sign(Sign::Fine).text(" ").bold(&self.member).text(format!(" {what}")).hang(2),
        )?;
        paper.put(&Line::new().dim(format!("  {copies}")).hang(2))
    }
}

impl Report for BackupReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-backup/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for copy in &self.copies {
            let head = Line::new().sign(Sign::Fine).text(" ").bold(copy);
            let text = format!("   {}, read back and opened", words::count(self.items, "record"));
            paper.put(&head.text(text).hang(2))?;
        }
        if self.same_disk {
            let line = Line::new().text("  ").sign(Sign::Warn);
            paper.put(
                &line
                    .text(" a copy is on the same disk as the cabinet; when that disk goes, both go")
                    .hang(4),
            )?;
        }
        if !self.kept.is_empty() {
            paper.blank()?;
            paper.table_of(2, &["cannot be replaced", "copies"], &self.kept, |one| kept(self.at, one))?;
            paper.blank()?;
        }
        if !self.kept.is_empty() && self.off_site.is_none() {
            let line = Line::new().text("  ").sign(Sign::Note);
            let line = line.text(" no copy is kept off site: fire and theft take what is in one place   ");
            paper.put(&line.command(&["cabinet", "backup", "FOLDER", "--off-site"]).hang(4))?;
        }
        let first = self.copies.first().map_or("COPY", String::as_str);
        let back = Line::new().dim("  to bring it back").text("   ").command(&["cabinet", "restore", first]);
        paper.put(&back.hang(4))
    }
}

/// The copies of a key told one by one; what is older goes by number.
const TOLD: usize = 3;

fn kept(now: Timestamp, kept: &Kept) -> [Line<'_>; 2] {
    let told = |copy: &KeptCopy| {
        let where_to = if copy.off_site { " (off site)" } else { "" };
        format!("{} {}{where_to}", words::distance(now, copy.at), copy.place)
    };
    // the newest, and the newest of those that are elsewhere if it is none of them
    let mut copies: Vec<String> = kept.copies.iter().take(TOLD).map(told).collect();
    let near = kept.copies.iter().take(TOLD).any(|copy| copy.off_site);
    let far = kept.copies.iter().skip(TOLD).find(|copy| copy.off_site && !near);
    copies.extend(far.map(told));
    let older = kept.copies.len().saturating_sub(copies.len());
    if older > 0 {
        copies.push(format!("{older} more"));
    }
    let sign = if copies.is_empty() { Sign::Warn } else { Sign::Fine };
    if copies.is_empty() {
        copies.push("none".into());
    }
    [Line::new().sign(sign).text(" ").bold(&kept.name), Line::new().text(copies.join("; "))]
}

/// What a member may do, in a word.
fn role(role: &Role) -> String {
    let (compartments, exports) = match role {
        Role::Manager => return "may do everything".into(),
        Role::Reader => return "looks".into(),
        Role::Signer { compartments, exports } => (compartments, *exports),
    };
    let apps: Vec<&str> =
        compartments.iter().map(|name| name.strip_prefix("app/").unwrap_or("what is shared")).collect();
    let exports = if exports { "; writes keys out" } else { "" };
    format!("signs with {}{exports}", apps.join(", "))
}

impl Report for PinReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-pin/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let sign = if self.pinned { Sign::Fine } else { Sign::Note };
        let said = match (&self.project, self.pinned) {
            (Some(project), true) => format!("   is meant from now on; {project} and this machine say so"),
            (None, true) => "   is meant from now on; this machine says so".into(),
            _ => "   compare its identity with somebody who knows it".into(),
        };
        paper.put(&Line::new().sign(sign).text(" ").bold(&self.path).text(said).hang(2))?;
        paper.blank()?;
        paper.put(&row("  identity").text(self.identity.to_string()))?;
        paper.put(&row("  unlocked by").text(self.members.join(", ")))?;
        paper.put(
            &row("  history").text(words::count(usize::try_from(self.row).unwrap_or(usize::MAX), "change")),
        )?;
        if self.pinned {
            return Ok(());
        }
        let first: String = self.identity.to_string().chars().take(16).collect();
        paper.put(&row("  next").command(&["cabinet", "pin", &first]))
    }
}

impl Report for RememberReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-remember/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let until = self.until.strftime("%d %b, %H:%M UTC").to_string();
        let said = format!("   stays unlocked on this machine until {until}, for whoever works as this user");
        paper.put(&Line::new().sign(Sign::Warn).text(" ").bold(&self.path).text(said).hang(2))?;
        paper.blank()?;
        paper.put(&row("  as").text(self.member.as_str()))?;
        paper.put(&row("  sooner").command(&["cabinet", "forget"]))
    }
}

impl Report for ForgetReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-forget/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let said = match self.forgotten {
            true => "   is locked again; nothing of it is remembered on this machine",
            false => "   was not remembered on this machine",
        };
        paper.put(&Line::new().sign(Sign::Fine).text(" ").bold(&self.path).text(said).hang(2))
    }
}

impl Report for AdoptReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-adopt/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let many = words::count(self.adopted.taken.len(), "record");
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.to);
        paper.put(&head.text(format!("   {many} taken in from {}", self.from)).hang(2))?;
        let named = |all: &[String]| {
            all.iter().filter(|name| !name.contains('/')).cloned().collect::<Vec<_>>().join(", ")
        };
        if !self.adopted.taken.is_empty() {
            paper.put(&row("  taken in").text(named(&self.adopted.taken)))?;
        }
        if !self.adopted.differs.is_empty() {
            let text = format!("{}: both have it, and it stays as it is here", named(&self.adopted.differs));
            paper.put(&row("  differs").text(text))?;
        }
        Ok(())
    }
}

impl Report for RestoreReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-restore/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let history = usize::try_from(self.history).unwrap_or(usize::MAX);
        let counts = format!("{}, {}", words::count(self.items, "record"), words::count(history, "change"));
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.to);
        paper.put(
            &head.text(format!("   restored from {}: {counts}, every seal opened", self.from)).hang(2),
        )?;
        if !self.differences.lost.is_empty() {
            paper.put(&row("  given up").text(self.differences.lost.join(", ")))?;
        }
        if !self.differences.members_back.is_empty() {
            let text =
                format!("{}: what opened the copy opens it again", self.differences.members_back.join(", "));
            paper.put(&row("  back").text(text))?;
        }
        if let Some(aside) = &self.set_aside {
            paper.put(&row("  set aside").text("the cabinet that was there is ").bold(aside))?;
        }
        Ok(())
    }
}

impl Report for HistoryReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-history/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let proved = if self.verified { "every one signed by its author" } else { "unbroken" };
        let all = words::count(self.total, "change");
        let head = match self.rows.len() == self.total {
            true => format!("{all}, {proved}"),
            false => format!("{} of {all}, {proved}", self.rows.len()),
        };
        paper.put(&Line::new().text(head))?;
        for one in &self.against {
            let rows = |number: u64| words::count(usize::try_from(number).unwrap_or(usize::MAX), "change");
            let line = match one.missing {
                0 => Line::new().sign(Sign::Fine).text(format!(
                    " all of {} is here; {} came after it",
                    one.copy,
                    rows(one.newer)
                )),
                missing => Line::new().sign(Sign::Bad).text(format!(
                    " {} of {} behind change {} are not here: they were cut off, or others took their place",
                    rows(missing),
                    one.copy,
                    one.common
                )),
            };
            paper.put(&line.hang(2))?;
        }
        if self.rows.is_empty() {
            return Ok(());
        }
        paper.blank()?;
        paper.table_of(2, &["change", "when", "by", "what"], &self.rows, history_row)
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for UnlockFileReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-unlock-file/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.file);
        paper.put(&head.text(format!("   unlocks the cabinet, as the member {}", self.member)).hang(2))?;
        let text =
            " whoever has it needs no passphrase: keep it out of version control and off other machines";
        paper.put(&Line::new().text("  ").sign(Sign::Warn).text(text).hang(4))?;
        if !self.has_passphrase {
            paper.put(&no_passphrase())?;
        }
        Ok(())
    }
}

/// What the loss of every unlock file would mean, and what helps.
pub(super) fn no_passphrase() -> Line<'static> {
    let text = " no passphrase opens the cabinet: when every unlock file is lost, so is all that is in it   ";
    Line::new().text("  ").sign(Sign::Warn).text(text).command(&["cabinet", "passphrase"]).hang(4)
}

fn history_row(row: &HistoryRow) -> [Line<'_>; 4] {
    [
        Line::new().dim(row.seq.to_string()),
        Line::new().dim(words::moment(row.at)),
        Line::new().dim(format!("{} on {}", row.by, row.machine)),
        Line::new().text(&row.what),
    ]
}
