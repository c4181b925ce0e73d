//! CodeResources: the seal over the files of a bundle. A property list of two lists of hashes, each with the rules that say
//! which files belong on it (formats section 3.1).
//!
//! ```text
//! files    path -> SHA-1, or {hash: SHA-1, optional: true}
//! files2   path -> {hash2: SHA-256, hash: SHA-1?, optional: true?}, or {symlink: target}
//! rules, rules2    pattern -> true, or {omit: true?, optional: true?, nested: true?, weight: number?}
//! ```

use std::borrow::Cow;
use std::collections::BTreeMap;

use base64ct::{Base64, Encoding};
use regex::bytes::{RegexSet, RegexSetBuilder};

use crate::cursor::{Fault, ParseError};
use crate::limits::Limits;
use crate::plist::{self as list, Dictionary, Value};

/// The most rules of one list, the most bytes of them together, and the most memory that they may take compiled: an automaton
/// of so many states is asked once for every path.
const MOST_RULES: usize = 40;
const MOST_PATTERNS: usize = 4 << 10;
const MOST_COMPILED: usize = 64 << 10;

/// What one file was when it was sealed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Sealed {
    /// SHA-1 of it.
    pub sha1: Option<Vec<u8>>,
    /// SHA-256 of it.
    pub sha256: Option<Vec<u8>>,
    /// Where it points, for a link.
    pub link: Option<String>,
    /// The hash of a directory of nested code, which is sealed by that and not file by file.
    pub code: Option<Vec<u8>>,
    /// Whether it may be missing.
    pub optional: bool,
}

/// What the rules say of a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ruling {
    /// It is sealed.
    Sealed,
    /// It is sealed, and may be missing.
    Optional,
    /// It is not sealed.
    Omitted,
    /// It is code with a seal of its own.
    Nested,
}

/// The rules of one list.
#[derive(Debug)]
pub struct Rules {
    patterns: RegexSet,
    rulings: Vec<(f64, Ruling)>,
}

impl Rules {
    /// What is sealed, and how, by that path: of all patterns in it the one of most weight counts.
    pub fn of(&self, path: &str) -> Ruling {
        let found = self.patterns.matches(path.as_bytes());
        let mut best: Option<(f64, Ruling)> = None;
        for (weight, ruling) in found.iter().filter_map(|index| self.rulings.get(index)) {
            if best.is_none_or(|(known, _)| *weight > known) {
                best = Some((*weight, *ruling));
            }
        }
        best.map_or(Ruling::Omitted, |(_, ruling)| ruling)
    }

    fn read(all: &Dictionary) -> Result<Rules, ParseError> {
        let size: usize = all.keys().map(String::len).sum();
        if all.len() > MOST_RULES || size > MOST_PATTERNS {
            return Err(fault("rules of a seal"));
        }
        let flag = |rule: &Dictionary, key: &str| matches!(rule.get(key), Some(Value::Boolean(true)));
        let mut rulings = Vec::new();
        for rule in all.values() {
            let ruling = match rule {
                Value::Boolean(true) => (1.0, Ruling::Sealed),
                Value::Boolean(false) => (1.0, Ruling::Omitted),
                Value::Dictionary(rule) => {
                    let ruling = match () {
                        () if flag(rule, "omit") => Ruling::Omitted,
                        () if flag(rule, "nested") => Ruling::Nested,
                        () if flag(rule, "optional") => Ruling::Optional,
                        () => Ruling::Sealed,
                    };
                    let weight = match rule.get("weight") {
                        None => 1.0,
                        Some(Value::Real(weight)) if weight.is_finite() => *weight,
                        Some(Value::Integer(weight)) => {
                            i64::try_from(*weight).map_or(1.0, |weight| weight as f64)
                        }
                        Some(_) => return Err(fault("weight of a rule")),
                    };
                    (weight, ruling)
                }
                _ => return Err(fault("rule of a seal")),
            };
            rulings.push(ruling);
        }
        // no look-around and no references back, so that its work is in proportion to the path
        let patterns = RegexSetBuilder::new(all.keys()).unicode(false).size_limit(MOST_COMPILED).build();
        Ok(Rules { patterns: patterns.map_err(|_| fault("pattern of a rule"))?, rulings })
    }
}

