use super::{STORE, with_keys};

#[test]
fn a_key_that_can_be_fetched_once_is_sealed_and_that_is_said() {
    let Some(env) = with_keys() else { return };
    env.run("apikey import store-key.pem --name uploads")
        .exit(2)
        .says("a store API key has a key id")
        .says("--key-id ID");
    env.run(&format!("{STORE} --role developer --use uploads --app crossing --vendor-number 80012345"))
        .exit(0)
        .says("✓ uploads   store API key, sealed")
        .says("the portal gives it out once, and never again")
        .says("store-key.pem has the private key in it still")
        .says("80012345");
    env.run(&STORE.replace("uploads", "again")).exit(5).says("this very key is in the cabinet already");
    env.run("board").exit(0).says("store");
    let said = env.run("inventory --format json").exit(0).json();
    assert_eq!(said["items"][0]["kind"], "store API key");
}

#[test]
fn a_service_accounts_file_says_its_ids_itself_and_each_field_that_it_lacks_is_named() {
    let Some(env) = with_keys() else { return };
    env.run("apikey import account.json --name robot --use uploads")
        .exit(0)
        .says("service key, sealed")
        .says("releases@gannet-point.example");
    let whole: serde_json::Value = serde_json::from_slice(&env.read("account.json")).unwrap();
    for field in ["type", "private_key_id", "private_key", "client_email"] {
        let mut cut = whole.clone();
        cut.as_object_mut().unwrap().remove(field);
        env.file("cut.json", cut.to_string().as_bytes());
        env.run("apikey import cut.json --name cut").exit(3).says(&format!("lacks `{field}`"));
    }
    env.run("apikey import pw --name none").exit(3).says("holds no API key");
    env.run("apikey import account.pem --name wrong --key-id A --issuer B")
        .exit(5)
        .says("a store API key makes tokens with EC P-256, and this is a key of kind RSA 2048");
    env.file("broken.json", b"{\"type\": ");
    env.run("apikey import broken.json --name broken").exit(3).says("holds no API key");
}

#[test]
fn what_a_key_may_do_is_held_against_what_it_is_used_for() {
    let Some(env) = with_keys() else { return };
    env.run(&format!("{STORE} --role reader --use signing --use reports")).exit(0);
    let said = env.run("check --all").exit(1);
    said.says("api-key-shared").says("api-key-role-too-small").says("expected  manager");
    env.run("apikey retire uploads").exit(0);
    env.run("check --all").exit(1).is_silent_on("api-key-");
    let Some(env) = with_keys() else { return };
    env.run(&format!("{STORE} --role owner --use reports")).exit(0);
    env.run("check --all").exit(1).says("· api-key-role-too-large");
    env.run(&format!("{} --role captain", STORE.replace("uploads", "x"))).exit(2).says("captain");
}
