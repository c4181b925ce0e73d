use super::{STORE, with_keys};

#[test]
fn a_retired_key_is_kept_and_comes_back() {
    let Some(env) = with_keys() else { return };
    env.run(STORE).exit(0);
    env.run("apikey retire uploads").exit(0).says("retired: it makes no tokens any more, and is kept");
    env.run("apikey retire uploads").exit(5).says("is retired already");
    env.run("inventory").exit(0).says("retired");
    env.run("apikey retire uploads --back").exit(0).says("in use again");
    env.run("apikey token uploads").exit(0);
}
