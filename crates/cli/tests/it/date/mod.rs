//! `date`: what belongs to the job and to no key passes only when somebody says so.

mod add;
mod done;
mod list;
mod remove;
