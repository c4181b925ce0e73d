use super::two_apps;

#[test]
fn who_looks_writes_nothing_and_who_leaves_opens_nothing() {
    let env = two_apps();
    env.run("cabinet members add audit --may look --to audit.txt").exit(0).says("0 secrets");
    env.run("--unlock-file audit.txt sign a.apk --for direct").exit(5).says("audit may not open");
    env.run("--unlock-file audit.txt cabinet backup copies").exit_any(&[5, 0]);
    env.run("cabinet members add mate --may everything --to mate.txt").exit(0).says("may do everything");
    env.run("cabinet members remove nobody")
        .exit(5)
        .says("no member is called nobody; there are audit, mate");
    env.run("cabinet members remove mate").exit(5).says("nobody said yes");
    env.run("cabinet members remove mate --yes --draft d.toml")
        .exit(0)
        .says("mate opens nothing any more")
        .says("crossing-signing (keystore)")
        .says("ninekeys rotate carry-out d.toml");
    env.run("--unlock-file mate.txt cabinet status --prove").exit(4);
    env.run("cabinet members list").exit(0).is_silent_on("mate");
    env.run("cabinet status --prove").exit(0).says("every seal opened");
    let draft = String::from_utf8(env.read("d.toml")).unwrap();
    assert!(draft.contains("does = \"hand-over\""), "{draft}");
    env.run("rotate carry-out d.toml --yes").exit(1);
    let own = env.run("cabinet members list --format json").exit(0).json();
    let own = own["members"].as_array().unwrap().iter().find(|one| one["member"] != "audit").unwrap().clone();
    let own = own["member"].as_str().unwrap();
    env.run(&format!("cabinet members remove {own} --yes")).exit(5).says("is who opened the cabinet now");
    env.run("cabinet members remove audit --yes").exit(0).says("no key and no password");
    env.run("cabinet members add late --may look --to late.txt").exit(0);
    let json = env.run("cabinet members remove late --yes --format json").exit(0).json();
    assert_eq!((json["member"].as_str(), json["seen"].as_array().unwrap().len()), (Some("late"), 0));
}
