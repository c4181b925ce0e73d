//! `app`: the products that keys belong to, as the project file describes them.

pub mod add;
pub mod change;
pub mod list;
pub mod remove;
pub mod statement;
