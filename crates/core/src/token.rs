//! Signed tokens: JWS in its compact form (RFC 7515) with the claims of RFC 7519, ES256 or RS256 (RFC 7518, section 3.1);
//! with a scope they are assertions of a service account (RFC 7523).
//!
//! Made by our own key type, so that a private key stays where it is and the same claims give the same bytes.

use base64ct::{Base64UrlUnpadded, Encoding};
use jiff::Timestamp;
use ninekeys_formats::ecdsa;
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_formats::x509::KeyShape;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::keys::{KeyError, PrivateKey, PublicKey, SignatureKind, Signer, verify};

/// The longest that a token is good for, in minutes.
pub const MOST_MINUTES: u16 = 20;
/// The longest token that is read, in bytes.
const LONGEST: usize = 8 << 10;
/// How far the clocks of two machines may be apart, in seconds.
const CLOCKS: i64 = 60;

/// What a token says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Claims {
    /// Who made it: an issuer id, or a service account.
    pub iss: String,
    /// Whom it is for.
    pub aud: String,
    /// When it was made, in seconds since 1970 (UTC).
    pub iat: i64,
    /// Until when it is good, in seconds since 1970 (UTC).
    pub exp: i64,
    /// What it asks for, with blanks between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scope: Option<String>,
}

/// The head of a token.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Head {
    /// ES256 or RS256.
    pub alg: String,
    /// Which key signed it.
    pub kid: String,
    /// `JWT`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub typ: String,
}

/// Why a token was not made.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TokenError {
    /// A key of another kind.
    #[error("tokens are signed with EC P-256 or RSA, and this is a key of kind {0}")]
    Kind(String),
    /// It would be good for longer than anybody takes, or for no time.
    #[error("a token is good for 1 to {MOST_MINUTES} minutes")]
    Minutes,
    /// The key refused.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// It could not be put together.
    #[error("the token could not be put together")]
    Encoding,
}

/// Why a token is not taken.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TokenFault {
    /// It is none.
    #[error("it is no token")]
    Shape,
    /// Its head names an algorithm that is not the key's.
    #[error("it is signed with {0}, and the key is of another kind")]
    Algorithm(String),
    /// Its signature does not hold.
    #[error("its signature does not hold")]
    Signature,
    /// It has ended.
    #[error("it was good until {0}")]
    Ended(Timestamp),
    /// It is from the future.
    #[error("it was made at {0}, which is to come")]
    NotYet(Timestamp),
    /// It is good for too long.
    #[error("it is good for longer than {MOST_MINUTES} minutes")]
    TooLong,
    /// It is for somebody else.
    #[error("it is for {0}")]
    Audience(String),
}

/// The algorithm's name for a key, and how it signs.
fn algorithm(shape: &KeyShape) -> Option<(&'static str, SignatureKind)> {
    match shape {
        KeyShape::Ec { curve } if curve == "P-256" => Some(("ES256", SignatureKind::EcdsaSha256)),
        KeyShape::Rsa { .. } => Some(("RS256", SignatureKind::RsaSha256)),
        _ => None,
    }
}

/// Makes a token that is good for some minutes from now.
///
/// # Errors
/// [`TokenError`].
pub fn make(key: &PrivateKey, kid: &str, claims: &Claims) -> Result<SecretText, TokenError> {
    let shape = key.public().shape();
    let (alg, kind) = algorithm(shape).ok_or_else(|| TokenError::Kind(shape.to_string()))?;
    if claims.exp <= claims.iat || claims.exp - claims.iat > 60 * i64::from(MOST_MINUTES) {
        return Err(TokenError::Minutes);
    }
    let head = Head { alg: alg.into(), kid: kid.into(), typ: "JWT".into() };
    let part = |bytes: Result<Vec<u8>, serde_json::Error>| {
        bytes.map(|bytes| Base64UrlUnpadded::encode_string(&bytes)).map_err(|_| TokenError::Encoding)
    };
    let signed = format!("{}.{}", part(serde_json::to_vec(&head))?, part(serde_json::to_vec(claims))?);
    let mut signature = key.sign(kind, signed.as_bytes())?;
    if kind == SignatureKind::EcdsaSha256 {
        signature = ecdsa::to_fixed(&signature, 32).map_err(|_| TokenError::Encoding)?;
    }
    Ok(Secret::new(format!("{signed}.{}", Base64UrlUnpadded::encode_string(&signature))))
}

/// A token, taken apart; nothing of it is proved.
struct Parts<'a> {
    signed: &'a str,
    head: Head,
    claims: Vec<u8>,
    signature: Vec<u8>,
}

fn parts(token: &str) -> Result<Parts<'_>, TokenFault> {
    let bytes = |part: &str| Base64UrlUnpadded::decode_vec(part).map_err(|_| TokenFault::Shape);
    if token.len() > LONGEST {
        return Err(TokenFault::Shape);
    }
    let (signed, signature) = token.rsplit_once('.').ok_or(TokenFault::Shape)?;
    let (head, claims) = signed.split_once('.').ok_or(TokenFault::Shape)?;
    let head = serde_json::from_slice(&bytes(head)?).map_err(|_| TokenFault::Shape)?;
    Ok(Parts { signed, head, claims: bytes(claims)?, signature: bytes(signature)? })
}

