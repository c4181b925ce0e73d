use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_batch_is_registered_whole_or_not_at_all() {
    let env = TestEnv::with_ios(PROGRAM);
    let good = "Device ID\tDevice Name\tPlatform\n00008030-000A1B2C3D4E802E\tBridge tablet\tios\n\
                4f1c2d3e5a6b7c8d9e0f1a2b3c4d5e6f70819203\tPier phone\tios\n";
    env.file("bad.txt", format!("{good}12\tBuoy\n00008030-000A1B2C3D4E802E\tTwice\n").as_bytes());
    env.run("device import bad.txt")
        .exit(3)
        .says("line 4: `12` is no device identifier")
        .says("line 5: the same device as in line 2")
        .says("changed   nothing");
    env.run("device list").exit(0).says("No device is registered");
    env.file("good.txt", good.as_bytes());
    env.run("device import good.txt").exit(0).says("2 devices out of good.txt").says("2 of 100");
    env.run("device import good.txt")
        .exit(0)
        .says("0 devices out of good.txt")
        .says("2 of the file known already");
    env.file("empty.txt", b"Device ID,Device Name\n");
    env.run("device import empty.txt").exit(3).says("names no device");
    env.file("bytes.txt", &[0xff, 0xfe, 0x00]);
    env.run("device import bytes.txt").exit(3).says("is not text");
}

#[test]
fn near_the_yearly_limit_it_is_said() {
    let env = TestEnv::with_ios(PROGRAM);
    let line = |n: usize| format!("00008030-000A1B2C3D4E{n:04X},Tablet {n}\n");
    env.file("many.csv", (0..95).map(line).collect::<String>().as_bytes());
    env.run("device import many.csv").exit(0).says("! 95 of 100 devices registered: the portal takes 5 more");
    env.file("more.csv", (95..110).map(line).collect::<String>().as_bytes());
    env.run("device import more.csv").exit(0).says("110 of 100 devices registered: the portal takes no more");
    // a year later they count no more
    let later = env.at("2027-12-10T00:00:00Z");
    later.run("device list").exit(0).says("0 of 100 devices registered");
}
