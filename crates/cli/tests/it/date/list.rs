use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn what_is_over_is_not_listed() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("date list").exit(0).says("No date is kept").says("ninekeys help date add");
    env.run("date add Membership --on 2031-06-01 --every 1y").exit(0);
    env.run("date add Audit --on 2031-06-03").exit(0);
    env.run("date list").exit(0).says("Membership").says("Audit");
    env.run("date done membership").exit(0);
    env.run("date done audit").exit(0);
    let listed = env.run("date list --format json").exit(0).json();
    assert_eq!(listed["dates"].as_array().unwrap().len(), 1, "{listed}");
    assert_eq!(listed["dates"][0]["on"], "2032-06-01T00:00:00Z");
}
