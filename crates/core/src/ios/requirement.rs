//! Whether a requirement holds for code: what can be told of it here, and that nothing is said of what cannot.

use std::collections::BTreeMap;

use der::asn1::ObjectIdentifier;
use ninekeys_formats::entitlements::Entitlement;
use ninekeys_formats::requirement::{Expression, Match, Place};
use ninekeys_formats::x509::{Certificate, name_values};

use crate::digest::sha1;

/// The fields of a subject that requirements name (RFC 4519).
const FIELDS: [(&str, ObjectIdentifier); 5] = [
    ("subject.CN", ObjectIdentifier::new_unwrap("2.5.4.3")),
    ("subject.O", ObjectIdentifier::new_unwrap("2.5.4.10")),
    ("subject.OU", ObjectIdentifier::new_unwrap("2.5.4.11")),
    ("subject.C", ObjectIdentifier::new_unwrap("2.5.4.6")),
    ("subject.UID", ObjectIdentifier::new_unwrap("0.9.2342.19200300.100.1.1")),
];

/// What is known of the code that a requirement is held against.
#[derive(Debug, Clone, Copy)]
pub struct Subject<'a> {
    /// What it is called.
    pub identifier: &'a str,
    /// From the signer's certificate to the root.
    pub chain: &'a [Certificate],
    /// Whether that root is the one that counts; nothing where nobody says which does.
    pub anchored: Option<bool>,
    /// What names the code, one for each of its directories.
    pub code_hashes: &'a [Vec<u8>],
    /// What it claims.
    pub entitlements: Option<&'a BTreeMap<String, Entitlement>>,
}

/// Whether the condition holds; nothing where it depends on something that is not known here.
pub fn holds(expression: &Expression, subject: &Subject<'_>) -> Option<bool> {
    match expression {
        Expression::Constant(value) => Some(*value),
        Expression::Identifier(name) => Some(name == subject.identifier),
        Expression::Anchor => subject.anchored,
        Expression::CertificateHash(place, hash) => {
            Some(at(subject, *place).is_some_and(|found| sha1(&found.der).as_slice() == hash))
        }
        Expression::And(one, other) => match (holds(one, subject), holds(other, subject)) {
            (Some(false), _) | (_, Some(false)) => Some(false),
            (Some(true), Some(true)) => Some(true),
            _ => None,
        },
        Expression::Or(one, other) => match (holds(one, subject), holds(other, subject)) {
            (Some(true), _) | (_, Some(true)) => Some(true),
            (Some(false), Some(false)) => Some(false),
            _ => None,
        },
        Expression::Not(what) => holds(what, subject).map(|holds| !holds),
        Expression::CodeHash(hash) => Some(subject.code_hashes.contains(hash)),
        Expression::Subject(place, field, wanted) => {
            let (_, kind) = FIELDS.iter().find(|(name, _)| name == field)?;
            let Some(found) = at(subject, *place) else { return Some(false) };
            any(&name_values(&found.subject_der, *kind).ok()?, wanted)
        }
        Expression::Extension(place, oid, wanted) => {
            let found = at(subject, *place).is_some_and(|found| found.extensions.find(*oid).is_some());
            // what stands in an extension has a form of its own
            if *wanted == Match::Exists || !found { Some(found) } else { None }
        }
        Expression::Entitlement(key, wanted) => {
            let Some(value) = subject.entitlements.and_then(|all| all.get(key)) else { return Some(false) };
            match (wanted, value) {
                (Match::Exists, Entitlement::Flag(set)) => Some(*set),
                (Match::Exists, _) => Some(true),
                (_, Entitlement::Text(text)) => any(std::slice::from_ref(text), wanted),
                (_, Entitlement::List(all)) => {
                    let texts: Option<Vec<String>> =
                        all.iter().map(|one| one.text().map(str::to_owned)).collect();
                    any(&texts?, wanted)
                }
                _ => None,
            }
        }
        Expression::Info(..) | Expression::Policy(..) | Expression::VendorsOwn => None,
    }
}

fn at<'a>(subject: &Subject<'a>, place: Place) -> Option<&'a Certificate> {
    match place {
        Place::Above(number) => subject.chain.get(number),
        Place::Root => subject.chain.last(),
    }
}

