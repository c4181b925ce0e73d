//! Keystores: made, changed, taken in, given out.

use std::borrow::Cow;
use std::io;

use ninekeys_core::model::{Role, State, key_called};
use ninekeys_ops::answers::AppSaid;
use ninekeys_ops::compare::{CompareReport, Sameness, Side};
use ninekeys_ops::keystore::OtherKey;
use ninekeys_ops::keystore::change::{ChangedKey, KeystoreChangeReport};
use ninekeys_ops::keystore::create::{KeyMade, KeystoreAddKeyReport, KeystoreCreateReport};
use ninekeys_ops::keystore::export::{Form, KeystoreExportReport, PasswordFrom};
use ninekeys_ops::keystore::hand_over::KeystoreHandOverReport;
use ninekeys_ops::keystore::import::{ImportedKey, KeystoreImportReport};
use ninekeys_ops::keystore::retire::KeystoreRetireReport;
use ninekeys_ops::keystore::settings::SettingsSaid;
use ninekeys_ops::keystore::take_out::KeystoreTakeOutReport;

use super::line::{Line, Paper, Sign};
use super::{Report, difference, words};

/// Where values stand behind labels.
const VALUE: usize = 16;

fn row<'a>(label: &'a str, value: &'a str) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

fn warn<'a>(text: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().text("  ").sign(Sign::Warn).to(VALUE).text(text).hang(VALUE)
}

impl Report for KeystoreCreateReport {
    const SCHEMA: &'static str = "ninekeys.keystore-create/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        headline(&self.made, &self.made.keystore, paper)?;
        let password = if self.generated_password {
            "made up and sealed in the cabinet"
        } else {
            "yours, sealed in the cabinet"
        };
        paper.put(&row("  password", password))?;
        if self.weak_password {
            let text = "it is easy to guess: leave the password options out, and a strong one is made up";
            paper.put(&warn(text))?;
        }
        copies(paper)
    }
}

impl Report for KeystoreAddKeyReport {
    const SCHEMA: &'static str = "ninekeys.keystore-add-key/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        headline(&self.made, &format!("{} in {}", self.made.alias, self.made.keystore), paper)?;
        paper.put(&row(
            "  keystore",
            &format!("{} has {} now", self.made.keystore, words::count(self.keys, "key")),
        ))?;
        copies(paper)
    }
}

fn headline(made: &KeyMade, name: &str, paper: &mut Paper<'_>) -> io::Result<()> {
    let until = format!("valid until {}", words::day_and_distance(made.at, made.certificate.not_after));
    let head = Line::new().sign(Sign::Fine).text(" ").bold(name);
    let head = head.text(format!("   {}, {until}", made.key.algorithm));
    let fingerprint = words::short(&made.certificate.sha256);
    paper.put(&head.dim("   certificate ").text(fingerprint).hang(2))?;
    paper.blank()?;
    let titles: Vec<&str> = made.apps.iter().map(|one| one.title.as_str()).collect();
    for sentence in what_depends(made.role, &made.apps, &made.others) {
        paper.put(&Line::new().text("  ").text(sentence).hang(2))?;
    }
    if let Some(text) = tied_together(&titles) {
        paper.put(&Line::new().text("  ").text(text).hang(2))?;
    }
    paper.put(&row("  subject", &made.certificate.subject))?;
    paper.put(&row("  alias", &made.alias))
}

fn copies(paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(&row("  copies", "1, in this cabinet; a backup is missing"))?;
    paper.put(&Line::new().dim("  next").to(VALUE).command(&["cabinet", "backup", "FOLDER"]))
}

