//! Builds whose verdict is known, for the folder `testkit/cases/builds`: each file says its verdict in its name, after two
//! underscores `ready`, `unreadable`, or the rules that find an error in it. They are made once and kept: the keys are
//! new each time, the verdicts are not.

use std::sync::Mutex;
use std::sync::atomic::AtomicBool;

use ninekeys_core::android::{Identity, Lineage, Opened, Package, Rotation, Schemes, Signing, USUAL_FLAGS};
use ninekeys_core::certificate::{Subject, self_signed};
use ninekeys_core::digest::sha256;
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::{Algorithm, KeyMaker, PrivateKey, SignatureKind, Signer, SystemKeys};
use ninekeys_core::model::Destination;
use ninekeys_core::stream::Sink;
use ninekeys_formats::arsc;
use ninekeys_formats::axml::Value;
use ninekeys_formats::axml::write::{Node, write};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::id;
use ninekeys_formats::protoxml;
use ninekeys_formats::signing_block::{self, signer};
use ninekeys_formats::x509::Certificate;
use ninekeys_formats::zip::write::Writer;

use crate::NOW;

/// A case: its name, its verdict, its ending, its bytes.
pub struct Case {
    /// What is in it.
    pub name: String,
    /// `ready`, `unreadable`, or rules with `+` between them.
    pub verdict: &'static str,
    /// `apk` or `aab`.
    pub ending: &'static str,
    /// The file.
    pub bytes: Vec<u8>,
}

impl Case {
    /// What its file is called.
    pub fn file(&self) -> String {
        format!("{}__{}.{}", self.name, self.verdict, self.ending)
    }
}

struct Who {
    key: PrivateKey,
    certificate: Vec<u8>,
}

