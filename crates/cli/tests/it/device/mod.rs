mod add;
mod import;
mod list;
mod rename;
