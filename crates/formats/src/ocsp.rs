//! Questions about single certificates, and the answers (OCSP, RFC 6960, section 4): read over the bytes that were signed, and
//! written.

use der::asn1::{Any, BitString, GeneralizedTime, Int, Null, ObjectIdentifier, OctetString};
use der::{Choice, Decode, Encode, Enumerated, Sequence, Tag};
use spki::AlgorithmIdentifierOwned;

use crate::cursor::{ParseError, bounded};
use crate::limits::Limits;
use crate::tlv::{content, inside, malformed, tlv, unreadable, value};
use crate::x509::Extensions;

/// id-pkix-ocsp-basic (RFC 6960, section 4.2.1).
const BASIC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.1");
/// id-pkix-ocsp-nonce (RFC 6960, section 4.4.1).
const NONCE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.2");
/// The most certificates that one question is about.
const MOST: usize = 64;

/// Which certificate: its issuer by the hashes of name and key, and its serial number.
#[derive(Debug, Clone, PartialEq, Eq, Sequence)]
pub struct CertificateId {
    /// The hash.
    pub hash: AlgorithmIdentifierOwned,
    /// Over the issuer's name, DER.
    pub issuer_name: OctetString,
    /// Over the bits of the issuer's key.
    pub issuer_key: OctetString,
    /// The serial number.
    pub serial: Int,
}

/// What is said of a certificate.
#[derive(Debug, Clone, PartialEq, Eq, Choice)]
pub enum CertificateStatus {
    /// It was not revoked.
    #[asn1(context_specific = "0", tag_mode = "IMPLICIT")]
    Good(Null),
    /// It was revoked.
    #[asn1(context_specific = "1", tag_mode = "IMPLICIT", constructed = "true")]
    Revoked(RevokedInfo),
    /// Who answers does not know it.
    #[asn1(context_specific = "2", tag_mode = "IMPLICIT")]
    Unknown(Null),
}

/// When a certificate was revoked.
#[derive(Debug, Clone, PartialEq, Eq, Sequence)]
pub struct RevokedInfo {
    /// When.
    pub at: GeneralizedTime,
    /// Why.
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT", optional = "true")]
    pub reason: Option<Reason>,
}

/// Why a certificate was revoked (RFC 5280, section 5.3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Enumerated)]
#[repr(u8)]
#[expect(missing_docs, reason = "the words are the standard's")]
pub enum Reason {
    Unspecified = 0,
    KeyCompromise = 1,
    AuthorityCompromise = 2,
    AffiliationChanged = 3,
    Superseded = 4,
    CessationOfOperation = 5,
    CertificateHold = 6,
    RemoveFromList = 8,
    PrivilegeWithdrawn = 9,
    AttributeCompromise = 10,
}

/// What is said of one certificate, and how long that holds.
#[derive(Debug, Clone, PartialEq, Eq, Sequence)]
pub struct SingleResponse {
    /// Which.
    pub id: CertificateId,
    /// What.
    pub status: CertificateStatus,
    /// When it was known to be so.
    pub this_update: GeneralizedTime,
    /// When more is known at the latest.
    #[asn1(context_specific = "0", tag_mode = "EXPLICIT", optional = "true")]
    pub next_update: Option<GeneralizedTime>,
    /// What else is said of it.
    #[asn1(context_specific = "1", tag_mode = "EXPLICIT", optional = "true")]
    pub extensions: Option<Any>,
}

/// A question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// The certificates that it is about.
    pub ids: Vec<CertificateId>,
    /// What the answer has to repeat.
    pub nonce: Option<Vec<u8>>,
}

/// An answer, signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The signed part, exactly as it stands.
    pub tbs: Vec<u8>,
    /// What is said.
    pub responses: Vec<SingleResponse>,
    /// What it repeats of the question.
    pub nonce: Option<Vec<u8>>,
    /// Whether it has a critical extension.
    pub critical: bool,
    /// The certificates beside it, DER.
    pub certificates: Vec<Vec<u8>>,
    /// The algorithm that it is signed with.
    pub signature_algorithm: ObjectIdentifier,
    /// Its signature.
    pub signature: Vec<u8>,
}

/// What came back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reply {
    /// An answer.
    Answer(Box<Answer>),
    /// None, with the number that says why: 1 malformed, 2 failed, 3 later, 5 unsigned, 6 not allowed (RFC 6960, section 4.2.1).
    Refused(u8),
}

/// The nonce among extensions: an OCTET STRING inside the one that every extension is, or, in old ones, bare bytes.
fn nonce(extensions: &Extensions) -> Option<Vec<u8>> {
    let value = &extensions.find(NONCE)?.value;
    Some(OctetString::from_der(value).map_or_else(|_| value.clone(), |inner| inner.as_bytes().to_vec()))
}

fn nonce_extensions(nonce: &[u8]) -> der::Result<Vec<u8>> {
    let inner = OctetString::new(nonce)?.to_der()?;
    let one = tlv(0x30, &[&NONCE.to_der()?, &OctetString::new(inner)?.to_der()?])?;
    tlv(0x30, &[&one])
}

