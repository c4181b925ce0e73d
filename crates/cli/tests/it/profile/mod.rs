mod export;
mod import;
