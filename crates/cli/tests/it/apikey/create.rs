use crate::portal::connected;

#[test]
fn its_private_key_is_fetched_once_and_makes_tokens_that_the_portal_takes() {
    let (env, _portal) = connected();
    env.run("apikey create uploads --use uploads")
        .exit(0)
        .says("role            developer")
        .says("fetched now, which can be done once")
        .is_silent_on("PRIVATE KEY");
    env.run("apikey create uploads --use uploads").exit(5).says("the name uploads is taken");
    env.run("apikey create all").exit(2).says("neither a role nor a use was said");
    let said = env.run("apikey create signer --use signing --format json").exit(0).json();
    assert_eq!(said["role"], "manager", "the smallest that signing needs");
    // with the first one gone, the portal takes the one that it gave out
    env.run("apikey retire owner").exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0).says("✓ Ready");
    env.run("apikey create more --use uploads")
        .exit(5)
        .says("no store API key with the role owner or a larger one");
}
