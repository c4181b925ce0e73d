//! The builds of Gannet Point Ferries, a made-up ferry company: small, unsigned, and made here.

use ninekeys_formats::axml::Value;
use ninekeys_formats::axml::write::{Node, write};
use ninekeys_formats::manifest::id;
use ninekeys_formats::protoxml;
use ninekeys_formats::zip::write::Writer;

/// Crossing for iOS, with a framework, a library and an extension: unsigned, as a compiler and a linker left it.
pub const CROSSING_IPA: &[u8] = include_bytes!("../demo/crossing-unsigned.ipa");

/// Deckhand for iOS: signed by its linker alone, with a part for the simulator and what a desktop system left in it.
pub const DECKHAND_IPA: &[u8] = include_bytes!("../demo/deckhand-linker-signed.ipa");

/// What a demo build says of itself.
#[derive(Debug, Clone)]
pub struct DemoBuild<'a> {
    /// Package name.
    pub package: &'a str,
    /// Version name.
    pub version: &'a str,
    /// Version code.
    pub code: u32,
    /// Lowest SDK.
    pub min_sdk: u32,
    /// Target SDK.
    pub target_sdk: u32,
    /// Whether it is debuggable.
    pub debuggable: bool,
    /// Whether it is marked test-only.
    pub test_only: bool,
}

/// Crossing, the passengers' app: a release build.
pub const CROSSING: DemoBuild<'static> = DemoBuild {
    package: "example.gannetpoint.crossing",
    version: "2.4.0",
    code: 12,
    min_sdk: 24,
    target_sdk: 35,
    debuggable: false,
    test_only: false,
};

/// Quayside, the kiosk: a build that somebody took from the wrong folder.
pub const QUAYSIDE_DEBUG: DemoBuild<'static> = DemoBuild {
    package: "example.gannetpoint.quayside",
    version: "0.4.0",
    code: 4,
    min_sdk: 26,
    target_sdk: 35,
    debuggable: true,
    test_only: false,
};

impl DemoBuild<'_> {
    /// The manifest in binary XML.
    pub fn manifest(&self) -> Vec<u8> {
        write(&self.document())
    }

    fn document(&self) -> Node {
        let sdk = Node::new("uses-sdk")
            .platform(id::MIN_SDK, "minSdkVersion", Value::Number(self.min_sdk))
            .platform(id::TARGET_SDK, "targetSdkVersion", Value::Number(self.target_sdk));
        let mut application = Node::new("application");
        if self.debuggable {
            application = application.platform(id::DEBUGGABLE, "debuggable", Value::Boolean(true));
        }
        if self.test_only {
            application = application.platform(id::TEST_ONLY, "testOnly", Value::Boolean(true));
        }
        Node::new("manifest")
            .platform(id::VERSION_CODE, "versionCode", Value::Number(self.code))
            .platform(id::VERSION_NAME, "versionName", Value::Text(self.version.into()))
            .plain("package", self.package)
            .child(sdk)
            .child(application)
    }

    /// The bundle, unsigned: what the package has, in its base module, the manifest as protobuf.
    pub fn aab(&self) -> Vec<u8> {
        Writer::new()
            .deflated("BundleConfig.pb", b"\x0a\x00")
            .deflated("base/manifest/AndroidManifest.xml", &protoxml::write::write(&self.document()))
            .deflated("base/dex/classes.dex", &noise(2, 40_000))
            .deflated("base/lib/arm64-v8a/libtide.so", &noise(3, 120_000))
            .deflated("base/res/raw/horn.ogg", &noise(5, 30_001))
            .deflated("base/resources.pb", &noise(1, 4_000))
            .finish()
    }

    /// The package, unsigned: a manifest, code, resources and libraries that do nothing, some of them stored
    /// where no device could map them, as build tools leave them.
    pub fn apk(&self) -> Vec<u8> {
        let timetable: String = (5..23)
            .flat_map(|hour| [(hour, "Gannet Point"), (hour, "Sheer Holm"), (hour, "Long Skerry")])
            .map(|(hour, pier)| format!("{hour:02}:15 {pier}\n"))
            .collect();
        Writer::new()
            .deflated("AndroidManifest.xml", &self.manifest())
            .stored("resources.arsc", &noise(1, 4_000))
            .deflated("classes.dex", &noise(2, 40_000))
            .stored("lib/arm64-v8a/libtide.so", &noise(3, 120_000))
            .stored("lib/x86_64/libtide.so", &noise(4, 110_000))
            .deflated("assets/timetable.txt", timetable.as_bytes())
            .stored("res/raw/horn.ogg", &noise(5, 30_001))
            .finish()
    }
}

/// Bytes that look random and are always the same (a 64-bit linear congruential generator).
fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut state = seed;
    let mut next = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 56) as u8
    };
    (0..length).map(|_| next()).collect()
}
