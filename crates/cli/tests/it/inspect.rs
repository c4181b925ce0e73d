use crate::PROGRAM;
use testkit::{TestEnv, builds, data};

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
    env.run("inspect d.bin")
        .exit(3)
        .says("neither a build (APK, AAB, IPA), an executable (Mach-O), a keystore");
}

#[test]
fn an_item_of_the_cabinet_is_inspected_by_its_name() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("inspect crossing-signing").exit(0).says("EC P-256").says("crossing (signing key)");
    env.run("inspect nothing").exit(2).says("nothing in the cabinet is called `nothing`");
    env.run("inspect gone.apk").exit(3).says("there is no such file");
}

#[test]
fn keys_requests_and_messages_are_told_and_matched_with_the_cabinet() {
    let env = TestEnv::with_key(PROGRAM);
    env.other("openssl genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out own.pem");
    env.other("openssl pkcs8 -topk8 -nocrypt -in own.pem -outform DER -out own.der");
    env.other("openssl pkey -in own.pem -pubout -out public.pem");
    env.other("openssl pkcs8 -topk8 -in own.pem -passout pass:tides -out locked.pem");
    env.other("openssl pkcs8 -topk8 -in own.pem -passout pass:tides -outform DER -out locked.der");
    env.other("openssl req -new -key own.pem -subj /CN=Crossing -out asked.csr");
    env.other("openssl req -new -key own.pem -subj /CN=Crossing -outform DER -out asked.der");
    env.other("openssl req -x509 -key own.pem -subj /CN=Harbour -days 30 -out own.cer");
    let fingerprint =
        env.run("inspect public.pem --format json").exit(0).json()["content"]["key"]["sha256"].clone();
    for (file, says) in [
        ("own.pem", "private key, in clear, PEM"),
        ("own.der", "private key, in clear, DER"),
        ("public.pem", "public key, PEM"),
        ("asked.csr", "certificate request, PEM"),
        ("asked.der", "certificate request, DER"),
    ] {
        env.run(&format!("inspect {file}")).exit(0).says(says).says("EC P-256").says("in the cabinet  no");
        let found = env.run(&format!("inspect {file} --format json")).exit(0).json();
        assert_eq!(found["content"]["key"]["sha256"], fingerprint, "{file}");
    }
    env.run("inspect own.pem").exit(0).says("whoever can read this file has the key");
    for file in ["locked.pem", "locked.der"] {
        env.run(&format!("inspect {file}")).exit(0).says("private key, encrypted").is_silent_on("EC P-256");
    }
    env.run("inspect asked.csr").exit(0).says("CN=Crossing").says("✓ by the key that it is for");
    let mut forged = env.read("asked.der");
    *forged.last_mut().unwrap() ^= 1;
    env.file("forged.der", &forged);
    env.run("inspect forged.der").exit(0).says("✗ not by the key that it is for");
    // a key and its certificate in one file, as servers keep them
    let both = [env.read("own.cer"), env.read("own.pem")].concat();
    env.file("both.pem", &both);
    env.run("inspect both.pem").exit(0).says("private key, in clear, PEM").says("CN=Harbour");
    // our own keys are known wherever they lie
    env.run("keystore export crossing-signing --to ours.p12 --note-password ours.txt").exit(0);
    env.other("openssl pkcs12 -in ours.p12 -passin file:ours.txt -nodes -nocerts -out ours.pem");
    env.run("inspect ours.pem").exit(0).says("in the cabinet  crossing-signing");
    let ours = env.run("inspect ours.pem --format json").exit(0).json();
    assert_eq!(ours["content"]["item"], "crossing-signing", "{ours}");
    env.run("keystore hand-over crossing-signing --receiver own.cer --to handed.bin").exit(0);
    env.run("inspect handed.bin")
        .exit(0)
        .says("encrypted message (CMS), DER")
        .says("by CN=Harbour")
        .says("only who holds that key can open it");
}

