use crate::upload::{ANDROID, IOS, ready};

#[test]
fn what_is_at_the_store_says_how_far_it_is() {
    let (env, _portal) = ready();
    env.run("deliveries").exit(0).says("No build is at the store.").says("ninekeys upload BUILD");
    env.run(&format!("upload {ANDROID}")).exit(0);
    env.run(&format!("upload {IOS}")).exit(0);
    let said = env.run("deliveries").exit(0);
    said.says("2 builds at the store").says("Quayside 2.4.0 (12)").says("Crossing 2.4.0 (12)");
    let one = env.run("deliveries --app quayside --format json").exit(0).json();
    let all = one["deliveries"].as_array().unwrap();
    assert_eq!((all.len(), all[0]["platform"].as_str()), (1, Some("android")), "{one:#}");
    env.run("deliveries --app nothing").exit(2).says("no app called nothing");
}
