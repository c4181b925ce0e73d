//! A build machine: unlocked by a file that opens one app, it signs, checks and uploads without a terminal.

use crate::upload::ready;

#[test]
fn a_machine_of_one_app_goes_the_whole_way_and_opens_nothing_else() {
    let (env, _portal) = ready();
    env.run("apikey create ci-uploads --use uploads --app quayside").exit(0).says("for             Quayside");
    env.run("apikey create other --use uploads --app nothing").exit(2).says("no app called nothing");
    env.run("cabinet members add builder --may sign --app quayside --to builder.txt").exit(0);
    // as a build service keeps it, and as its job writes it
    let text = env.other("base64 -w 0 builder.txt");
    env.file("secret.b64", text.trim().as_bytes());
    std::fs::remove_file(env.path("builder.txt")).unwrap();
    std::fs::write(env.path("back.txt"), env.other("base64 -d secret.b64")).unwrap();
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(env.path("back.txt"), std::fs::Permissions::from_mode(0o600)).unwrap();
    let machine = |line: &str| env.run(&format!("{line} --unlock-file back.txt"));
    machine("app next quayside").exit(0).says("2.4.0 (13)");
    // what came out of the build program has a number that is taken: the ledger has it
    let json = machine("upload quay.apk --app quayside --next --format json").exit(0).json();
    assert_eq!(
        (json["number"].as_str(), json["raised"]["number"].as_str()),
        (Some("13"), Some("12")),
        "{json:#}"
    );
    machine("deliveries --app quayside").exit(0).says("Quayside 2.4.0 (13)");
    env.run("cabinet history")
        .exit(0)
        .says("builder on")
        .says("quayside-2.4.0-13-store.apk is at the store, number 13");
    // what is not for that app stays closed
    machine("sign crossing.ipa --for store --set-build 20")
        .exit(5)
        .says("builder may not open what belongs to");
    machine("keystore export quay --to out.p12 --note-password out.pw").exit(5);
    machine("cabinet members list").exit(0);
    let refused = machine("advance 13 --to testing").exit(5);
    refused.says("may not open what belongs to").says("--shared");
    env.run("cabinet members remove builder --yes").exit(0);
    machine("upload quay.apk --app quayside --next").exit(4);
}
