//! Whether the files of a bundle are what was sealed.

use std::collections::BTreeMap;

use ninekeys_formats::code_resources::{CodeResources, Content, List, Ruling};

/// The most flaws that are kept of one bundle; how many there are is counted on.
const MOST_FLAWS: usize = 100;

/// What is wrong with one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum FlawKind {
    /// It is another than was sealed.
    Modified,
    /// It was sealed and is not there.
    Missing,
    /// It is there and was not sealed.
    Unsealed,
}

/// Files that are not what was sealed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Flaws {
    /// The first of them, by path in the bundle.
    pub files: BTreeMap<String, FlawKind>,
    /// How many there are besides.
    pub more: usize,
}

impl Flaws {
    fn add(&mut self, path: &str, kind: FlawKind) {
        if self.files.contains_key(path) {
            return;
        }
        match self.files.len() < MOST_FLAWS {
            true => drop(self.files.insert(path.to_owned(), kind)),
            false => self.more += 1,
        }
    }
}

/// Holds the files of a bundle against both lists of its seal. What is listed has to be what was sealed, whatever the rules
/// say; what else may be there is said by the rules of the newer list, as systems do.
pub fn compare(seal: &CodeResources, files: &BTreeMap<&str, &Content>) -> Flaws {
    let mut flaws = Flaws::default();
    for list in [&seal.new, &seal.old].into_iter().flatten() {
        hold(list, files, &mut flaws);
    }
    // the old list does not know links
    let (counts, knows_links) = match (&seal.new, &seal.old) {
        (Some(new), _) => (Some(new), true),
        (None, old) => (old.as_ref(), false),
    };
    for (path, content) in files {
        let looked_at = knows_links || !matches!(content, Content::Link(_));
        let is_sealed = |list: &List| list.files.contains_key(*path);
        let wanted = |list: &List| matches!(list.rules.of(path), Ruling::Sealed | Ruling::Optional);
        if looked_at && counts.is_some_and(|list| !is_sealed(list) && wanted(list)) {
            flaws.add(path, FlawKind::Unsealed);
        }
    }
    flaws
}

fn hold(list: &List, files: &BTreeMap<&str, &Content>, flaws: &mut Flaws) {
    for (path, content) in files {
        let Some(sealed) = list.files.get(*path) else { continue };
        let holds = match content {
            Content::File { sha1, sha256 } => {
                let is = |wanted: &Option<Vec<u8>>, found: &[u8]| {
                    wanted.as_ref().is_none_or(|wanted| wanted == found)
                };
                (sealed.sha1.is_some() || sealed.sha256.is_some())
                    && sealed.link.is_none()
                    && is(&sealed.sha1, sha1)
                    && is(&sealed.sha256, sha256)
            }
            Content::Link(target) => sealed.link.as_ref() == Some(target),
        };
        if !holds {
            flaws.add(path, FlawKind::Modified);
        }
    }
    for (path, sealed) in &list.files {
        // nested code is named by its folder, and proved by its own signature
        if !sealed.optional && sealed.code.is_none() && !files.contains_key(path.as_str()) {
            flaws.add(path, FlawKind::Missing);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ninekeys_formats::code_resources;
    use ninekeys_formats::limits::Limits;

    fn file(byte: u8) -> Content {
        Content::File { sha1: [byte; 20], sha256: [byte; 32] }
    }

    #[test]
    fn what_was_changed_added_or_taken_away_is_told() {
        let names = ["Info.plist", "a", "b", "en.lproj/c", "de.lproj/d"];
        let mut all: BTreeMap<String, Content> = names.iter().map(|name| ((*name).into(), file(1))).collect();
        all.insert("link".into(), Content::Link("a".into()));
        let seal = code_resources::write(&all).unwrap();
        let seal = CodeResources::parse(&seal, &Limits::USUAL).unwrap();
        let look = |all: &BTreeMap<String, Content>| {
            compare(&seal, &all.iter().map(|(path, content)| (path.as_str(), content)).collect()).files
        };
        assert_eq!(look(&all), BTreeMap::new());
        let mut changed = all.clone();
        changed.insert("a".into(), file(2));
        changed.insert("link".into(), Content::Link("b".into()));
        changed.remove("b");
        // it was optional, and may go
        changed.remove("en.lproj/c");
        changed.insert("de.lproj/d".into(), file(2));
        changed.insert("new".into(), file(1));
        changed.insert("Info.plist".into(), file(3));
        changed.insert(".DS_Store".into(), file(3));
        let found = look(&changed);
        let wanted = [
            ("Info.plist", FlawKind::Modified),
            ("a", FlawKind::Modified),
            ("b", FlawKind::Missing),
            ("de.lproj/d", FlawKind::Modified),
            ("link", FlawKind::Modified),
            ("new", FlawKind::Unsealed),
        ];
        assert_eq!(found, wanted.map(|(path, kind)| (path.to_owned(), kind)).into());
    }
}