/// A seal, read.
#[derive(Debug)]
pub struct CodeResources {
    /// The old list, where there is one.
    pub old: Option<List>,
    /// The list that counts today, where there is one.
    pub new: Option<List>,
}

/// One list with its rules.
#[derive(Debug)]
pub struct List {
    /// What was sealed, by path.
    pub files: BTreeMap<String, Sealed>,
    /// Which files belong on it.
    pub rules: Rules,
}

impl CodeResources {
    /// Reads a seal.
    ///
    /// # Errors
    /// [`ParseError`] for what is no property list of that form, rules that cannot be understood or are too many, and a seal
    /// without either list.
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<CodeResources, ParseError> {
        let value = list::parse(bytes, limits)?;
        let all = value.as_dictionary().ok_or_else(|| fault("seal"))?;
        let (old, new) = (read_list(all, "files", "rules")?, read_list(all, "files2", "rules2")?);
        match (&old, &new) {
            (None, None) => Err(fault("seal without a list of files")),
            _ => Ok(CodeResources { old, new }),
        }
    }
}

fn fault(what: &'static str) -> ParseError {
    ParseError { what, at: 0, fault: Fault::Malformed }
}

fn read_list(all: &Dictionary, files: &str, rules: &str) -> Result<Option<List>, ParseError> {
    let (files, rules) = match (all.get(files), all.get(rules)) {
        (None, None) => return Ok(None),
        (files, rules) => (files.and_then(Value::as_dictionary), rules.and_then(Value::as_dictionary)),
    };
    let files = files.ok_or_else(|| fault("list of a seal"))?;
    let rules = rules.ok_or_else(|| fault("rules of a seal"))?;
    let read = files.iter().map(|(path, value)| {
        let sealed = sealed(value).ok_or_else(|| fault("file on the list of a seal"))?;
        Ok((path.clone(), sealed))
    });
    let files = read.collect::<Result<BTreeMap<_, _>, ParseError>>()?;
    Ok(Some(List { files, rules: Rules::read(rules)? }))
}

fn sealed(value: &Value) -> Option<Sealed> {
    let of = |bytes: &[u8], size: usize| (bytes.len() == size).then(|| bytes.to_vec());
    match value {
        Value::Data(bytes) => Some(Sealed { sha1: Some(of(bytes, 20)?), ..Sealed::default() }),
        Value::Dictionary(all) => {
            let hash = |key: &str, size: usize| match all.get(key) {
                None => Some(None),
                Some(value) => value.as_data().and_then(|bytes| of(bytes, size)).map(Some),
            };
            let sealed = Sealed {
                sha1: hash("hash", 20)?,
                sha256: hash("hash2", 32)?,
                link: all.get("symlink").and_then(Value::as_string).map(str::to_owned),
                code: all.get("cdhash").and_then(Value::as_data).map(<[u8]>::to_vec),
                optional: matches!(all.get("optional"), Some(Value::Boolean(true))),
            };
            let says = sealed.sha1.is_some()
                || sealed.sha256.is_some()
                || sealed.link.is_some()
                || sealed.code.is_some();
            says.then_some(sealed)
        }
        _ => None,
    }
}