fn and(names: &[&str]) -> String {
    match names {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

/// What hangs on a key: a sentence for the apps that have no other of its kind, and one for each that has.
fn what_depends(role: Role, apps: &[AppSaid], others: &[OtherKey]) -> Vec<String> {
    let has_other = |name: &str| others.iter().any(|other| other.app == name);
    let alone: Vec<&str> =
        apps.iter().filter(|one| !has_other(&one.app)).map(|one| one.title.as_str()).collect();
    let mut out = Vec::new();
    if apps.is_empty() || !alone.is_empty() {
        let app = if apps.is_empty() { "the app it is used for".to_owned() } else { and(&alone) };
        out.push(match role {
            Role::Signing => {
                format!("Every update of {app} must be signed with this key. It cannot be replaced if it is lost.")
            }
            Role::Upload => format!(
                "The store takes uploads of {app} that are signed with this key. If it is lost, the store can be \
                 asked to take another."
            ),
        });
    }
    for AppSaid { app: name, title } in apps.iter().filter(|one| has_other(&one.app)) {
        let own = others.iter().filter(|other| other.app == *name);
        let places: Vec<&str> = own.map(|other| other.keystore.as_str()).collect();
        let places = places.join(", ");
        out.push(match role {
            Role::Signing => format!(
                "{title} has a signing key already ({places}). What was released with that one must be updated \
                 with it; this one is for what was never released."
            ),
            Role::Upload => format!(
                "{title} has an upload key already ({places}). The store takes uploads with that one until it is \
                 asked to take this one."
            ),
        });
    }
    out
}

/// What it means when an app gets several keys of a kind at once.
fn several_at_once(apps: &str) -> String {
    format!(
        "Now there are several keys of one kind for {apps}: `sign` will ask which. What was released with one of them \
         must be updated with that one; take the app off the others."
    )
}

/// What one key for several apps means.
fn tied_together(titles: &[&str]) -> Option<String> {
    (titles.len() > 1).then(|| {
        format!(
            "One key for {} ties them together: whoever has it can publish updates of all of them, whoever loses \
             it loses them all, and on a device they may share permissions and data.",
            and(titles)
        )
    })
}

impl Report for KeystoreChangeReport {
    const SCHEMA: &'static str = "ninekeys.keystore-change/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.keystore);
        let same = if self.key.is_some() {
            "changed; the key is the same key"
        } else {
            "changed; its keys are the same keys"
        };
        paper.put(&head.text(format!("   {same}")))?;
        paper.blank()?;
        for (index, sentence) in self.changed.iter().enumerate() {
            paper.put(&row(if index == 0 { "  changed" } else { "" }, sentence))?;
        }
        if let Some(key) = &self.key {
            changed_key(key, paper)?;
        }
        if self.weak_password {
            paper.put(&warn("the password is easy to guess: --random-password makes a strong one up"))?;
        }
        paper.put(&Line::new().dim("  next").to(VALUE).command(&["show", &self.keystore]))
    }
}

/// What a key is after a change, and what that means.
fn changed_key(key: &ChangedKey, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(&row("  key", &format!("{}   {}", key.alias, words::short(&key.key.sha256))))?;
    for (index, (role, apps)) in words::by_role(&key.uses).into_iter().enumerate() {
        let label = if index == 0 { "  for" } else { "" };
        paper.put(&row(label, &format!("{} ({})", and(&apps), role.nine_key().word())))?;
        if let Some(text) = tied_together(&apps) {
            paper.put(&warn(text))?;
        }
        let others: Vec<OtherKey> =
            key.others.iter().filter(|other| apps.contains(&other.app.as_str())).cloned().collect();
        let mut named: Vec<AppSaid> =
            others.iter().map(|other| AppSaid { app: other.app.clone(), title: other.app.clone() }).collect();
        named.dedup();
        if !named.is_empty() {
            let sentences = what_depends(role, &named, &others);
            sentences.iter().try_for_each(|sentence| paper.put(&warn(sentence)))?;
        }
    }
    Ok(())
}

impl Report for KeystoreImportReport {
    const SCHEMA: &'static str = "ninekeys.keystore-import/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.keystore);
        let many = words::count(self.keys.len(), "key");
        paper.put(
            &head.text(format!("   {many} out of {} ({}, {})", self.file, self.format, self.encryption)),
        )?;
        for key in &self.keys {
            paper.blank()?;
            imported(self, key, paper)?;
        }
        paper.blank()?;
        let titles: Vec<&str> = self.apps.iter().map(|one| one.title.as_str()).collect();
        if !titles.is_empty() {
            let mut others: Vec<OtherKey> =
                self.keys.iter().flat_map(|key| key.others.iter().cloned()).collect();
            others.sort();
            others.dedup();
            let sentences = if others.iter().any(|other| other.keystore == self.keystore) {
                vec![several_at_once(&and(&titles))]
            } else {
                what_depends(self.role, &self.apps, &others)
            };
            for sentence in sentences {
                paper.put(&Line::new().text("  ").text(sentence).hang(2))?;
            }
        }
        if let Some(text) = tied_together(&titles) {
            paper.put(&Line::new().text("  ").text(text).hang(2))?;
        }
        if !self.left.is_empty() {
            paper.put(&row("  left there", &self.left.join(", ")))?;
        }
        if self.weak_password {
            paper.put(&warn("its password is easy to guess").to(VALUE + 32).command(&[
                "keystore",
                "change",
                &self.keystore,
                "--random-password",
            ]))?;
        }
        if self.open_keys {
            let text =
                format!("private keys stand in {} as they are: whoever can read it has them", self.file);
            paper.put(&warn(text))?;
        }
        if !self.authenticated {
            paper.put(&warn("it has no MAC: nothing in it says that it is as it was written"))?;
        }
        let text = format!("{} stays as it is: until a backup is proved, it is the other copy", self.file);
        paper.put(&row("  file", &text))?;
        copies(paper)
    }
}

