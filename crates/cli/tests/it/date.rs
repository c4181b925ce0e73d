//! `date`: what belongs to the job and to no key passes only when somebody says so.

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_date_falls_due_is_seen_to_and_falls_due_again() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("date list").exit(0).says("No date is kept").says("ninekeys help date add");
    env.run("date add Membership --on 2031-06-01 --every 1y").exit(0).says("1 Jun 2031, 12 d, every year");
    env.run("date add Membership --on 2032-06-01").exit(0).says("membership-2");
    env.run("date add Audit --on 2031-13-01").exit(2).says("2031-05-19");
    env.run("date add Audit --on 2031-06-01 --every often").exit(2).says("1y, 6m");
    env.run("date add Audit --on 2031-06-01 --app ferry").exit(2).says("no app called ferry");
    env.run("board")
        .exit(0)
        .says("◐ due")
        .says("Membership, 1 Jun 2031 (every year)")
        .says("ninekeys date done membership");
    env.run("board --at 2031-07-01").exit(0).says("✗ expired").says("Membership");
    env.run("date done membership").exit(0).says("it falls due again on 1 Jun 2032");
    env.run("board").exit(0).is_silent_on("Membership");
    env.run("date done membership-2").exit(0).says("does not come again");
    env.run("date done membership-2").exit(5).says("was for once");
    let listed = env.run("date list --format json").exit(0).json();
    assert_eq!(listed["dates"].as_array().unwrap().len(), 1, "{listed}");
    assert_eq!(listed["dates"][0]["on"], "2032-06-01T00:00:00Z");
    env.run("date remove nothing").exit(2);
    env.run("date remove membership").exit(0).says("is not kept any more");
    env.run("date list").exit(0).says("No date is kept");
}
