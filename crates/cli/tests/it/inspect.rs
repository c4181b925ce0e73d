use crate::PROGRAM;
use testkit::{TestEnv, builds};

#[test]
fn a_package_is_told_by_its_content_whatever_its_name() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    env.file("holiday.jpg", &env.read("crossing-2.4.0-12-direct.apk"));
    let said = env.run("inspect holiday.jpg").exit(0);
    said.says("APK")
        .says("example.gannetpoint.crossing")
        .says("2.4.0, version code 12")
        .says("v2  verified")
        .says("v3  verified");
    said.says("crossing-signing").says("0x7109871a 0xf05368c0 0x42726577");
    env.run("inspect crossing.apk").exit(0).says("signature       none");
    env.file("debug.apk", &builds::quayside_debug().apk());
    env.run("inspect debug.apk").exit(0).says("! debuggable");
}

#[test]
fn certificates_are_read_in_both_forms_and_matched_with_the_cabinet() {
    let env = TestEnv::with_key(PROGRAM);
    let shown = env.run("show crossing-signing/crossing-signing/certificate --format json").exit(0).json();
    let hex = shown["facts"]["der"].as_str().unwrap();
    let der: Vec<u8> =
        (0..hex.len()).step_by(2).map(|i| u8::from_str_radix(&hex[i..i + 2], 16).unwrap()).collect();
    env.file("a.cer", &der);
    let pem = ninekeys_formats::pem::encode("CERTIFICATE", &der).unwrap();
    env.file("b.txt", format!("notes\n{pem}\n{pem}").as_bytes());
    env.run("inspect a.cer")
        .exit(0)
        .says("1 certificate, DER")
        .says("CN=Ferries")
        .says("in the cabinet  crossing-signing");
    env.run("inspect b.txt").exit(0).says("2 certificates, PEM");
    env.file("c.cer", &der[..der.len() - 4]);
    env.run("inspect c.cer").exit(3).says("the certificate cannot be read");
    env.file("d.bin", b"nothing of ours");
    env.run("inspect d.bin").exit(3).says("neither a build (APK, AAB), a keystore");
}

#[test]
fn an_item_of_the_cabinet_is_inspected_by_its_name() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("inspect crossing-signing").exit(0).says("EC P-256").says("crossing (signing key)");
    env.run("inspect nothing").exit(2).says("nothing in the cabinet is called `nothing`");
    env.run("inspect gone.apk").exit(3).says("there is no such file");
}
