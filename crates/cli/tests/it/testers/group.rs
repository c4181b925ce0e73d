use crate::upload::ready;

#[test]
fn a_group_is_made_and_said_anew() {
    let (env, _portal) = ready();
    env.run("testers group Crew --app quayside")
        .exit(0)
        .says("is there now: inside the company, for Quayside");
    let json = env.run("testers group Crew --outside --app crossing --format json").exit(0).json();
    assert_eq!((json["known"].as_bool(), json["outside"].as_bool()), (Some(true), Some(true)), "{json:#}");
    assert_eq!(json["apps"][0]["app"], "crossing", "{json:#}");
    env.run("testers group Crew --app nothing").exit(2).says("no app called nothing");
    env.run("testers group ' '").exit(6).says("1 to 100 characters");
    env.run("cabinet history").exit(0).says("testers: group Crew");
}