/// Which key a token says that it was signed with. Nothing of it is proved.
///
/// # Errors
/// [`TokenFault::Shape`].
pub fn key_id(token: &str) -> Result<String, TokenFault> {
    parts(token).map(|parts| parts.head.kid)
}

/// Verifies a token: signature, dates, length and audience.
///
/// # Errors
/// [`TokenFault`].
pub fn check(token: &str, key: &PublicKey, audience: &str, now: Timestamp) -> Result<Claims, TokenFault> {
    let Parts { signed, head, claims, mut signature } = parts(token)?;
    // the key says the algorithm, and never the token
    let (alg, kind) = algorithm(key.shape()).ok_or(TokenFault::Signature)?;
    if head.alg != alg {
        return Err(TokenFault::Algorithm(head.alg));
    }
    if kind == SignatureKind::EcdsaSha256 {
        if signature.len() != 64 {
            return Err(TokenFault::Signature);
        }
        signature = ecdsa::from_fixed(&signature).map_err(|_| TokenFault::Signature)?;
    }
    if verify(key, kind, signed.as_bytes(), &signature) != Some(true) {
        return Err(TokenFault::Signature);
    }
    let claims: Claims = serde_json::from_slice(&claims).map_err(|_| TokenFault::Shape)?;
    let time = |seconds: i64| Timestamp::from_second(seconds).map_err(|_| TokenFault::Shape);
    let (made, ends) = (time(claims.iat)?, time(claims.exp)?);
    if ends.as_second().saturating_add(CLOCKS) < now.as_second() {
        return Err(TokenFault::Ended(ends));
    }
    if made.as_second() > now.as_second().saturating_add(CLOCKS) {
        return Err(TokenFault::NotYet(made));
    }
    if claims.exp - claims.iat > 60 * i64::from(MOST_MINUTES) {
        return Err(TokenFault::TooLong);
    }
    if claims.aud != audience {
        return Err(TokenFault::Audience(claims.aud));
    }
    Ok(claims)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::keys::{Algorithm, KeyMaker, SystemKeys};

    fn now() -> Timestamp {
        "2031-05-19T12:00:00Z".parse().unwrap()
    }

    fn claims(minutes: i64) -> Claims {
        let iat = now().as_second();
        Claims { iss: "gannet".into(), aud: "portal".into(), iat, exp: iat + 60 * minutes, scope: None }
    }

    fn key(algorithm: Algorithm) -> PrivateKey {
        SystemKeys.make(algorithm).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap()
    }

    #[test]
    fn both_algorithms_make_what_they_verify_and_the_same_bytes_twice() {
        for (algorithm, name) in [(Algorithm::P256, "ES256"), (Algorithm::Rsa2048, "RS256")] {
            let key = key(algorithm);
            let token = make(&key, "K1", &claims(20)).unwrap();
            assert!(token.lend(|one| make(&key, "K1", &claims(20)).unwrap().lend(|two| one == two)));
            token.lend(|token| {
                assert_eq!(key_id(token), Ok("K1".into()));
                assert_eq!(check(token, key.public(), "portal", now()), Ok(claims(20)));
                let head = Base64UrlUnpadded::decode_vec(token.split('.').next().unwrap()).unwrap();
                assert!(String::from_utf8(head).unwrap().contains(name));
                for at in 0..token.len() {
                    let mut other = token.clone().into_bytes();
                    other[at] = if other[at] == b'A' { b'B' } else { b'A' };
                    let other = String::from_utf8(other).unwrap();
                    assert!(check(&other, key.public(), "portal", now()).is_err(), "turned at {at}");
                }
            });
        }
    }

    #[test]
    fn dates_length_audience_and_key_are_held() {
        let key = key(Algorithm::P256);
        let token = make(&key, "K1", &claims(20)).unwrap();
        let at = |minutes: i64| now() + jiff::SignedDuration::from_mins(minutes);
        token.lend(|token| {
            assert!(matches!(check(token, key.public(), "portal", at(22)), Err(TokenFault::Ended(_))));
            assert!(matches!(check(token, key.public(), "portal", at(-2)), Err(TokenFault::NotYet(_))));
            assert_eq!(
                check(token, key.public(), "store", now()),
                Err(TokenFault::Audience("portal".into()))
            );
        });
        let other = self::key(Algorithm::P256);
        let theirs = make(&other, "K1", &claims(5)).unwrap();
        assert_eq!(theirs.lend(|t| check(t, key.public(), "portal", now())), Err(TokenFault::Signature));
        assert_eq!(make(&key, "K1", &claims(21)).map(|_| ()), Err(TokenError::Minutes));
        assert_eq!(make(&key, "K1", &claims(0)).map(|_| ()), Err(TokenError::Minutes));
        let p384 = self::key(Algorithm::P384);
        assert!(matches!(make(&p384, "K1", &claims(5)), Err(TokenError::Kind(_))));
        for none in ["", ".", "a.b", "a.b.c", &"x.".repeat(9_000)] {
            assert!(key_id(none).is_err());
        }
    }
}
