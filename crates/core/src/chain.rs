//! Who vouches for a certificate: the path from it to one that vouches for itself (RFC 5280, section 6).
//!
//! Signatures are verified over the bytes that were signed, dates against a time that is given, and nothing is fetched:
//! certificates come from a pool. What is trusted is said by whoever asks; here only the path is found.

use der::asn1::ObjectIdentifier;
use der::oid::AssociatedOid;
use jiff::Timestamp;
use ninekeys_formats::x509::Certificate;
use thiserror::Error;
use x509_cert::ext::pkix::{
    BasicConstraints, CertificatePolicies, ExtendedKeyUsage, KeyUsage, KeyUsages, SubjectAltName,
};

use crate::keys::{PublicKey, SignatureKind, verify};

/// The most certificates of a path.
const LONGEST: usize = 8;
/// The most signatures that are verified for one path: a pool may be full of certificates with one name.
const MOST_SIGNATURES: usize = 64;

/// The arc that the platform's marker extensions stand under: they may be critical.
const MARKERS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100");

/// A path, as far as it could be found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chain {
    /// From the certificate that was asked about upwards.
    pub certificates: Vec<Certificate>,
    /// How it ends.
    pub end: End,
}

/// How a path ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum End {
    /// With a certificate that vouches for itself.
    Root,
    /// The next certificate is not in the pool.
    Lacks {
        /// Its subject, RFC 4514.
        issuer: String,
        /// Where it can be had, as the certificate below says.
        addresses: Vec<String>,
    },
    /// It is longer than any that is believed.
    TooLong,
}

/// What speaks against a path.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PathFault {
    /// A certificate has ended or has not begun.
    #[error("{subject} is good from {from} until {until}")]
    NotValid {
        /// RFC 4514.
        subject: String,
        /// First second of its validity.
        from: Timestamp,
        /// Last second of its validity.
        until: Timestamp,
    },
    /// A certificate above the first may not sign certificates.
    #[error("{0} may not vouch for others")]
    NotAnAuthority(String),
    /// There are more below it than it allows.
    #[error("{0} allows fewer certificates below it")]
    PathLength(String),
    /// A critical extension that is not known.
    #[error("{subject} has a critical extension that is not known: {oid}")]
    UnknownCritical {
        /// RFC 4514.
        subject: String,
        /// Its identifier.
        oid: String,
    },
    /// An extension that cannot be read.
    #[error("an extension of {0} cannot be read")]
    Unreadable(String),
}

/// Why a signer leads to no root.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NoRoot {
    /// A certificate on the way is missing.
    #[error("its signer's certificate leads nowhere: the certificate of {0} is missing")]
    Lacks(String),
    /// Something on the way does not hold.
    #[error("its signer is not to be believed: {0}")]
    Path(#[from] PathFault),
}

impl Chain {
    /// Finds the path of a certificate through a pool; every link in it was verified.
    pub fn find(leaf: &Certificate, pool: &[Certificate]) -> Chain {
        let mut certificates = vec![leaf.clone()];
        let mut budget = MOST_SIGNATURES;
        while let Some(top) = certificates.last() {
            if top.self_issued && signed_by(top, top) {
                return Chain { certificates, end: End::Root };
            }
            if certificates.len() >= LONGEST {
                return Chain { certificates, end: End::TooLong };
            }
            match issuer(top, pool, &certificates, &mut budget) {
                Some(next) => certificates.push(next.clone()),
                None => {
                    let addresses = top.extensions.issuer_addresses().unwrap_or_default();
                    let end = End::Lacks { issuer: top.issuer.clone(), addresses };
                    return Chain { certificates, end };
                }
            }
        }
        Chain { certificates, end: End::TooLong }
    }

    /// The path of a signer through a pool up to a certificate that vouches for itself; whether that one is trusted is for the
    /// caller to say. It has to hold when the signer says that it signed, or now.
    ///
    /// # Errors
    /// [`NoRoot`].
    pub fn of_signer(
        signer: &Certificate,
        pool: &[Certificate],
        signed: Option<Timestamp>,
        now: Timestamp,
    ) -> Result<Vec<Certificate>, NoRoot> {
        let chain = Chain::find(signer, pool);
        match chain.end {
            End::Root => {}
            End::Lacks { issuer, .. } => return Err(NoRoot::Lacks(issuer)),
            End::TooLong => return Err(NoRoot::Lacks(signer.subject.clone())),
        }
        let then = chain.hold(signed.unwrap_or(Timestamp::MIN));
        then.or_else(|fault| chain.hold(now).map_err(|_| fault))?;
        Ok(chain.certificates)
    }

    /// The certificate that it ends with, where that vouches for itself.
    pub fn root(&self) -> Option<&Certificate> {
        if self.end == End::Root { self.certificates.last() } else { None }
    }

