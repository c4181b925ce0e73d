use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn every_rule_is_explained_by_its_name() {
    let env = TestEnv::new(PROGRAM);
    let all = env.run("explain --format json").exit(0).json();
    let rules = all["rules"].as_array().unwrap();
    assert!(rules.len() > 20);
    for rule in rules {
        let name = rule["name"].as_str().unwrap();
        env.run(&format!("explain {name}")).exit(0).says(name).says("looks for").says("mend");
    }
    env.run("explain no-such-rule").exit(2).says("there is no rule called no-such-rule");
}
