//! `cabinet members`: who opens what, by keys and not by the tool.

mod add;
mod list;
mod remove;

use crate::PROGRAM;
use testkit::{TestEnv, builds};

/// A project with a key of each of two apps, opened by its first unlock file.
fn two_apps() -> TestEnv {
    let env = TestEnv::with_project(PROGRAM);
    env.run("keystore create crossing-signing --app crossing --common-name A --algorithm ec-p256").exit(0);
    env.run("keystore create quayside-signing --app quayside --common-name A --algorithm ec-p256").exit(0);
    env.file("a.apk", &builds::crossing().apk());
    env
}
