//! `sweep`: loose and leaked material, by what it is.

use crate::PROGRAM;
use testkit::{TestEnv, data, has};

/// A folder with things that somebody left, under names that say nothing.
fn litter(env: &TestEnv) {
    let key = testkit::private_key_pem();
    env.file("in/loose/notes.txt", &key);
    env.file("in/loose/copy", &key);
    env.file("in/loose/readme", b"The password is told by phone.\nThere is no key here.\n");
    env.file(
        "in/loose/build.properties",
        b"storeFile=a.jks\nstorePassword=tide-and-time\nkeyPassword=${KEY}\n",
    );
    let escaped = String::from_utf8(key).unwrap().replace('\n', "\\n");
    env.file(
        "in/loose/account",
        format!("{{\"client_email\":\"a@b.example\",\"private_key\":\"{escaped}\"}}").as_bytes(),
    );
    env.file("in/loose/picture", &[0x30, 0x82, 0x7f, 0xff, 1, 2, 3]);
    for name in [
        "distribution.p12",
        "crossing-store.mobileprovision",
        "crossing-store-expired.mobileprovision",
        "intermediate.pem",
    ] {
        env.file(&format!("in/loose/x-{name}.bin"), &std::fs::read(data("samples/ios").join(name)).unwrap());
    }
    #[cfg(unix)]
    for (name, _) in env.files().into_iter().filter(|(name, _)| name.starts_with("in/loose")) {
        use std::os::unix::fs::PermissionsExt;
        let mode = if name.ends_with("copy") { 0o644 } else { 0o600 };
        std::fs::set_permissions(env.path(&name), std::fs::Permissions::from_mode(mode)).unwrap();
    }
}

#[test]
fn what_lies_about_is_found_by_what_it_is_and_never_shown() {
    let env = TestEnv::with_identity(PROGRAM);
    litter(&env);
    let before = env.files();
    let said = env.run("sweep in/loose").exit(1);
    said.says("✗ 4 secrets where they should not be")
        .says("in/loose/notes.txt")
        .says("private key")
        .says("in/loose/build.properties:2")
        .says("service key")
        .says("a@b.example")
        .says("in/loose/x-distribution.p12.bin")
        .says("one key: in/loose/")
        .is_silent_on("readme")
        .is_silent_on("picture")
        .is_silent_on("tide-and-time")
        .is_silent_on("BEGIN");
    assert_eq!(env.files(), before, "nothing was touched");
    let json = env.run("sweep in/loose --format json").exit(1).json();
    let found = json["found"].as_array().unwrap();
    let of =
        |path: &str| found.iter().find(|one| one["path"] == path).unwrap_or_else(|| panic!("{path}: {json}"));
    assert_eq!(of("in/loose/copy")["open_to_others"], cfg!(unix));
    assert_eq!(of("in/loose/x-crossing-store.mobileprovision.bin")["what"], "profile");
    assert!(of("in/loose/x-intermediate.pem.bin")["item"].is_null());
    assert_eq!(json["files"].as_u64(), Some(10), "{json}");
    let sarif = env.run("sweep in/loose --format sarif").exit(1).json();
    let run = &sarif["runs"][0];
    let results = run["results"].as_array().unwrap();
    assert_eq!(results.len(), found.len());
    let at = |uri: &str| {
        let place = |one: &&serde_json::Value| {
            one["locations"][0]["physicalLocation"]["artifactLocation"]["uri"] == uri
        };
        results.iter().find(place).unwrap_or_else(|| panic!("{uri}: {sarif}"))
    };
    let password = at("in/loose/build.properties");
    assert_eq!(password["ruleId"], "secret-in-file");
    assert_eq!(password["locations"][0]["physicalLocation"]["region"]["startLine"], 2);
    let readable = if cfg!(unix) { "file-permissions-open" } else { "secret-in-file" };
    assert_eq!(at("in/loose/copy")["ruleId"], readable);
    assert_eq!(at("in/loose/x-intermediate.pem.bin")["level"], "note");
    for one in results {
        let index = usize::try_from(one["ruleIndex"].as_u64().unwrap()).unwrap();
        assert_eq!(run["tool"]["driver"]["rules"][index]["id"], one["ruleId"]);
    }
    assert!(!sarif.to_string().contains("tide-and-time"), "{sarif}");
    env.run("sweep nowhere").exit(3);
    env.run("sweep").exit(2);
    env.file("clean/readme", b"nothing\n");
    env.run("sweep clean").exit(0).says("✓ Nothing secret lies open");
    assert_eq!(env.run("sweep clean -q").exit(0).stdout, "", "a nightly job is quiet when all is well");
}

