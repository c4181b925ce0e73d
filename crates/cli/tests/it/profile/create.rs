use crate::portal::connected;

#[test]
fn a_profile_is_made_once_with_the_identity_that_ends_last_or_that_was_named() {
    let (env, _portal) = connected();
    env.run("profile create --app crossing --for store")
        .exit(5)
        .says("there is no identity that could sign for the store")
        .says("ninekeys prepare --app crossing --for store");
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("profile create --app crossing --for store")
        .exit(5)
        .says("crossing-store-2026 fits already")
        .says("profile renew crossing-store-2026");
    // another that could sign: what is asked for says which it is
    env.run("app add tender --title Tender --bundle-id example.gannetpoint.tender --for store").exit(0);
    env.run("identity request spare --kind distribution --email ops@gannetpoint.example --to spare.csr")
        .exit(0);
    env.run("profile create --app tender --for store --identity spare")
        .exit(5)
        .says("spare cannot sign for the store; distribution-2027 can")
        .says("--identity distribution-2027");
    let said = env.run("profile create --app tender --for store --format json").exit(0).json();
    assert_eq!(said["identity"]["identity"], "distribution-2027");
    assert_eq!((&said["chosen"], said["passed_over"].as_array().unwrap().len()), (&false.into(), 0));
    assert_eq!(said["profiles"][0]["title"], "Tender store 2026");
    assert_eq!(said["steps"][0]["does"], "register-app-id");
    env.run("check --app tender").exit(0).says("tender-store-2026");
    // two that could: the one that ends last is taken where nobody can be asked, and the other is named
    env.run("identity import in/distribution.p12 --name theirs --password-in pw").exit(0);
    env.run("app add gig --title Gig --bundle-id example.gannetpoint.gig --for store").exit(0);
    env.run("profile create --app gig --for store")
        .exit(0)
        .says("distribution-2027: it ends last, on 1 Dec 2027")
        .says("theirs would do too, until 24 Nov 2027");
    // the portal knows nothing of what another authority issued
    env.run("app add dory --title Dory --bundle-id example.gannetpoint.dory --for store").exit(0);
    env.run("profile create --app dory --for store --identity theirs")
        .exit(6)
        .says("the portal refused")
        .says("changed   done so far: register the bundle id example.gannetpoint.dory, which is for ever");
}

#[test]
fn what_is_asked_for_wrongly_is_refused_before_anything_is_asked() {
    let (env, _portal) = connected();
    env.run("profile create --app nothing --for store").exit(2).says("nothing");
    env.run("profile create --app crossing --for direct").exit(2);
    env.run("profile renew nothing").exit(2).says("nothing in the cabinet is called");
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let without = project.lines().filter(|line| !line.starts_with("portal")).collect::<Vec<_>>().join("\n");
    env.file("ninekeys.toml", without.as_bytes());
    env.run("profile create --app crossing --for store").exit(5).says("portal");
}