fn imported(report: &KeystoreImportReport, key: &ImportedKey, paper: &mut Paper<'_>) -> io::Result<()> {
    let head =
        Line::new().dim("  alias").to(VALUE).bold(&key.alias).text(format!("   {}", key.key.algorithm));
    let until = words::day_and_distance(report.at, key.certificate.not_after);
    paper.put(
        &head.text(format!(", valid until {until}   {}", words::short(&key.certificate.sha256))).hang(VALUE),
    )?;
    paper.put(&row("  subject", &key.certificate.subject))?;
    if !key.same_as.is_empty() {
        let text = format!(
            "the cabinet holds this very key already, as {}; it is kept once",
            key.same_as.join(", ")
        );
        paper.put(&warn(text))?;
    }
    if let Some(why) = &key.cannot_sign {
        paper.put(&warn(format!("it is kept and can be exported, but not signed with: {why}")))?;
    }
    if !key.proved {
        paper.put(&warn(
            "whether it fits its certificate cannot be computed for keys of this kind: the file's word is taken",
        ))?;
    }
    if key.debug_key {
        paper.put(&warn(
            "it is a debug key: everybody knows its password, and no store takes a release with it",
        ))?;
    }
    if key.short_validity {
        paper.put(&warn(
            "it ends less than 25 years after it began: an app can be updated only while it is valid, and stores ask \
             for decades",
        ))?;
    }
    if let Some(last) = key.released_otherwise.last() {
        let many = match key.released_otherwise.len() - 1 {
            0 => String::new(),
            more => format!(" and {} more", more),
        };
        paper.put(&warn(format!(
            "{last}{many} was signed with this key under another certificate: devices compare certificates, and take no \
             update that is signed under this one"
        )))?;
    }
    if key.issuers_left > 0 {
        let many = words::count(key.issuers_left, "certificate");
        paper.put(&row("", &format!("{many} above its own stayed in the file")))?;
    }
    Ok(())
}

/// A properties file that lasts, and what keeps it out of version control.
fn lasting(settings: &SettingsSaid, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(&row("  settings", &format!("{}: {}", settings.file, settings.fields.join(", "))))?;
    let lasting = "the password stands in it, readable by you alone, until you delete it";
    paper.put(&row("", lasting))?;
    if !settings.keep_out.is_empty() {
        paper.put(&row("  keep out", "of version control: lines for its list of what it leaves out"))?;
    }
    for line in &settings.keep_out {
        paper.put(&Line::new().to(VALUE).bold(line))?;
    }
    Ok(())
}

