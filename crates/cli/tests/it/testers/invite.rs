//! Groups of testers: invited, accepting, and what each group has.

use crate::advance::later;
use crate::upload::{ANDROID, ready};

/// What a browser gets that opens a link.
fn opened(link: &str) -> String {
    let (address, path) = link.split_at(link.find("/store").unwrap());
    let text = format!("GET {path} HTTP/1.1\nhost: portal.example\nconnection: close\n\n");
    crate::portal::call(address, &text).1
}

#[test]
fn people_are_invited_accept_and_get_what_their_group_gets() {
    let (env, portal) = ready();
    env.run("testers list").exit(0).says("no group of testers").says("ninekeys testers group NAME");
    env.run("testers group Crew --app quayside")
        .exit(0)
        .says("is there now")
        .says("inside the company, for Quayside");
    env.run("testers group Passengers --outside").exit(0).says("outside the company");
    env.run("testers invite ana@gannetpoint.example --group Crew").exit(0).says("1 tester invited to Crew");
    env.file(
        "people.csv",
        b"address,name\nana@gannetpoint.example,Ana\nbo@gannetpoint.example,Bo\nBO@gannetpoint.example,Bo\n",
    );
    let json = env.run("testers invite --from people.csv --group Crew --format json").exit(0).json();
    assert_eq!(json["invited"][0]["address"], "bo@gannetpoint.example", "{json:#}");
    assert_eq!((json["invited"].as_array().unwrap().len(), json["known"].as_array().unwrap().len()), (1, 1));
    // the mail has a link that accepts
    let mails: Vec<String> = std::fs::read_dir(env.path("portal/mails"))
        .unwrap()
        .map(|entry| std::fs::read_to_string(entry.unwrap().path()).unwrap())
        .collect();
    let mail = mails.iter().find(|mail| mail.contains("To: bo@")).unwrap();
    let link = mail.lines().last().unwrap();
    let accepted = opened(link);
    assert!(accepted.contains("\"accepted\":\"2026-12-01T00:00:00Z\""), "{accepted}");
    assert!(opened(&link[..link.len() - 4]).contains("no such invitation"));
    let said = env.run("testers list").exit(0);
    said.says("Crew   inside the company, for Quayside: 2 testers, 1 accepted")
        .says("Bo <bo@gannetpoint.example>");
    said.says("not yet").says("Passengers   outside the company: 0 testers, 0 accepted");
    // a build goes to those inside, and outside where they are named
    env.run(&format!("upload {ANDROID}")).exit(0);
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:10Z");
    env.run(&format!("advance {ANDROID} --to testing")).exit(0).says("is testing, with Crew");
    env.run("advance 12 --to testing --group Passengers").exit(0).says("with Crew, Passengers");
    env.run("testers group Others --app crossing").exit(0);
    env.run("advance 12 --to testing --group Others")
        .exit(6)
        .says("does not try")
        .says("ninekeys testers list");
    env.run("advance 12 --to testing --group Nobody").exit(6).says("there is no group Nobody");
    let json = env.run("testers list --format json").exit(0).json();
    assert_eq!(json["groups"][1]["deliveries"].as_array().unwrap().len(), 1, "{json:#}");
    env.run("testers remove bo@gannetpoint.example --group Crew").exit(0).says("is in Crew no more");
    env.run("testers remove bo@gannetpoint.example --group Crew").exit(6).says("ninekeys testers list");
    env.run("cabinet history").exit(0).says("testers: 2 invited to Crew");
}

#[test]
fn a_bad_line_stops_it_before_the_first_mail() {
    let (env, _portal) = ready();
    env.run("testers group Crew").exit(0);
    env.file("people.csv", b"ana@gannetpoint.example\nbo at gannetpoint\n@x.example\n");
    let bad = env.run("testers invite --from people.csv --group Crew").exit(2);
    bad.says("line 2: `bo at gannetpoint` is no address for mail").says("line 3");
    assert!(!env.path("portal/mails").exists());
    env.file("people.csv", b"\n\n");
    env.run("testers invite --from people.csv --group Crew").exit(2).says("names nobody");
    env.run("testers invite --group Crew").exit(2);
    env.run("testers invite a@b.example --group Nobody").exit(6).says("there is no group Nobody");
    env.run("testers group Crew --app nothing").exit(2).says("no app called nothing");
    env.run("testers group Crew --app crossing").exit(0).says("is changed");
    let other = env.run("testers list --format json").exit(0).json();
    assert_eq!(other["groups"][0]["apps"][0]["app"], "crossing", "{other:#}");
}
