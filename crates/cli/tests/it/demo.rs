use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn the_demo_runs_the_whole_way_and_leaves_what_it_made() {
    let env = TestEnv::new(PROGRAM);
    let said = env.run("demo ferries").exit(0);
    said.says("$ ninekeys keystore create crossing-signing").says("✓ Ready for direct release");
    said.says("cd ferries && ninekeys").is_silent_on("rules looked at, all fine     Crossing 2.4.0 (12)\n\n");
    let log = std::fs::read_dir(env.path("ferries/log")).unwrap().count();
    assert!(log > 15, "{log} steps");
    let sign = env.read("ferries/log/01-init.txt");
    assert!(String::from_utf8(sign).unwrap().starts_with("$ ninekeys init --title 'Gannet Point Ferries'"));
    assert!(env.path("ferries/signed/crossing-2.4.0-12-direct.apk").is_file());
    // from nothing to signed apps, through the portal, which is stopped
    said.says("✓ Ready: Crossing for the store").says("stand-in serve --folder portal --listen 127.0.0.1:");
    said.says("✓ signed/crossing-2.4.0-12-store.ipa").says("✓ again/deckhand-1.1.0-31-devices.ipa");
    env.run("show crossing-store-2031 --project ferries").exit(0).says("the store, Crossing");
    // the refusal names the command that the next step is
    let refusal = std::fs::read_dir(env.path("ferries/log")).unwrap().map(|entry| entry.unwrap().path());
    let mut refusals = refusal.map(|path| std::fs::read_to_string(path).unwrap());
    let refusal = refusals.find(|text| text.contains("(profile-lacks-identity)")).unwrap();
    assert!(refusal.contains("next      ninekeys prepare --app deckhand --for devices"), "{refusal}");
    assert!(env.path("ferries/portal/root.pem").is_file());
    let project = String::from_utf8(env.read("ferries/ninekeys.toml")).unwrap();
    let address = project.lines().find_map(|line| line.strip_prefix("portal = \"http://")).unwrap();
    assert!(std::net::TcpStream::connect(address.trim_end_matches('"')).is_err(), "it listens still");
    // a year later, on a copy: what fell due is mended by one draft
    said.says("◐ Half way:").says("✓ Carried out:");
    let log = |part: &str| {
        let mut names: Vec<_> =
            std::fs::read_dir(env.path("ferries/log")).unwrap().map(|one| one.unwrap().path()).collect();
        names.sort();
        let own = names.into_iter().rev().find(|path| path.to_string_lossy().contains(part)).unwrap();
        std::fs::read_to_string(own).unwrap()
    };
    assert!(!log("-board").contains("ninekeys rotate"), "{}", log("-board"));
    assert!(log("-rotate-draft").contains("nothing of it done yet"));
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

#[test]
fn the_whole_of_it_is_printed_when_asked_for_and_programs_get_one_document() {
    let env = TestEnv::new(PROGRAM);
    env.run("demo whole --whole").exit(0).says("build-debuggable").says("signed with   crossing-signing");
    let json = env.run("demo json --format json").exit(0).json();
    assert_eq!(json["schema"], "ninekeys.demo/1");
    for step in json["steps"].as_array().unwrap() {
        assert!(!step["first_line"].as_str().unwrap().is_empty(), "{step}");
        assert!(env.path("json").join(step["log"].as_str().unwrap()).is_file(), "{step}");
    }
}