/// A rule that is written: a pattern, what it does, and its weight.
struct NewRule(&'static str, Ruling, f64);

/// The rules of the old list, and those of the list that counts, as they are for iOS.
const RULES: &[NewRule] = &[
    NewRule(r"^.*", Ruling::Sealed, 1.0),
    NewRule(r"^.*\.lproj/", Ruling::Optional, 1000.0),
    NewRule(r"^.*\.lproj/locversion.plist$", Ruling::Omitted, 1100.0),
    NewRule(r"^Base\.lproj/", Ruling::Sealed, 1010.0),
    NewRule(r"^version.plist$", Ruling::Sealed, 1.0),
];
const RULES_2: &[NewRule] = &[
    NewRule(r".*\.dSYM($|/)", Ruling::Sealed, 11.0),
    NewRule(r"^(.*/)?\.DS_Store$", Ruling::Omitted, 2000.0),
    NewRule(r"^.*", Ruling::Sealed, 1.0),
    NewRule(r"^.*\.lproj/", Ruling::Optional, 1000.0),
    NewRule(r"^.*\.lproj/locversion.plist$", Ruling::Omitted, 1100.0),
    NewRule(r"^Base\.lproj/", Ruling::Sealed, 1010.0),
    NewRule(r"^Info\.plist$", Ruling::Omitted, 20.0),
    NewRule(r"^PkgInfo$", Ruling::Omitted, 20.0),
    NewRule(r"^embedded\.provisionprofile$", Ruling::Sealed, 20.0),
    NewRule(r"^version\.plist$", Ruling::Sealed, 20.0),
];

fn rules(all: &[NewRule]) -> Dictionary {
    let mut out = Dictionary::new();
    for NewRule(pattern, ruling, weight) in all {
        let mut rule = Dictionary::new();
        match ruling {
            Ruling::Omitted => rule.insert("omit".into(), Value::Boolean(true)),
            Ruling::Optional => rule.insert("optional".into(), Value::Boolean(true)),
            Ruling::Sealed | Ruling::Nested => None,
        };
        // a weight that is said is another than the usual one
        if *weight > 1.0 {
            rule.insert("weight".into(), Value::Real(*weight));
        }
        let rule = if rule.is_empty() { Value::Boolean(true) } else { Value::Dictionary(rule) };
        out.insert((*pattern).to_owned(), rule);
    }
    out
}

/// What a file of a bundle is when it is sealed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// A file, by its hashes.
    File {
        /// SHA-1 of it.
        sha1: [u8; 20],
        /// SHA-256 of it.
        sha256: [u8; 32],
    },
    /// A link, by where it points.
    Link(String),
}

/// Writes the seal over the files of a bundle for iOS, by their paths in it; the rules decide which of them are on it.
///
/// # Errors
/// [`ParseError`] for a text that XML cannot say.
pub fn write(files: &BTreeMap<String, Content>) -> Result<Vec<u8>, ParseError> {
    let (old, new) = (rules(RULES), rules(RULES_2));
    let (decide_old, decide_new) = (Rules::read(&old)?, Rules::read(&new)?);
    // a large app has so many files that the list is written as it comes, and not held as values first
    let mut out = String::from(HEAD);
    out.push_str("\t<key>files</key>\n\t<dict>\n");
    for (path, content) in files {
        let Content::File { sha1, .. } = content else { continue };
        match decide_old.of(path) {
            Ruling::Sealed => out.push_str(&format!("\t\t<key>{}</key>\n{}", escaped(path)?, data(sha1, 2))),
            Ruling::Optional => entry(&mut out, path, "hash", &data(sha1, 3), true)?,
            Ruling::Omitted | Ruling::Nested => {}
        }
    }
    out.push_str("\t</dict>\n\t<key>files2</key>\n\t<dict>\n");
    for (path, content) in files {
        let (key, value) = match content {
            Content::File { sha256, .. } => ("hash2", data(sha256, 3)),
            Content::Link(target) => ("symlink", format!("\t\t\t<string>{}</string>\n", escaped(target)?)),
        };
        match decide_new.of(path) {
            Ruling::Sealed => entry(&mut out, path, key, &value, false)?,
            Ruling::Optional => entry(&mut out, path, key, &value, true)?,
            Ruling::Omitted | Ruling::Nested => {}
        }
    }
    out.push_str("\t</dict>\n");
    for (name, rules) in [("rules", old), ("rules2", new)] {
        out.push_str(&format!("\t<key>{name}</key>\n{}", within(&list::to_xml(&Value::Dictionary(rules))?)));
    }
    out.push_str("</dict>\n</plist>\n");
    Ok(out.into_bytes())
}

/// How a property list begins.
const HEAD: &str = concat!(
    "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n",
    "<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n",
    "<plist version=\"1.0\">\n<dict>\n",
);

/// A hash, so many levels in.
fn data(hash: &[u8], level: usize) -> String {
    let indent = "\t".repeat(level);
    format!("{indent}<data>{}</data>\n", Base64::encode_string(hash))
}

fn entry(out: &mut String, path: &str, key: &str, value: &str, optional: bool) -> Result<(), ParseError> {
    let optional = if optional { "\t\t\t<key>optional</key>\n\t\t\t<true/>\n" } else { "" };
    let path = escaped(path)?;
    out.push_str(&format!(
        "\t\t<key>{path}</key>\n\t\t<dict>\n\t\t\t<key>{key}</key>\n{value}{optional}\t\t</dict>\n"
    ));
    Ok(())
}