impl Report for KeystoreExportReport {
    const SCHEMA: &'static str = "ninekeys.keystore-export/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let form = match self.form {
            Form::Pkcs12 => "PKCS#12, private keys included",
            Form::CertificatePem => "certificate, PEM; no private key",
            Form::CertificateDer => "certificate, DER; no private key",
        };
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.file);
        paper.put(&head.text(format!("   {form}")))?;
        paper.blank()?;
        for (index, one) in self.entries.iter().enumerate() {
            let label = if index == 0 { "  holds" } else { "" };
            let place = Line::new().dim(label).to(VALUE).bold(key_called(&self.keystore, &one.alias));
            let certificate = words::whole(&one.certificate.sha256);
            let place = place.text("   certificate ");
            paper.put(&place.text(certificate).hang(VALUE))?;
        }
        let Some(from) = self.password else { return Ok(()) };
        let password = match from {
            PasswordFrom::Keystore => "the keystore's own, as it is sealed in the cabinet",
            PasswordFrom::Chosen => "yours, for this file",
            PasswordFrom::Generated => "made up for this file",
        };
        paper.put(&row("  password", &format!("{password}; one for the store and every key")))?;
        match &self.password_file {
            Some(file) => paper.put(&row("", &format!("written into {file}, which only you can read")))?,
            None if from != PasswordFrom::Chosen && self.properties.is_none() => {
                let text = match self.foreign_password {
                    true => "it came with the keystore: others may know it; to have it written down:",
                    false => "nobody has seen it; to have it written down:",
                };
                let again = [
                    "keystore",
                    "export",
                    &self.keystore,
                    "--to",
                    &self.file,
                    "--note-password",
                    "FILE",
                    "--replace",
                ];
                let again: &[&str] = if from == PasswordFrom::Generated { &[] } else { &again };
                let line = Line::new().to(VALUE).text(text).hang(VALUE);
                if again.is_empty() {
                    paper.put(&warn("nobody has seen it: export again with --note-password FILE"))?;
                } else {
                    paper.put(&line)?;
                    paper.put(&Line::new().to(VALUE).command(again).hang(VALUE))?;
                }
            }
            None => {}
        }
        if self.weak_password {
            paper.put(&warn("it is easy to guess"))?;
        }
        self.properties.as_ref().map_or(Ok(()), |settings| lasting(settings, paper))?;
        paper.put(&warn(
            "whoever has the file and its password can publish updates: do not leave it lying around",
        ))
    }
}

impl Report for KeystoreHandOverReport {
    const SCHEMA: &'static str = "ninekeys.keystore-hand-over/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.file);
        let key = format!(
            "   the {} {}, encrypted",
            self.role.nine_key().word(),
            key_called(&self.keystore, &self.alias)
        );
        paper.put(&head.text(key))?;
        paper.blank()?;
        let receiver = self.receiver.subject.as_deref().unwrap_or("a public key without a name");
        paper.put(&row("  receiver", &format!("{receiver}   {}", self.receiver.key.algorithm)))?;
        paper.put(&row("  its key", &words::whole(&self.receiver.key.sha256)))?;
        paper.put(&row("  hands over", &format!("the key {}", words::whole(&self.key.sha256))))?;
        let text = "only the receiver can open the file. Compare its key's fingerprint with the one the store shows \
                    before you send it: who holds this key can publish updates";
        paper.put(&warn(text))?;
        paper.put(&row("  history", "written down").to(VALUE + 16).command(&["cabinet", "history"]))
    }
}

