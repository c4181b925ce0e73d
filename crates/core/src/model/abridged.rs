//! Facts without what no list tells: encodings and claims, and of a build all but whose it is. They are left out while the
//! facts are read: most of a cabinet is that, and to make it and let go of it again would take longer than all the rest.

use std::marker::PhantomData;

use serde::de::value::BorrowedStrDeserializer;
use serde::de::{DeserializeSeed, Deserializer, Error, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, forward_to_deserialize_any};

use super::facts::{Facts, Kind, KindFirst};

/// Facts in which texts, lists and maps that no list tells are empty, and values that may be missing are.
#[derive(Debug)]
pub struct Abridged(pub Facts);

impl<'de> Deserialize<'de> for Abridged {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_map(KindFirst(let_go)).map(Abridged)
    }
}

/// The fields that no list tells.
fn let_go(kind: Kind) -> &'static [&'static str] {
    match kind {
        Kind::Key => &["public_key", "fingerprint"],
        Kind::Certificate => &["der", "issuer"],
        Kind::Identity => &["request"],
        Kind::Profile => &["uuid", "app_id", "team", "entitlements"],
        Kind::Release => &[
            "app",
            "id",
            "version",
            "file",
            "content",
            "signed_with",
            "signer",
            "schemes",
            "profile",
            "profiles",
            "by",
            "sha256",
            "folders",
            "seen",
        ],
        Kind::Device => &["identifier"],
        Kind::Keystore | Kind::ApiKey | Kind::HandOut | Kind::Rotation | Kind::Date => &[],
    }
}

/// The fields of facts, of which some are passed over.
pub(super) struct Fields<A> {
    all: A,
    let_go: &'static [&'static str],
    /// Whether the value that comes next is passed over.
    passes: bool,
}

impl<A> Fields<A> {
    pub(super) fn without(let_go: &'static [&'static str], all: A) -> Self {
        Fields { all, let_go, passes: false }
    }
}

impl<'de, A: MapAccess<'de>> MapAccess<'de> for Fields<A> {
    type Error = A::Error;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, A::Error> {
        if self.let_go.is_empty() {
            return self.all.next_key_seed(seed);
        }
        let Some(name) = self.all.next_key_seed(PhantomData::<&'de str>)? else { return Ok(None) };
        self.passes = self.let_go.contains(&name);
        seed.deserialize(BorrowedStrDeserializer::new(name)).map(Some)
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, A::Error> {
        if !self.passes {
            return self.all.next_value_seed(seed);
        }
        self.all.next_value::<IgnoredAny>()?;
        seed.deserialize(Nothing(PhantomData))
    }
}

/// What stands for a value that was passed over: an empty text, list or map, or none.
struct Nothing<E>(PhantomData<E>);

impl<'de, E: Error> Deserializer<'de> for Nothing<E> {
    type Error = E;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, E> {
        visitor.visit_none()
    }

    fn deserialize_str<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, E> {
        visitor.visit_borrowed_str("")
    }

    fn deserialize_string<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, E> {
        visitor.visit_borrowed_str("")
    }

    fn deserialize_seq<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, E> {
        visitor.visit_seq(self)
    }

    fn deserialize_map<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, E> {
        visitor.visit_map(self)
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char bytes byte_buf option unit unit_struct newtype_struct tuple
        tuple_struct struct enum identifier ignored_any
    }
}

impl<'de, E: Error> SeqAccess<'de> for Nothing<E> {
    type Error = E;

    fn next_element_seed<T: DeserializeSeed<'de>>(&mut self, _: T) -> Result<Option<T::Value>, E> {
        Ok(None)
    }
}

