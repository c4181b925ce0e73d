//! What was found in a file, or at an item of the cabinet.

use std::io;

use ninekeys_ops::answers::{BuildSaid, KeySaid};
use ninekeys_ops::inspect::{
    BuildContent, CabinetContent, CertificateContent, Content, EntitlementsContent, EnvelopeContent,
    ExecutableContent, InfoContent, InspectReport, KeyContent, KeystoreContent, ProfileContent,
    RecipientSaid, RequestContent, SignatureContent, SignedContent, SliceContent, ToProject, Vouched,
};

use super::build::held_as;
use super::line::{Line, Paper, Sign};
use super::{Report, ios, words};

impl Report for InspectReport {
    const SCHEMA: &'static str = "ninekeys.inspect/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        match &self.content {
            Content::Build(build) => print_build(self, build, paper),
            Content::Executable(executable) => print_executable(self, executable, paper),
            Content::Certificates { encoding, certificates } => {
                let many = words::count(certificates.len(), "certificate");
                paper.put(&Line::new().bold(&self.name).text(format!("   {many}, {encoding}")))?;
                for certificate in certificates {
                    paper.blank()?;
                    print_certificate(self, certificate, paper)?;
                }
                Ok(())
            }
            Content::Keystore(keystore) => print_keystore(self, keystore, paper),
            Content::PrivateKey(key) => print_private(self, key, paper),
            Content::PublicKey(key) => print_public(self, key, paper),
            Content::Request(request) => print_request(self, request, paper),
            Content::Envelope(envelope) => print_envelope(self, envelope, paper),
            Content::Profile(profile) => print_profile(self, profile, paper),
            Content::Entitlements(list) => print_entitlements(self, list, paper),
            Content::Info(info) => print_info(self, info, paper),
            Content::Cabinet(cabinet) => print_cabinet(self, cabinet, paper),
            Content::Item(item) => item.text(paper),
        }
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

fn row<'a>(label: &'a str, value: &'a str) -> Line<'a> {
    Line::new().dim(label).to(18).text(value).hang(18)
}

fn print_entitlements(
    report: &InspectReport,
    list: &EntitlementsContent,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    let many = words::count(list.entitlements.len(), "entitlement");
    paper.put(&Line::new().bold(&report.name).text(format!("   {many}, {}", list.encoding)))?;
    paper.blank()?;
    for (key, value) in &list.entitlements {
        paper.put(&Line::new().text(format!("  {key} = {value}")).hang(4))?;
    }
    Ok(())
}

fn print_info(report: &InspectReport, info: &InfoContent, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(
        &Line::new().bold(&report.name).text(format!("   what a bundle says of itself, {}", info.encoding)),
    )?;
    paper.blank()?;
    let version = match (&info.version, &info.number) {
        (version, Some(number)) => {
            Some(format!("{}, build number {number}", version.as_deref().unwrap_or("none")))
        }
        (version, None) => version.clone(),
    };
    let bundle_id = Some(info.bundle_id.clone());
    let rows = [
        ("  bundle id", &bundle_id),
        ("  name", &info.title),
        ("  version", &version),
        ("  from iOS", &info.lowest),
        ("  built with", &info.sdk),
        ("  executable", &info.executable),
    ];
    for (label, value) in rows {
        if let Some(value) = value {
            paper.put(&row(label, value))?;
        }
    }
    for (index, (key, reason)) in info.asks_for.iter().enumerate() {
        let label = if index == 0 { "  asks for" } else { "" };
        paper.put(&row(label, &format!("{key}: {reason}")))?;
    }
    Ok(())
}

fn print_executable(
    report: &InspectReport,
    executable: &ExecutableContent,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    let slices = words::count(executable.slices.len(), "slice");
    let head = Line::new().bold(&report.name);
    paper.put(&head.text(format!("   Mach-O, {}, {slices}", words::size(executable.size))))?;
    for slice in &executable.slices {
        paper.blank()?;
        print_slice(report, slice, paper)?;
    }
    Ok(())
}

