//! The operating system's store for credentials: the kernel's key rings, a key chain, a credential manager.

#[cfg_attr(target_os = "linux", path = "linux.rs")]
#[cfg_attr(target_os = "macos", path = "macos.rs")]
#[cfg_attr(windows, path = "windows.rs")]
#[cfg_attr(not(any(target_os = "linux", target_os = "macos", windows)), path = "none.rs")]
mod system;

pub(crate) use system::System;
