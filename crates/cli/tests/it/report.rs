//! `report`: one page that needs nothing from elsewhere, and nothing secret in it.

use crate::PROGRAM;
use testkit::{TestEnv, builds};

fn page(env: &TestEnv) -> String {
    env.run("report --replace").exit(0).says("✓ report.html");
    String::from_utf8(env.read("report.html")).unwrap()
}

#[test]
fn one_file_with_everything_and_nothing_from_elsewhere() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("a.apk", &builds::crossing().apk());
    env.run("sign a.apk --for direct").exit(0);
    env.run("date add Membership --on 2031-06-01").exit(0);
    let page = page(&env);
    for wanted in [
        "<!DOCTYPE html>",
        "Nine keys",
        "What to do",
        "What ends when",
        "<svg ",
        "What hangs on what",
        "What a check finds",
        "backup-missing",
        "What was signed with what",
        "crossing-2.4.0-12-direct.apk",
        "ninekeys cabinet backup FOLDER",
        "prefers-color-scheme:dark",
        "@media print",
    ] {
        assert!(page.contains(wanted), "{wanted} is not on the page");
    }
    for elsewhere in ["<script", "src=", "href=", "@import", "url("] {
        assert!(!page.contains(elsewhere), "{elsewhere} is on the page");
    }
    let names = page.matches("http").count();
    assert_eq!(
        names,
        page.matches("http://www.w3.org/2000/svg").count(),
        "no address but the name of a language"
    );
    env.run("report").exit(5).says("--replace");
    env.run("report --to ninekeys.cabinet --replace").exit(5);
    let json = env.run("report --to other.html --format json").exit(0).json();
    assert_eq!((json["file"].as_str(), json["items"].as_u64()), (Some("other.html"), Some(1)), "{json}");
    assert_eq!(json["map"][0]["below"][0]["name"], "Crossing", "{json}");
}

#[test]
fn names_are_text_on_it_and_never_its_language() {
    let env = TestEnv::with_project(PROGRAM);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let project = project.replacen("title = \"", "title = \"<b>&\\\"x' ", 1);
    env.file("ninekeys.toml", project.as_bytes());
    env.run("date add <i>tide</i> --on 2031-06-01").exit(0);
    let page = page(&env);
    assert!(!page.contains("<b>&") && !page.contains("<i>tide"), "{page}");
    assert!(page.contains("&lt;i&gt;tide&lt;/i&gt;"), "{page}");
}