#[test]
fn what_is_not_in_the_cabinet_is_taken_in_and_stays_where_it_lies() {
    let env = TestEnv::with_identity(PROGRAM);
    litter(&env);
    let android = TestEnv::with_key(PROGRAM);
    android.file("pw", b"tide-and-time\n");
    android.run("keystore export crossing-signing --to kept.p12 --password-in pw").exit(0);
    env.file("in/loose/app-release", &android.read("kept.p12"));
    let before: Vec<_> = env.files().into_iter().filter(|(name, _)| name.starts_with("in/loose")).collect();
    let json = env.run("sweep in/loose --import --format json").exit(1).json();
    let taken = json["taken_in"].as_array().unwrap();
    let one = |path: &str| {
        let path = format!("in/loose/{path}");
        taken.iter().find(|one| one["path"] == *path).unwrap_or_else(|| panic!("{path}: {json:#}"))
    };
    assert_eq!(one("app-release")["items"][0], "app-release");
    assert_eq!(one("app-release")["opened_by"], "in/loose/build.properties:2", "by the password beside it");
    assert_eq!(one("x-crossing-store.mobileprovision.bin")["items"][0], "crossing-store-2026");
    assert_eq!(taken.len(), 2, "{json:#}");
    let left = json["not_taken"].as_array().unwrap();
    let because = |path: &str| {
        let path = format!("in/loose/{path}");
        let one = left.iter().find(|one| one["path"] == *path).unwrap_or_else(|| panic!("{path}: {json:#}"));
        one["because"].as_str().unwrap().to_owned()
    };
    assert!(because("notes.txt").contains("its key id and issuer id are needed"));
    assert!(because("x-distribution.p12.bin").contains("password"), "{json:#}");
    assert_eq!(because("x-crossing-store-expired.mobileprovision.bin"), "it has ended");
    let after: Vec<_> = env.files().into_iter().filter(|(name, _)| name.starts_with("in/loose")).collect();
    assert_eq!(after, before, "what lies there stays");
    env.run("show app-release").exit(0).says("signing key");
    // again: what is there is known, and its private key is in no backup yet
    let said = env.run("sweep in/loose --import").exit(1);
    said.says("app-release was in the cabinet, as app-release, opened by the password in in/loose/build.properties:2")
        .says("ninekeys apikey import in/loose/notes.txt --name NAME --key-id ID --issuer ID")
        .says("ninekeys keystore import in/loose/x-distribution.p12.bin --password-in FILE")
        .says("app-release (no backup)")
        .is_silent_on("tide-and-time");
    env.run("cabinet backup copies").exit(0);
    env.run("sweep in/loose --import").exit(1).is_silent_on("no backup");
    // what was opened and is held whole is a copy: it can go, and comes back
    let kept = env.read("in/loose/app-release");
    env.run("sweep in/loose --import --set-aside away").exit(1).says("set aside");
    assert!(!env.path("in/loose/app-release").exists() && env.read("away/app-release") == kept);
    env.run("sweep --bring-back away/moved.jsonl").exit(0);
    assert_eq!(env.read("in/loose/app-release"), kept);
    let inventory = env.run("inventory --format json").exit(0).json();
    let releases = inventory["items"].as_array().unwrap().iter().filter(|one| one["name"] == "app-release");
    assert_eq!(releases.count(), 1, "nothing twice");
    // nothing is unlocked where there is nothing to take in, and nobody is asked in a script
    env.file("clean/readme", b"nothing\n");
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    env.run("sweep clean --import").exit(0);
    env.run("sweep in/loose --import").exit(4).says("there is no terminal to ask");
}

#[test]
fn what_unlocks_our_own_cabinet_is_told_apart_and_no_material() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet pieces make --to pieces --of 2 --needed 2").exit(0);
    let said = env.run("sweep unlock.txt pieces --import");
    said.exit(0).says("unlock file").says("recovery piece").is_silent_on("stays out");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(env.path("unlock.txt"), std::fs::Permissions::from_mode(0o644)).unwrap();
        env.run("sweep unlock.txt").exit(1).says("others can read it");
        let all = env.run("check --all").exit(1);
        all.says("file-permissions-open").says("others can read unlock.txt, which unlocks the cabinet");
        std::fs::set_permissions(env.path("unlock.txt"), std::fs::Permissions::from_mode(0o600)).unwrap();
    }
    env.run("cabinet status").exit(0).is_silent_on("file-permissions-open");
    if !has("git", "--version") {
        return eprintln!("SKIPPED: no git to ask for a history");
    }
    env.other("git init -q");
    env.run("cabinet status").exit(0).is_silent_on("secret-in-repository");
    env.other("git add unlock.txt");
    env.run("cabinet status").exit(0).says("secret-in-repository").says("ninekeys cabinet unlock-file FILE");
}

#[test]
fn a_list_that_was_made_up_puts_nothing_beside_the_cabinet() {
    let env = TestEnv::with_project(PROGRAM);
    let journal = env.path("ninekeys.cabinet-journal");
    let line = serde_json::json!({ "from": journal.display().to_string(), "to": "evil" });
    env.file("away/moved.jsonl", format!("{line}\n").as_bytes());
    env.file("away/evil", b"a journal of somebody else");
    let before = env.files();
    env.run("sweep --bring-back away/moved.jsonl").exit(5).says("ninekeys.cabinet-journal");
    assert_eq!(env.files(), before);
}

