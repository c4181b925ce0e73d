//! Timestamps (RFC 3161): an authority's word that a signature was there at a time. Asked for when signing, looked at when
//! checking, and given by the portal's stand-in.

use aws_lc_rs::digest::{SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA384, SHA512, digest};
use der::asn1::ObjectIdentifier;
use jiff::Timestamp;
use ninekeys_formats::cms;
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::timestamp::{
    self, Answer, Imprint, Question, SIGNING_CERTIFICATE_V2, STAMP, Stamp, TIME_STAMPING,
};
use ninekeys_formats::x509::Certificate;
use thiserror::Error;

use crate::authority::sign_content;
use crate::certificate::CertificateError;
use crate::chain::{Chain, NoRoot};
use crate::digest::sha256;
use crate::env::Env;
use crate::keys::{KeyError, PrivateKey};
use crate::signed::{SHA1_OID, SHA256_OID, SHA384_OID, SHA512_OID, SignerFault, certificate_of, holds};

/// What the stamps of the stand-in are made under: an arc for examples (RFC 5612).
const POLICY: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.4.1.32473.1");
/// A refusal: rejection (RFC 3161, section 2.4.2).
const REJECTION: u64 = 2;

/// What is kept free for a token in the signature of code, with the certificates of its authority, in bytes.
pub const ROOM: usize = 12_000;

/// Who puts a time to signatures.
pub trait Timestamper: Sync {
    /// A token over a signature.
    ///
    /// # Errors
    /// [`TimestampError`].
    fn stamp(&self, signature: &[u8]) -> Result<Vec<u8>, TimestampError>;
}

/// Why there is no token.
#[derive(Debug, Error)]
pub enum TimestampError {
    /// The authority could not be asked.
    #[error("the timestamp authority at {address} could not be asked: {because}")]
    NotAsked {
        /// Where it is.
        address: String,
        /// Why.
        because: String,
    },
    /// It refuses.
    #[error("the timestamp authority at {address} refuses (status {status})")]
    Refused {
        /// Where it is.
        address: String,
        /// What it says.
        status: u64,
    },
    /// What it answers is no answer, or not to what was asked.
    #[error("the timestamp authority at {address} answered with something that does not hold: {cause}")]
    Fault {
        /// Where it is.
        address: String,
        /// Why.
        #[source]
        cause: TimestampFault,
    },
}