fn print_slice(report: &InspectReport, slice: &SliceContent, paper: &mut Paper<'_>) -> io::Result<()> {
    let what = format!("{} for {}, {}", slice.kind, slice.processor, words::size(slice.size));
    paper.put(&row("  slice", &what))?;
    if let (Some(platform), Some(lowest), Some(sdk)) = (&slice.platform, &slice.lowest, &slice.sdk) {
        paper.put(&row("  built for", &format!("{platform} {lowest} and later, with SDK {sdk}")))?;
    }
    if slice.encrypted {
        paper.put(&bad("  encrypted", "by the store: nobody else can sign it"))?;
    }
    for fault in &slice.misplaced {
        paper.put(&bad("  malformed", fault))?;
    }
    let line = Line::new().dim("  signature").to(18).hang(20);
    let (line, signed) = match &slice.signature {
        SignatureContent::None if slice.room < SIGNATURE_COMMAND => {
            let room = words::count(usize::try_from(slice.room).unwrap_or_default(), "byte");
            let text = format!(" none, and no room for one: {room} after the load commands, 16 are needed");
            (line.sign(Sign::Bad).text(text), None)
        }
        SignatureContent::None => (line.text("none"), None),
        SignatureContent::Unreadable { because } => {
            (line.sign(Sign::Bad).text(format!(" cannot be read: {because}")), None)
        }
        SignatureContent::ByLinker(signed) => (line.text("by a linker, without a certificate"), Some(signed)),
        SignatureContent::AdHoc(signed) => (line.text("without a certificate"), Some(signed)),
        SignatureContent::ByCertificate(signed) => {
            match &signed.leads_to {
                Some(vouched) if signed.faults.is_empty() => print_vouched("  signature", vouched, paper)?,
                _ => paper.put(&line.sign(Sign::Bad).text(" does not hold"))?,
            }
            return print_signed(report, signed, paper);
        }
    };
    paper.put(&line)?;
    let Some(signed) = signed else { return Ok(()) };
    print_signed(report, signed, paper)
}

fn bad<'a>(label: &'a str, text: &str) -> Line<'a> {
    Line::new().dim(label).to(18).sign(Sign::Bad).text(format!(" {text}")).hang(20)
}

/// How many bytes the load command of a signature takes.
const SIGNATURE_COMMAND: u64 = 16;

fn print_signed(report: &InspectReport, signed: &SignedContent, paper: &mut Paper<'_>) -> io::Result<()> {
    for fault in &signed.faults {
        paper.put(&bad("", fault))?;
    }
    let team = signed.team.as_ref().map_or_else(String::new, |team| format!("   team {team}"));
    paper.put(&row("  identifier", &format!("{}{team}", signed.identifier)))?;
    for one in &signed.directories {
        let pages = words::count(one.pages, "page");
        let of = one.page_size.map_or_else(String::new, |size| format!(" of {}", words::size(size)));
        paper.put(&row("  hashes", &format!("{} of {pages}{of}", one.hash)))?;
        paper.put(&row("  code hash", &one.code_hash))?;
    }
    if let Some(required) = &signed.requirement {
        let more = if required.holds.is_none() { "   (not all of it can be told here)" } else { "" };
        paper.put(&row("  requires", &format!("{}{more}", required.text)))?;
    }
    for (index, (key, value)) in signed.entitlements.iter().flatten().enumerate() {
        paper.put(&row(if index == 0 { "  claims" } else { "" }, &format!("{key}: {value}")))?;
    }
    if let Some(certificate) = &signed.certificate {
        paper.put(&row("  signer", &certificate.certificate.subject))?;
        let until = words::day_and_distance(report.at, certificate.certificate.not_after);
        let held = certificate.item.as_deref().unwrap_or("not in the cabinet");
        paper.put(&row("", &format!("{}, until {until} · {held}", certificate.key.algorithm)))?;
        paper.put(&row("  certificate", &words::whole(&certificate.certificate.sha256)))?;
    }
    Ok(())
}

