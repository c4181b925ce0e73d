//! Where this machine remembers what it has seen, and what it is called.

use std::path::PathBuf;

/// The user's state folder, as the system has it; nothing where it has none.
#[expect(clippy::disallowed_methods, reason = "the user's own folders are named by the environment")]
pub(crate) fn state_folder() -> Option<PathBuf> {
    let named = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let base = if cfg!(windows) {
        named("LOCALAPPDATA")
    } else if cfg!(target_os = "macos") {
        named("HOME").map(|home| home.join("Library/Application Support"))
    } else {
        let own = named("XDG_STATE_HOME").filter(|path| path.is_absolute());
        own.or_else(|| named("HOME").map(|home| home.join(".local/state")))
    };
    base.map(|base| base.join("ninekeys"))
}

/// The machine's name in its network, plain and short.
pub(crate) fn name() -> String {
    let plain = |c: &char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    let name: String = system_name().chars().filter(plain).take(64).collect();
    if name.is_empty() { "unnamed".into() } else { name }
}

#[cfg(unix)]
fn system_name() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

#[cfg(not(unix))]
#[expect(clippy::disallowed_methods, reason = "the system tells its name in the environment")]
fn system_name() -> String {
    std::env::var("COMPUTERNAME").unwrap_or_default()
}
