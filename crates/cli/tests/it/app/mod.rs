mod add;
mod change;
mod list;
mod next;
mod remove;
mod statement;