fn print_profile(report: &InspectReport, profile: &ProfileContent, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(&Line::new().bold(&report.name).text("   provisioning profile"))?;
    paper.blank()?;
    paper.put(&row("  called", &profile.title))?;
    paper.put(&row("  UUID", &profile.uuid))?;
    let titles: Vec<&str> = profile.apps.iter().map(|app| app.title.as_str()).collect();
    let apps = if titles.is_empty() { "no app of the project file".into() } else { titles.join(", ") };
    let purpose = profile.destination.map_or("nothing that is known", |to| to.phrase());
    paper.put(&row("  for", &format!("{purpose}, {apps}")))?;
    let app_id = profile.app_id.as_deref().unwrap_or("none");
    paper.put(&row("  app id", &format!("{app_id}   team {}", profile.teams.join(", "))))?;
    for (index, one) in profile.certificates.iter().enumerate() {
        let label = if index == 0 { "  certificates" } else { "" };
        paper.put(&row(label, &format!("{}   {}", words::short(&one.sha256), one.whose())))?;
    }
    for (index, one) in profile.devices.iter().enumerate() {
        let label = if index == 0 { "  devices" } else { "" };
        let title = one.title.as_deref().unwrap_or("not in the cabinet");
        paper.put(&row(label, &format!("{}   {title}", one.identifier)))?;
    }
    for (index, (key, value)) in profile.entitlements.iter().enumerate() {
        paper.put(&row(if index == 0 { "  grants" } else { "" }, &format!("{key}: {value}")))?;
    }
    paper.put(&row("  begins", &words::day_and_distance(report.at, profile.not_before)))?;
    let until = words::day_and_distance(report.at, profile.not_after);
    let line = Line::new().dim("  ends").to(18).hang(18);
    match profile.not_after < report.at {
        true => paper.put(&line.sign(Sign::Bad).text(format!(" {until}: it has ended")))?,
        false => paper.put(&line.text(until))?,
    }
    print_vouched("  signature", &profile.signature, paper)?;
    let could_come_in = matches!(profile.signature, Vouched::Holds { trusted: None | Some(true), .. });
    match &profile.item {
        Some(item) => paper.put(&row("  in the cabinet", item)),
        None if could_come_in => {
            paper.put(&Line::new().dim("  next").to(18).command(&["profile", "import", &report.name]))
        }
        None => Ok(()),
    }
}

/// Whether a signature holds, and what it leads to.
fn print_vouched(label: &str, vouched: &Vouched, paper: &mut Paper<'_>) -> io::Result<()> {
    let line = Line::new().dim(label).to(18).hang(20);
    match vouched {
        Vouched::Holds { root, trusted } => {
            let (sign, more) = match trusted {
                Some(true) => (Sign::Fine, ", which the project names"),
                Some(false) => (Sign::Bad, ", which the project does not name"),
                None => (Sign::Note, ""),
            };
            paper.put(&line.sign(sign).text(format!(" holds, and leads to {root}{more}")))
        }
        Vouched::Broken { because } => {
            paper.put(&line.sign(Sign::Bad).text(format!(" is not to be believed: {because}")))
        }
    }
}

fn print_build(report: &InspectReport, build: &BuildContent, paper: &mut Paper<'_>) -> io::Result<()> {
    let entries = words::count(build.entries, "entry").replace("entrys", "entries");
    let form = build.form.word();
    let head = Line::new().bold(&report.name);
    paper.put(&head.text(format!("   {form}, {}, {entries}", words::size(build.size))))?;
    paper.blank()?;
    if let Some(says) = &build.says {
        print_says(build, says, paper)?;
    }
    for fault in &build.malformed {
        paper.put(&Line::new().dim("  malformed").to(18).sign(Sign::Bad).text(" ").text(fault).hang(20))?;
    }
    if let Some(lines) = &build.ios {
        return ios::print_content(lines, report.at, paper);
    }
    print_signatures(report, build, paper)
}

fn print_says(build: &BuildContent, says: &BuildSaid, paper: &mut Paper<'_>) -> io::Result<()> {
    let version = says.version.as_deref().unwrap_or("none");
    let number = match &says.number {
        Some(number) => number.to_string(),
        None if says.number_unknown => "not known".into(),
        None => "none".into(),
    };
    let word = build.platform.number_word();
    paper.put(&row(&format!("  {}", build.platform.id_word()), &says.id))?;
    paper.put(&row("  version", &format!("{version}, {word} {number}")))?;
    if let Some(manifest) = build.android.as_ref().and_then(|android| android.manifest.as_ref()) {
        let max = manifest.max_sdk.map_or_else(String::new, |max| format!(", highest {max}"));
        let sdk = format!("lowest {}, target {}{max}", manifest.min_sdk, manifest.target_sdk);
        paper.put(&row("  SDK", &sdk))?;
        let flags = [(manifest.debuggable, "debuggable"), (manifest.test_only, "test-only")];
        for (_, flag) in flags.iter().filter(|(set, _)| *set) {
            paper.put(&Line::new().dim("  flag").to(18).sign(Sign::Warn).text(" ").text(*flag))?;
        }
    }
    says.part.as_ref().map_or(Ok(()), |part| paper.put(&row("  part", part)))
}