/// A text as XML has it; control characters are none.
fn escaped(text: &str) -> Result<Cow<'_, str>, ParseError> {
    if text.chars().any(char::is_control) {
        return Err(fault("name with a control character"));
    }
    Ok(match text.contains(['&', '<', '>']) {
        false => Cow::Borrowed(text),
        true => Cow::Owned(text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")),
    })
}

/// What stands in a property list, a level further in.
fn within(list: &[u8]) -> String {
    let text = String::from_utf8_lossy(list);
    let lines = text.lines().skip_while(|line| *line != "<dict>").take_while(|line| *line != "</plist>");
    lines.map(|line| format!("\t{line}\n")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(byte: u8) -> Content {
        Content::File { sha1: [byte; 20], sha256: [byte; 32] }
    }

    fn files() -> BTreeMap<String, Content> {
        let names = [
            "Info.plist",
            "PkgInfo",
            "en.lproj/A.strings",
            "en.lproj/locversion.plist",
            "Base.lproj/B.strings",
        ];
        let more = ["a&b <c>.txt", ".DS_Store", "x/.DS_Store", "PlugIns/Share.appex/Info.plist"];
        let mut all: BTreeMap<String, Content> =
            names.iter().chain(&more).zip(1..).map(|(name, byte)| ((*name).to_owned(), file(byte))).collect();
        all.insert("linked".into(), Content::Link("en.lproj/A.strings".into()));
        all
    }

    #[test]
    fn what_is_written_is_read_back_and_each_list_has_what_its_rules_say() {
        let bytes = write(&files()).unwrap();
        let found = CodeResources::parse(&bytes, &Limits::USUAL).unwrap();
        let (old, new) = (found.old.unwrap(), found.new.unwrap());
        assert!(old.files.contains_key("Info.plist") && !new.files.contains_key("Info.plist"));
        assert!(old.files.contains_key(".DS_Store") && !new.files.contains_key("x/.DS_Store"));
        assert!(new.files.contains_key("PlugIns/Share.appex/Info.plist"), "only its own is sealed elsewhere");
        assert!(!old.files.contains_key("linked"));
        assert_eq!(new.files["linked"].link.as_deref(), Some("en.lproj/A.strings"));
        assert!(new.files["en.lproj/A.strings"].optional && !new.files["Base.lproj/B.strings"].optional);
        assert!(!new.files.contains_key("en.lproj/locversion.plist"));
        assert_eq!(new.files["a&b <c>.txt"].sha256.as_deref(), Some(&[6; 32][..]));
        assert_eq!(new.rules.of("PkgInfo"), Ruling::Omitted);
        assert_eq!(new.rules.of("sub/PkgInfo"), Ruling::Sealed);
    }

    #[test]
    fn patterns_that_would_take_for_ever_take_no_longer_than_others_or_are_refused() {
        let rule = |pattern: &str| {
            let mut all = Dictionary::new();
            all.insert(pattern.to_owned(), Value::Boolean(true));
            Rules::read(&all)
        };
        let path = format!("{}!", "a".repeat(50_000));
        let rules = rule("^(a+)+$").unwrap();
        assert_eq!(rules.of(&path), Ruling::Omitted);
        for pattern in ["(a{1000}){1000}", r"(a)\1", "(?=a)", "(", &"a|".repeat(3_000)] {
            assert!(rule(pattern).is_err(), "{pattern}");
        }
        let mut many = Dictionary::new();
        for index in 0..100 {
            many.insert(format!("^{index}$"), Value::Boolean(true));
        }
        assert!(Rules::read(&many).is_err());
    }

    #[test]
    fn a_list_without_rules_and_hashes_of_another_length_are_refused() {
        let text = String::from_utf8(write(&files()).unwrap()).unwrap();
        for (from, to) in
            [("<key>rules2</key>", "<key>rules3</key>"), ("<key>hash2</key>", "<key>hash</key>")]
        {
            assert!(
                CodeResources::parse(text.replace(from, to).as_bytes(), &Limits::USUAL).is_err(),
                "{from}"
            );
        }
    }
}
