use crate::upload::ready;

#[test]
fn somebody_goes_out_of_a_group_once() {
    let (env, _portal) = ready();
    env.run("testers group Crew").exit(0);
    env.run("testers invite ana@gannetpoint.example --group Crew").exit(0);
    let json = env.run("testers remove ana@gannetpoint.example --group Crew --format json").exit(0).json();
    assert_eq!(
        (json["address"].as_str(), json["group"].as_str()),
        (Some("ana@gannetpoint.example"), Some("Crew"))
    );
    let gone = env.run("testers remove ana@gannetpoint.example --group Crew").exit(6);
    gone.says("is not in the group Crew").says("ninekeys testers list");
    env.run("testers list").exit(0).says("0 testers");
}
