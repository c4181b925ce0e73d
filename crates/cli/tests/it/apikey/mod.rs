mod ask;
mod create;
mod import;
mod password;
mod retire;
mod token;

use crate::PROGRAM;
use testkit::{TestEnv, has};

/// A project with a key as a portal gives it out and a service account's file, both made by a program that is not ours;
/// nothing where that is not there.
fn with_keys() -> Option<TestEnv> {
    if !has("openssl", "version") {
        return None;
    }
    let env = TestEnv::with_ios(PROGRAM);
    env.other("openssl genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out store-key.pem");
    env.other("openssl genpkey -algorithm RSA -pkeyopt rsa_keygen_bits:2048 -out account.pem");
    let pem = String::from_utf8(env.read("account.pem")).unwrap();
    let account = serde_json::json!({
        "type": "service_account",
        "project_id": "gannet-point",
        "private_key_id": "0123456789abcdef",
        "private_key": pem,
        "client_email": "releases@gannet-point.example",
        "token_uri": "https://store.example/token",
    });
    env.file("account.json", account.to_string().as_bytes());
    Some(env)
}

const STORE: &str =
    "apikey import store-key.pem --name uploads --key-id GPKEY00001 --issuer 57246542-96fe-1a63";
