use super::{STORE, with_keys};
use testkit::has;

/// Verifies a token with a library that is not ours: exits with 0 when it is good.
const VERIFY: &str = "
import base64, json, sys
from cryptography.hazmat.primitives.serialization import load_pem_public_key
from cryptography.hazmat.primitives.asymmetric import ec, padding, utils
from cryptography.hazmat.primitives.hashes import SHA256
token, key = open(sys.argv[1]).read().strip(), load_pem_public_key(open(sys.argv[2], 'rb').read())
head, claims, signature = token.split('.')
raw = lambda text: base64.urlsafe_b64decode(text + '=' * (-len(text) % 4))
signed, signature = (head + '.' + claims).encode(), raw(signature)
if json.loads(raw(head))['alg'] == 'ES256':
    r, s = int.from_bytes(signature[:32], 'big'), int.from_bytes(signature[32:], 'big')
    key.verify(utils.encode_dss_signature(r, s), signed, ec.ECDSA(SHA256()))
else:
    key.verify(signature, signed, padding.PKCS1v15(), SHA256())
print(raw(head).decode(), raw(claims).decode())
";

#[test]
fn tokens_of_both_kinds_are_good_for_a_library_that_is_not_ours() {
    let Some(env) = with_keys() else { return };
    env.run(STORE).exit(0);
    env.run("apikey import account.json --name robot").exit(0);
    env.other("openssl pkey -in store-key.pem -pubout -out store.pub");
    env.other("openssl pkey -in account.pem -pubout -out robot.pub");
    env.file("verify.py", VERIFY.as_bytes());
    let there = std::process::Command::new("python3").args(["-c", "import cryptography"]).output();
    let python = has("python3", "--version") && there.is_ok_and(|output| output.status.success());
    if !python {
        eprintln!("SKIPPED: there is no independent library for tokens on this machine");
    }
    for (line, key, says) in [
        ("apikey token uploads --minutes 15 --scope a --scope b", "store.pub", "\"aud\":\"ninekeys-portal\""),
        ("apikey token robot", "robot.pub", "\"aud\":\"https://store.example/token\""),
    ] {
        let token = env.run(line).exit(0).stdout;
        assert_eq!(
            (token.lines().count(), token.trim().split('.').count()),
            (1, 3),
            "one line and nothing beside it"
        );
        env.file("token", token.as_bytes());
        if python {
            let told = env.other_with("python3", &["verify.py", "token", key]);
            assert!(told.contains(says) && told.contains("\"alg\""), "{told}");
        }
    }
    let said = env.run("apikey token uploads --audience store --format json").exit(0).json();
    assert_eq!((&said["audience"], &said["not_after"]), (&"store".into(), &"2026-12-01T00:20:00Z".into()));
    let twice = env.run("apikey token uploads").exit(0).stdout;
    assert_eq!(twice, env.run("apikey token uploads").exit(0).stdout, "the same key, claims and clock");
}

#[test]
fn no_token_lasts_long_and_none_is_made_with_what_is_retired_or_no_key() {
    let Some(env) = with_keys() else { return };
    env.run(STORE).exit(0);
    for minutes in ["0", "21"] {
        env.run(&format!("apikey token uploads --minutes {minutes}")).exit(2).says("1 to 20 minutes");
    }
    env.run("apikey retire uploads").exit(0);
    env.run("apikey token uploads").exit(5).says("uploads is retired").says("apikey retire uploads --back");
    env.run("apikey token nothing").exit(2).says("nothing in the cabinet is called");
    env.run("identity request gp --kind distribution").exit(0);
    env.run("apikey token gp").exit(2).says("not an API key");
}
