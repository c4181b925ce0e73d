//! Whether what a profile grants covers what an app claims (formats section 4.2).

use ninekeys_formats::entitlements::Entitlement;

/// Whether a granted value covers a claimed one. A text that ends in `*` covers every longer one that begins like it;
/// of a list, each claimed item has to be covered by one that is granted; what is refused need not be granted.
pub fn grants(granted: &Entitlement, claimed: &Entitlement) -> bool {
    use Entitlement::{Flag, List, Text};
    match (granted, claimed) {
        (Flag(granted), Flag(claimed)) => *granted || !claimed,
        (Text(granted), Text(claimed)) => covers(granted, claimed),
        (List(granted), List(claimed)) => {
            claimed.iter().all(|one| granted.iter().any(|pattern| grants(pattern, one)))
        }
        (Text(_), List(claimed)) => claimed.iter().all(|one| grants(granted, one)),
        (List(granted), Text(_)) => granted.iter().any(|pattern| grants(pattern, claimed)),
        (granted, claimed) => granted == claimed,
    }
}

fn covers(pattern: &str, text: &str) -> bool {
    match pattern.strip_suffix('*') {
        Some(beginning) => text.len() > beginning.len() && text.starts_with(beginning),
        None => pattern == text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(text: &str) -> Entitlement {
        Entitlement::Text(text.into())
    }

    fn list(all: &[&str]) -> Entitlement {
        Entitlement::List(all.iter().map(|one| text(one)).collect())
    }

    #[test]
    fn wildcards_lists_and_flags_cover_what_the_format_says() {
        let yes = Entitlement::Flag(true);
        let no = Entitlement::Flag(false);
        for (granted, claimed, covered) in [
            (&yes, &yes, true),
            (&yes, &no, true),
            (&no, &yes, false),
            (&no, &no, true),
            (&text("GPFERRY009.*"), &text("GPFERRY009.example.crossing"), true),
            (&text("GPFERRY009.*"), &text("GPFERRY009."), false),
            (&text("production"), &text("development"), false),
            (&list(&["GPFERRY009.*", "shared"]), &list(&["GPFERRY009.a", "shared"]), true),
            (&list(&["GPFERRY009.*"]), &list(&["GPFERRY009.a", "other"]), false),
            (&text("*"), &list(&["a", "b"]), true),
            (&list(&["a", "b*"]), &text("bc"), true),
            (&Entitlement::Number(1), &Entitlement::Number(2), false),
            (&yes, &text("yes"), false),
        ] {
            assert_eq!(grants(granted, claimed), covered, "{granted} {claimed}");
        }
    }
}
