use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn pieces_are_pages_for_their_owner_alone_and_none_is_written_over() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet pieces make --to pieces --needed 1").exit(2).says("at least 2 are needed");
    assert!(!env.path("pieces").exists());
    env.run("cabinet pieces make --to pieces")
        .exit(0)
        .says("✓ 5 pieces, any 3 of which open the cabinet")
        .says("pieces/piece-5-of-5.txt");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(env.path("pieces/piece-1-of-5.txt")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }
    env.run("cabinet pieces make --to pieces").exit(5).says("piece-1-of-5.txt");
    let json = env.run("cabinet pieces make --to newer --of 3 --needed 2 --format json").exit(0).json();
    assert_eq!((json["needed"].as_u64(), json["replaced"].as_bool()), (Some(2), Some(true)));
    assert_eq!(json["files"].as_array().unwrap().len(), 3);
    let page = String::from_utf8(env.read("newer/piece-2-of-3.txt")).unwrap();
    assert!(
        page.contains("Recovery piece 2 of 3") && page.contains("Any 2 of the 3 pieces open it"),
        "{page}"
    );
}
