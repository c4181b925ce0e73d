use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn what_is_waited_for_stands_on_the_board_with_its_date_and_whose_turn_it_is() {
    let env = TestEnv::with_ios(PROGRAM);
    let said = env.run("apikey ask uploads --of 'the account owner' --use uploads").exit(0);
    said.says("asked for: the turn of the account owner").says("role            developer");
    env.run("apikey ask uploads --of somebody --use uploads").exit(5);
    env.run("apikey ask other --of somebody").exit(2).says("--use uploads");
    env.run("identity request asked --kind distribution").exit(0);
    let later = "--at 2026-12-04T00:00:00Z";
    let board = env.run(&format!("board {later}")).exit(0);
    board
        .says("asked")
        .says("uploads (store API key) was asked for 1 Dec 2026, 3 d ago: the turn of the account owner");
    board.says("asked (distribution identity) was asked for 1 Dec 2026, 3 d ago: the turn of the portal");
    board.is_silent_on("is not whole");
    let json = env.run("board --format json").exit(0).json();
    let cells = json["rows"][0]["cells"].as_array().unwrap();
    let of = |key: &str| cells.iter().find(|cell| cell["key"] == key).unwrap();
    assert_eq!(
        (&of("store-api")["asked_at"], &of("store-api")["mark"]),
        (&"2026-12-01T00:00:00Z".into(), &"missing".into())
    );
    // it asks nobody for anything, and no rule speaks of it
    env.run("apikey token uploads").exit(5);
    env.run("check --all").exit(1).is_silent_on("api-key");

    env.file("key.p8", &testkit::private_key_pem());
    let id = env.run("show uploads --format json").exit(0).json()["id"].clone();
    env.run("apikey import key.p8 --name uploads --key-id K1 --issuer I1")
        .exit(0)
        .says("developer")
        .says("uploads");
    let shown = env.run("show uploads --format json").exit(0).json();
    assert_eq!(shown["id"], id, "it is what was waited for");
    assert!(shown["facts"].get("asked_of").is_none(), "{shown}");
    env.run("board").exit(0).is_silent_on("the account owner");
    env.run("apikey token uploads").exit(0);
}
