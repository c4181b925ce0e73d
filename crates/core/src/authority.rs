//! An authority: certificates over the keys of others, and messages that it signs. What the stand-in portal issues with.

use core::net::IpAddr;

use der::asn1::{Any, Ia5String, ObjectIdentifier, OctetString};
use der::oid::AssociatedOid;
use der::{Decode, Encode};
use jiff::Timestamp;
use ninekeys_formats::cms;
use ninekeys_formats::x509::{CA_ISSUERS, Certificate, OCSP};
use spki::SubjectPublicKeyInfoOwned;
use x509_cert::TbsCertificate;
use x509_cert::builder::{Builder, CertificateBuilder, profile::BuilderProfile};
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::crl::dp::DistributionPoint;
use x509_cert::ext::pkix::name::{DistributionPointName, GeneralName};
use x509_cert::ext::pkix::{
    AccessDescription, AuthorityInfoAccessSyntax, AuthorityKeyIdentifier, BasicConstraints,
    CrlDistributionPoints, ExtendedKeyUsage, KeyUsage, KeyUsages, SubjectAltName, SubjectKeyIdentifier,
};
use x509_cert::name::Name;
use x509_cert::serial_number::SerialNumber;
use x509_cert::time::Validity;

use crate::certificate::{Bits, CertificateError, Wrapped, at_time};
use crate::digest::sha256;
use crate::env::Env;
use crate::keys::{PrivateKey, SignatureKind, Signer};
use crate::signed::SHA256_ID;

/// id-kp-serverAuth (RFC 5280, section 4.2.1.12).
const SERVER: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.1");
/// signingTime (RFC 5652, section 11.3).
const SIGNING_TIME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.5");

/// What a certificate is good for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Purpose {
    /// Vouches for others; at most so many authorities stand below it.
    Authority {
        /// How many.
        below: u8,
    },
    /// Signs messages, and nothing else.
    Signer,
    /// A leaf with an extended key usage.
    Leaf(ObjectIdentifier),
    /// A server that goes by these names: addresses of the network, and names of hosts.
    Server(Vec<String>),
}

/// Where it can be asked whether a certificate is good still.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Addresses {
    /// Where the issuer's certificate is.
    pub issuer: String,
    /// Where the list of those that were revoked is.
    pub crl: String,
    /// Who answers about single ones.
    pub ocsp: String,
}

/// A certificate to be issued.
#[derive(Debug, Clone)]
pub struct Order<'a> {
    /// Who it is for.
    pub subject: Name,
    /// Its key, SubjectPublicKeyInfo in DER.
    pub public_key: &'a [u8],
    /// What it is good for.
    pub purpose: Purpose,
    /// Marker extensions with NULL as their value.
    pub marks: Vec<ObjectIdentifier>,
    /// Where it can be asked whether it is good still.
    pub addresses: Option<Addresses>,
    /// First second of its validity.
    pub from: Timestamp,
    /// Last second of its validity.
    pub until: Timestamp,
}

/// Somebody who issues: a key, and the certificate over it. Without one it vouches for itself.
pub struct Issuer<'a> {
    /// The key.
    pub key: &'a PrivateKey,
    /// The certificate over it.
    pub certificate: Option<&'a Certificate>,
}

/// The extensions and names of a new certificate.
struct Form {
    issuer: Option<Name>,
    subject: Name,
    issuer_key_id: Option<Vec<u8>>,
    purpose: Purpose,
    marks: Vec<ObjectIdentifier>,
    addresses: Option<Addresses>,
}

/// A name of a server, as an extension says it.
fn general_name(name: &str) -> der::Result<GeneralName> {
    Ok(match name.parse::<IpAddr>() {
        Ok(IpAddr::V4(address)) => GeneralName::IpAddress(OctetString::new(address.octets())?),
        Ok(IpAddr::V6(address)) => GeneralName::IpAddress(OctetString::new(address.octets())?),
        Err(_) => GeneralName::DnsName(Ia5String::new(name)?),
    })
}

