//! `timeline`: what ends when, in the terminal and as a picture.

use crate::PROGRAM;
use testkit::{TestEnv, has};

#[test]
fn bars_go_from_today_to_each_end_and_what_has_ended_stands_before_it() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    env.run("date add Membership --on 2026-12-24").exit(0);
    env.run("date add Audit --on 2030-01-01").exit(0);
    let said = env.run("timeline").exit(0);
    said.says("  Crossing")
        .says("crossing-store-2026")
        .says("│▇")
        .says("Dec")
        .says("beyond this picture: 1 more, the first on 1 Jan 2030 (audit)");
    let json = env.run("timeline --format json --months 24").exit(0).json();
    assert_eq!(
        json["until"].as_str().unwrap()[..4].parse::<u32>().unwrap(),
        json["from"].as_str().unwrap()[..4].parse::<u32>().unwrap() + 2
    );
    let groups: Vec<&str> =
        json["groups"].as_array().unwrap().iter().map(|one| one["title"].as_str().unwrap()).collect();
    assert_eq!(groups, ["Crossing", "every app"], "{json}");
    env.run("timeline --at 2027-12-30").exit(0).says("✗│ expired 24 Dec,");
    env.run("timeline --months 0").exit(2);
    env.run("timeline --months 121").exit(2);
}

#[test]
fn the_picture_is_xml_and_stands_alone() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("date add A<B>&C --on 2026-12-24").exit(0);
    env.run("timeline --svg ends.svg").exit(0);
    let picture = String::from_utf8(env.read("ends.svg")).unwrap();
    assert!(picture.contains("A&lt;B&gt;&amp;C") && picture.starts_with("<svg "), "{picture}");
    assert!(
        !picture.contains("http://") || picture.matches("http").count() == 1,
        "nothing from elsewhere but its own name"
    );
    assert_eq!(env.run("timeline --format svg").exit(0).stdout.trim_end(), picture.trim_end());
    env.run("timeline --svg ends.svg").exit(5).says("--replace");
    env.run("timeline --svg ends.svg --replace").exit(0);
    env.run("timeline --svg ninekeys.toml --replace").exit(5);
    // a reader of XML that we did not write takes it
    if has("python3", "--version") {
        let script = "import xml.dom.minidom as x; print(x.parse('ends.svg').documentElement.tagName)";
        assert_eq!(env.other_with("python3", &["-c", script]).trim(), "svg");
    } else {
        eprintln!("SKIPPED: no python3 to read the picture with");
    }
}
