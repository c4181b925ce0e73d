use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_date_that_recurs_falls_due_again_and_one_for_once_is_over() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("date add Membership --on 2031-06-01 --every 1y").exit(0);
    env.run("date add Audit --on 2031-06-03").exit(0);
    env.run("date done membership").exit(0).says("it falls due again on 1 Jun 2032");
    env.run("board").exit(0).is_silent_on("Membership").says("Audit");
    let json = env.run("date done audit --format json").exit(0).json();
    assert_eq!((json["over"].as_bool(), json["date"].as_str()), (Some(true), Some("audit")), "{json}");
    env.run("date done audit").exit(5).says("was for once");
    env.run("date done nothing").exit(2);
    env.run("board").exit(0).is_silent_on("Audit");
}
