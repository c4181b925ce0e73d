mod accept;
mod export;
mod import;
mod request;
mod revoke;