fn with_env<R>(at: &str, run: impl FnOnce(&Env<'_>) -> R) -> R {
    let stop = AtomicBool::new(false);
    run(&Env {
        now: at.parse().unwrap(),
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &stop,
    })
}

fn who_of(algorithm: Algorithm, subject: &Subject, at: &str, years: u16) -> Who {
    let key = SystemKeys.make(algorithm).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
    let certificate = with_env(at, |env| self_signed(&key, subject, years, env)).unwrap();
    Who { key, certificate }
}

fn who(algorithm: Algorithm) -> Who {
    let subject = Subject { common_name: Some("Gannet Point Ferries".into()), ..Subject::default() };
    who_of(algorithm, &subject, NOW, 30)
}

/// A small build.
#[derive(Clone)]
struct Build {
    min: Value,
    target: Value,
    code: Value,
    flags: Vec<(u32, &'static str, Value)>,
    split: Option<&'static str>,
    table: Option<Vec<u8>>,
    package: Option<&'static str>,
}

impl Build {
    fn usual() -> Self {
        Build {
            min: Value::Number(24),
            target: Value::Number(35),
            code: Value::Number(12),
            flags: Vec::new(),
            split: None,
            table: None,
            package: Some("example.gannetpoint.crossing"),
        }
    }

    fn levels(min: u32, target: u32) -> Self {
        Build { min: Value::Number(min), target: Value::Number(target), ..Build::usual() }
    }

    fn flag(id: u32, name: &'static str, value: Value) -> Self {
        Build { flags: vec![(id, name, value)], ..Build::usual() }
    }

    fn document(&self) -> Node {
        let sdk = Node::new("uses-sdk").platform(id::MIN_SDK, "minSdkVersion", self.min.clone()).platform(
            id::TARGET_SDK,
            "targetSdkVersion",
            self.target.clone(),
        );
        let mut application = Node::new("application");
        for (id, name, value) in &self.flags {
            application = application.platform(*id, name, value.clone());
        }
        let mut root = Node::new("manifest")
            .platform(id::VERSION_CODE, "versionCode", self.code.clone())
            .platform(id::VERSION_NAME, "versionName", Value::Text("2.4.0".into()));
        if let Some(package) = self.package {
            root = root.plain("package", package);
        }
        if let Some(split) = self.split {
            root = root.plain("split", split);
        }
        root.child(sdk).child(application)
    }

    fn manifest(&self) -> Vec<u8> {
        write(&self.document())
    }

    fn apk(&self) -> Vec<u8> {
        let writer = Writer::new().deflated("AndroidManifest.xml", &self.manifest());
        let writer = match &self.table {
            Some(table) => writer.deflated("resources.arsc", table),
            None => writer,
        };
        writer.deflated("classes.dex", b"dex\n035, as far as anybody looks").finish()
    }

    fn aab(&self) -> Vec<u8> {
        Writer::new()
            .deflated("BundleConfig.pb", b"\x0a\x00")
            .deflated("base/manifest/AndroidManifest.xml", &protoxml::write::write(&self.document()))
            .finish()
    }
}

#[derive(Default)]
struct Memory(Mutex<Vec<u8>>);

impl Sink for Memory {
    fn write_at(&self, at: u64, bytes: &[u8]) -> std::io::Result<()> {
        let mut all = self.0.lock().unwrap();
        let (at, end) = (at as usize, at as usize + bytes.len());
        let size = all.len().max(end);
        all.resize(size, 0);
        all[at..end].copy_from_slice(bytes);
        Ok(())
    }
}

fn signed_with(input: &[u8], signing: Signing<'_>) -> Vec<u8> {
    with_env(NOW, |env| {
        let opened = Opened::open(&input, &Limits::USUAL).unwrap();
        let allowed = opened.allow(Destination::Development).unwrap();
        let memory = Memory::default();
        let signed = allowed.lay_out(signing, env).unwrap().digest(&memory, env).unwrap().sign().unwrap();
        [memory.0.into_inner().unwrap(), signed.tail].concat()
    })
}

fn identity(who: &Who) -> Identity<'_> {
    Identity { signer: &who.key, certificate: &who.certificate, alias: "ferries" }
}

fn signed(input: &[u8], who: &Who, schemes: Option<&str>) -> Vec<u8> {
    let schemes: Option<Schemes> = schemes.map(|list| list.parse().unwrap());
    signed_with(input, Signing { schemes, ..Signing::usual(identity(who)) })
}

/// Every case.
pub fn all() -> Vec<Case> {
    let mut out = Cases(Vec::new());
    good(&mut out);
    manifests(&mut out);
    blocks(&mut out);
    jars(&mut out);
    archives(&mut out);
    out.0
}

struct Cases(Vec<Case>);

impl Cases {
    fn apk(&mut self, name: impl Into<String>, verdict: &'static str, bytes: Vec<u8>) {
        self.0.push(Case { name: name.into(), verdict, ending: "apk", bytes });
    }

    fn aab(&mut self, name: impl Into<String>, verdict: &'static str, bytes: Vec<u8>) {
        self.0.push(Case { name: name.into(), verdict, ending: "aab", bytes });
    }
}

/// What signs, signs what is verified.
fn good(out: &mut Cases) {
    let ways: [(&str, u32, u32, Option<&str>); 6] = [
        ("v2-v3", 24, 35, None),
        ("v1-v2-v3", 21, 35, None),
        ("v1", 21, 29, Some("v1")),
        ("v2", 24, 35, Some("v2")),
        ("v3", 28, 35, Some("v3")),
        ("v1-v3", 21, 35, Some("v1,v3")),
    ];
    for (word, algorithm) in Algorithm::ALL {
        let own = who(algorithm);
        for (way, min, target, schemes) in ways {
            let bytes = signed(&Build::levels(min, target).apk(), &own, schemes);
            out.apk(format!("signed-{word}-{way}"), "ready", bytes);
        }
    }
    let own = who(Algorithm::P256);
    out.aab("bundle", "ready", signed(&Build::usual().aab(), &own, None));
    out.aab("bundle-unsigned", "build-unsigned", Build::usual().aab());
    let next = who(Algorithm::P384);
    let lineage = Lineage::begin(&own.certificate).extend(&own.key, &next.certificate, USUAL_FLAGS).unwrap();
    let other = who(Algorithm::P384);
    let elsewhere =
        Lineage::begin(&own.certificate).extend(&own.key, &other.certificate, USUAL_FLAGS).unwrap();
    for (word, from, next, lineage) in [
        ("v3", None, &next, &lineage),
        ("v31", Some(34), &next, &lineage),
        ("v3-to-another-key", None, &other, &elsewhere),
    ] {
        let rotation = Rotation { lineage, oldest: identity(&own), from };
        let signing = Signing { rotation: Some(rotation), ..Signing::usual(identity(next)) };
        out.apk(format!("rotated-{word}"), "ready", signed_with(&Build::usual().apk(), signing));
    }
    // two signers of one scheme: both have to be there for good
    let input = Build::usual().apk();
    let (one, two) = (signed(&input, &own, Some("v2")), signed(&input, &next, Some("v2")));
    out.apk("one-of-two-signers", "ready", one.clone());
    let value = |bytes: &Vec<u8>| {
        let block = Package::read(bytes, &Limits::USUAL).unwrap().block.unwrap();
        block.find(signing_block::V2).unwrap()[4..].to_vec()
    };
    let both = [value(&one), value(&two)].concat();
    let both = [&(both.len() as u32).to_le_bytes()[..], &both].concat();
    out.apk("two-signers", "ready", with_block(&one, &[(signing_block::V2, both)]));
    let debug = Subject {
        common_name: Some("Android Debug".into()),
        organisation: Some("Android".into()),
        country: Some("US".into()),
        ..Subject::default()
    };
    let debug = who_of(Algorithm::P256, &debug, NOW, 30);
    out.apk("debug-key", "debug-key", signed(&Build::usual().apk(), &debug, None));
    let subject = Subject { common_name: Some("Ferries".into()), ..Subject::default() };
    let old = who_of(Algorithm::P256, &subject, "1990-01-01T00:00:00Z", 30);
    out.apk("expired", "identity-expired", signed(&Build::usual().apk(), &old, None));
    let young = who_of(Algorithm::P256, &subject, "2040-01-01T00:00:00Z", 30);
    out.apk("not-yet-valid", "identity-not-yet-valid", signed(&Build::usual().apk(), &young, None));
}

fn manifests(out: &mut Cases) {
    let own = who(Algorithm::P256);
    let mut put =
        |name: &str, verdict, build: Build| out.apk(name, verdict, signed(&build.apk(), &own, None));
    let truth = |value| Build::flag(id::DEBUGGABLE, "debuggable", value);
    put("debuggable", "build-debuggable", truth(Value::Boolean(true)));
    put("debuggable-text", "build-debuggable", truth(Value::Text("true".into())));
    put("not-debuggable", "ready", truth(Value::Boolean(false)));
    put("debuggable-not-known", "build-debuggable", truth(Value::Reference(0x7f01_0000)));
    let table = |values: &[Value]| Some(arsc::write::table(&[values.iter().cloned().map(Some).collect()]));
    let resolved = |value: Value| Build { table: table(&[value]), ..truth(Value::Reference(0x7f01_0000)) };
    put("debuggable-by-reference", "build-debuggable", resolved(Value::Boolean(true)));
    put("not-debuggable-by-reference", "ready", resolved(Value::Boolean(false)));
    put("test-only", "build-test-only", Build::flag(id::TEST_ONLY, "testOnly", Value::Boolean(true)));
    let text = |text: &str| Value::Text(text.into());
    put("codename", "ready", Build { min: text("Skerry"), target: text("Skerry"), ..Build::usual() });
    put("codename-target", "ready", Build { target: text("Skerry"), ..Build::usual() });
    let by_reference =
        Build { min: Value::Reference(0x7f01_0000), code: Value::Reference(0x7f01_0001), ..Build::usual() };
    put(
        "levels-by-reference",
        "ready",
        Build { table: table(&[Value::Number(24), Value::Number(12)]), ..by_reference },
    );
    let backwards = Build { flags: Vec::new(), ..Build::levels(30, 24) };
    put("target-below-lowest", "ready", backwards);
    put("part-alone", "package-incomplete", Build { split: Some("config.arm64_v8a"), ..Build::usual() });
    put(
        "base-alone",
        "package-incomplete",
        Build::flag(id::SPLIT_REQUIRED, "isSplitRequired", Value::Boolean(true)),
    );
    let types = Build::flag(id::REQUIRED_SPLIT_TYPES, "requiredSplitTypes", text("base__abi"));
    put("base-alone-by-type", "package-incomplete", types);
    // without a readable manifest nothing signs it here
    let unsigned = |writer: Writer| writer.deflated("classes.dex", b"dex").finish();
    let bad = "archive-malformed+build-unsigned";
    out.apk("no-manifest", bad, unsigned(Writer::new()));
    let good = Build::usual().manifest();
    let two = Writer::new().deflated("AndroidManifest.xml", &good).stored("AndroidManifest.xml", &good);
    out.apk("two-manifests", bad, unsigned(two));
    let no_package = Build { package: None, ..Build::usual() }.manifest();
    out.apk("no-package-name", bad, unsigned(Writer::new().deflated("AndroidManifest.xml", &no_package)));
    for cut in [7, 40, 200] {
        let cut_off = &good[..good.len() - cut];
        let writer = Writer::new().deflated("AndroidManifest.xml", cut_off);
        out.apk(format!("manifest-cut-{cut}"), bad, unsigned(writer));
    }
    out.apk("manifest-as-text", bad, unsigned(Writer::new().deflated("AndroidManifest.xml", b"<manifest/>")));
    out.apk("unsigned", "build-unsigned", Build::usual().apk());
}

/// The same package with another signing block.
fn with_block(signed: &[u8], pairs: &[(u32, Vec<u8>)]) -> Vec<u8> {
    let archive = Package::read(&signed, &Limits::USUAL).unwrap().archive;
    let body = archive.body_end as usize;
    let directory = &signed[archive.directory.start as usize..archive.directory.end as usize];
    let mut end = signed[archive.end_record.start as usize..].to_vec();
    let block = signing_block::write(pairs);
    end[16..20].copy_from_slice(&((body + block.len()) as u32).to_le_bytes());
    [&signed[..body], &block, directory, &end].concat()
}

/// Signing blocks with one thing wrong each, the signatures in them good where that is not it.
fn blocks(out: &mut Cases) {
    use signing_block::{ATTRIBUTE_LINEAGE, LAST_SDK, V2, V3};
    let own = who(Algorithm::P256);
    let input = Build::levels(28, 35).apk();
    let good = signed(&input, &own, None);
    let block = Package::read(&good, &Limits::USUAL).unwrap().block.unwrap();
    let value = |id| block.find(id).unwrap().to_vec();
    let (v2, v3) = (value(V2), value(V3));
    let digest = signer::parse_v3(&v3, &Limits::USUAL).unwrap()[0].digests[0].1.to_vec();
    let made = |sdk: std::ops::RangeInclusive<u32>, attributes: &[(u32, Vec<u8>)]| {
        let data = signer::v3_signed_data(0x0201, &digest, &own.certificate, &sdk, attributes);
        let signature = own.key.sign(SignatureKind::EcdsaSha256, &data).unwrap();
        signer::v3_value(&data, &sdk, 0x0201, &signature, own.key.public().as_der())
    };
    let usual = made(28..=LAST_SDK, &[]);
    let bad = "signature-invalid";
    let mut put =
        |name: &str, verdict, pairs: &[(u32, Vec<u8>)]| out.apk(name, verdict, with_block(&good, pairs));
    put("v3-made-here", "ready", &[(V2, v2.clone()), (V3, usual.clone())]);
    let lineage = Lineage::begin(&own.certificate).to_bytes();
    let twice = [(ATTRIBUTE_LINEAGE, lineage.clone()), (ATTRIBUTE_LINEAGE, lineage.clone())];
    put("one-lineage", "ready", &[(V2, v2.clone()), (V3, made(28..=LAST_SDK, &twice[..1]))]);
    put("two-lineages", bad, &[(V2, v2.clone()), (V3, made(28..=LAST_SDK, &twice))]);
    let mut no_lineage = lineage;
    no_lineage.push(0);
    let cut = [(ATTRIBUTE_LINEAGE, no_lineage)];
    put("lineage-with-a-tail", "lineage-invalid", &[(V2, v2.clone()), (V3, made(28..=LAST_SDK, &cut))]);
    put("highest-sdk-all-ones", bad, &[(V2, v2.clone()), (V3, made(28..=u32::MAX, &[]))]);
    put("levels-end-early", bad, &[(V2, v2.clone()), (V3, made(28..=33, &[]))]);
    put("levels-begin-late", bad, &[(V2, v2.clone()), (V3, made(30..=LAST_SDK, &[]))]);
    put("v3-taken-out", "signature-stripped", &[(V2, v2.clone())]);
    put("an-unknown-pair", "ready", &[(V2, v2.clone()), (V3, v3.clone()), (0x1234_5678, vec![1, 2, 3])]);
    put("v2-twice", "archive-malformed", &[(V2, v2.clone()), (V2, v2.clone()), (V3, v3.clone())]);
    put(
        "an-unknown-pair-twice",
        "archive-malformed",
        &[(V2, v2.clone()), (V3, v3.clone()), (77, vec![]), (77, vec![])],
    );
    put("no-signer-in-v3", bad, &[(V2, v2.clone()), (V3, vec![0; 4])]);
    put("v3-with-a-tail", bad, &[(V2, v2.clone()), (V3, [v3.clone(), vec![0]].concat())]);
    put("v2-empty", bad, &[(V2, vec![]), (V3, v3.clone())]);
    let stranger = who(Algorithm::P256);
    let data = signer::v3_signed_data(0x0201, &digest, &own.certificate, &(28..=LAST_SDK), &[]);
    let forged = stranger.key.sign(SignatureKind::EcdsaSha256, &data).unwrap();
    let by = |signature: &[u8], key: &Who| {
        signer::v3_value(&data, &(28..=LAST_SDK), 0x0201, signature, key.key.public().as_der())
    };
    put("a-strangers-signature", bad, &[(V2, v2.clone()), (V3, by(&forged, &own))]);
    put("a-strangers-key", bad, &[(V2, v2.clone()), (V3, by(&forged, &stranger))]);
    let unknown = |algorithm: u32| {
        let data = signer::v3_signed_data(algorithm, &digest, &own.certificate, &(28..=LAST_SDK), &[]);
        signer::v3_value(&data, &(28..=LAST_SDK), algorithm, b"signature", own.key.public().as_der())
    };
    put("a-dsa-algorithm", "algorithm-unsupported", &[(V2, v2.clone()), (V3, unknown(0x0301))]);
    put("an-unknown-algorithm", "algorithm-unsupported", &[(V2, v2), (V3, unknown(0x0999))]);
    let mut padding = good.clone();
    padding[block.range.end as usize - 40] ^= 0x55;
    out.apk("padding-of-the-block-changed", "ready", padding);
    out.apk("block-of-a-tebibyte", "archive-malformed", crate::builds::lying_block(&good));
}

/// An ASN.1 element.
fn der(tag: u8, parts: &[&[u8]]) -> Vec<u8> {
    let content = parts.concat();
    let mut out = vec![tag];
    match content.len() {
        short @ ..0x80 => out.push(short as u8),
        middle @ 0x80..0x100 => out.extend([0x81, middle as u8]),
        long => out.extend([0x82, (long >> 8) as u8, long as u8]),
    }
    out.extend(content);
    out
}

const SHA256: &[u8] = b"\x30\x0d\x06\x09\x60\x86\x48\x01\x65\x03\x04\x02\x01\x05\x00";
const SHA384: &[u8] = b"\x30\x0d\x06\x09\x60\x86\x48\x01\x65\x03\x04\x02\x02\x05\x00";
const ECDSA_SHA256: &[u8] = b"\x30\x0a\x06\x08\x2a\x86\x48\xce\x3d\x04\x03\x02";
const ECDSA_SHA384: &[u8] = b"\x30\x0a\x06\x08\x2a\x86\x48\xce\x3d\x04\x03\x03";
const PSS: &[u8] = b"\x30\x0b\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x01\x0a";
const DATA: &[u8] = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x07\x01";
const SIGNED_DATA: &[u8] = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x07\x02";

/// How a v1 signature is put together.
#[derive(Clone)]
struct Jar<'a> {
    /// In front of the manifest's first attribute.
    mark: &'a str,
    manifest_head: &'a str,
    file_head: &'a str,
    /// What the sections of the manifest begin with.
    section_head: &'a str,
    /// Sections behind the entries'.
    more: &'a str,
    digest: (&'a [u8], &'a [u8], SignatureKind),
    /// The content that stands inside the CMS: nothing, or the signature file, or something else.
    attached: Option<Option<&'a [u8]>>,
    certificates: bool,
    open_lengths: bool,
    sha384: bool,
    extra: &'a [(&'a str, &'a [u8])],
}