    /// What speaks against it at that time, from the first certificate on.
    ///
    /// # Errors
    /// [`PathFault`].
    pub fn hold(&self, now: Timestamp) -> Result<(), PathFault> {
        self.hold_above(0, now)
    }

    /// The same for what stands above the first certificate, whose dates are somebody else's matter.
    ///
    /// # Errors
    /// [`PathFault`].
    pub fn hold_above_leaf(&self, now: Timestamp) -> Result<(), PathFault> {
        self.hold_above(1, now)
    }

    fn hold_above(&self, first: usize, now: Timestamp) -> Result<(), PathFault> {
        let mut below = 0u8;
        for (index, certificate) in self.certificates.iter().enumerate() {
            if index >= first {
                is_valid(certificate, now)?;
            }
            no_unknown_critical(certificate)?;
            if index > 0 {
                may_vouch(certificate, below)?;
                below = below.saturating_add(u8::from(!certificate.self_issued));
            }
        }
        Ok(())
    }
}

/// A time as a certificate says it, for comparing.
fn time(seconds: i64) -> Timestamp {
    Timestamp::from_second(seconds).unwrap_or(if seconds < 0 { Timestamp::MIN } else { Timestamp::MAX })
}

fn is_valid(certificate: &Certificate, now: Timestamp) -> Result<(), PathFault> {
    let (from, until) = (time(certificate.not_before), time(certificate.not_after));
    if from <= now && now <= until {
        return Ok(());
    }
    Err(PathFault::NotValid { subject: certificate.subject.clone(), from, until })
}

/// Extensions that are understood here, or whose meaning does not matter for what is asked.
fn is_known(oid: ObjectIdentifier) -> bool {
    let known = [
        BasicConstraints::OID,
        KeyUsage::OID,
        ExtendedKeyUsage::OID,
        SubjectAltName::OID,
        CertificatePolicies::OID,
    ];
    known.contains(&oid) || MARKERS.arcs().eq(oid.arcs().take(MARKERS.arcs().count()))
}

fn no_unknown_critical(certificate: &Certificate) -> Result<(), PathFault> {
    let unknown = certificate.extensions.iter().find(|one| one.critical && !is_known(one.oid));
    unknown.map_or(Ok(()), |one| {
        Err(PathFault::UnknownCritical { subject: certificate.subject.clone(), oid: one.oid.to_string() })
    })
}

/// Whether a certificate may stand above `below` others and a leaf (RFC 5280, sections 4.2.1.3 and 4.2.1.9).
fn may_vouch(certificate: &Certificate, below: u8) -> Result<(), PathFault> {
    let subject = || certificate.subject.clone();
    let unreadable = |_| PathFault::Unreadable(subject());
    let constraints = certificate.extensions.basic_constraints().map_err(unreadable)?;
    let Some(BasicConstraints { ca: true, path_len_constraint }) = constraints else {
        return Err(PathFault::NotAnAuthority(subject()));
    };
    let usage = certificate.extensions.key_usage().map_err(unreadable)?;
    if usage.is_some_and(|usage| !usage.0.contains(KeyUsages::KeyCertSign)) {
        return Err(PathFault::NotAnAuthority(subject()));
    }
    if path_len_constraint.is_some_and(|most| below > most) {
        return Err(PathFault::PathLength(subject()));
    }
    Ok(())
}

/// Whether it may vouch for other certificates at all.
pub fn is_authority(certificate: &Certificate) -> bool {
    matches!(certificate.extensions.basic_constraints(), Ok(Some(BasicConstraints { ca: true, .. })))
}

/// The certificate in the pool that signed this one, and that is not in the path yet.
fn issuer<'a>(
    of: &Certificate,
    pool: &'a [Certificate],
    path: &[Certificate],
    budget: &mut usize,
) -> Option<&'a Certificate> {
    let wanted = of.extensions.issuer_key_id().ok().flatten();
    for one in pool.iter().filter(|one| one.subject_der == of.issuer_der) {
        let id = one.extensions.key_id().ok().flatten();
        let other_key = matches!((&wanted, &id), (Some(wanted), Some(id)) if wanted != id);
        if other_key || path.iter().any(|known| known.der == one.der) {
            continue;
        }
        if *budget == 0 {
            return None;
        }
        *budget -= 1;
        if signed_by(of, one) {
            return Some(one);
        }
    }
    None
}

/// Whether `certificate` is signed with the key of `issuer`.
pub fn signed_by(certificate: &Certificate, issuer: &Certificate) -> bool {
    let Some(kind) = SignatureKind::named(&certificate.signature_algorithm) else { return false };
    let Ok(key) = PublicKey::from_der(&issuer.public_key) else { return false };
    verify(&key, kind, &certificate.tbs, &certificate.signature) == Some(true)
}
