//! `cabinet pieces`: recovery pieces, some of which open the cabinet when everything else that opened it is lost.

pub mod join;
pub mod make;

/// What the member is called that pieces stand for.
pub const MEMBER: &str = "recovery";