#[test]
fn keys_in_forms_older_than_pkcs8_are_told_as_pem_and_as_der() {
    if !testkit::has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore export crossing-signing --to ours.p12 --note-password ours.txt").exit(0);
    env.other("openssl pkcs12 -in ours.p12 -passin file:ours.txt -nodes -nocerts -out ours.pem");
    env.other("openssl ecparam -name prime256v1 -genkey -noout -out old.pem");
    env.run("inspect old.pem").exit(0).says("private key, in clear, PEM").says("EC P-256");
    env.other("openssl ec -in old.pem -outform DER -out old.der");
    env.run("inspect old.der").exit(0).says("private key, in clear, DER").says("EC P-256");
    env.other("openssl genrsa -out new.pem 2048");
    env.other("openssl rsa -in new.pem -traditional -out rsa.pem");
    env.run("inspect rsa.pem").exit(0).says("private key, in clear, PEM").says("RSA 2048");
    env.other("openssl rsa -in rsa.pem -traditional -outform DER -out rsa.der");
    env.run("inspect rsa.der").exit(0).says("private key, in clear, DER").says("RSA 2048");
    env.other("openssl rsa -in rsa.pem -traditional -aes128 -passout pass:ferries -out locked.pem");
    env.run("inspect locked.pem").exit(0).says("private key, encrypted, PEM");
    // what our own key looks like in the older form is our own key
    env.other("openssl ec -in ours.pem -out ours-old.pem");
    env.run("inspect ours-old.pem").exit(0).says("in the cabinet  crossing-signing");
    env.other("openssl dsaparam -genkey -noout -out dsa.pem 1024");
    env.other("openssl dsa -in dsa.pem -out dsa-old.pem");
    env.run("inspect dsa-old.pem").exit(0).says("in a form older than PKCS#8 that is not read");
}

#[test]
fn a_cabinet_and_its_copies_are_told_from_others() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let copy =
        env.files().into_iter().map(|(name, _)| name).find(|name| name.starts_with("copies/")).unwrap();
    env.run("keystore create later --common-name Later --app crossing --kind upload").exit(0);
    env.run("inspect ninekeys.cabinet").exit(0).says("cabinet, 2 keys").says("✓ the cabinet of this project");
    env.run(&format!("inspect {copy}")).exit(0).says("a copy of this project's cabinet, from before");
    let other = TestEnv::with_key(PROGRAM);
    env.file("theirs.cabinet", &other.read("ninekeys.cabinet"));
    env.run("inspect theirs.cabinet").exit(0).says("! not the cabinet of this project");
    let before = env.read(&copy);
    // when our own is broken, its copies are what one looks for
    let ours = env.read("ninekeys.cabinet");
    env.file("ninekeys.cabinet", &ours[..ours.len() / 2]);
    env.run(&format!("inspect {copy}")).exit(0).says("a copy of this project's cabinet");
    env.run("inspect ninekeys.cabinet").exit_any(&[3]);
    env.file("ninekeys.cabinet", &ours);
    let mut torn = before.clone();
    let at = torn.len() / 2;
    torn[at] ^= 0x40;
    env.file("torn.cabinet", &torn[..torn.len() - 4096]);
    env.run("inspect torn.cabinet").exit_any(&[3]);
    assert_eq!(env.read(&copy), before, "looking changes nothing");
}

#[test]
fn a_cabinet_in_use_is_looked_at_beside_its_writers() {
    let env = TestEnv::with_key(PROGRAM);
    std::thread::scope(|scope| {
        let writer = scope.spawn(|| {
            for _ in 0..12 {
                env.run(
                    "keystore change crossing-signing --alias crossing-signing --new-alias crossing-signing",
                )
                .exit(0);
            }
        });
        let mut looked = 0;
        while !writer.is_finished() {
            env.run("inspect ninekeys.cabinet").exit(0);
            env.run("cabinet status --prove").exit(0).says("every seal opened");
            looked += 1;
        }
        assert!(looked >= 3, "looked only {looked} times");
    });
}

#[test]
fn a_profile_is_told_whether_or_not_it_is_to_be_believed() {
    let env = TestEnv::with_ios(PROGRAM);
    let said = env.run("inspect in/crossing-store.mobileprovision").exit(0);
    said.says("provisioning profile")
        .says("GPFERRY009.example.gannetpoint.crossing")
        .says("the store, Crossing");
    said.says("holds, and leads to")
        .says("which the project names")
        .says("ninekeys profile import in/crossing-store");
    let json = env.run("inspect in/deckhand-devices.mobileprovision --format json").exit(0).json();
    let content = &json["content"];
    assert_eq!((&content["type"], &content["destination"]), (&"profile".into(), &"devices".into()));
    assert!(!content["devices"].as_array().unwrap().is_empty() && content["signature"]["state"] == "holds");
    let forged = env.run("inspect in/signed-by-developer.mobileprovision").exit(0);
    forged.says("is not to be believed").says("it is forged").is_silent_on("profile import");
    env.run("inspect in/crossing-store-expired.mobileprovision").exit(0).says("it has ended");
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    env.run("inspect in/crossing-store.mobileprovision").exit(0).says("in the cabinet  crossing-store-2026");
    env.file("cut", &env.read("in/crossing-store.mobileprovision")[..900]);
    env.run("inspect cut").exit(3);
}