impl Jar<'_> {
    fn usual() -> Self {
        Jar {
            mark: "",
            manifest_head: "Manifest-Version: 1.0\r\n\r\n",
            file_head: "Signature-Version: 1.0\r\n",
            section_head: "",
            more: "",
            digest: (SHA256, ECDSA_SHA256, SignatureKind::EcdsaSha256),
            attached: None,
            certificates: true,
            open_lengths: false,
            sha384: false,
            extra: &[],
        }
    }

    fn build(&self, own: &Who) -> Vec<u8> {
        let build = Build::levels(21, 29);
        let manifest = build.manifest();
        let mut entries: Vec<(&str, &[u8])> =
            vec![("AndroidManifest.xml", &manifest), ("classes.dex", b"dex\n035")];
        entries.extend_from_slice(self.extra);
        let base64 = |bytes: &[u8]| base64(bytes);
        let digest = |bytes: &[u8]| match self.sha384 {
            true => ("SHA-384-Digest", base64(&sha384(bytes))),
            false => ("SHA-256-Digest", base64(&sha256(bytes))),
        };
        let mut text = format!("{}{}", self.mark, self.manifest_head);
        let mut signed = String::new();
        for (name, content) in &entries {
            let (word, value) = digest(content);
            let section = format!("{}Name: {name}\r\n{word}: {value}\r\n\r\n", self.section_head);
            let (word, value) = digest(section.as_bytes());
            signed += &format!("Name: {name}\r\n{word}: {value}\r\n\r\n");
            text += &section;
        }
        if !self.more.is_empty() {
            let (word, value) = digest(self.more.as_bytes());
            let name = self.more.split("\r\n").next().unwrap();
            signed += &format!("{name}\r\n{word}: {value}\r\n\r\n");
            text += self.more;
        }
        let (word, value) = digest(text.as_bytes());
        let file = format!("{}{word}-Manifest: {value}\r\n\r\n{signed}", self.file_head);
        let block = self.block(own, file.as_bytes());
        let mut writer = Writer::new()
            .deflated("META-INF/MANIFEST.MF", text.as_bytes())
            .deflated("META-INF/FERRIES.SF", file.as_bytes())
            .deflated("META-INF/FERRIES.EC", &block);
        for (name, content) in entries {
            writer = if name.ends_with('/') {
                writer.stored(name, content)
            } else {
                writer.deflated(name, content)
            };
        }
        writer.finish()
    }

    fn block(&self, own: &Who, file: &[u8]) -> Vec<u8> {
        let (digest, algorithm, kind) = self.digest;
        let certificate = Certificate::parse(&own.certificate, &Limits::USUAL).unwrap();
        let signature = own.key.sign(kind, file).unwrap();
        let name = der(0x30, &[&certificate.issuer_der, &der(0x02, &[&certificate.serial])]);
        let version = [2, 1, 1];
        let signer = der(0x30, &[&version, &name, digest, algorithm, &der(0x04, &[&signature])]);
        let content = match &self.attached {
            None => der(0x30, &[DATA]),
            Some(own) => der(0x30, &[DATA, &der(0xa0, &[&der(0x04, &[own.unwrap_or(file)])])]),
        };
        let certificates = if self.certificates { der(0xa0, &[&own.certificate]) } else { Vec::new() };
        let parts = [&version[..], &der(0x31, &[digest]), &content, &certificates, &der(0x31, &[&signer])];
        if self.open_lengths {
            let end = [0, 0];
            let signed = [&[0x30, 0x80][..], &parts.concat(), &end].concat();
            return [&[0x30, 0x80][..], SIGNED_DATA, &[0xa0, 0x80], &signed, &end, &end].concat();
        }
        der(0x30, &[SIGNED_DATA, &der(0xa0, &[&der(0x30, &parts)])])
    }
}

