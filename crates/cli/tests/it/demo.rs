use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn the_demo_runs_the_whole_way_and_leaves_what_it_made() {
    let env = TestEnv::new(PROGRAM);
    let said = env.run("demo ferries").exit(0);
    said.says("$ ninekeys keystore create crossing-signing").says("✓ Ready for direct release");
    said.says("build-debuggable").says("cd ferries && ninekeys");
    assert!(env.path("ferries/signed/crossing-2.4.0-12-direct.apk").is_file());
    // what it printed can be typed afterwards
    env.run("board --project ferries").exit(0).says("Gannet Point Ferries");
}

#[test]
fn a_folder_with_anything_in_it_is_left_alone() {
    let env = TestEnv::new(PROGRAM);
    env.file("ferries/note.txt", b"mine");
    let before = env.files();
    env.run("demo ferries").exit(5).says("ferries is there and not empty");
    assert_eq!(env.files(), before);
}
