use crate::PROGRAM;
use testkit::{TestEnv, builds};

#[test]
fn the_ledger_has_the_files_hash_and_what_is_in_it() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let release = env.run("releases --format json").exit(0).json()["releases"][0].clone();
    let bytes = env.read("crossing-2.4.0-12-direct.apk");
    assert_eq!(release["sha256"], ninekeys_core::digest::sha256_hex(&bytes));
    assert_eq!(release["size"], bytes.len());
    assert!(release["folders"]["lib/"].as_u64().unwrap() > 200_000, "{release}");
    assert_eq!(release["folders"]["resources.arsc"], 4_000);
}

#[test]
fn the_last_release_is_compared_with_the_one_before_by_folder() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("releases --compare").exit(0).says("Nothing was signed yet");
    env.run("sign crossing.apk").exit(0);
    env.run("releases --compare").exit(0).says("the first of crossing for direct release");
    let mut next = ninekeys_formats::zip::write::Writer::new()
        .deflated("AndroidManifest.xml", &builds::crossing_code(13).manifest())
        .stored("resources.arsc", &[7; 4_000])
        .stored("assets/chart.bin", &[7; 3 << 20]);
    next = next.stored("lib/arm64-v8a/libtide.so", &[1; 100_000]);
    env.file("next.apk", &next.finish());
    env.run("sign next.apk").exit(0);
    let said = env.run("releases --compare").exit(0);
    insta::assert_snapshot!(said.stdout);
    let json = env.run("releases --compare --app crossing --format json").exit(0).json();
    assert_eq!(json["schema"], "ninekeys.releases-compare/1");
    let first = &json["comparisons"][0]["folders"][0];
    assert_eq!((&first["name"], &first["now"]), (&"assets/".into(), &(3 << 20).into()));
    env.run("releases --compare --app nobody").exit(2);
}
