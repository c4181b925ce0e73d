//! `demo`: a fresh folder with the made-up ferry company's builds, and the steps that a person would type.

use std::path::{Path, PathBuf};

use ninekeys_core::certificate::{Subject, self_signed};
use ninekeys_core::demo::{CROSSING, CROSSING_IPA, DECKHAND_IPA, QUAYSIDE_DEBUG};
use ninekeys_core::keys::{Algorithm, PrivateKey};
use ninekeys_core::keystore::{Outgoing, write_pkcs12};
use ninekeys_core::password;
use ninekeys_formats::pem;
use ninekeys_formats::secret::SecretBytes;
use thiserror::Error;

use crate::ctx::Ctx;
use crate::files::{self, Access, FileError, Taken};

/// A step of the demo: what it shows, what is typed, and which exit code it has to end with.
#[derive(Debug, Clone, Copy)]
pub struct Step {
    /// What it shows, in a sentence.
    pub about: &'static str,
    /// The words behind the program's name.
    pub words: &'static [&'static str],
    /// The exit code that shows that it worked.
    pub exit: u8,
}

/// Words of the steps that are known once the portal's stand-in runs: its address, and the first key's id and issuer.
pub const LATER: [&str; 3] = ["ADDRESS", "KEY-ID", "ISSUER-ID"];

/// The folder with what every step said.
pub const LOG: &str = "log";

