//! PKCS#12: opened whatever it was encrypted with, written in the one way that every current reader takes.

use aws_lc_rs::hmac;
use ninekeys_formats::keystore::pkcs12::{
    self as format, Bag, BagContent, Encrypted, Pbes2, Pfx, Safe, write_certificate_bag, write_contents,
    write_encrypted_key, write_key_bag, write_safe_contents,
};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};

use super::derive::{self, Budget, Purpose};
use super::{Format, KeystoreError, OpenStore, Protected, StoredKey};
use crate::digest::sha256;
use crate::env::Env;

/// How often the password is hashed in what is written.
const ROUNDS: u64 = 100_000;

/// Opens a PKCS#12 file.
pub(super) fn open(bytes: &[u8], password: &SecretText, limits: &Limits) -> Result<OpenStore, KeystoreError> {
    let pfx = format::parse(bytes, limits)?;
    let safes = format::safes(&pfx.contents, limits)?;
    let budget = Budget::new();
    if !mac_holds(&pfx, password, &budget)? {
        let right = opens_anything(&safes, password, limits, &budget);
        return Err(if right { KeystoreError::Changed } else { KeystoreError::WrongStorePassword });
    }
    let mut bags = Vec::new();
    let mut encryption = Vec::new();
    for safe in safes {
        match safe {
            Safe::Plain(contents) => bags.extend(format::bags(&contents, limits)?),
            Safe::Encrypted(encrypted) => {
                encryption.push(derive::name(&encrypted.scheme));
                let contents = match derive::decrypt(&encrypted, password, &budget) {
                    // the MAC held with this password
                    Err(KeystoreError::WrongStorePassword) if pfx.mac.is_some() => {
                        return Err(KeystoreError::Changed);
                    }
                    other => other?,
                };
                let found = contents.lend(|contents| format::bags(contents, limits));
                // without a MAC nothing but this tells a wrong password whose padding looks right
                let found = found.map_err(|error| match pfx.mac {
                    Some(_) => KeystoreError::Damaged(error),
                    None => KeystoreError::WrongStorePassword,
                });
                bags.extend(found?);
            }
        }
    }
    Ok(OpenStore { authenticated: pfx.mac.is_some(), ..sort_out(bags, encryption, &budget) })
}

/// What a PKCS#12 file shows without its password: often the aliases, seldom the certificates.
pub(super) fn peek(bytes: &[u8], limits: &Limits) -> Result<OpenStore, KeystoreError> {
    let pfx = format::parse(bytes, limits)?;
    let mut bags = Vec::new();
    let mut encryption = Vec::new();
    for safe in format::safes(&pfx.contents, limits)? {
        match safe {
            Safe::Plain(contents) => bags.extend(format::bags(&contents, limits)?),
            Safe::Encrypted(encrypted) => encryption.push(derive::name(&encrypted.scheme)),
        }
    }
    Ok(OpenStore { authenticated: pfx.mac.is_some(), ..sort_out(bags, encryption, &Budget::new()) })
}

/// Whether the MAC is right; without one, nothing speaks against the file.
fn mac_holds(pfx: &Pfx, password: &SecretText, budget: &Budget) -> Result<bool, KeystoreError> {
    let Some(mac) = &pfx.mac else { return Ok(true) };
    let hash = derive::hash(mac.algorithm)
        .ok_or_else(|| KeystoreError::Unsupported(format!("a MAC of kind {}", mac.algorithm)))?;
    let count = budget.spend(mac.iterations)?;
    let algorithm = match hash.output_len() {
        20 => hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY,
        28 => hmac::HMAC_SHA224,
        32 => hmac::HMAC_SHA256,
        48 => hmac::HMAC_SHA384,
        _ => hmac::HMAC_SHA512,
    };
    let holds = |password: &SecretBytes| {
        let key = derive::derive(hash, Purpose::Mac, password, &mac.salt, count, hash.output_len());
        let key = key.lend(|key| hmac::Key::new(algorithm, key));
        hmac::verify(&key, &pfx.contents, &mac.digest).is_ok()
    };
    // some programs write an empty password as two zero bytes, some as nothing
    let empty = password.lend(String::is_empty);
    Ok(holds(&derive::wide(password)) || (empty && holds(&Secret::new(Vec::new()))))
}

