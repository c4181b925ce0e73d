use super::two_apps;
use testkit::TestEnv;

#[test]
fn a_build_machine_signs_its_app_and_opens_nothing_else() {
    let env = two_apps();
    env.run("cabinet members add builder --may sign --to b.txt").exit(2).says("--app APP");
    env.run("cabinet members add builder --may sign --app ferry --to b.txt")
        .exit(2)
        .says("no app called ferry");
    env.run("cabinet members add builder --may sign --app crossing --to b.txt")
        .exit(0)
        .says("signs with crossing")
        .says("1 secret, and nothing else");
    env.run("cabinet members add builder --may look --to c.txt")
        .exit(5)
        .says("a member is called builder already");
    env.run("--unlock-file b.txt sign a.apk --for direct").exit(0).says("crossing-signing");
    for (line, says) in [
        ("keystore export crossing-signing --to x.p12 --note-password x.txt", "may not do that"),
        ("keystore export quayside-signing --to x.p12 --note-password x.txt", "may not"),
        ("keystore change crossing-signing --add-app quayside", "may not"),
        ("keystore create more --common-name A --algorithm ec-p256", "may not"),
        ("cabinet members add friend --may everything --to f.txt", "only a manager changes members"),
    ] {
        env.run(&format!("--unlock-file b.txt {line}")).exit(5).says(says);
    }
    for file in ["x.p12", "x.txt", "f.txt"] {
        assert!(!env.path(file).exists(), "{file}");
    }
    env.run("cabinet status --prove").exit(0);
    env.run("releases").exit(0).says("crossing 2.4.0 (12)");
    env.run("cabinet history").exit(0).says("builder on ");
    by_a_general_program(&env);
}

/// With the machine's own key and general libraries alone: its app's key comes out, the other's does not.
fn by_a_general_program(env: &TestEnv) {
    let opener = |wanted: &[&str]| {
        let words = [&["ninekeys.cabinet", "--unlock-file", "b.txt"], wanted].concat();
        crate::cabinet::independent::open(env, &words)
    };
    let Some(told) = opener(&[]) else { return };
    let open = |wanted: &[&str]| opener(wanted).unwrap();
    let text = String::from_utf8_lossy(&told.stdout).into_owned();
    assert!(text.trim_end().ends_with("compartments app/crossing"), "{text}");
    let own = open(&["crossing-signing/crossing-signing", "own.der"]);
    assert!(own.status.success(), "{}", String::from_utf8_lossy(&own.stderr));
    let other = open(&["quayside-signing/quayside-signing", "other.der"]);
    assert!(!other.status.success() && !env.path("other.der").exists());
    assert!(String::from_utf8_lossy(&other.stderr).contains("KeyError: 'app/quayside'"), "no key for it");
}

#[test]
fn what_was_made_is_said_as_json_and_a_file_is_not_written_over() {
    let env = two_apps();
    let json = env.run("cabinet members add audit --may look --to audit.txt --format json").exit(0).json();
    assert_eq!((json["member"].as_str(), json["file"].as_str()), (Some("audit"), Some("audit.txt")));
    assert_eq!(json["opens"], 0);
    let before = env.read("audit.txt");
    env.run("cabinet members add other --may look --to audit.txt").exit(5).says("--to FILE");
    assert_eq!(env.read("audit.txt"), before);
    env.run("cabinet members list").exit(0).is_silent_on("other");
}