fn address(text: &str) -> der::Result<GeneralName> {
    Ok(GeneralName::UniformResourceIdentifier(Ia5String::new(text)?))
}

impl Addresses {
    /// The extensions that say them (RFC 5280, sections 4.2.1.13 and 4.2.2.1).
    fn extensions(&self) -> der::Result<[Extension; 2]> {
        let access = |access_method, text| -> der::Result<AccessDescription> {
            Ok(AccessDescription { access_method, access_location: address(text)? })
        };
        let access =
            AuthorityInfoAccessSyntax(vec![access(OCSP, &self.ocsp)?, access(CA_ISSUERS, &self.issuer)?]);
        let point = DistributionPoint {
            distribution_point: Some(DistributionPointName::FullName(vec![address(&self.crl)?])),
            reasons: None,
            crl_issuer: None,
        };
        let points = CrlDistributionPoints(vec![point]);
        Ok([
            extension(AuthorityInfoAccessSyntax::OID, false, access.to_der()?)?,
            extension(CrlDistributionPoints::OID, false, points.to_der()?)?,
        ])
    }
}

fn extension(oid: ObjectIdentifier, critical: bool, value: Vec<u8>) -> der::Result<Extension> {
    Ok(Extension { extn_id: oid, critical, extn_value: OctetString::new(value)? })
}

impl Form {
    fn extensions(&self, own_id: Vec<u8>) -> der::Result<Vec<Extension>> {
        let (ca, below, usage) = match &self.purpose {
            Purpose::Authority { below } => (true, Some(*below), KeyUsages::KeyCertSign | KeyUsages::CRLSign),
            Purpose::Signer | Purpose::Leaf(_) | Purpose::Server(_) => {
                (false, None, KeyUsages::DigitalSignature.into())
            }
        };
        let constraints = BasicConstraints { ca, path_len_constraint: below };
        let own = SubjectKeyIdentifier(OctetString::new(own_id)?);
        let mut out = vec![
            extension(BasicConstraints::OID, true, constraints.to_der()?)?,
            extension(KeyUsage::OID, true, KeyUsage(usage).to_der()?)?,
            extension(SubjectKeyIdentifier::OID, false, own.to_der()?)?,
        ];
        if let Some(id) = &self.issuer_key_id {
            let above = AuthorityKeyIdentifier {
                key_identifier: Some(OctetString::new(id.clone())?),
                ..AuthorityKeyIdentifier::default()
            };
            out.push(extension(AuthorityKeyIdentifier::OID, false, above.to_der()?)?);
        }
        let purpose = match &self.purpose {
            Purpose::Leaf(purpose) => Some(*purpose),
            Purpose::Server(_) => Some(SERVER),
            Purpose::Authority { .. } | Purpose::Signer => None,
        };
        if let Some(purpose) = purpose {
            out.push(extension(ExtendedKeyUsage::OID, true, ExtendedKeyUsage(vec![purpose]).to_der()?)?);
        }
        if let Purpose::Server(names) = &self.purpose {
            let names = names.iter().map(|name| general_name(name)).collect::<der::Result<_>>()?;
            out.push(extension(SubjectAltName::OID, false, SubjectAltName(names).to_der()?)?);
        }
        if let Some(addresses) = &self.addresses {
            out.extend(addresses.extensions()?);
        }
        for mark in &self.marks {
            let critical = !matches!(self.purpose, Purpose::Authority { .. });
            out.push(extension(*mark, critical, Any::null().to_der()?)?);
        }
        Ok(out)
    }
}

impl BuilderProfile for Form {
    fn get_issuer(&self, subject: &Name) -> Name {
        self.issuer.clone().unwrap_or_else(|| subject.clone())
    }

    fn get_subject(&self) -> Name {
        self.subject.clone()
    }

