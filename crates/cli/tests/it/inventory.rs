use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn keys_are_listed_in_the_order_of_the_nine_without_a_passphrase() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create a-upload --kind upload --app crossing --common-name A --years 2 --algorithm rsa-2048").exit(0);
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    let said = env.run("inventory").exit(0);
    let lines: Vec<&str> = said.stdout.lines().filter(|line| line.contains(" key  ")).collect();
    assert!(lines[0].contains("crossing-signing") && lines[0].contains("no copy"), "{}", said.stdout);
    assert!(lines[1].contains("a-upload") && lines[1].contains("RSA 2048"), "{}", said.stdout);
    env.run("inventory --at 2033-05-01").exit(0).says("◐ a-upload").says("falls due");
    env.run("inventory --at 2033-06-01").exit(0).says("✗ a-upload").says("expired");
    let json = env.run("inventory --format json").exit(0).json();
    assert_eq!(json["items"][0]["mark"], "at-risk");
}

#[test]
fn an_empty_cabinet_says_what_to_do() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("inventory").exit(0).says("The cabinet is empty.").says("ninekeys keystore create");
}

#[test]
fn some_of_it_is_listed_by_end_kind_app_and_state() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create up --kind upload --app crossing --common-name A --years 2 --algorithm rsa-2048")
        .exit(0);
    env.run("keystore create quayside-key --app quayside --common-name A --algorithm ec-p256").exit(0);
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    let names = |line: &str| -> Vec<String> {
        let json = env.run(&format!("inventory {line} --format json")).exit(0).json();
        let all = json["items"].as_array().unwrap().iter();
        all.map(|one| one["name"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(names(""), ["crossing-signing", "quayside-key", "up", "bridge"]);
    assert_eq!(names("--sort name"), ["bridge", "crossing-signing", "quayside-key", "up"]);
    assert_eq!(names("--sort end")[0], "up");
    assert_eq!(names("--kind upload --kind device"), ["up", "bridge"]);
    assert_eq!(names("--app quayside"), ["quayside-key"]);
    assert_eq!(names("--state no-copy"), ["crossing-signing", "quayside-key"]);
    assert_eq!(names("--expiring 60d"), [""; 0]);
    assert_eq!(names("--expiring 105w"), ["up"]);
    assert_eq!(names("--expiring 60d --at 2033-06-01"), ["up"], "what has ended is told too");
    assert_eq!(names("--state expired --at 2033-06-01"), ["up"]);
    env.run("keystore retire up").exit(0);
    assert_eq!(names("--expiring 105w"), [""; 0], "what is retired is nobody's business");
    assert_eq!(names("--state retired"), ["up"]);
    env.run("inventory --kind device").exit(0).says("1 of 4 items in the cabinet");
    env.run("inventory --expiring 60").exit(0).says("Nothing in the cabinet is like that, of 4 items.");
    env.run("inventory --app nobody").exit(2).says("no app called nobody");
    for wrong in ["--expiring soon", "--kind key", "--state lost", "--sort colour", "--expiring 99999999999d"]
    {
        env.run(&format!("inventory {wrong}")).exit(2);
    }
}

#[test]
fn it_is_given_to_spreadsheets_calendars_and_monitoring() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("keystore create crossing-signing --common-name =1+1 --algorithm ec-p256").exit(0);
    env.run("date add Membership,yearly --on 2026-12-24 --every 1y").exit(0);
    let csv = env.run("inventory --format csv").exit(0).stdout;
    let lines: Vec<&str> = csv.trim_end().split("\r\n").collect();
    assert!(lines[0].starts_with("name,alias,kind,apps,subject,"), "{csv}");
    assert_eq!(lines.len(), 4, "a head, a key, an identity, a date: {csv}");
    assert!(csv.contains("\"Membership,yearly\"") && csv.contains("CN==1"), "{csv}");
    let ics = env.run("inventory --format ics").exit(0).stdout;
    assert_eq!(ics.matches("BEGIN:VEVENT").count(), 3, "{ics}");
    assert_eq!(ics.matches("BEGIN:VALARM").count(), 9, "{ics}");
    assert!(
        ics.contains("SUMMARY:Membership\\,yearly\r\n") && ics.contains("DTSTART;VALUE=DATE:20261224"),
        "{ics}"
    );
    assert!(ics.split("\r\n").all(|line| line.len() <= 75), "{ics}");
    assert_eq!(
        env.run("inventory --format ics").exit(0).stdout,
        ics,
        "the same inventory, the same calendar"
    );
    let metrics = env.run("inventory --format openmetrics").exit(0).stdout;
    assert!(metrics.ends_with("# EOF\n"), "{metrics}");
    assert!(metrics.contains("ninekeys_not_after_timestamp_seconds{name=\"membership-yearly\""), "{metrics}");
    assert!(metrics.contains("ninekeys_items{kind=\"signing key\",state=\"no copy\"} 1"), "{metrics}");
    assert!(metrics.contains("ninekeys_last_backup_timestamp_seconds 0"), "{metrics}");
    assert_eq!(env.run("inventory --format openmetrics").exit(0).stdout, metrics);
    env.run("inventory --format svg").exit(2).says("openmetrics");
    env.run("board --format csv").exit(2);
    env.run("inventory --group app").exit(0).says("every app");
    env.run("inventory --group kind").exit(0).says("signing key   1 item");
    env.run("inventory --group colour").exit(2);
    // of what is filtered, only that
    assert_eq!(
        env.run("inventory --kind date --format csv").exit(0).stdout.trim_end().split("\r\n").count(),
        2
    );
}