impl<'de, E: Error> MapAccess<'de> for Nothing<E> {
    type Error = E;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, _: K) -> Result<Option<K::Value>, E> {
        Ok(None)
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, _: V) -> Result<V::Value, E> {
        Err(E::custom("an empty map has no values"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Facts of each kind that something is let go of, with a mark in every value that is.
    const TEXTS: [&str; 6] = [
        r#"{"kind":"key","algorithm":"EC P-256","public_key":"GONE","fingerprint":"GONE"}"#,
        r#"{"kind":"certificate","key":"00000000000000000000000000000000","der":"GONE","fingerprint":"02","subject":"CN=a","issuer":"GONE","serial":"1","not_before":"2030-01-01T00:00:00Z","not_after":"2060-01-01T00:00:00Z"}"#,
        r#"{"kind":"identity","purpose":"distribution","apps":[],"request":"GONE","held_by":"the build service"}"#,
        r#"{"kind":"profile","uuid":"GONE","title":"Crossing","destination":"store","app_id":"GONE","apps":["crossing"],"team":"GONE","foreign_certificates":["03"],"certificates":[],"devices":[],"entitlements":{"GONE":true},"not_before":"2030-01-01T00:00:00Z","not_after":"2031-01-01T00:00:00Z","fingerprint":"04"}"#,
        r#"{"kind":"release","app":"GONE","platform":"ios","id":"GONE","version":"GONE","number":"12","destination":"store","file":"GONE","size":1,"content":"GONE","signed_with":"GONE","signer":"GONE","signer_certificate":"05","certificate":null,"profiles":["0000000000000000000000000000000a"],"schemes":["GONE"],"signed":"2030-01-01T00:00:00Z","by":"GONE","sha256":"GONE","folders":{"GONE":1}}"#,
        r#"{"kind":"device","identifier":"GONE","title":"Bridge"}"#,
    ];

    #[test]
    fn what_no_list_tells_is_empty_and_the_rest_as_it_was() {
        for text in TEXTS {
            let whole: serde_json::Value =
                serde_json::to_value(serde_json::from_str::<Facts>(text).unwrap()).unwrap();
            let Abridged(facts) = serde_json::from_str(text).unwrap();
            let abridged = serde_json::to_value(&facts).unwrap();
            assert!(!abridged.to_string().contains("GONE"), "{abridged}");
            let (whole, abridged) = (whole.as_object().unwrap(), abridged.as_object().unwrap());
            for (name, value) in whole.iter().filter(|(_, value)| !value.to_string().contains("GONE")) {
                let is_let_go = name == "profiles";
                assert!(is_let_go || abridged.get(name) == Some(value), "{name} of {text}");
            }
            assert!(abridged.get("profiles").is_none_or(|all| all == &serde_json::json!([])));
        }
    }

    #[test]
    fn what_is_read_whole_is_read_the_same_and_what_is_broken_is_refused() {
        for text in [
            r#"{"kind":"keystore","entries":[],"weak_password":true}"#,
            r#"{"kind":"date","title":"Membership","on":"2031-06-01T00:00:00Z","every_months":12}"#,
        ] {
            let Abridged(facts) = serde_json::from_str(text).unwrap();
            assert_eq!(facts, serde_json::from_str(text).unwrap());
        }
        for wrong in [
            r#"{"kind":"device","identifier":"GONE"}"#,
            r#"{"kind":"device","title":"Bridge"}"#,
            r#"{"kind":"device","identifier":"x","identifier":"y","title":"quay"}"#,
            r#"{"kind":"device","identifier":{"x":[1,},"title":"quay"}"#,
            r#"{"title":"quay","identifier":"x","kind":"device"}"#,
        ] {
            assert!(serde_json::from_str::<Abridged>(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn what_older_rows_say_otherwise_is_let_go_of_too() {
        let one = TEXTS[4].replace(
            r#""profiles":["0000000000000000000000000000000a"]"#,
            r#""profile":"0000000000000000000000000000000a""#,
        );
        let Abridged(Facts::Release(release)) = serde_json::from_str(&one).unwrap() else { panic!("{one}") };
        assert!(release.profiles.is_empty() && release.signer_certificate == "05");
    }
}