    fn build_extensions(
        &self,
        key: spki::SubjectPublicKeyInfoRef<'_>,
        _issuer_key: spki::SubjectPublicKeyInfoRef<'_>,
        _tbs: &TbsCertificate,
    ) -> x509_cert::builder::Result<Vec<Extension>> {
        // the left 160 bits of SHA-256 over the key's bits (RFC 7093, section 2, method 1)
        let digest = sha256(key.subject_public_key.raw_bytes());
        Ok(self.extensions(digest.get(..20).unwrap_or_default().to_vec())?)
    }
}

impl Issuer<'_> {
    /// Issues a certificate, in DER, under a random serial number of 127 bits.
    ///
    /// # Errors
    /// [`CertificateError`] when something of it cannot be written, or the key refuses.
    pub fn issue(&self, order: Order<'_>, env: &Env<'_>) -> Result<Vec<u8>, CertificateError> {
        let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
        let built = |error: x509_cert::builder::Error| CertificateError::Encoding(error.to_string());
        let mut serial = [0; 16];
        env.keys.fill(&mut serial)?;
        let [first, ..] = &mut serial;
        *first = *first & 0x7f | 0x40;
        let issuer = self.certificate.map(|own| Name::from_der(&own.subject_der)).transpose();
        let above = self.certificate.and_then(|own| own.extensions.key_id().ok().flatten());
        let form = Form {
            issuer: issuer.map_err(encoding)?,
            subject: order.subject,
            issuer_key_id: above,
            purpose: order.purpose,
            marks: order.marks,
            addresses: order.addresses,
        };
        let validity = Validity::new(at_time(order.from)?, at_time(order.until)?);
        let info = SubjectPublicKeyInfoOwned::from_der(order.public_key).map_err(encoding)?;
        let serial = SerialNumber::new(&serial).map_err(encoding)?;
        let builder = CertificateBuilder::new(form, serial, validity, info).map_err(built)?;
        let certificate = builder.build::<_, Bits>(&Wrapped(self.key)).map_err(built)?;
        certificate.to_der().map_err(encoding)
    }
}

/// Signs a content that stands in the message, with the signer's chain beside it (CMS SignedData, RFC 5652).
///
/// # Errors
/// [`CertificateError`] when something cannot be written, or the key refuses.
pub fn sign_message(
    key: &PrivateKey,
    own: &Certificate,
    chain: &[Certificate],
    content: &[u8],
    now: Timestamp,
) -> Result<Vec<u8>, CertificateError> {
    let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
    let time = at_time(now)?.to_der().map_err(encoding)?;
    let chain: Vec<&Certificate> = std::iter::once(own).chain(chain).collect();
    sign_content(key, (own, &chain), (cms::DATA, content), &[(SIGNING_TIME, &time)])
}

/// The same for a content of any type, with those certificates beside it and those attributes in it.
///
/// # Errors
/// As [`sign_message`].
pub(crate) fn sign_content(
    key: &PrivateKey,
    (own, beside): (&Certificate, &[&Certificate]),
    (content_type, content): (ObjectIdentifier, &[u8]),
    more: &[(ObjectIdentifier, &[u8])],
) -> Result<Vec<u8>, CertificateError> {
    let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
    let set = cms::signed_attributes_of(content_type, &sha256(content), more).map_err(encoding)?;
    let kind = key.certificate_kind();
    let signature = key.sign(kind, &set)?;
    let algorithm = crate::request::algorithm_id(kind)?;
    // the digest is SHA-256 throughout
    debug_assert!(matches!(kind, SignatureKind::RsaSha256 | SignatureKind::EcdsaSha256), "{kind}");
    let signer = cms::NewSigner {
        issuer: &own.issuer_der,
        serial: &own.serial,
        digest: SHA256_ID,
        algorithm: &algorithm,
        attributes: Some(&set),
        signature: &signature,
        unsigned: &[],
    };
    let certificates: Vec<&[u8]> = beside.iter().map(|one| one.der.as_slice()).collect();
    cms::write_of(content_type, Some(content), &certificates, &signer).map_err(encoding)
}