impl Question {
    /// Reads a question; whether it is signed does not matter.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Question, ParseError> {
        let what = "question about certificates";
        bounded(what, bytes, limits.certificate)?;
        let read = || -> der::Result<Question> {
            let outer = inside(bytes, 0x30)?;
            let ([tbs] | [tbs, _]) = outer.as_slice() else { return Err(malformed()) };
            let mut fields = inside(tbs, 0x30)?;
            fields.retain(|field| !matches!(field.first(), Some(0xa0 | 0xa1)));
            let (list, extensions) = match fields.as_slice() {
                [list] => (list, Extensions::default()),
                [list, more] => match inside(more, 0xa2)?.as_slice() {
                    [all] => (list, Extensions::read(all)?),
                    _ => return Err(malformed()),
                },
                _ => return Err(malformed()),
            };
            let all = inside(list, 0x30)?;
            if all.is_empty() || all.len() > MOST {
                return Err(malformed());
            }
            let id = |one: &&[u8]| match inside(one, 0x30)?.as_slice() {
                [id] | [id, _] => CertificateId::from_der(id),
                _ => Err(malformed()),
            };
            Ok(Question { ids: all.iter().map(id).collect::<der::Result<_>>()?, nonce: nonce(&extensions) })
        };
        read().map_err(unreadable(what))
    }

    /// Writes it, unsigned.
    ///
    /// # Errors
    /// [`der::Error`] when a part is too long to be written.
    pub fn write(&self) -> der::Result<Vec<u8>> {
        let ids: Vec<Vec<u8>> =
            self.ids.iter().map(|id| tlv(0x30, &[&id.to_der()?])).collect::<der::Result<_>>()?;
        let ids: Vec<&[u8]> = ids.iter().map(Vec::as_slice).collect();
        let extensions = match &self.nonce {
            Some(nonce) => tlv(0xa2, &[&nonce_extensions(nonce)?])?,
            None => Vec::new(),
        };
        tlv(0x30, &[&tlv(0x30, &[&tlv(0x30, &ids)?, &extensions])?])
    }
}

impl Reply {
    /// Reads what came back.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Reply, ParseError> {
        let what = "answer about certificates";
        bounded(what, bytes, limits.certificate)?;
        let read = || -> der::Result<Reply> {
            let outer = inside(bytes, 0x30)?;
            match outer.as_slice() {
                [status] => match content(status, Tag::Enumerated)? {
                    // one that says it went well has to have an answer
                    [number] if *number > 0 => Ok(Reply::Refused(*number)),
                    _ => Err(malformed()),
                },
                [status, bytes] if content(status, Tag::Enumerated)? == [0] => {
                    let inner = inside(bytes, 0xa0)?;
                    let [inner] = inner.as_slice() else { return Err(malformed()) };
                    let parts = inside(inner, 0x30)?;
                    let [kind, basic] = parts.as_slice() else { return Err(malformed()) };
                    if ObjectIdentifier::from_der(kind)? != BASIC {
                        return Err(malformed());
                    }
                    Ok(Reply::Answer(Box::new(answer(value(basic, 0x04)?)?)))
                }
                _ => Err(malformed()),
            }
        };
        read().map_err(unreadable(what))
    }
}

fn answer(basic: &[u8]) -> der::Result<Answer> {
    let outer = inside(basic, 0x30)?;
    let (tbs, algorithm, signature, certificates) = match outer.as_slice() {
        [tbs, algorithm, signature] => (tbs, algorithm, signature, Vec::new()),
        [tbs, algorithm, signature, beside] => match inside(beside, 0xa0)?.as_slice() {
            [all] => (tbs, algorithm, signature, inside(all, 0x30)?),
            _ => return Err(malformed()),
        },
        _ => return Err(malformed()),
    };
    let mut fields = inside(tbs, 0x30)?;
    if fields.first().and_then(|field| field.first()) == Some(&0xa0) {
        fields.remove(0);
    }
    let (responses, extensions) = match fields.as_slice() {
        [_, _, responses] => (responses, Extensions::default()),
        [_, _, responses, more] => match inside(more, 0xa1)?.as_slice() {
            [all] => (responses, Extensions::read(all)?),
            _ => return Err(malformed()),
        },
        _ => return Err(malformed()),
    };
    let responses = inside(responses, 0x30)?;
    if responses.len() > MOST || certificates.len() > MOST {
        return Err(malformed());
    }
    Ok(Answer {
        tbs: tbs.to_vec(),
        responses: responses.iter().map(|one| SingleResponse::from_der(one)).collect::<der::Result<_>>()?,
        nonce: nonce(&extensions),
        critical: extensions.iter().any(|one| one.critical && one.oid != NONCE),
        certificates: certificates.iter().map(|one| one.to_vec()).collect(),
        signature_algorithm: AlgorithmIdentifierOwned::from_der(algorithm)?.oid,
        signature: BitString::from_der(signature)?.as_bytes().ok_or_else(malformed)?.to_vec(),
    })
}

