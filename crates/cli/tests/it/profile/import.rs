use crate::PROGRAM;
use testkit::{TestEnv, data};

#[test]
fn profiles_of_every_kind_come_in_verified_to_the_root_that_the_project_names() {
    let env = TestEnv::with_identity(PROGRAM);
    let files = ["crossing-store", "deckhand-devices", "wildcard-development", "crossing-store-expired"];
    for file in files {
        env.run(&format!("profile import in/{file}.mobileprovision"))
            .exit(0)
            .says("signature       ✓ holds, to")
            .says("which the project names");
    }
    let said = env.run("show deckhand-devices-2026 --format json").exit(0).json();
    let profile = &said["profile"]["profile"];
    assert_eq!(profile["destination"], "devices");
    assert_eq!(profile["certificates"][0]["identity"], "gp-distribution");
    assert_eq!(profile["devices"][1]["identifier"], "4f1c2d3e5a6b7c8d9e0f1a2b3c4d5e6f70819203");
    let kinds: Vec<String> = ["crossing-store-2026", "any-app-development-2026", "crossing-store-2025"]
        .iter()
        .map(|name| {
            env.run(&format!("show {name} --format json")).exit(0).json()["facts"]["destination"].to_string()
        })
        .collect();
    assert_eq!(kinds, ["\"store\"", "\"development\"", "\"store\""]);
    let history = env.run("cabinet history --format json").exit(0).stdout;
    env.run("profile import in/crossing-store.mobileprovision").exit(0).says("here already, nothing changed");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, history);
}

#[test]
fn forged_damaged_and_foreign_profiles_are_refused_and_nothing_of_them_is_kept() {
    let env = TestEnv::with_identity(PROGRAM);
    let history = env.run("cabinet history --format json").exit(0).stdout;
    env.run("profile import in/crossing-store.mobileprovision in/signed-by-developer.mobileprovision")
        .exit(5)
        .says("signed with the certificate of a developer")
        .says("it is forged")
        .says("changed   nothing");
    let whole = std::fs::read(data("samples/ios/crossing-store.mobileprovision")).unwrap();
    let at = whole.windows(9).position(|window| window == b"Crossing ").unwrap();
    let mut changed = whole.clone();
    changed[at] = b'c';
    env.file("changed.mobileprovision", &changed);
    env.run("profile import changed.mobileprovision").exit(3).says("its signature does not hold");
    env.file("cut.mobileprovision", &whole[..whole.len() / 2]);
    env.run("profile import cut.mobileprovision").exit(3).says("cannot be read as a provisioning profile");
    env.run("profile import in/distribution.cer").exit(3).says("cannot be read as a provisioning profile");
    env.file("large.mobileprovision", &vec![b'x'; 2 << 20]);
    env.run("profile import large.mobileprovision").exit(3).says("larger than");
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("team.toml", project.replace("GPFERRY009", "TEAM000000").as_bytes());
    env.run("profile import in/crossing-store.mobileprovision --project team.toml")
        .exit(5)
        .says("it was issued to the team GPFERRY009, and the project file names TEAM000000");
    env.file("root.toml", project.replace("in/root.pem", "in/intermediate.pem").as_bytes());
    env.run("profile import in/crossing-store.mobileprovision --project root.toml")
        .exit(5)
        .says("which is not among the roots that the project names");
    env.run("profile import in/crossing-store.mobileprovision in/deckhand-devices.mobileprovision --name x")
        .exit(2)
        .says("one name is for one profile");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, history);
}

#[test]
fn without_roots_it_is_said_that_nothing_says_whom_to_trust() {
    let env = TestEnv::with_identity(PROGRAM);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("ninekeys.toml", project.replace("roots = [\"in/root.pem\"]\n", "").as_bytes());
    env.run("profile import in/crossing-store.mobileprovision")
        .exit(0)
        .says("`roots` in the project file would say whether to trust it");
    // named later, the profile has to be verified to it
    env.file("ninekeys.toml", project.as_bytes());
    env.run("check --app crossing").exit(1).says("profile-signature-invalid");
}
