mod add_key;
mod change;
mod create;
mod export;
mod hand_over;
mod import;
