//! `cabinet pieces`: some of them open the cabinet, fewer tell nothing.

mod join;
mod make;