/// The part of an answer that is signed, by whom the hash of the key (SHA-1 over its bits) says.
///
/// # Errors
/// [`der::Error`] when a part is too long to be written.
pub fn tbs(
    by_key: &[u8],
    produced_at: GeneralizedTime,
    responses: &[SingleResponse],
    nonce: Option<&[u8]>,
) -> der::Result<Vec<u8>> {
    let by = tlv(0xa2, &[&OctetString::new(by_key)?.to_der()?])?;
    let all: Vec<Vec<u8>> = responses.iter().map(Encode::to_der).collect::<der::Result<_>>()?;
    let all: Vec<&[u8]> = all.iter().map(Vec::as_slice).collect();
    let extensions = match nonce {
        Some(nonce) => tlv(0xa1, &[&nonce_extensions(nonce)?])?,
        None => Vec::new(),
    };
    tlv(0x30, &[&by, &produced_at.to_der()?, &tlv(0x30, &all)?, &extensions])
}

/// The whole reply: what [`tbs`] made, the algorithm's identifier in DER, and the signature.
///
/// # Errors
/// [`der::Error`] when a part is too long to be written.
pub fn write(tbs: &[u8], algorithm: &[u8], signature: &[u8]) -> der::Result<Vec<u8>> {
    let basic = tlv(0x30, &[tbs, algorithm, &BitString::from_bytes(signature)?.to_der()?])?;
    let bytes = tlv(0x30, &[&BASIC.to_der()?, &OctetString::new(basic)?.to_der()?])?;
    tlv(0x30, &[&[0x0a, 0x01, 0x00], &tlv(0xa0, &[&bytes])?])
}

/// A reply without an answer.
///
/// # Errors
/// [`der::Error`], which does not happen.
pub fn refusal(number: u8) -> der::Result<Vec<u8>> {
    tlv(0x30, &[&[0x0a, 0x01, number]])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cursor::Fault;

    const EC: &[u8] = b"\x30\x0a\x06\x08\x2a\x86\x48\xce\x3d\x04\x03\x02";

    fn id(serial: &[u8]) -> CertificateId {
        CertificateId {
            hash: AlgorithmIdentifierOwned { oid: BASIC, parameters: None },
            issuer_name: OctetString::new([1; 20]).unwrap(),
            issuer_key: OctetString::new([2; 20]).unwrap(),
            serial: Int::new(serial).unwrap(),
        }
    }

    fn time(seconds: u64) -> GeneralizedTime {
        GeneralizedTime::from_unix_duration(std::time::Duration::from_secs(seconds)).unwrap()
    }

    fn written() -> Vec<u8> {
        let revoked = RevokedInfo { at: time(1_900_000_000), reason: Some(Reason::Superseded) };
        let one = |serial: &[u8], status| SingleResponse {
            id: id(serial),
            status,
            this_update: time(1_936_958_400),
            next_update: Some(time(1_936_962_000)),
            extensions: None,
        };
        let all = [
            one(&[0x41], CertificateStatus::Good(Null)),
            one(&[0x42], CertificateStatus::Revoked(revoked)),
            one(&[0x43], CertificateStatus::Unknown(Null)),
        ];
        write(&tbs(&[3; 20], time(1_936_958_400), &all, Some(&[5; 32])).unwrap(), EC, &[9; 70]).unwrap()
    }

    #[test]
    fn a_question_and_an_answer_are_read_as_they_were_written() {
        for nonce in [None, Some(vec![7; 32])] {
            let question = Question { ids: vec![id(&[0x41]), id(&[0x42, 1])], nonce };
            assert_eq!(Question::parse(&question.write().unwrap(), &Limits::SMALL).unwrap(), question);
        }
        let Reply::Answer(answer) = Reply::parse(&written(), &Limits::SMALL).unwrap() else {
            panic!("an answer");
        };
        assert_eq!(answer.nonce, Some(vec![5; 32]));
        assert!(matches!(answer.responses[0].status, CertificateStatus::Good(_)));
        assert!(
            matches!(&answer.responses[1].status, CertificateStatus::Revoked(r) if r.reason == Some(Reason::Superseded))
        );
        assert!(matches!(answer.responses[2].status, CertificateStatus::Unknown(_)));
        assert_eq!((answer.signature.len(), answer.critical, answer.certificates.len()), (70, false, 0));
        assert_eq!(Reply::parse(&refusal(6).unwrap(), &Limits::SMALL), Ok(Reply::Refused(6)));
        assert!(Reply::parse(&refusal(0).unwrap(), &Limits::SMALL).is_err());
    }

    #[test]
    fn every_cut_is_refused() {
        let (reply, question) = (written(), Question { ids: vec![id(&[1])], nonce: None }.write().unwrap());
        for end in 0..reply.len() {
            assert!(Reply::parse(&reply[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        for end in 0..question.len() {
            assert!(Question::parse(&question[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        let large = vec![0x30; 70_000];
        assert!(matches!(
            Reply::parse(&large, &Limits::USUAL).unwrap_err().fault,
            Fault::Limit { limit: 65_536, .. }
        ));
    }
}
