//! `cabinet members`: who opens what, by keys and not by the tool.

use crate::PROGRAM;
use testkit::{TestEnv, builds};

/// A project with a key of each of two apps, opened by its first unlock file.
fn two_apps() -> TestEnv {
    let env = TestEnv::with_project(PROGRAM);
    env.run("keystore create crossing-signing --app crossing --common-name A --algorithm ec-p256").exit(0);
    env.run("keystore create quayside-signing --app quayside --common-name A --algorithm ec-p256").exit(0);
    env.file("a.apk", &builds::crossing().apk());
    env
}

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
    let listed = env.run("cabinet members list --format json").exit(0).json();
    let builder =
        listed["members"].as_array().unwrap().iter().find(|one| one["member"] == "builder").unwrap();
    assert_eq!((builder["opens"].as_u64(), listed["secrets"].as_u64()), (Some(1), Some(2)), "{listed}");
    env.run("releases").exit(0).says("crossing 2.4.0 (12)");
    env.run("cabinet history").exit(0).says("builder on ");
    by_a_general_program(&env);
}

/// With the machine's own key and general libraries alone: its app's key comes out, the other's does not.
fn by_a_general_program(env: &TestEnv) {
    let opener = |wanted: &[&str]| {
        let words = [&["ninekeys.cabinet", "--unlock-file", "b.txt"], wanted].concat();
        super::independent::open(env, &words)
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
}
