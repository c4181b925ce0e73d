//! A system without such a store.

pub(crate) use ninekeys_ops::remembered::KeepsNothing as System;