fn print_signatures(report: &InspectReport, build: &BuildContent, paper: &mut Paper<'_>) -> io::Result<()> {
    let schemes = build.android.as_ref().map_or(&[][..], |android| &android.schemes);
    if schemes.is_empty() && build.signers.is_empty() {
        paper.put(&row("  signature", "none"))?;
    }
    for line in schemes {
        let state = if line.verified { "verified" } else { "present, not verified" };
        let sign = if line.verified { Sign::Fine } else { Sign::Warn };
        let text = format!(" {}  {state}", line.scheme);
        paper.put(&Line::new().dim("  signature").to(18).sign(sign).text(text))?;
    }
    for signer in &build.signers {
        let schemes: Vec<String> = signer.schemes.iter().map(ToString::to_string).collect();
        let subject = format!("{}   {}", signer.certificate.subject, schemes.join(", "));
        paper.put(&row("  signer", subject.trim_end()))?;
        let held = held_as(signer, "not in the cabinet");
        let until = words::day_and_distance(report.at, signer.certificate.not_after);
        paper.put(&row("", &format!("{}, until {until} · {held}", signer.key.algorithm)))?;
        paper.put(&row("  certificate", &words::whole(&signer.certificate.sha256)))?;
        paper.put(&row("  public key", &words::whole(&signer.key.sha256)))?;
    }
    let lineage = build.android.as_ref().map_or(&[][..], |android| &android.lineage);
    for (index, key) in lineage.iter().enumerate() {
        let label = if index == 0 { "  handed over" } else { "" };
        let may: Vec<&str> = key.may.iter().map(|may| may.word()).collect();
        let may = match (index + 1 == lineage.len(), may.is_empty()) {
            (true, _) => "signs now".to_owned(),
            (false, true) => "may do nothing any more".into(),
            (false, false) => format!("may still: {}", may.join(", ")),
        };
        paper.put(&row(label, &format!("{} {}   {may}", key.subject, words::short(&key.certificate))))?;
    }
    if !build.block.is_empty() {
        paper.put(&row("  signing block", &build.block.join(" ")))?;
    }
    Ok(())
}

fn print_keystore(
    report: &InspectReport,
    keystore: &KeystoreContent,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    let many = words::count(keystore.keys.len(), "key");
    let head = Line::new().bold(&report.name);
    paper.put(&head.text(format!("   {}, {}, {many}", keystore.format, keystore.encryption)))?;
    for key in &keystore.keys {
        paper.blank()?;
        paper.put(&Line::new().dim("  alias").to(18).bold(&key.alias))?;
        match &key.certificate {
            Some(certificate) => print_certificate(report, certificate, paper)?,
            None => paper.put(&Line::new().to(18).text("its certificate is seen only with the password"))?,
        }
    }
    for certificate in &keystore.others {
        paper.blank()?;
        print_certificate(report, certificate, paper)?;
    }
    if !keystore.opened {
        paper.blank()?;
        let line = Line::new()
            .text("  ")
            .sign(Sign::Warn)
            .text(" looked at without its password: nothing is proved   ");
        paper.put(&line.command(&["inspect", &report.name, "--password-in", "FILE"]).hang(4))?;
    }
    Ok(())
}

fn print_certificate(
    report: &InspectReport,
    certificate: &CertificateContent,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    paper.put(&row("  subject", &certificate.certificate.subject))?;
    let own = certificate.issuer == certificate.certificate.subject;
    paper.put(&row("  issuer", if own { "itself" } else { &certificate.issuer }))?;
    paper.put(&row("  serial", &certificate.serial))?;
    paper.put(&row("  begins", &words::day_and_distance(report.at, certificate.certificate.not_before)))?;
    paper.put(&row("  ends", &words::day_and_distance(report.at, certificate.certificate.not_after)))?;
    paper.put(&row("  key", &certificate.key.algorithm))?;
    paper.put(&row("  signed by", &certificate.signature_algorithm))?;
    paper.put(&row("  certificate", &words::whole(&certificate.certificate.sha256)))?;
    paper.put(&row("  public key", &words::whole(&certificate.key.sha256)))?;
    let held = match (&certificate.item, &certificate.same_key_as) {
        (Some(name), _) => name.clone(),
        (None, Some(name)) => format!("no, but its key is, in {name} under another certificate"),
        (None, None) => "no".into(),
    };
    paper.put(&row("  in the cabinet", &held))
}

fn title(report: &InspectReport, what: &str, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(&Line::new().bold(&report.name).text(format!("   {what}")))?;
    paper.blank()
}

