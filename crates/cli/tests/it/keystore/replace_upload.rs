//! A lost upload key is replaced, and the new one waits until it counts.

use crate::advance::later;
use crate::keystore::deposit::signed_elsewhere;
use crate::upload::{ANDROID, ready};

#[test]
fn another_upload_key_counts_after_a_time_of_waiting() {
    let (env, portal) = ready();
    env.run("keystore create deck --app quayside --common-name Deck --algorithm rsa-2048").exit(0);
    signed_elsewhere(&env, "second", 22);
    env.run("sign quay.apk --app quayside --for store --key quay --set-build 21").exit(0);
    env.run("keystore replace-upload --app quayside --key second --yes").exit(6).says("holds no signing key");
    env.run("keystore deposit --app quayside --upload quay --yes").exit(0);
    env.run("keystore replace-upload --app quayside --key second").exit(5).says("nobody said yes");
    env.run("keystore replace-upload --app quayside --key deck --yes")
        .exit(5)
        .says("holds no upload key for quayside");
    let json =
        env.run("keystore replace-upload --app quayside --key second --yes --format json").exit(0).json();
    assert_eq!(json["next_upload"]["from"], "2026-12-03T00:00:00Z", "{json:#}");
    let said = env.run("keystore replace-upload --app quayside --key second --yes").exit(0);
    said.says("takes another upload key from 3 Dec 2026");
    // until then it is the old one
    let early = env.run("check second.apk --app quayside --for store").exit(1);
    early.says("signer-unknown").says("counts from 3 Dec 2026 on");
    env.run(&format!("upload {ANDROID}")).exit(0);
    let (env, _portal) = later(env, portal, "2026-12-03T00:00:00Z");
    env.run("check second.apk --app quayside --for store").exit(0).is_silent_on("signer-unknown");
    env.run("upload second.apk --app quayside").exit(0);
    env.run("check quayside-2.4.0-21-store.apk").exit(1).says("signer-unknown").says("--key second");
    let json = env.run("keystore deposit --app quayside --format json").exit(0).json();
    assert_eq!((json.get("next_upload"), json["known"].as_bool()), (None, Some(true)));
    let second = env.run("show second --format json").exit(0).json();
    assert_eq!(json["upload"]["sha256"], second["parts"][0]["certificate"]["sha256"]);
}
