//! `rotate resume`: after any interruption it ends as if there had been none.

use std::process::Stdio;
use std::time::Duration;

use super::{due, standing};
use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn killed_at_any_instant_it_goes_on_and_ends_as_an_undisturbed_one_does() {
    let (calm, _portal) = due();
    calm.run("rotate draft distribution-2027 --to d.toml").exit(0);
    calm.run("rotate carry-out d.toml --yes").exit(1);
    calm.run("rotate resume --done 8 --done 9").exit(0);

    let (env, _other) = due();
    env.run("rotate draft distribution-2027 --to d.toml").exit(0);
    let words = || -> &[&str] {
        let begun = env.run("show rotation-2027-11-10").code() == 0;
        if begun { &["rotate", "resume"] } else { &["rotate", "carry-out", "d.toml", "--yes"] }
    };
    let mut inside = 0;
    for turn in 0..30u64 {
        let words = words();
        let mut child = env.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(15 + 9 * turn));
        child.kill().unwrap();
        inside += u32::from(child.wait().unwrap().code().is_none());
    }
    // where the machine was slow, all were killed before the first step
    env.run(&words().join(" ")).exit_any(&[1, 5]);
    // from here on every call is killed until one gets through
    for turn in 0..24u64 {
        let words = ["rotate", "resume", "--done", "8", "--done", "9"];
        let mut child = env.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(4 + 6 * turn));
        child.kill().unwrap();
        inside += u32::from(child.wait().unwrap().code().is_none());
    }
    assert!(inside > 4, "only {inside} kills fell into the work");
    env.run("rotate resume --done 8 --done 9").exit_any(&[0, 5]);
    assert_eq!(standing(&env), standing(&calm), "the same names, states and generations");
    env.run("check --app crossing").exit(0);
    env.run("cabinet status --prove").exit(0);
    let left: Vec<String> =
        env.files().into_iter().map(|(name, _)| name).filter(|name| name.contains(".ninekeys-")).collect();
    assert_eq!(left, Vec::<String>::new());
}

#[test]
fn what_is_not_under_way_is_not_resumed() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("rotate resume").exit(5).says("no rotation is under way").says("ninekeys rotate draft WHAT");
    env.run("rotate resume gp-distribution").exit(2).says("gp-distribution is an identity, not a rotation");
    env.run("rotate draft gp-distribution --to d.toml").exit(0);
    env.run("rotate carry-out d.toml --yes").exit(1);
    env.run("rotate resume --done 1").exit(2).says("step 1 of rotation-");
    env.run("rotate resume --done 99").exit(2);
    env.run("rotate resume --done 0").exit(2);
}
