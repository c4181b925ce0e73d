use super::two_apps;

#[test]
fn who_opens_what_is_told_without_a_passphrase() {
    let env = two_apps();
    env.run("cabinet members add builder --may sign --app crossing --to b.txt").exit(0);
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    env.run("cabinet members list").exit(0).says("2 members, 2 secrets to open").says("1 of 2");
    let listed = env.run("cabinet members list --format json").exit(0).json();
    let builder =
        listed["members"].as_array().unwrap().iter().find(|one| one["member"] == "builder").unwrap();
    assert_eq!((builder["opens"].as_u64(), listed["secrets"].as_u64()), (Some(1), Some(2)), "{listed}");
}
