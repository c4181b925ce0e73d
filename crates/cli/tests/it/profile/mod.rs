mod create;
mod export;
mod import;
mod renew;
