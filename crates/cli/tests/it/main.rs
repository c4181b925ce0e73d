//! The built program, driven on files in a temporary folder: one module a command, and what concerns all.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    clippy::disallowed_methods,
    clippy::print_stderr,
    reason = "tests fail by panicking and look at files themselves"
)]

mod advance;
mod apikey;
mod app;
mod bad_input;
mod board;
mod build_machine;
mod bundle;
mod cabinet;
mod cases;
mod check;
mod compare;
mod completions;
mod crash;
mod date;
mod deliveries;
mod demo;
mod device;
mod docs;
mod explain;
mod faults;
mod formats;
mod give;
mod given;
mod hand_on;
mod help;
mod identity;
mod init;
mod init_late;
mod inspect;
mod inventory;
mod judged;
mod keystore;
mod layers;
mod lend;
mod licences;
mod manual;
mod outputs;
mod planted;
mod portal;
mod prepare;
mod profile;
mod releases;

mod reliability;
mod remedies;
mod report;
mod rotate;
mod samples;
mod second_opinion;
mod secrets_in;
mod setup;
mod several_stores;
mod show;
mod sign;
mod stand_in;
mod sweep;
mod testers;
mod timeline;
mod timestamps;
mod upload;
mod usage;

/// The built program.
const PROGRAM: &str = env!("CARGO_BIN_EXE_ninekeys");
