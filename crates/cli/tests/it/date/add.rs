use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_date_is_kept_under_a_name_of_its_own_and_stands_on_the_board() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("date add Membership --on 2031-06-01 --every 1y").exit(0).says("1 Jun 2031, 12 d, every year");
    env.run("date add Membership --on 2032-06-01").exit(0).says("membership-2");
    let json = env.run("date add Audit --on 2031-07-01 --app crossing --format json").exit(0).json();
    assert_eq!(
        (json["date"].as_str(), json["on"].as_str()),
        (Some("audit"), Some("2031-07-01T00:00:00Z")),
        "{json}"
    );
    env.run("board")
        .exit(0)
        .says("◐ due")
        .says("Membership, 1 Jun 2031 (every year)")
        .says("ninekeys date done membership");
    env.run("board --at 2031-07-01").exit(0).says("✗ expired").says("Membership");
}

#[test]
fn what_is_no_date_is_refused_and_nothing_is_kept() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("date add Audit --on 2031-13-01").exit(2).says("2031-05-19");
    env.run("date add Audit --on 2031-06-01 --every often").exit(2).says("1y, 6m");
    env.run("date add Audit --on 2031-06-01 --app ferry").exit(2).says("no app called ferry");
    env.run("date list").exit(0).says("No date is kept");
}
