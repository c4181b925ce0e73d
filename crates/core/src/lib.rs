//! The computation of Nine Keys: what keys, certificates, builds and dates mean.
//!
//! Nothing here opens a file, asks a clock, reads the environment or prints. Time, key generation, progress
//! and the wish to stop come in through [`env::Env`]; bytes come in through
//! [`Source`](ninekeys_formats::source::Source) and leave through
//! [`Sink`](stream::Sink).
//!
//! | module | what it is for |
//! |---|---|
//! | [`model`] | the words: the nine kinds of key, items and their facts, apps, destinations |
//! | [`keys`] | private keys that sign, public keys that verify, and where new keys come from |
//! | [`keystore`] | keystores opened and written |
//! | [`lending`] | a properties file, and secrets masked in a stream |
//! | [`hand_over`] | a private key, encrypted to a store |
//! | [`envelope`] | bytes encrypted to the holder of an EC key, and opened by it |
//! | [`certificate`], [`request`] | self-signed certificates, fingerprints, requests for certificates |
//! | [`authority`] | certificates and messages of an authority: what the stand-in portal issues with |
//! | [`chain`], [`signed`] | who vouches for a certificate, and whether a message is signed |
//! | [`revocation`] | whether a certificate was revoked: lists and answers, believed or made |
//! | [`ios`] | what certificates and provisioning profiles say on the iOS side |
//! | [`android`] | reading, signing and verifying packages |
//! | [`digest`] | content digests on all cores |
//! | [`findings`], [`rules`] | what a check has to say, and every rule it knows |
//! | [`board`] | the state of everything in one look |
//! | [`token`] | signed tokens, made and verified |
//! | [`password`] | generating passwords and judging them |
//! | [`demo`] | the builds of the made-up ferry company |

pub mod android;
pub mod authority;
mod base32;
pub mod board;
pub mod build;
pub mod certificate;
pub mod chain;
pub mod demo;
pub mod digest;
pub mod env;
pub mod envelope;
mod field;
pub mod findings;
pub mod hand_over;
pub mod ios;
pub mod keys;
pub mod keystore;
pub mod lending;
pub mod links;
pub mod model;
pub mod next;
pub mod password;
pub mod recovery;
pub mod request;
pub mod revocation;
pub mod rotation;
pub mod rules;
pub mod signed;
pub mod stream;
pub mod timestamp;
pub mod token;