/// The steps, in the order of the work.
pub const STEPS: &[Step] = &[
    Step {
        about: "A cabinet for the keys and a project file for the apps. The unlock file spares this demo a passphrase.",
        words: &[
            "init",
            "--title",
            "Gannet Point Ferries",
            "--team",
            "GPFERRY009",
            "--portal",
            "ADDRESS",
            "--root",
            "portal/root.pem",
            "--new-unlock-file",
            "private/unlock.txt",
        ],
        exit: 0,
    },
    Step {
        about: "The apps: Crossing for passengers, Quayside for the kiosk.",
        words: &[
            "app",
            "add",
            "crossing",
            "--package",
            "example.gannetpoint.crossing",
            "--for",
            "direct",
            "--for",
            "store",
            "--version-name",
            "2.4.0",
        ],
        exit: 0,
    },
    Step {
        about: "",
        words: &["app", "add", "quayside", "--package", "example.gannetpoint.quayside", "--for", "direct"],
        exit: 0,
    },
    Step {
        about: "The key that every update of Crossing will have to be signed with.",
        words: &[
            "keystore",
            "create",
            "crossing-signing",
            "--app",
            "crossing",
            "--common-name",
            "Gannet Point Ferries",
            "--country",
            "GB",
        ],
        exit: 0,
    },
    Step {
        about: "The key that proves to the store who uploads; that one can be replaced.",
        words: &[
            "keystore",
            "create",
            "crossing-upload",
            "--kind",
            "upload",
            "--app",
            "crossing",
            "--common-name",
            "Gannet Point Ferries",
        ],
        exit: 0,
    },
    Step {
        about: "Quayside's key was made elsewhere, and lay on a stick under a name that says nothing.",
        words: &[
            "keystore",
            "import",
            "stick/app-release.p12",
            "--name",
            "quayside-signing",
            "--app",
            "quayside",
            "--password-in",
            "stick/password.txt",
        ],
        exit: 0,
    },
    Step {
        about: "Is it the key on the stick? The name does not say; the fingerprint does.",
        words: &[
            "compare",
            "stick/app-release.p12",
            "quayside-signing",
            "--password-in",
            "stick/password.txt",
        ],
        exit: 0,
    },
    Step {
        about: "The release build for people, signed; the output is checked before it gets its name.",
        words: &["sign", "builds/crossing-release.apk", "--for", "direct", "--to", "signed"],
        exit: 0,
    },
    Step {
        about: "The bundle for the store: the upload key is taken by itself.",
        words: &["sign", "builds/crossing-release.aab", "--to", "signed"],
        exit: 0,
    },
    Step {
        about: "The check, as anybody can run it, of both at once.",
        words: &["check", "signed/crossing-2.4.0-12-direct.apk", "signed/crossing-2.4.0-12-store.aab"],
        exit: 0,
    },
    Step {
        about: "A build from the wrong folder is refused for what it is.",
        words: &["check", "builds/quayside-debug.apk", "--for", "direct"],
        exit: 1,
    },
    Step {
        about: "The store asks for the upload key's certificate, and offers to hold the signing key.",
        words: &[
            "keystore",
            "export",
            "crossing-upload",
            "--as",
            "certificate-pem",
            "--to",
            "for-the-store/upload.pem",
        ],
        exit: 0,
    },
    Step {
        about: "",
        words: &[
            "keystore",
            "hand-over",
            "crossing-signing",
            "--receiver",
            "for-the-store/certificate.pem",
            "--to",
            "for-the-store/signing-key.p7m",
        ],
        exit: 0,
    },
    Step {
        about: "A build command gets a key on loan: a keystore and a password that are gone when it ends.",
        words: &[
            "lend",
            "--app",
            "crossing",
            "--for",
            "store",
            "--mask",
            "--",
            "sh",
            "-c",
            "echo alias $NINEKEYS_LENT_ALIAS, password $NINEKEYS_LENT_PASSWORD",
        ],
        exit: 0,
    },
    Step { about: "What was signed with what.", words: &["releases"], exit: 0 },
    Step {
        about: "The iOS side: Crossing has an extension, with a bundle id below its own; those are for ever once registered.",
        words: &[
            "app",
            "change",
            "crossing",
            "--bundle-id",
            "example.gannetpoint.crossing",
            "--extension",
            "share=example.gannetpoint.crossing.share",
            "--for",
            "store",
            "--for",
            "direct",
        ],
        exit: 0,
    },
    Step {
        about: "Deckhand is for the crews: it runs on devices that are registered.",
        words: &["app", "add", "deckhand", "--bundle-id", "example.gannetpoint.deckhand", "--for", "devices"],
        exit: 0,
    },
    Step {
        about: "",
        words: &["device", "add", "Bridge phone", "--identifier", "00008120-001A2B3C4D5E6F70"],
        exit: 0,
    },
    Step {
        about: "The portal gives out an API key once; a small server stands in for it here.",
        words: &[
            "apikey",
            "import",
            "portal/first-key.pem",
            "--name",
            "portal",
            "--key-id",
            "KEY-ID",
            "--issuer",
            "ISSUER-ID",
            "--role",
            "owner",
            "--use",
            "signing",
        ],
        exit: 0,
    },
    Step {
        about: "Is everything in place for a release? Not yet, and it says what to type.",
        words: &["check", "--app", "deckhand"],
        exit: 1,
    },
    Step {
        about: "One command makes all that is missing: key, certificate, bundle id, profile.",
        words: &["prepare", "--app", "deckhand", "--for", "devices", "--yes"],
        exit: 0,
    },
    Step {
        about: "Crossing takes the same identity; the app and its extension get a profile each.",
        words: &["prepare", "--app", "crossing", "--for", "store", "--yes"],
        exit: 0,
    },
    Step {
        about: "Crossing for the store: profiles put in, everything inside it signed, and why it claims what it claims.",
        words: &["sign", "builds/crossing-unsigned.ipa", "--for", "store", "--to", "signed", "--explain"],
        exit: 0,
    },
    Step {
        about: "Deckhand for the crews' devices; what was for a simulator in it is left out.",
        words: &["sign", "builds/deckhand.ipa", "--for", "devices", "--to", "signed"],
        exit: 0,
    },
    Step {
        about: "Both checked, as anybody can; what is inside, as a tree.",
        words: &[
            "check",
            "signed/crossing-2.4.0-12-store.ipa",
            "signed/deckhand-1.1.0-31-devices.ipa",
            "--tree",
        ],
        exit: 0,
    },
    Step {
        about: "The store gets to know Crossing, on both sides; what its reviews ask is answered once, in the project file.",
        words: &[
            "app",
            "change",
            "crossing",
            "--publish",
            "--review-contact",
            "Ferry desk <desk@gannetpoint.example>",
            "--declare",
            "advertising=no",
            "--declare",
            "children=no",
            "--declare",
            "location=yes",
            "--declare",
            "own-encryption=no",
        ],
        exit: 0,
    },
    Step {
        about: "A store that makes parts of a bundle for devices has to sign them: it holds a copy of the signing key from now on.",
        words: &["keystore", "deposit", "--app", "crossing", "--yes"],
        exit: 0,
    },
    Step {
        about: "Both builds go to the store, in pieces: an interruption costs one of them.",
        words: &["upload", "signed/crossing-2.4.0-12-store.aab"],
        exit: 0,
    },
    Step { about: "", words: &["upload", "signed/crossing-2.4.0-12-store.ipa"], exit: 0 },
    Step { about: "The store looks at them.", words: &["deliveries", "--watch"], exit: 0 },
    Step {
        about: "The crews try it first.",
        words: &["testers", "group", "Crew", "--app", "crossing"],
        exit: 0,
    },
    Step {
        about: "",
        words: &["testers", "invite", "ana@gannetpoint.example", "bo@gannetpoint.example", "--group", "Crew"],
        exit: 0,
    },
    Step {
        about: "The bytes that were uploaded go to testers, and the same bytes to everyone: to some at first on Android.",
        words: &["advance", "signed/crossing-2.4.0-12-store.aab", "--to", "testing"],
        exit: 0,
    },
    Step { about: "", words: &["advance", "signed/crossing-2.4.0-12-store.ipa", "--to", "testing"], exit: 0 },
    Step {
        about: "",
        words: &[
            "advance",
            "signed/crossing-2.4.0-12-store.aab",
            "--to",
            "everyone",
            "--new",
            "Timetables of both harbours.",
            "--share",
            "20",
            "--yes",
        ],
        exit: 0,
    },
    Step {
        about: "",
        words: &[
            "advance",
            "signed/crossing-2.4.0-12-store.ipa",
            "--to",
            "everyone",
            "--new",
            "Timetables of both harbours.",
            "--yes",
        ],
        exit: 0,
    },
    Step { about: "Where everything is now.", words: &["deliveries"], exit: 0 },
    Step {
        about: "The number that the next build has to have, before it is built: a version that is live is closed on iOS.",
        words: &["app", "next", "crossing"],
        exit: 0,
    },
    Step {
        about: "Deckhand goes to no store: it leaves in a folder that says which devices can run it, and until when.",
        words: &["hand-on", "signed/deckhand-1.1.0-31-devices.ipa", "--to", "for-the-crews"],
        exit: 0,
    },
    Step {
        about: "A laptop is lost, and with it a key: its certificate is revoked.",
        words: &["identity", "revoke", "distribution", "--yes"],
        exit: 0,
    },
    Step {
        about: "Now the profile names no certificate that could sign. Nothing is begun, and the remedy is said.",
        words: &["sign", "builds/deckhand.ipa", "--for", "devices", "--to", "again"],
        exit: 5,
    },
    Step {
        about: "The remedy, as it was said.",
        words: &["prepare", "--app", "deckhand", "--for", "devices", "--yes"],
        exit: 0,
    },
    Step { about: "", words: &["sign", "builds/deckhand.ipa", "--for", "devices", "--to", "again"], exit: 0 },
    Step {
        about: "A copy on another disk would be better; this one shows how.",
        words: &["cabinet", "backup", "backups"],
        exit: 0,
    },
    Step {
        about: "Which cabinet is meant, who can open it, and that nothing was changed behind the tool's back.",
        words: &["cabinet", "status", "--prove"],
        exit: 0,
    },
    Step { about: "What there is, and what to do next.", words: &["inventory"], exit: 0 },
    Step { about: "", words: &["board"], exit: 0 },
];

