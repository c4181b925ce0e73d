use crate::portal::start_with;
use crate::upload::{ANDROID, IOS, ready};

/// The same store at a later time.
pub(crate) fn later(
    env: testkit::TestEnv,
    portal: crate::portal::Running,
    now: &str,
) -> (testkit::TestEnv, crate::portal::Running) {
    let port = portal.address.rsplit(':').next().unwrap().to_owned();
    drop(portal);
    let env = env.at(now);
    let portal = start_with(&env, &["--listen", &format!("127.0.0.1:{port}")]);
    (env, portal)
}

/// The project file answers what a review asks about an app.
pub(crate) fn review(env: &testkit::TestEnv, app: &str) {
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    if text.contains(&format!("[app.{app}.review]")) {
        return;
    }
    let says = "contact = { name = \"Ferry desk\", email = \"desk@gannetpoint.example\" }\n\
                declarations = { advertising = false, children = false, location = true, own-encryption = false }\n";
    env.file("ninekeys.toml", format!("{text}\n[app.{app}.review]\n{says}").as_bytes());
}

#[test]
fn the_same_bytes_go_to_testers_and_then_to_everyone() {
    let (env, portal) = ready();
    env.run(&format!("upload {ANDROID}")).exit(0);
    env.run(&format!("advance {ANDROID} --to testing"))
        .exit(6)
        .says("is processing")
        .says("ninekeys deliveries");
    let (env, portal) = later(env, portal, "2026-12-01T00:00:10Z");
    env.run("deliveries --watch").exit(0).says("ready for testers");
    env.run("advance nothing --to testing").exit(2).says("the store has no build nothing");
    // another file of that name is another build
    let bytes = env.read(ANDROID);
    env.file(ANDROID, &[bytes.clone(), vec![0]].concat());
    env.run(&format!("advance {ANDROID} --to testing")).exit(2).says("the store has no build");
    env.file(ANDROID, &bytes);
    let json = env.run(&format!("advance {ANDROID} --to testing --format json")).exit(0).json();
    crate::formats::hold("advance", &json);
    assert_eq!((json["stage"].as_str(), json["was"].as_str()), (Some("testing"), Some("ready")));
    let missing = env.run("advance 12 --to everyone").exit(5);
    missing.says("what the review of quayside wants to know: contact, declarations.advertising");
    missing.says("app change quayside --review-contact 'NAME <ADDRESS>' --declare 'advertising=ANSWER'");
    // what it says to type, with values in the places of those in capitals
    let answer = "app change quayside --review-contact 'Ferry desk <desk@gannetpoint.example>'";
    env.run(&format!("{answer} --declare location=ANSWER")).exit(2).says("yes or no, and not with ANSWER");
    env.run("app change quayside --review-contact 'NAME <ADDRESS>'")
        .exit(2)
        .says("ADDRESS is no address for mail");
    let all = ["advertising=no", "children=no", "location=yes", "own-encryption=no"];
    let all: Vec<String> = all.iter().map(|one| format!("--declare {one}")).collect();
    let said = env.run(&format!("{answer} {} --review-notes 'Card 4711.'", all.join(" "))).exit(0);
    said.says("Ferry desk <desk@gannetpoint.example>, 4 answers");
    env.run("advance 12 --to everyone").exit(2).says("nothing says what is new").says("--new TEXT");
    let untold = env.run("advance 12 --to everyone --new Timetable").exit(5);
    untold.says("goes to everyone, and nobody said yes");
    let said = env.run("advance 12 --to everyone --new Timetable --yes").exit(0);
    said.says("is in review, and was testing").says("The people of the review were told:");
    said.says("Ferry desk, desk@gannetpoint.example").says("Does it use where people are? yes");
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:20Z");
    let json = env.run("deliveries --format json").exit(0).json();
    let one = &json["deliveries"][0];
    assert_eq!(one["stage"], "live");
    let stages: Vec<&str> =
        one["stages"].as_array().unwrap().iter().map(|one| one["stage"].as_str().unwrap()).collect();
    assert_eq!(stages, ["processing", "ready", "testing", "in-review", "live"]);
    assert_eq!(one["sha256"].as_str().unwrap().len(), 64);
    env.run("cabinet history").exit(0).says("at the store goes to everyone");
    env.run("releases").exit(0).says("store · everyone");
}

#[test]
fn a_version_that_is_live_takes_no_more_builds() {
    let (env, portal) = ready();
    env.run(&format!("upload {IOS}")).exit(0);
    let (env, portal) = later(env, portal, "2026-12-01T00:00:10Z");
    review(&env, "crossing");
    env.run(&format!("advance {IOS} --to everyone --new Tickets --yes"))
        .exit(0)
        .says("is in review, and was ready for testers");
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:20Z");
    env.run("sign crossing.ipa --for store --set-build 13").exit(0);
    let refused = env.run("upload crossing-2.4.0-13-store.ipa").exit(6);
    refused
        .says("version-closed")
        .says("version 2.4.0 is live, and takes no more builds")
        .says("needed 2.4.1");
    refused.says("ninekeys upload crossing-2.4.0-13-store.ipa --next");
    env.run("upload crossing-2.4.0-13-store.ipa --next").exit(0).says("Crossing 2.4.1 (1)");
}