impl Report for CompareReport {
    const SCHEMA: &'static str = "ninekeys.compare/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let (sign, says) = match self.same {
            Sameness::Certificate => (Sign::Fine, "The same certificate, and so the same key"),
            Sameness::Key if self.is_same() => (Sign::Fine, "The same key"),
            Sameness::Key => (Sign::Bad, "The same key, under another certificate"),
            Sameness::Part => (Sign::Bad, "Only a part of the signers is the same"),
            Sameness::Unproved => (Sign::Bad, "Not proved: a signature does not hold"),
            Sameness::Nothing if self.one.keys.is_empty() && self.other.keys.is_empty() => {
                (Sign::Bad, "Neither of the two is signed")
            }
            Sameness::Nothing if self.one.keys.is_empty() || self.other.keys.is_empty() => {
                (Sign::Bad, "Only one of the two is signed")
            }
            Sameness::Nothing => (Sign::Bad, "Not the same key"),
        };
        let head = Line::new().sign(sign).text(" ").bold(says);
        paper.put(&head.text(format!("   {} and {}", self.one.name, self.other.name)).hang(2))?;
        let means = match self.same {
            Sameness::Key if !self.is_same() => {
                "devices and stores compare certificates: who knows one of them takes the other for a stranger"
            }
            Sameness::Unproved => {
                "whoever has a certificate can put it into a build; only the key can sign under it"
            }
            _ => "",
        };
        if !means.is_empty() {
            paper.put(&Line::new().text("  ").text(means).hang(2))?;
        }
        for (index, side) in [&self.one, &self.other].into_iter().enumerate() {
            paper.blank()?;
            compared_side(self, index, side, paper)?;
        }
        let Some(difference) = &self.difference else { return Ok(()) };
        paper.blank()?;
        let (before, now) = (difference.size_before, difference.size);
        let head = Line::new().text("  ").bold("From the first to the second");
        let sizes = format!(
            "   {} to {}, {}",
            words::size(before),
            words::size(now),
            difference::signed_size(before, now)
        );
        paper.put(&head.text(sizes).hang(4))?;
        difference::put(difference, paper)
    }
}

fn compared_side(report: &CompareReport, index: usize, side: &Side, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(&Line::new().text("  ").bold(&side.name).text(format!("   {}", side.kind)).hang(4))?;
    for key in &side.keys {
        let mut shared = report.pairs.iter().filter(|pair| {
            let label = if index == 0 { &pair.one } else { &pair.other };
            *label == key.label
        });
        let sign = match shared.next() {
            Some(_) if report.same == Sameness::Unproved && !side.notes.is_empty() => Sign::Warn,
            Some(_) => Sign::Fine,
            None => Sign::NotNeeded,
        };
        paper.put(
            &Line::new()
                .text("    ")
                .sign(sign)
                .text(format!(" {}   {}", key.label, key.key.algorithm))
                .hang(6),
        )?;
        let row = |label: &'static str, fingerprint: &str| {
            let at = VALUE + 4;
            Line::new().to(6).dim(label).to(at).text(words::whole(fingerprint)).hang(at)
        };
        if let Some(certificate) = &key.certificate {
            paper.put(&row("certificate", &certificate.sha256))?;
        }
        paper.put(&row("key", &key.key.sha256))?;
    }
    for note in &side.notes {
        paper.put(&Line::new().text("    ").sign(Sign::Warn).text(format!(" {note}")).hang(6))?;
    }
    Ok(())
}

impl Report for KeystoreRetireReport {
    const SCHEMA: &'static str = "ninekeys.keystore-retire/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.keystore);
        let (says, words) = match self.state {
            State::Retired => (
                "   retired: nothing is signed with it by itself; it is kept, and can be exported",
                &["--back"][..],
            ),
            State::Active => ("   in use again", &[][..]),
        };
        paper.put(&head.text(says).hang(2))?;
        if !self.without_key.is_empty() {
            let apps: Vec<&str> = self.without_key.iter().map(String::as_str).collect();
            paper.put(&warn(format!(
                "{} has no other signing key: updates of it cannot be signed now",
                and(&apps)
            )))?;
        }
        if words.is_empty() {
            return Ok(());
        }
        let undo = [&["keystore", "retire", &self.keystore], words].concat();
        paper.put(&Line::new().dim("  undo").to(VALUE).command(&undo))
    }
}

impl Report for KeystoreTakeOutReport {
    const SCHEMA: &'static str = "ninekeys.keystore-take-out/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.keystore);
        let copies = match (self.in_backup, self.kept.is_empty()) {
            (true, _) => "; the last backup still has it",
            (false, true) => "; no backup of this cabinet has its keys",
            (false, false) => "",
        };
        paper.put(&head.text(format!("   is not in the cabinet any more{copies}")).hang(2))?;
        if !self.kept.is_empty() {
            let text = format!("{}, since something else needs it", self.kept.join(", "));
            paper.put(&row("  stays", &text))?;
        }
        Ok(())
    }
}