/// The folder in which the example goes on a year later, on a copy: what was made today goes on from today.
pub const YEAR_LATER: &str = "a-year-later";
/// How many days that is: what was issued today falls due.
pub const DAYS_LATER: i64 = 340;

/// The steps a year later, in that folder.
pub const LATER_STEPS: &[Step] = &[
    Step {
        about: "A year later, on a copy of the folder: what was issued then falls due.",
        words: &["board"],
        exit: 0,
    },
    Step {
        about: "One draft for all of it, which a colleague can read first; nothing is done yet.",
        words: &["rotate", "draft", "--due", "60d", "--to", "draft.toml"],
        exit: 0,
    },
    Step {
        about: "Carried out through the portal, until somebody has to do something.",
        words: &["rotate", "carry-out", "draft.toml", "--yes"],
        exit: 1,
    },
    Step {
        about: "They did; only now are the old ones retired.",
        words: &["rotate", "resume", "--done", "8", "--done", "9"],
        exit: 0,
    },
    Step { about: "And the board is green.", words: &["board"], exit: 0 },
];

/// Copies what the steps a year later need into a folder of its own.
///
/// # Errors
/// [`DemoError`].
pub fn copy_for_later(folder: &Path) -> Result<PathBuf, DemoError> {
    let later = folder.join(YEAR_LATER);
    for name in ["private", "portal", "state"] {
        files::make_folder(&later.join(name))?;
    }
    let portal = folder.join("portal");
    let failed = |cause| FileError::new("read", &portal, cause);
    let mut names: Vec<PathBuf> =
        ["ninekeys.toml", "ninekeys.cabinet", "private/unlock.txt"].into_iter().map(PathBuf::from).collect();
    for entry in std::fs::read_dir(&portal).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        if entry.path().is_file() {
            names.push(Path::new("portal").join(entry.file_name()));
        }
    }
    for name in names {
        let bytes = files::read_whole(&folder.join(&name), MOST_COPIED)?;
        files::write_whole(&later.join(&name), &bytes, Access::Owner, Taken::Refuse)?;
    }
    Ok(later)
}

