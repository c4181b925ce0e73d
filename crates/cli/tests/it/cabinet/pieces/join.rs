use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn three_of_five_open_a_cabinet_of_which_all_else_is_lost() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet pieces make --to pieces").exit(0);
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    env.run("cabinet status --prove").exit(4);
    let join = |which: &[u32], to: &str| {
        let files: Vec<String> = which.iter().map(|one| format!("pieces/piece-{one}-of-5.txt")).collect();
        env.run(&format!("cabinet pieces join {} --new-unlock-file {to}", files.join(" ")))
    };
    join(&[2, 4], "new.txt").exit(4).says("2 of the 3 pieces that are needed are here");
    join(&[2, 4, 2], "new.txt").exit(4).says("piece 3 was given before");
    let text = String::from_utf8(env.read("pieces/piece-1-of-5.txt")).unwrap();
    let line = text.lines().find(|line| line.starts_with("    ")).unwrap().trim();
    let (first, rest) = line.split_at(1);
    let wrong = format!("{}{rest}", if first == "A" { "B" } else { "A" });
    env.file("typed.txt", wrong.as_bytes());
    env.run("cabinet pieces join typed.txt pieces/piece-2-of-5.txt pieces/piece-3-of-5.txt --new-unlock-file new.txt")
        .exit(4)
        .says("piece 1 was typed wrongly");
    assert!(!env.path("new.txt").exists());
    env.run("cabinet pieces join --new-unlock-file new.txt").exit(4).says("no terminal to ask for them on");
    join(&[5, 1, 3], "new.txt")
        .exit(0)
        .says("3 pieces opened the cabinet")
        .says("ninekeys cabinet passphrase");
    env.run("cabinet status --prove --unlock-file new.txt").exit(0).says("every seal opened");
    env.run("keystore export crossing-signing --to k.p12 --note-password k.txt --unlock-file new.txt")
        .exit(0);
    // newer pieces: the old ones open nothing, and say so
    env.run("cabinet pieces make --to newer --of 3 --needed 2 --unlock-file new.txt")
        .exit(0)
        .says("made before open nothing any more");
    join(&[5, 1, 3], "again.txt").exit(4).says("were replaced by newer ones");
    env.run("cabinet pieces join newer/piece-3-of-3.txt newer/piece-1-of-3.txt --new-unlock-file again.txt")
        .exit(0);
    env.run("cabinet members list").exit(0).says("recovery").says("recovered-2");
}

#[test]
fn pieces_of_two_sets_do_not_mix() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet pieces make --to a --of 2 --needed 2").exit(0);
    env.run("cabinet pieces make --to b --of 2 --needed 2").exit(0);
    env.run("cabinet pieces join a/piece-1-of-2.txt b/piece-2-of-2.txt --new-unlock-file u.txt")
        .exit(4)
        .says("piece 2 is of another set than the first");
    env.file("empty.txt", b"");
    env.run("cabinet pieces join empty.txt b/piece-2-of-2.txt --new-unlock-file u.txt")
        .exit(4)
        .says("piece 1");
    env.run("cabinet pieces join nowhere.txt --new-unlock-file u.txt").exit(3);
    env.run("cabinet pieces join a/piece-1-of-2.txt --new-unlock-file ninekeys.toml").exit(5);
}
