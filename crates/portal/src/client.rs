//! Asks the portal: what every portal can be asked is a trait, and what speaks to ours over HTTP is one of it.
