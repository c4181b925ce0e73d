use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_date_that_nobody_needs_goes() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("date add Membership --on 2031-06-01").exit(0);
    env.run("date add Audit --on 2031-06-03").exit(0);
    env.run("date remove nothing").exit(2);
    env.run("date remove membership").exit(0).says("is not kept any more");
    let json = env.run("date remove audit --format json").exit(0).json();
    assert_eq!((json["date"].as_str(), json["title"].as_str()), (Some("audit"), Some("Audit")), "{json}");
    env.run("date list").exit(0).says("No date is kept");
}
