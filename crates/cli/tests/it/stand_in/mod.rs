mod revocation;
mod serve;
