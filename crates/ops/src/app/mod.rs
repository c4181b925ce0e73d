//! `app`: the products that keys belong to, as the project file describes them.

pub mod add;
