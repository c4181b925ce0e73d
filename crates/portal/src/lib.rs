//! The portal, where certificates, app ids, devices and profiles are issued, and the [`store`], where builds go. A [`client`]
//! that asks them, and a [`stand_in`], a small server that ships with the tool and answers in their place.
//!
//! The only sockets of the tool are in here. Both sides speak the JSON of [`wire`], described in
//! `docs/portal.openapi.yaml`.

pub mod client;
pub mod fetch;
pub mod stand_in;
pub mod store;
pub mod wire;