fn print_key(key: &KeySaid, keystore: Option<&str>, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(&row("  key", &key.algorithm))?;
    paper.put(&row("  public key", &words::whole(&key.sha256)))?;
    paper.put(&row("  in the cabinet", keystore.unwrap_or("no")))
}

fn print_private(report: &InspectReport, key: &KeyContent, paper: &mut Paper<'_>) -> io::Result<()> {
    let clear = if key.encrypted { "encrypted" } else { "in clear" };
    title(report, &format!("private key, {clear}, {}", key.encoding), paper)?;
    if let Some(said) = &key.key {
        print_key(said, key.item.as_deref(), paper)?;
    }
    if let Some(unusable) = &key.unusable {
        let line = Line::new().dim("  not usable").to(18).sign(Sign::Warn).text(" ").text(unusable);
        paper.put(&line.hang(20))?;
    }
    if key.encrypted {
        paper.put(&row("  seen of it", "nothing: which key it is stands behind its password"))?;
    } else {
        let warning = " whoever can read this file has the key: keep it in a cabinet, or under a password";
        paper.put(&Line::new().to(2).sign(Sign::Warn).text(warning).hang(4))?;
    }
    for certificate in &key.certificates {
        paper.blank()?;
        print_certificate(report, certificate, paper)?;
    }
    Ok(())
}

fn print_public(report: &InspectReport, key: &KeyContent, paper: &mut Paper<'_>) -> io::Result<()> {
    title(report, &format!("public key, {}", key.encoding), paper)?;
    key.key.as_ref().map_or(Ok(()), |said| print_key(said, key.item.as_deref(), paper))
}

fn print_request(report: &InspectReport, request: &RequestContent, paper: &mut Paper<'_>) -> io::Result<()> {
    title(report, &format!("certificate request, {}", request.encoding), paper)?;
    paper.put(&row("  subject", &request.subject))?;
    print_key(&request.key, request.item.as_deref(), paper)?;
    let (sign, proved) = match request.proved {
        Some(true) => (Sign::Fine, "by the key that it is for"),
        Some(false) => (Sign::Bad, "not by the key that it is for: no authority takes it"),
        None => (Sign::Warn, "in a way that cannot be verified here"),
    };
    let text = format!(" {proved} ({})", request.signature_algorithm);
    paper.put(&Line::new().dim("  signed").to(18).sign(sign).text(text).hang(20))
}

fn print_envelope(
    report: &InspectReport,
    envelope: &EnvelopeContent,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    title(report, &format!("encrypted message (CMS), {}", envelope.encoding), paper)?;
    for recipient in &envelope.recipients {
        let who = match recipient {
            RecipientSaid::Certificate { issuer, serial } => {
                format!("the certificate with the serial number {serial} by {issuer}")
            }
            RecipientSaid::Key { id } => format!("the key whose SHA-1 is {id}"),
        };
        paper.put(&row("  opened by", &who))?;
    }
    paper.put(&row("  seen of it", "nothing: only who holds that key can open it"))
}

fn print_cabinet(report: &InspectReport, cabinet: &CabinetContent, paper: &mut Paper<'_>) -> io::Result<()> {
    title(report, &format!("cabinet, {}", words::count(cabinet.keys, "key")), paper)?;
    let (sign, stands) = match cabinet.project {
        ToProject::NothingPinned => (Sign::Note, "no project file says which cabinet is meant"),
        ToProject::ThatOne => (Sign::Fine, "the cabinet of this project, as new as it is known"),
        ToProject::Older => (Sign::Note, "a copy of this project's cabinet, from before"),
        ToProject::Parted => (Sign::Warn, "a copy of this project's cabinet that was changed by itself"),
        ToProject::Another => (Sign::Warn, "not the cabinet of this project"),
    };
    let stands = format!(" {stands}");
    paper.put(&Line::new().dim("  is").to(18).sign(sign).text(stands).hang(20))?;
    paper.put(&row("  identity", &cabinet.identity.to_string()))?;
    paper.put(&row("  made", &words::moment(cabinet.made)))?;
    let changes = words::count(usize::try_from(cabinet.changes).unwrap_or(usize::MAX), "change");
    paper.put(&row("  history", &format!("{changes}, the last {}", words::moment(cabinet.changed))))?;
    paper.put(&row("  opened by", &cabinet.members.join(", ")))?;
    paper.put(&row("  proved", "its history and every record; secrets only behind its passphrase"))
}
