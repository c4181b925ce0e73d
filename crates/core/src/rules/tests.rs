use std::collections::BTreeSet;

use super::*;

#[test]
fn names_are_unique_and_every_text_is_there() {
    let mut seen = BTreeSet::new();
    for rule in FAMILIES.iter().flat_map(|family| family.rules) {
        assert!(seen.insert(rule.name), "{} stands twice", rule.name);
        assert!(rule.name.bytes().all(|b| b.is_ascii_lowercase() || b == b'-'), "{}", rule.name);
        for text in [rule.about, rule.meaning, rule.remedy] {
            assert!(text.len() > 10, "{}: {text}", rule.name);
        }
        assert!(rule.meaning.ends_with('.') && !rule.remedy.ends_with('.'), "{}", rule.name);
        assert_eq!(find(rule.name).map(|(_, found)| found.name).ok(), Some(rule.name));
    }
    assert_eq!(find("no-such-rule").map(|_| ()), Err(vec![]));
    assert_eq!(find("debug").map(|(_, rule)| rule.name).ok(), Some("debug-key"));
    assert_eq!(find("bundle-").map(|(_, rule)| rule.name).ok(), Some("bundle-wanted"));
    assert!(find("identity-expire").is_err_and(|several| several.len() == 2));
}
