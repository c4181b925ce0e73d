use crate::portal::connected;

#[test]
fn what_falls_is_said_first_and_what_is_revoked_is_never_picked_again() {
    let (env, _portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("identity revoke distribution-2027")
        .exit(5)
        .says("cannot be undone, and nobody said yes")
        .says("the profile crossing-store-2026 falls with it")
        .says("identity revoke distribution-2027 --yes");
    env.run("check --app crossing").exit(0);
    env.run("identity revoke distribution-2027 --yes")
        .exit(0)
        .says("revoked at the portal; kept here, retired")
        .says("crossing-store-2026");
    let after = env.run("cabinet history --format json").exit(0).stdout;
    env.run("identity revoke distribution-2027 --yes")
        .exit(0)
        .says("was revoked before; nothing was changed");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, after);
    env.run("check --app crossing")
        .exit(1)
        .says("identity-revoked")
        .says("every certificate that this profile allows was revoked")
        .says("ninekeys prepare --app crossing --for store");
    env.run("prepare --app crossing --for store --yes").exit(0).says("distribution-2027-2");
    env.run("check --app crossing").exit(0).says("crossing-store-2026-2").is_silent_on("revoked");
}

#[test]
fn without_a_certificate_or_a_portal_there_is_nothing_to_revoke() {
    let (env, _portal) = connected();
    env.run("identity revoke nothing --yes").exit(2).says("nothing in the cabinet is called");
    env.run("identity request spare --kind distribution --email ops@gannetpoint.example --to spare.csr")
        .exit(0);
    env.run("identity revoke spare --yes").exit(5).says("has no certificate yet");
    // the portal never issued this one
    env.run("identity import in/distribution.p12 --name theirs --password-in pw").exit(0);
    let before = env.run("show theirs --format json").exit(0).stdout;
    env.run("identity revoke theirs --yes").exit(6).says("changed   nothing");
    assert_eq!(env.run("show theirs --format json").exit(0).stdout, before);
}

#[test]
#[cfg(unix)]
fn what_the_portal_did_and_the_cabinet_could_not_note_is_said_and_noted_by_the_next_call() {
    let (env, _portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    // no file can grow
    let plain = env.command(["identity", "revoke", "distribution-2027", "--yes"]);
    let mut limited = std::process::Command::new("sh");
    limited.args(["-c", "trap '' XFSZ; ulimit -f 0; exec \"$0\" \"$@\""]);
    limited.arg(plain.get_program()).args(plain.get_args()).env_clear();
    limited.current_dir(plain.get_current_dir().unwrap());
    limited.envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let output = limited.output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert_ne!(output.status.code(), Some(0), "{said}");
    assert!(said.contains("the cabinet could not note it"), "{said}");
    assert!(said.contains("changed   it is revoked at the portal; the same command again"), "{said}");
    env.run("cabinet status --prove").exit(0);
    env.run("identity revoke distribution-2027 --yes")
        .exit(0)
        .says("revoked at the portal; kept here, retired");
    env.run("check --app crossing").exit(1).says("identity-revoked");
}
