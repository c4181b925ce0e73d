//! What mends something, as a command that works as it stands: arguments behind the program's name, typed into the same
//! shell in the same folder. Words in capitals are the user's.

use std::path::Path;

use ninekeys_core::findings::Mend;
use ninekeys_core::model::{Destination, NineKey};

/// Where an output goes that would take the place of the build that it is made of.
const SIGNED_AGAIN: &str = "signed-again";

/// A build that advice is about.
pub(crate) struct Named<'a> {
    /// As the user named it.
    pub(crate) path: &'a str,
    /// The app, where the user had to say it.
    pub(crate) app: Option<&'a str>,
    /// Where it goes, when the finding does not say.
    pub(crate) destination: Option<Destination>,
    /// To which store, where it is not the one that stands with the portal.
    pub(crate) store: Option<&'a str>,
    /// What its output would be called for a destination.
    pub(crate) output: &'a dyn Fn(Destination) -> Option<String>,
}

/// What mends a finding on a build.
pub(crate) fn for_build(mend: Mend, build: &Named<'_>) -> Vec<String> {
    let at_store = |words: Vec<String>| {
        let store = build.store.into_iter().flat_map(|store| ["--store".to_owned(), store.to_owned()]);
        words.into_iter().chain(store).collect()
    };
    let (key, destination) = match mend {
        Mend::Sign { key, destination } => (key, destination),
        Mend::Deposit { .. } => return at_store(in_general(mend)),
        mend => return in_general(mend),
    };
    let mut words = vec!["sign".to_owned(), build.path.to_owned()];
    let mut say = |option: &str, value: String| words.extend([option.to_owned(), value]);
    if let Some(app) = build.app {
        say("--app", app.into());
    }
    if let Some(key) = key {
        say("--key", key);
    }
    if let Some(destination) = destination.or(build.destination) {
        say("--for", destination.to_string());
        let path = Path::new(build.path);
        // the output goes into this folder: where the build lies in it under the same name, it would be its own input
        let here = path.parent().is_some_and(|folder| folder == Path::new("") || folder == Path::new("."));
        let name = path.file_name().map(|name| name.to_string_lossy());
        if here && name.is_some_and(|name| (build.output)(destination).as_deref() == Some(name.as_ref())) {
            say("--to", SIGNED_AGAIN.into());
        }
        if destination == Destination::Store {
            return at_store(words);
        }
    }
    words
}

/// What mends a finding on a cabinet, or a gap on the board.
pub(crate) fn in_general(mend: Mend) -> Vec<String> {
    let words: Vec<String> = match mend {
        Mend::Backup => ["cabinet", "backup", "FOLDER"].map(str::to_owned).into(),
        Mend::UnlockFile => ["cabinet", "unlock-file", "FILE"].map(str::to_owned).into(),
        Mend::BackupElsewhere => ["cabinet", "backup", "FOLDER", "--off-site"].map(str::to_owned).into(),
        Mend::Show { item } => vec!["show".into(), item],
        Mend::CreateKey { app } => {
            let name = format!("{app}-signing");
            ["keystore", "create", &name, "--app", &app, "--common-name", "NAME"].map(str::to_owned).into()
        }
        Mend::RequestIdentity { kind, app } => {
            let kind = match kind {
                NineKey::Development => "development",
                NineKey::Push => "push",
                _ => "distribution",
            };
            let app = app.into_iter().flat_map(|app| ["--app".to_owned(), app]);
            ["identity", "request", "NAME", "--kind", kind]
                .map(str::to_owned)
                .into_iter()
                .chain(app)
                .collect()
        }
        Mend::AcceptCertificate => ["identity", "accept", "FILE"].map(str::to_owned).into(),
        Mend::ImportIdentity => ["identity", "import", "FILE"].map(str::to_owned).into(),
        Mend::ImportApiKey { name } => {
            ["apikey", "import", "FILE", "--name", &name, "--key-id", "ID", "--issuer", "ID"]
                .map(str::to_owned)
                .into()
        }
        Mend::Rotate { item } => vec!["rotate".into(), "draft".into(), item],
        Mend::DateDone { date } => vec!["date".into(), "done".into(), date],
        Mend::Resume { rotation } => vec!["rotate".into(), "resume".into(), rotation],
        Mend::Prepare { app, destination } => {
            vec!["prepare".into(), "--app".into(), app, "--for".into(), destination.to_string()]
        }
        Mend::Deposit { app } => vec!["keystore".into(), "deposit".into(), "--app".into(), app],
        Mend::Sign { key, destination } => {
            let key = key.into_iter().flat_map(|key| ["--key".to_owned(), key]);
            let to = destination.into_iter().flat_map(|to| ["--for".to_owned(), to.to_string()]);
            ["sign".to_owned(), "BUILD".to_owned()].into_iter().chain(key).chain(to).collect()
        }
    };
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sign() -> Mend {
        Mend::Sign { key: Some("upload".into()), destination: Some(Destination::Store) }
    }

    #[test]
    fn a_build_that_lies_where_its_output_goes_is_signed_into_another_folder() {
        let output = |to: Destination| Some(format!("a-1-1-{to}.apk"));
        let advice = |path: &str| {
            let build = Named { path, app: None, destination: None, store: None, output: &output };
            for_build(sign(), &build).join(" ")
        };
        assert_eq!(advice("b.apk"), "sign b.apk --key upload --for store");
        assert_eq!(advice("out/a-1-1-store.apk"), "sign out/a-1-1-store.apk --key upload --for store");
        for here in ["a-1-1-store.apk", "./a-1-1-store.apk"] {
            assert_eq!(advice(here), format!("sign {here} --key upload --for store --to signed-again"));
        }
    }

    #[test]
    fn what_the_user_had_to_say_is_said_again() {
        let build = Named {
            path: "b.apk",
            app: Some("crossing"),
            destination: Some(Destination::Direct),
            store: None,
            output: &|_| None,
        };
        let mend = Mend::Sign { key: None, destination: None };
        assert_eq!(for_build(mend, &build).join(" "), "sign b.apk --app crossing --for direct");
    }
}