fn sha384(bytes: &[u8]) -> Vec<u8> {
    aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA384, bytes).as_ref().to_vec()
}

fn base64(bytes: &[u8]) -> String {
    use base64ct::{Base64, Encoding};
    Base64::encode_string(bytes)
}

fn jars(out: &mut Cases) {
    let own = who(Algorithm::P256);
    let usual = Jar::usual();
    let bad = "signature-invalid";
    let mut put =
        |name: &str, verdict, jar: Jar<'_>| out.apk(format!("jar-{name}"), verdict, jar.build(&own));
    put("as-usual", "ready", usual.clone());
    put("file-without-version", bad, Jar { file_head: "Created-By: a pier\r\n", ..usual.clone() });
    put(
        "manifest-without-version",
        bad,
        Jar { manifest_head: "Created-By: a pier\r\n\r\n", ..usual.clone() },
    );
    put("byte-order-mark", bad, Jar { mark: "\u{feff}", ..usual.clone() });
    put(
        "section-that-begins-with-something-else",
        bad,
        Jar { section_head: "Tide: high\r\n", ..usual.clone() },
    );
    let gone = "Name: gone.dex\r\nSHA-256-Digest: 47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=\r\n\r\n";
    put("an-entry-that-is-gone", bad, Jar { more: gone, ..usual.clone() });
    let folder: &[(&str, &[u8])] = &[("res/", b"")];
    put("a-folder-that-is-listed", "ready", Jar { extra: folder, ..usual.clone() });
    put("open-lengths", "ready", Jar { open_lengths: true, ..usual.clone() });
    put("content-inside", "ready", Jar { attached: Some(None), ..usual.clone() });
    put(
        "content-inside-open-lengths",
        "ready",
        Jar { attached: Some(None), open_lengths: true, ..usual.clone() },
    );
    put(
        "other-content-inside",
        bad,
        Jar { attached: Some(Some(b"Signature-Version: 1.0\r\n\r\n")), ..usual.clone() },
    );
    put("no-certificate", bad, Jar { certificates: false, ..usual.clone() });
    put("sha-384-digests", "ready", Jar { sha384: true, ..usual.clone() });
    let signed_384 = (SHA384, ECDSA_SHA384, SignatureKind::EcdsaSha384);
    put("sha-384-signature", "ready", Jar { digest: signed_384, ..usual.clone() });
    put("sha-384-all", "ready", Jar { digest: signed_384, sha384: true, ..usual.clone() });
    let pss = (SHA256, PSS, SignatureKind::EcdsaSha256);
    put("pss", "algorithm-unsupported", Jar { digest: pss, ..usual.clone() });
    let mixed = (SHA256, ECDSA_SHA384, SignatureKind::EcdsaSha256);
    put("digest-and-algorithm-differ", "algorithm-unsupported", Jar { digest: mixed, ..usual.clone() });
    let wrong = (SHA256, ECDSA_SHA256, SignatureKind::EcdsaSha384);
    put("another-hash-than-it-says", bad, Jar { digest: wrong, ..usual.clone() });
    // an entry whose data runs out of the archive
    let mut outside = usual.build(&own);
    let last = crate::builds::last(&outside, b"PK\x01\x02");
    outside[last + 20..last + 28].copy_from_slice(&[0, 0, 16, 0, 0, 0, 16, 0]);
    out.apk("jar-data-that-runs-out", "archive-malformed+signature-invalid", outside);
}

