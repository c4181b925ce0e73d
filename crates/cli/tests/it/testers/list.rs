use crate::upload::ready;

#[test]
fn every_group_tells_its_people_and_one_without_any_is_told_too() {
    let (env, _portal) = ready();
    env.run("testers list").exit(0).says("no group of testers").says("ninekeys testers group NAME");
    env.run("testers group Crew").exit(0);
    env.run("testers group Passengers --outside").exit(0);
    env.run("testers invite ana@gannetpoint.example --group Crew").exit(0);
    let said = env.run("testers list").exit(0);
    said.says("Crew   inside the company: 1 tester, 0 accepted").says("not yet");
    said.says("Passengers   outside the company: 0 testers, 0 accepted");
    let json = env.run("testers list --format json").exit(0).json();
    assert_eq!(json["groups"][0]["testers"][0]["address"], "ana@gannetpoint.example", "{json:#}");
    assert_eq!(json["groups"][1]["outside"], true, "{json:#}");
}