/// Why a token does not count.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TimestampFault {
    /// It cannot be read.
    #[error("it cannot be read: {0}")]
    Malformed(#[from] ParseError),
    /// There is another number of signers than one.
    #[error("it has {0} signers")]
    Signers(usize),
    /// Its signer's word does not count.
    #[error("its signature does not hold: {0}")]
    Signer(#[from] SignerFault),
    /// It names another certificate than the one that signed it.
    #[error("it names another certificate than the one that signed it")]
    OtherCertificate,
    /// Its certificate is not for timestamps.
    #[error("the certificate of {0} is not for timestamps, and for nothing else")]
    NotForTime(String),
    /// It is over something else.
    #[error("it is over another signature")]
    OtherImprint,
    /// It answers another question.
    #[error("it answers another question")]
    OtherNonce,
    /// It is larger than what is kept free for one.
    #[error("it has {size} bytes, and {most} are kept free for one")]
    TooLarge {
        /// Its size.
        size: usize,
        /// What there is room for.
        most: usize,
    },
    /// Its authority is none that the project names.
    #[error("its authority leads to none of the roots that the project file names")]
    NotTrusted,
    /// Its authority leads nowhere.
    #[error("its authority cannot be followed up to one that vouches for itself: {0}")]
    NoRoot(#[from] NoRoot),
}

/// When something was there, by an authority's word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamped {
    /// When.
    pub at: Timestamp,
    /// Who says so.
    pub authority: Certificate,
    /// The certificates beside it, which may lead it to a root.
    pub beside: Vec<Certificate>,
}

impl Stamped {
    /// Reads a token over a signature, and verifies it; `nonce` is what the question was, where it is known. Whether its authority is
    /// trusted is for whoever has the roots.
    ///
    /// # Errors
    /// [`TimestampFault`].
    pub fn read(
        token: &[u8],
        signature: &[u8],
        nonce: Option<&[u8]>,
        limits: &Limits,
    ) -> Result<Self, TimestampFault> {
        let message = cms::parse_of(STAMP, token, limits)?;
        let [signer] = message.signers.as_slice() else {
            return Err(TimestampFault::Signers(message.signers.len()));
        };
        let content = message.content.as_deref().unwrap_or_default();
        let stamp = Stamp::parse(content)?;
        let authority = certificate_of(signer, &message, limits)?;
        holds(signer, &authority, content)?;
        // without attributes there is nothing that ties the signature to this certificate
        let attributes = signer.attributes.as_ref().ok_or(TimestampFault::OtherCertificate)?;
        let named = timestamp::signing_certificate(attributes, limits)?;
        if !is_of(&named, &authority.der) {
            return Err(TimestampFault::OtherCertificate);
        }
        if authority.extensions.purposes().ok().as_deref() != Some(&[TIME_STAMPING]) {
            return Err(TimestampFault::NotForTime(authority.subject));
        }
        if !is_of(&stamp.imprint, signature) {
            return Err(TimestampFault::OtherImprint);
        }
        if nonce.is_some() && stamp.nonce.as_deref() != nonce {
            return Err(TimestampFault::OtherNonce);
        }
        let at = Timestamp::from_second(stamp.at).unwrap_or(Timestamp::MAX);
        let beside = message.certificates.iter().filter_map(|der| Certificate::parse(der, limits).ok());
        Ok(Stamped { at, authority, beside: beside.collect() })
    }

    /// Its authority's path through what came with it and `pool`, at the time that it says.
    ///
    /// # Errors
    /// [`NoRoot`].
    pub fn chain(&self, pool: &[Certificate]) -> Result<Vec<Certificate>, NoRoot> {
        let pool: Vec<Certificate> = pool.iter().chain(&self.beside).cloned().collect();
        Chain::of_signer(&self.authority, &pool, Some(self.at), self.at)
    }
}

/// Whether a hash is that of some bytes.
fn is_of(imprint: &Imprint, bytes: &[u8]) -> bool {
    let algorithm = match imprint.algorithm {
        SHA256_OID => &SHA256,
        SHA384_OID => &SHA384,
        SHA512_OID => &SHA512,
        // RFC 2634 names certificates so
        SHA1_OID => &SHA1_FOR_LEGACY_USE_ONLY,
        _ => return false,
    };
    digest(algorithm, bytes).as_ref() == imprint.hash
}

/// A question about a signature, and the number in it that the answer has to repeat.
///
/// # Errors
/// [`KeyError`] without randomness.
pub fn question(signature: &[u8], env: &Env<'_>) -> Result<(Vec<u8>, Vec<u8>), KeyError> {
    let mut nonce = [0; 16];
    env.keys.fill(&mut nonce)?;
    // a number has no zeros in front
    let [first, ..] = &mut nonce;
    *first |= 0x40;
    let imprint = Imprint::sha256(&sha256(signature));
    let question = Question { imprint, nonce: Some(nonce.to_vec()), certificate: true };
    Ok((question.write().unwrap_or_default(), nonce.to_vec()))
}

/// Who gives timestamps: a key, and the certificate over it with those above it.
pub struct Authority<'a> {
    /// The key.
    pub key: &'a PrivateKey,
    /// Its certificate, and those above it.
    pub chain: &'a [&'a Certificate],
}

impl Authority<'_> {
    /// Answers a question: a token, or a refusal where it is none that is answered here.
    ///
    /// # Errors
    /// [`CertificateError`] when something cannot be written, or the key refuses.
    pub fn answer(&self, question: &[u8], env: &Env<'_>) -> Result<Vec<u8>, CertificateError> {
        let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
        let question = Question::parse(question);
        let good =
            question.ok().filter(|one| one.imprint.algorithm == SHA256_OID && one.imprint.hash.len() == 32);
        let answer = match good {
            Some(question) => Answer::Granted(self.token(&question, env)?),
            None => Answer::Refused(REJECTION),
        };
        timestamp::write_answer(&answer).map_err(encoding)
    }

    fn token(&self, question: &Question, env: &Env<'_>) -> Result<Vec<u8>, CertificateError> {
        let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
        let [own, ..] = self.chain else { return Err(encoding(der::Tag::Sequence.value_error().into())) };
        let mut serial = vec![0; 16];
        env.keys.fill(&mut serial)?;
        let stamp = Stamp {
            policy: POLICY,
            imprint: question.imprint.clone(),
            serial,
            at: env.now.as_second(),
            nonce: question.nonce.clone(),
        };
        let content = stamp.write().map_err(encoding)?;
        let named = timestamp::write_signing_certificate(&sha256(&own.der)).map_err(encoding)?;
        let beside = if question.certificate { self.chain } else { &[] };
        sign_content(self.key, (own, beside), (STAMP, &content), &[(SIGNING_CERTIFICATE_V2, &named)])
    }
}