/// Whether one of the values is what is wanted; which is the greater of two texts is not said anywhere.
fn any(values: &[String], wanted: &Match) -> Option<bool> {
    let one = |is: &dyn Fn(&str) -> bool| Some(values.iter().any(|value| is(value)));
    match wanted {
        Match::Exists => Some(!values.is_empty()),
        Match::Is(text) => one(&|value| value == text),
        Match::Contains(text) => one(&|value| value.contains(text.as_str())),
        Match::Begins(text) => one(&|value| value.starts_with(text.as_str())),
        Match::Ends(text) => one(&|value| value.ends_with(text.as_str())),
        Match::Less(_) | Match::More(_) | Match::AtMost(_) | Match::AtLeast(_) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entitlements() -> BTreeMap<String, Entitlement> {
        let text = |text: &str| Entitlement::Text(text.into());
        let groups = Entitlement::List(vec![text("TEAM.pier"), text("TEAM.quay")]);
        let all =
            [("environment", text("production")), ("debug", Entitlement::Flag(false)), ("groups", groups)];
        all.into_iter().map(|(key, value)| (key.to_owned(), value)).collect()
    }

    fn told(expression: &Expression) -> Option<bool> {
        let entitlements = entitlements();
        let code_hashes = [vec![7; 20]];
        let subject = Subject {
            identifier: "pier",
            chain: &[],
            anchored: None,
            code_hashes: &code_hashes,
            entitlements: Some(&entitlements),
        };
        holds(expression, &subject)
    }

    #[test]
    fn what_is_not_known_stays_so_unless_the_rest_decides() {
        let [no, yes, unknown] = [
            Expression::Constant(false),
            Expression::Identifier("pier".into()),
            Expression::Info("key".into(), Match::Exists),
        ];
        let and =
            |a: &Expression, b: &Expression| told(&Expression::And(Box::new(a.clone()), Box::new(b.clone())));
        let or =
            |a: &Expression, b: &Expression| told(&Expression::Or(Box::new(a.clone()), Box::new(b.clone())));
        assert_eq!(
            (and(&yes, &yes), and(&yes, &no), and(&no, &unknown)),
            (Some(true), Some(false), Some(false))
        );
        assert_eq!((and(&yes, &unknown), or(&no, &unknown), or(&unknown, &yes)), (None, None, Some(true)));
        assert_eq!((or(&no, &no), or(&no, &yes)), (Some(false), Some(true)));
        let not = |what: &Expression| told(&Expression::Not(Box::new(what.clone())));
        assert_eq!((not(&yes), not(&no), not(&unknown)), (Some(false), Some(true), None));
        assert_eq!((told(&Expression::Anchor), told(&Expression::VendorsOwn)), (None, None));
        assert_eq!(told(&Expression::Identifier("Pier".into())), Some(false));
        assert_eq!(told(&Expression::CodeHash(vec![7; 20])), Some(true));
        assert_eq!(told(&Expression::CodeHash(vec![7; 19])), Some(false));
    }

    #[test]
    fn entitlements_are_held_against_what_is_wanted_of_them() {
        let of = |key: &str, wanted: Match| told(&Expression::Entitlement(key.into(), wanted));
        assert_eq!(of("environment", Match::Is("production".into())), Some(true));
        assert_eq!(of("environment", Match::Is("development".into())), Some(false));
        assert_eq!(of("groups", Match::Begins("TEAM.q".into())), Some(true));
        assert_eq!(of("groups", Match::Ends(".ferry".into())), Some(false));
        assert_eq!(of("groups", Match::Contains("M.p".into())), Some(true));
        assert_eq!((of("debug", Match::Exists), of("groups", Match::Exists)), (Some(false), Some(true)));
        assert_eq!(of("none", Match::Exists), Some(false));
        assert_eq!(of("environment", Match::AtLeast("a".into())), None);
        // a certificate that is not there has no field
        let subject = Expression::Subject(Place::Root, "subject.CN".into(), Match::Exists);
        assert_eq!(told(&subject), Some(false));
        assert_eq!(told(&Expression::Subject(Place::Root, "subject.X".into(), Match::Exists)), None);
    }
}
