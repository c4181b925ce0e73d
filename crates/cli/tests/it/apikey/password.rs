use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn an_upload_password_is_sealed_with_its_label_and_told_again() {
    let env = TestEnv::with_ios(PROGRAM);
    env.file("upload.txt", b"abcd-efgh-ijkl-mnop\n");
    let import = "apikey import upload.txt --name night --label 'nightly builds'";
    env.run(import).exit(2).says("--account");
    let said = env.run(&format!("{import} --account releases@gannetpoint.example --use uploads")).exit(0);
    said.says("upload password, sealed").says("releases@gannetpoint.example").says("nightly builds");
    said.is_silent_on("abcd-efgh");
    assert_eq!(env.run("apikey password night").exit(0).stdout, "abcd-efgh-ijkl-mnop\n");
    let told = env.run("apikey password night --format json").exit(0).json();
    assert_eq!(
        (&told["label"], &told["password"]),
        (&"nightly builds".into(), &"abcd-efgh-ijkl-mnop".into())
    );
    env.run("cabinet history").exit(0).says("apikey password night");
    env.run("apikey token night").exit(5).says("has no private key");
    env.run("show night").exit(0).is_silent_on("abcd-efgh");
    env.run("inventory").exit(0).says("night");
    env.run("cabinet status --prove").exit(0);
    env.file("key.p8", &testkit::private_key_pem());
    env.run("apikey import key.p8 --name key --key-id K1 --issuer I1").exit(0);
    env.run("apikey password key").exit(5).says("is no upload password");
}

#[test]
fn what_is_no_password_is_refused() {
    let env = TestEnv::with_ios(PROGRAM);
    let long = vec![b'a'; 257];
    for (name, bytes) in
        [("empty", &b""[..]), ("lines", b"one\ntwo\n"), ("binary", b"\xff\xfe"), ("long", &long)]
    {
        env.file(name, bytes);
        let import = format!("apikey import {name} --name night --label x --account a@gannetpoint.example");
        env.run(&import).exit(3).says("holds no password");
    }
    env.run("inventory").exit(0).is_silent_on("night");
}
