mod group;
mod invite;
mod list;
mod remove;