#[cfg(unix)]
#[test]
fn what_ends_in_the_middle_says_what_is_done_and_its_list_brings_it_back() {
    let env = TestEnv::with_identity(PROGRAM);
    let ended = std::fs::read(data("samples/ios").join("crossing-store-expired.mobileprovision")).unwrap();
    let folder = format!("old/{}", "long".repeat(50));
    for number in 0..9 {
        env.file(&format!("{folder}/{number}.mobileprovision"), &ended);
    }
    let before = env.files();
    // the list has no room for all of them
    let words = ["sweep", "old", "--set-aside", "away"].map(str::to_owned);
    let output = crate::reliability::with_room(&env, 1, &words);
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(3), "{said}");
    let lines = String::from_utf8(env.read("away/moved.jsonl")).unwrap();
    let moved = lines.lines().count();
    assert!((1..9).contains(&moved) && lines.ends_with('\n'), "{lines}");
    assert!(said.contains(&format!("changed   {moved} set aside")), "{said}");
    assert_eq!(std::fs::read_dir(env.path("away")).unwrap().count(), moved + 1);
    // what a kill leaves of a line is passed over, and written over by the next
    env.file("away/moved.jsonl", format!("{lines}{{\"from\":\"/half").as_bytes());
    env.run("sweep old --set-aside away").exit(0);
    env.run("sweep --bring-back away/moved.jsonl").exit(0).says("9 files where they were before");
    std::fs::remove_dir_all(env.path("away")).unwrap();
    assert_eq!(env.files(), before, "as it was, byte for byte");
}

#[test]
fn what_the_cabinet_holds_is_told_set_aside_and_brought_back() {
    let env = TestEnv::with_identity(PROGRAM);
    litter(&env);
    env.run("profile import in/loose/x-crossing-store.mobileprovision.bin").exit(0);
    env.run("apikey import in/loose/notes.txt --name uploads --key-id K1 --issuer I1").exit(0);
    env.run("sweep in/loose").exit(1).says("crossing-store-2026");
    let before = env.files();
    let said = env.run("sweep in/loose --set-aside away").exit(1);
    said.says("set aside; to bring them back   ninekeys sweep --bring-back away/moved.jsonl");
    // the copy of a key that is in the cabinet, a profile that is, and one that has ended; nothing else
    for gone in ["x-crossing-store.mobileprovision.bin", "x-crossing-store-expired.mobileprovision.bin"] {
        assert!(!env.path(&format!("in/loose/{gone}")).exists(), "{gone}");
        assert!(env.path(&format!("away/{gone}")).exists(), "{gone}");
    }
    for stays in ["x-distribution.p12.bin", "build.properties", "account", "x-intermediate.pem.bin"] {
        assert!(env.path(&format!("in/loose/{stays}")).exists(), "{stays}");
    }
    // something took a name meanwhile: it is not written over
    env.file("in/loose/x-crossing-store.mobileprovision.bin", b"mine");
    env.run("sweep --bring-back away/moved.jsonl")
        .exit(1)
        .says("stays aside: something else has its name now");
    assert_eq!(env.read("in/loose/x-crossing-store.mobileprovision.bin"), b"mine");
    std::fs::remove_file(env.path("in/loose/x-crossing-store.mobileprovision.bin")).unwrap();
    env.run("sweep --bring-back away/moved.jsonl").exit(0).says("1 file where it was before");
    std::fs::remove_dir_all(env.path("away")).unwrap();
    assert_eq!(env.files(), before, "as it was, byte for byte");
    // a list that somebody wrote moves nothing from elsewhere
    env.file("lie/moved.jsonl", b"{\"from\":\"/tmp/x\",\"to\":\"../ninekeys.toml\"}\n");
    env.run("sweep --bring-back lie/moved.jsonl").exit(3).says("no list of what was moved");
    assert!(env.path("ninekeys.toml").exists());
}

#[test]
fn what_a_repository_had_once_is_still_in_it() {
    if !has("git", "--version") {
        eprintln!("SKIPPED: no git to ask for a history");
        return;
    }
    let env = TestEnv::with_project(PROGRAM);
    env.file("repo/deep/key", &testkit::private_key_pem());
    let git = |words: &[&str]| {
        let own = ["-C", "repo", "-c", "user.name=a", "-c", "user.email=a@b.example"];
        env.other_with("git", &[&own, words].concat())
    };
    git(&["init", "-q"]);
    git(&["add", "deep/key"]);
    git(&["commit", "-q", "-m", "one"]);
    let first = git(&["rev-parse", "--short", "HEAD"]).trim().to_owned();
    git(&["rm", "-q", "deep/key"]);
    git(&["commit", "-q", "-m", "two"]);
    env.run("sweep repo")
        .exit(1)
        .says(&format!("repo/deep/key in {first}"))
        .says("in the history")
        .says("the history of 1 repository");
    let sarif = env.run("sweep repo --format sarif").exit(1).json();
    let result = &sarif["runs"][0]["results"][0];
    assert_eq!(result["ruleId"], "secret-in-repository", "{sarif}");
    let commit = &result["locations"][0]["logicalLocations"][0]["fullyQualifiedName"];
    assert!(commit.as_str().unwrap().starts_with("commit "), "{commit}");
    env.run("sweep repo --no-history").exit(0);
}