#[test]
fn an_executable_is_told_slice_by_slice_with_what_signed_it() {
    let env = TestEnv::with_ios(PROGRAM);
    for name in ["crossing-signed", "deckhand-fat", "deckhand-tight"] {
        env.file(name, &std::fs::read(data("samples/code").join(name)).unwrap());
    }
    let said = env.run("inspect crossing-signed").exit(0);
    said.says("built for       iOS 14.0 and later, with SDK 16.0")
        .says("✓ holds, and leads to")
        .says("which the project names")
        .says("example.gannetpoint.crossing   team GPFERRY009")
        .says("requires        the identifier is \"example.gannetpoint.crossing\", and the path leads to the vendor's root")
        .says("aps-environment: production");
    let fat = env.run("inspect deckhand-fat --format json").exit(0).json();
    let slices = fat["content"]["slices"].as_array().unwrap();
    let of = |name: &str| slices.iter().map(|slice| slice[name].clone()).collect::<Vec<_>>();
    assert_eq!(of("processor"), ["arm64", "x86_64"]);
    assert_eq!(of("platform"), ["iOS", "the iOS simulator"]);
    assert!(slices.iter().all(|slice| slice["signature"]["state"] == "by-linker"), "{slices:?}");
    env.run("inspect deckhand-tight").exit(0).says("no room for one: 8 bytes after the load commands");
    // one byte of the code
    let mut bytes = std::fs::read(data("samples/code/crossing-signed")).unwrap();
    bytes[20_000] ^= 1;
    env.file("changed", &bytes);
    env.run("inspect changed")
        .exit(0)
        .says("✗ does not hold")
        .says("1 of its 17 pages: not what was signed, from byte 16384 on")
        .is_silent_on("holds, and leads to");
    env.file("cut", &bytes[..3_000]);
    env.run("inspect cut").exit(3).says("the executable cannot be read").says("fetch it again");
}

#[test]
fn a_build_for_ios_is_looked_into_without_a_cabinet() {
    let env = TestEnv::new(PROGRAM);
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
    env.file("deckhand.ipa", ninekeys_core::demo::DECKHAND_IPA);
    env.run("inspect crossing.ipa")
        .exit(0)
        .says("IPA,")
        .says("bundle id       example.gannetpoint.crossing")
        .says("PlugIns/Share.appex                   ○ extension · example.gannetpoint.crossing.share · 2.4.0 (12)")
        .says("not signed");
    env.run("inspect deckhand.ipa").exit(0).says("hashed by its linker, not signed");
    let said = env.run("inspect deckhand.ipa --format json").exit(0).json();
    assert_eq!(said["content"]["ios"]["bundles"][0]["code"]["signed"], "by-linker");
}

#[test]
fn entitlements_and_what_a_bundle_says_are_told_in_every_encoding_without_a_cabinet() {
    let env = TestEnv::new(PROGRAM);
    let list = "<?xml version=\"1.0\"?><plist version=\"1.0\"><dict><key>aps-environment</key><string>production</string>\
                <key>get-task-allow</key><true/></dict></plist>";
    env.file("app.entitlements", list.as_bytes());
    let said = env.run("inspect app.entitlements").exit(0);
    said.says("2 entitlements, XML").says("aps-environment = production").says("get-task-allow = yes");
    let claims =
        ninekeys_formats::entitlements::parse(list.as_bytes(), &ninekeys_formats::limits::Limits::USUAL)
            .unwrap();
    env.file("claims.der", &ninekeys_formats::entitlements::to_der(&claims).unwrap());
    let json = env.run("inspect claims.der --format json").exit(0).json();
    assert_eq!(
        (&json["content"]["type"], &json["content"]["encoding"]),
        (&"entitlements".into(), &"DER".into())
    );
    assert_eq!(json["content"]["entitlements"]["get-task-allow"], "yes");
    let info = "<plist version=\"1.0\"><dict><key>CFBundleIdentifier</key><string>example.gannetpoint.crossing</string>\
                <key>CFBundleShortVersionString</key><string>2.4.0</string><key>CFBundleVersion</key><string>12</string>\
                <key>NSCameraUsageDescription</key><string>to read tickets</string></dict></plist>";
    env.file("Info.plist", info.as_bytes());
    env.run("inspect Info.plist")
        .exit(0)
        .says("example.gannetpoint.crossing")
        .says("2.4.0, build number 12")
        .says("NSCameraUsageDescription: to read tickets");
    env.file("broken.plist", b"<plist><array>");
    env.run("inspect broken.plist").exit(3).says("entitlements or an Info.plist");
}