/// Whether the password opens anything that is encrypted in the file.
fn opens_anything(safes: &[Safe], password: &SecretText, limits: &Limits, budget: &Budget) -> bool {
    let opens = |encrypted: &Encrypted| derive::decrypt(encrypted, password, budget).ok();
    safes.iter().any(|safe| match safe {
        Safe::Encrypted(encrypted) => {
            opens(encrypted).is_some_and(|plain| plain.lend(|plain| format::bags(plain, limits).is_ok()))
        }
        Safe::Plain(contents) => format::bags(contents, limits).unwrap_or_default().iter().any(|bag| {
            let BagContent::ShroudedKey(encrypted) = &bag.content else { return false };
            let is_key =
                |der: &Vec<u8>| <pkcs8::PrivateKeyInfoRef<'_> as der::Decode<'_>>::from_der(der).is_ok();
            opens(encrypted).is_some_and(|plain| plain.lend(is_key))
        }),
    })
}

/// A certificate on its way to its key.
struct Lone {
    key_id: Option<Vec<u8>>,
    name: Option<String>,
    der: Vec<u8>,
}

/// Keys with the certificates that may be theirs: first the one with the same id, then all others.
fn sort_out(bags: Vec<Bag>, mut encryption: Vec<String>, budget: &Budget) -> OpenStore {
    let mut keys = Vec::new();
    let mut certificates: Vec<Lone> = Vec::new();
    for bag in bags {
        let protected = match bag.content {
            BagContent::Key(secret) => Protected::Plain(secret),
            BagContent::ShroudedKey(encrypted) => {
                encryption.push(derive::name(&encrypted.scheme));
                Protected::Pkcs12(encrypted, budget.clone())
            }
            BagContent::Certificate(der) => {
                certificates.push(Lone { key_id: bag.key_id, name: bag.name, der });
                continue;
            }
            BagContent::Other(_) => continue,
        };
        keys.push((bag.name, bag.key_id, protected));
    }
    let only = keys.len() == 1;
    let keys = keys.into_iter().enumerate().map(|(index, (name, id, protected))| {
        let own = |one: &&Lone| id.is_some() && one.key_id == id;
        let others = certificates.iter().filter(|one| !own(one));
        let ordered: Vec<Vec<u8>> =
            certificates.iter().filter(own).chain(others).map(|one| one.der.clone()).collect();
        let claimed = certificates.iter().any(|one| own(&one)) || (only && !ordered.is_empty());
        // a name may stand on the certificate alone
        let on_certificate = certificates.iter().find(own).and_then(|one| one.name.clone());
        let alias = name.or(on_certificate).filter(|name| !name.is_empty());
        let alias = alias.unwrap_or_else(|| format!("key-{}", index + 1));
        StoredKey { alias, protected, certificates: ordered, claimed }
    });
    let mut keys: Vec<StoredKey> = keys.collect();
    keys.sort_by(|a, b| a.alias.cmp(&b.alias));
    let lone =
        if keys.is_empty() { certificates.into_iter().map(|one| one.der).collect() } else { Vec::new() };
    let open_keys = keys.iter().any(|key| matches!(key.protected, Protected::Plain(_)));
    encryption.sort();
    encryption.dedup();
    if open_keys || encryption.is_empty() {
        encryption.push("not encrypted".into());
    }
    let encryption = encryption.join(", ");
    let authenticated = false;
    OpenStore { format: Format::Pkcs12, encryption, authenticated, open_keys, keys, certificates: lone }
}