/// Archives that devices refuse, or readers read differently. They are not signed: nothing here signs them.
fn archives(out: &mut Cases) {
    let good = Build::usual().apk();
    let find = |what: &[u8]| crate::builds::first(&good, what);
    let end = crate::builds::last(&good, b"PK\x05\x06");
    let central = find(b"PK\x01\x02");
    let bad = "archive-malformed+build-unsigned";
    let mut change = |name: &str, verdict, at: usize, bytes: &[u8]| {
        let mut changed = good.clone();
        changed[at..at + bytes.len()].copy_from_slice(bytes);
        out.apk(format!("archive-{name}"), verdict, changed);
    };
    change("disk-of-an-entry", bad, central + 34, &[1, 0]);
    change("disks", bad, end + 4, &[1, 0]);
    change("count-too-high", bad, end + 8, &[9, 0, 9, 0]);
    change("encrypted", bad, central + 8, &[1]);
    change("patched-entry", bad, central + 8, &[32 + 64]);
    change("method-12", bad, central + 10, &[12]);
    change("local-method-differs", bad, 8, &[0]);
    change("local-checksum-differs", bad, 14, &[1, 2, 3, 4]);
    change("local-size-differs", bad, 22, &[1, 0, 0, 0]);
    change("local-name-differs", bad, 30, b"B");
    change("no-local-header", bad, 0, b"PX");
    change("size-that-nothing-inflates-to", bad, central + 24, &[0xff, 0xff, 0xff, 0x7f]);
    change("zip64-sizes", bad, central + 20, &[0xff; 8]);
    change("directory-out-of-the-file", "unreadable", end + 12, &[0xff; 4]);
    change("directory-entry-of-another-kind", "unreadable", central, b"PK\x07\x08");
    let name = central + 46;
    change("name-of-control-characters", bad, name, b"\x1b[2J");
    change("name-that-is-not-utf-8", bad, name, b"\xffndroid");
    change("name-that-climbs", bad, name, b"../x/../");
    change("name-of-another-system", bad, name, b"..\\x");
    change("absolute-name", bad, name, b"/ndroid");
    let mut put = |name: &str, verdict, bytes: Vec<u8>| out.apk(format!("archive-{name}"), verdict, bytes);
    put("cut-short", "unreadable", good[..good.len() - 9].to_vec());
    put("half", "unreadable", good[..good.len() / 2].to_vec());
    put("empty", "unreadable", Vec::new());
    put("tail", bad, [good.clone(), b"tail".to_vec()].concat());
    put("no-archive", "unreadable", b"a letter to the harbour master, and no build".repeat(9));
    let twice = Writer::new()
        .deflated("AndroidManifest.xml", &Build::usual().manifest())
        .stored("classes.dex", b"one")
        .stored("classes.dex", b"two");
    put("two-of-one-name", bad, twice.finish());
    // two entries over the same bytes
    let mut shared = Writer::new()
        .deflated("AndroidManifest.xml", &Build::usual().manifest())
        .stored("a.dex", b"same")
        .stored("b.dex", b"same")
        .finish();
    let second = crate::builds::last(&shared, b"PK\x01\x02");
    let first =
        shared.windows(46).enumerate().filter(|(_, w)| w.starts_with(b"PK\x01\x02")).nth(1).unwrap().0;
    let at: [u8; 4] = shared[first + 42..first + 46].try_into().unwrap();
    shared[second + 42..second + 46].copy_from_slice(&at);
    put("two-over-the-same-bytes", bad, shared);
}