/// The most of a file that is copied: the demo's own are small.
const MOST_COPIED: u64 = 64 << 20;

/// Why there is no demo.
#[derive(Debug, Error)]
pub enum DemoError {
    /// The folder has something in it.
    #[error("{0} is there and not empty")]
    NotEmpty(String),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// A key or certificate could not be made.
    #[error("the demo's keys could not be made: {0}")]
    Material(String),
}

/// Makes the folder and what people bring along: unsigned builds, a keystore on a stick, a store's certificate.
///
/// # Errors
/// [`DemoError`]; a folder that has anything in it is left alone.
pub fn prepare(ctx: &Ctx<'_>, folder: &Path) -> Result<PathBuf, DemoError> {
    let folder = ctx.path(folder);
    let failed = |cause| FileError::new("read", &folder, cause);
    if folder.exists() && std::fs::read_dir(&folder).map_err(failed)?.next().is_some() {
        return Err(DemoError::NotEmpty(folder.display().to_string()));
    }
    for name in ["builds", "stick", "for-the-store", LOG] {
        files::make_folder(&folder.join(name))?;
    }
    let put = |name: &str, bytes: &[u8]| {
        files::write_whole(&folder.join(name), bytes, Access::Usual, Taken::Refuse)
    };
    put("builds/crossing-release.apk", &CROSSING.apk())?;
    put("builds/crossing-release.aab", &CROSSING.aab())?;
    put("builds/quayside-debug.apk", &QUAYSIDE_DEBUG.apk())?;
    put("builds/crossing-unsigned.ipa", CROSSING_IPA)?;
    put("builds/deckhand.ipa", DECKHAND_IPA)?;

    let material = |error: String| DemoError::Material(error);
    let (secret, certificate) = identity(ctx, "Quayside Release", Algorithm::P256).map_err(material)?;
    let password = password::generate(&ctx.env).map_err(|error| material(error.to_string()))?;
    let key = Outgoing { alias: "app-release", secret: &secret, certificate: &certificate, chain: &[] };
    let keystore = write_pkcs12(&[key], &password, &ctx.env).map_err(|error| material(error.to_string()))?;
    put("stick/app-release.p12", &keystore)?;
    password.lend(|text| put("stick/password.txt", format!("{text}\n").as_bytes()))?;
    let (_, certificate) = identity(ctx, "The store", Algorithm::Rsa2048).map_err(material)?;
    let pem = pem::encode(pem::CERTIFICATE, &certificate).map_err(|error| material(error.to_string()))?;
    put("for-the-store/certificate.pem", pem.as_bytes())?;
    Ok(folder)
}

/// A key that somebody else made, with its certificate.
fn identity(ctx: &Ctx<'_>, name: &str, algorithm: Algorithm) -> Result<(SecretBytes, Vec<u8>), String> {
    let secret = ctx.env.keys.make(algorithm).map_err(|error| error.to_string())?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).map_err(|error| error.to_string())?;
    let subject = Subject { common_name: Some(name.into()), ..Subject::default() };
    let certificate = self_signed(&key, &subject, 30, &ctx.env).map_err(|error| error.to_string())?;
    Ok((secret, certificate))
}