/// A key on its way out.
#[derive(Debug, Clone, Copy)]
pub struct Outgoing<'a> {
    /// Its alias.
    pub alias: &'a str,
    /// PKCS#8.
    pub secret: &'a SecretBytes,
    /// Its certificate, DER.
    pub certificate: &'a [u8],
    /// The certificates above it, DER.
    pub chain: &'a [Vec<u8>],
}

/// Writes a PKCS#12 file: PBES2 (PBKDF2 with HMAC-SHA-256, AES-256) for keys and certificates, and a MAC with
/// SHA-256. One password for the store and all keys, as its readers want it.
///
/// # Errors
/// [`KeystoreError::NotAscii`], [`KeystoreError::AliasesAlike`], [`KeystoreError::Provider`],
/// [`KeystoreError::Random`].
pub fn write_pkcs12(
    keys: &[Outgoing<'_>],
    password: &SecretText,
    env: &Env<'_>,
) -> Result<Vec<u8>, KeystoreError> {
    if !password.lend(|text| text.is_ascii()) {
        return Err(KeystoreError::NotAscii);
    }
    refuse_alike(keys)?;
    let failed = |_| KeystoreError::Provider;
    let mut key_bags = Vec::new();
    let mut certificate_bags = Vec::new();
    for key in keys {
        let (salt, iv) = (random::<16>(env)?, random::<16>(env)?);
        let how = Pbes2 { salt: &salt, iterations: ROUNDS, iv: &iv };
        let data = key.secret.lend(|secret| derive::encrypt(&how, password, secret))?;
        let id = sha256(key.certificate);
        let info = write_encrypted_key(&how, &data).map_err(failed)?;
        key_bags.push(write_key_bag(&info, key.alias, &id).map_err(failed)?);
        let tied = Some((key.alias, &id[..]));
        certificate_bags.push(write_certificate_bag(key.certificate, tied).map_err(failed)?);
    }
    // several keys may share their issuers: each stands there once, under no name
    let mut above: Vec<&[u8]> = Vec::new();
    for der in keys.iter().flat_map(|key| key.chain) {
        if !above.contains(&der.as_slice()) && !keys.iter().any(|key| key.certificate == der) {
            above.push(der);
            certificate_bags.push(write_certificate_bag(der, None).map_err(failed)?);
        }
    }
    let plain = write_safe_contents(&key_bags).map_err(failed)?;
    let (salt, iv) = (random::<16>(env)?, random::<16>(env)?);
    let how = Pbes2 { salt: &salt, iterations: ROUNDS, iv: &iv };
    let certificates = write_safe_contents(&certificate_bags).map_err(failed)?;
    let certificates = derive::encrypt(&how, password, &certificates)?;
    let contents = write_contents(&plain, &how, &certificates).map_err(failed)?;
    let salt = random::<20>(env)?;
    let count = derive::iterations(ROUNDS)?;
    let hash = &aws_lc_rs::digest::SHA256;
    let key = derive::derive(hash, Purpose::Mac, &derive::wide(password), &salt, count, 32);
    let key = key.lend(|key| hmac::Key::new(hmac::HMAC_SHA256, key));
    let mac = hmac::sign(&key, &contents);
    format::write(&contents, mac.as_ref(), &salt, ROUNDS).map_err(failed)
}

fn refuse_alike(keys: &[Outgoing<'_>]) -> Result<(), KeystoreError> {
    for (index, key) in keys.iter().enumerate() {
        let lower = key.alias.to_lowercase();
        if let Some(other) = keys.iter().take(index).find(|other| other.alias.to_lowercase() == lower) {
            return Err(KeystoreError::AliasesAlike(other.alias.into(), key.alias.into()));
        }
    }
    Ok(())
}

fn random<const N: usize>(env: &Env<'_>) -> Result<[u8; N], KeystoreError> {
    let mut bytes = [0; N];
    env.keys.fill(&mut bytes)?;
    Ok(bytes)
}