#[test]
fn a_share_comes_first_and_is_raised_or_held() {
    let (env, portal) = ready();
    review(&env, "quayside");
    env.run(&format!("upload {ANDROID}")).exit(0);
    let (env, portal) = later(env, portal, "2026-12-01T00:00:10Z");
    env.run(&format!("advance {ANDROID} --hold")).exit(6).says("only a build that a share of people has");
    let json = env
        .run(&format!(
            "advance {ANDROID} --to everyone --new A --on 2026-12-02 --share 10 --yes --format json"
        ))
        .exit(0)
        .json();
    assert_eq!((json["share"].as_u64(), json["on"].as_str()), (Some(10), Some("2026-12-02T00:00:00Z")));
    let (env, portal) = later(env, portal, "2026-12-01T00:00:20Z");
    env.run("deliveries").exit(0).says("approved for 8 s").says("live from").says("10 % first");
    let (env, _portal) = later(env, portal, "2026-12-02T00:00:00Z");
    env.run("deliveries").exit(0).says("live for 0 s, for 10 %");
    let lower = env.run("advance 12 --to everyone --share 5 --yes").exit(6);
    lower.says("share-not-higher").says("sent 5, needed 10").says("ninekeys deliveries");
    env.run("advance 12 --hold").exit(0).says("is live, held at 10 %");
    env.run("advance 12 --to everyone --share 50 --yes").exit(0).says("is live, for 50 %");
    let json = env.run("advance 12 --to everyone --yes --format json").exit(0).json();
    assert_eq!((json.get("share"), json.get("held"), json["stage"].as_str()), (None, None, Some("live")));
    env.run("advance 12 --hold").exit(6);
    for wrong in [
        "advance 12",
        "advance 12 --to testing --share 5",
        "advance 12 --to everyone --group A --yes",
        "advance 12 --hold --to testing",
        "advance 12 --to everyone --share 101",
    ] {
        env.run(wrong).exit(2);
    }
}

#[test]
fn a_review_that_finds_something_rejects_with_the_reason_and_the_number_is_free_again() {
    let (env, portal) = ready();
    // it asks for the place in its manifest, and declares that it does not
    env.file("asks.apk", &crate::compare::asking(20, "android.permission.ACCESS_FINE_LOCATION"));
    env.run("sign asks.apk --app quayside --for store --set-build 20").exit(0);
    let asks = "quayside-2.4.0-20-store.apk";
    env.run(&format!("upload {asks}")).exit(0);
    review(&env, "quayside");
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("ninekeys.toml", text.replace("location = true", "location = false").as_bytes());
    let (env, portal) = later(env, portal, "2026-12-01T00:00:10Z");
    env.file("new.txt", "Timetables of both harbours.\n".as_bytes());
    let said = env.run(&format!("advance {asks} --to everyone --new-in new.txt --yes")).exit(0);
    said.says("Timetables of both harbours.").is_silent_on("is declared as false");
    // what a review will find is found, whatever is asked for meanwhile
    env.run(&format!("advance {asks} --to everyone --yes")).exit(0).says("is in review");
    let token = env.run("apikey token owner").exit(0).stdout.trim().to_owned();
    let id = env.run("deliveries --format json").exit(0).json()["deliveries"][0]["delivery"].clone();
    let (id, body) = (id.as_str().unwrap(), r#"{"to":"in-review"}"#);
    let call = format!(
        "PUT /store/v1/deliveries/{id}/stage HTTP/1.1\nhost: portal.example\nauthorization: Bearer {token}\n\
         content-type: application/json\ncontent-length: {}\nconnection: close\n\n{body}",
        body.len()
    );
    assert!(crate::portal::call(&portal.address, &call).0.contains("200"));
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:20Z");
    let said = env.run("deliveries").exit(0);
    said.says("rejected for 8 s").says("`location` is declared as false");
    let next = env.run("app next quayside --format json").exit(0).json();
    assert_eq!(next["sides"][0]["number"], "21", "the ledger has it");
    env.run("sign quay.apk --app quayside --for store --set-build 20 --replace").exit(0);
    env.run("upload quayside-2.4.0-20-store.apk").exit(0);
}

#[test]
fn a_login_for_the_review_is_sealed_and_told_to_nobody_else() {
    let (env, portal) = ready();
    review(&env, "quayside");
    env.run(&format!("upload {ANDROID}")).exit(0);
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:10Z");
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("ninekeys.toml", format!("{text}login = \"trial\"\n").as_bytes());
    let advance = format!("advance {ANDROID} --to everyone --new A --yes");
    env.run(&advance).exit(2).says("trial");
    env.file("pw", b"herring-gull-mast");
    env.run("apikey import pw --name trial --account trial@gannetpoint.example --label reviews").exit(0);
    let said = env.run(&advance).exit(0);
    said.says("trial@gannetpoint.example, with its password").is_silent_on("herring");
    assert!(
        !env.read("portal/stand-in.sqlite").windows(7).any(|bytes| bytes == b"herring"),
        "the store keeps no password longer than its review needs it"
    );
}
