mod add;
mod change;
mod list;
mod remove;
mod statement;
