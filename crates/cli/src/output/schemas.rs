//! The schemas in `docs/schemas`, out of the types of the answers: there is one for every report, and it is current.

use std::fs;
use std::path::{Path, PathBuf};

use ninekeys_core::model::Project;
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema};
use serde_json::{Map, Value, json};

use super::{Drawn, Report, Signed, Single, Verdicts};
use crate::commands::apikey::password::ToldUpload;
use crate::commands::apikey::token::Token;
use crate::commands::completions::CompletionsReport;
use crate::commands::demo::DemoReport;
use crate::commands::explain::Explained;
use crate::commands::help::HelpReport;
use crate::commands::keystore::password::Told;
use crate::commands::manual::ManualReport;
use crate::failure::Failure;

/// A report's name, and what its answer looks like.
fn of_report<R: Report + JsonSchema>() -> (String, Value) {
    of::<R>(R::SCHEMA)
}

fn of<T: JsonSchema>(name: &str) -> (String, Value) {
    let generator = SchemaSettings::draft2020_12().for_serialize().into_generator();
    let schema: Schema = generator.into_root_schema_for::<T>();
    let mut schema = schema.to_value();
    let short = name.trim_start_matches("ninekeys.").trim_end_matches("/1").to_owned();
    if let Some(whole) = schema.as_object_mut() {
        whole.insert("title".into(), Value::String(name.into()));
        let properties = whole.entry("properties").or_insert_with(|| Value::Object(Map::new()));
        if let Some(properties) = properties.as_object_mut() {
            properties.insert("schema".into(), json!({ "const": name }));
        }
        let required = whole.entry("required").or_insert_with(|| json!([]));
        if let Some(required) = required.as_array_mut()
            && !required.contains(&json!("schema"))
        {
            required.insert(0, json!("schema"));
        }
    }
    (short, schema)
}

/// What the project file may say, for editors.
fn of_project_file() -> (String, Value) {
    let generator = SchemaSettings::draft2020_12().for_deserialize().into_generator();
    ("project-file".into(), generator.into_root_schema_for::<Project>().to_value())
}

fn all() -> Vec<(String, Value)> {
    use ninekeys_ops::{app, build, cabinet, compare, init, inspect, inventory, keystore, show};
    let mut all = vec![
        of_report::<init::InitReport>(),
        of_report::<app::add::AppAddReport>(),
        of_report::<ManualReport>(),
        of_report::<HelpReport>(),
        of_report::<CompletionsReport>(),
        of_report::<build::lend::LendExplainReport>(),
        of_report::<app::change::AppChangeReport>(),
        of_report::<app::list::AppListReport>(),
        of_report::<app::next::AppNextReport>(),
        of_report::<app::remove::AppRemoveReport>(),
        of_report::<cabinet::adopt::AdoptReport>(),
        of_report::<cabinet::backup::BackupReport>(),
        of_report::<cabinet::passphrase::PassphraseReport>(),
        of_report::<cabinet::pin::PinReport>(),
        of_report::<cabinet::remember::RememberReport>(),
        of_report::<cabinet::remember::ForgetReport>(),
        of_report::<cabinet::restore::RestoreReport>(),
        of_report::<build::hand_on::HandOnReport>(),
        of_report::<cabinet::status::StatusReport>(),
        of_report::<ninekeys_ops::cabinet::history::HistoryReport>(),
        of_report::<keystore::create::KeystoreCreateReport>(),
        of_report::<keystore::create::KeystoreAddKeyReport>(),
        of_report::<keystore::change::KeystoreChangeReport>(),
        of_report::<keystore::import::KeystoreImportReport>(),
        of_report::<keystore::export::KeystoreExportReport>(),
        of_report::<keystore::hand_over::KeystoreHandOverReport>(),
        of_report::<Drawn<'_>>(),
        of_report::<inventory::InventoryReport<'_>>(),
        of_report::<show::ShowReport>(),
        of_report::<inspect::InspectReport>(),
        of_report::<compare::CompareReport>(),
        of_report::<build::check::CheckReport>(),
        of_report::<Verdicts>(),
        of_report::<Single>(),
        of_report::<Signed>(),
        of_report::<build::releases::ReleasesReport>(),
        of_report::<build::releases::ReleasesCompareReport>(),
        of_report::<app::statement::AppStatementReport>(),
        of_report::<keystore::retire::KeystoreRetireReport>(),
        of_report::<keystore::take_out::KeystoreTakeOutReport>(),
        of_report::<Told>(),
        of_report::<cabinet::unlock_file::UnlockFileReport>(),
        of_report::<DemoReport>(),
        of_report::<Explained>(),
        of::<Failure>("ninekeys.error/1"),
        of_project_file(),
    ];
    all.extend(of_the_ios_side());
    all.extend(of_the_store());
    all
}

/// The answers about what is at the store.
fn of_the_store() -> Vec<(String, Value)> {
    use ninekeys_ops::store;
    vec![
        of_report::<store::upload::UploadReport>(),
        of_report::<store::candidates::CandidatesReport>(),
        of_report::<store::deliveries::DeliveriesReport>(),
        of_report::<store::advance::AdvanceReport>(),
        of_report::<store::keys::StoreKeysReport>(),
        of_report::<store::fetch::FetchReport>(),
        of_report::<store::testers::TestersListReport>(),
        of_report::<store::testers::TestersGroupReport>(),
        of_report::<store::testers::TestersInviteReport>(),
        of_report::<store::testers::TestersRemoveReport>(),
    ]
}

/// The answers of the iOS side and of the portal.
fn of_the_ios_side() -> Vec<(String, Value)> {
    use ninekeys_ops::{
        apikey, build, cabinet, date, device, give, given, identity, portal, prepare, profile, rotate,
        stand_in, sweep, timeline,
    };
    vec![
        of_report::<identity::request::IdentityRequestReport>(),
        of_report::<identity::accept::IdentityAcceptReport>(),
        of_report::<identity::import::IdentityImportReport>(),
        of_report::<identity::export::IdentityExportReport>(),
        of_report::<profile::import::ProfileImportReport>(),
        of_report::<profile::export::ProfileExportReport>(),
        of_report::<device::add::DeviceAddReport>(),
        of_report::<device::import::DeviceImportReport>(),
        of_report::<device::list::DeviceListReport>(),
        of_report::<device::rename::DeviceRenameReport>(),
        of_report::<build::setup::CheckSetupReport>(),
        of_report::<Token>(),
        of_report::<ToldUpload>(),
        of_report::<apikey::ask::ApiKeyAskReport>(),
        of_report::<apikey::create::ApiKeyCreateReport>(),
        of_report::<identity::revoke::IdentityRevokeReport>(),
        of_report::<profile::create::ProfileCreateReport>(),
        of_report::<prepare::PrepareReport>(),
        of_report::<cabinet::drill::DrillReport>(),
        of_report::<cabinet::pieces::make::PiecesMakeReport>(),
        of_report::<cabinet::pieces::join::PiecesJoinReport>(),
        of_report::<cabinet::members::list::MembersReport>(),
        of_report::<cabinet::members::add::MemberAddReport>(),
        of_report::<cabinet::members::remove::MemberRemoveReport>(),
        of_report::<date::add::DateAddReport>(),
        of_report::<date::list::DateListReport>(),
        of_report::<date::done::DateDoneReport>(),
        of_report::<date::remove::DateRemoveReport>(),
        of_report::<timeline::TimelineReport>(),
        of_report::<sweep::SweepReport>(),
        of_report::<sweep::BroughtBackReport>(),
        of_report::<crate::output::ReportWritten>(),
        of_report::<rotate::draft::RotateDraftReport>(),
        of_report::<rotate::RotationReport>(),
        of_report::<rotate::call_off::RotateCallOffReport>(),
        of_report::<portal::take_in::PortalTakeInReport>(),
        of_report::<give::GiveReport>(),
        of_report::<given::GivenReport>(),
        of_report::<stand_in::StandInReport>(),
        of_report::<apikey::import::ApiKeyImportReport>(),
        of_report::<apikey::retire::ApiKeyRetireReport>(),
    ]
}

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas")
}

#[test]
#[ignore = "writes docs/schemas anew: cargo test --bin ninekeys write_the_schemas -- --ignored"]
#[expect(clippy::disallowed_methods, reason = "into the source tree, by hand, with nothing to lose")]
fn write_the_schemas() {
    fs::create_dir_all(folder()).unwrap();
    for (name, schema) in all() {
        let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
        fs::write(folder().join(format!("{name}.json")), text).unwrap();
    }
}

#[test]
fn the_schemas_are_those_of_the_answers() {
    let all = all();
    for (name, schema) in &all {
        let text = fs::read_to_string(folder().join(format!("{name}.json"))).unwrap_or_default();
        let there: Value = serde_json::from_str(&text).unwrap_or_default();
        assert_eq!(
            &there, schema,
            "docs/schemas/{name}.json is not current: write_the_schemas makes it anew"
        );
    }
    let mut names: Vec<String> = all.into_iter().map(|(name, _)| format!("{name}.json")).collect();
    let files = fs::read_dir(folder()).unwrap();
    let mut there: Vec<String> =
        files.map(|file| file.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    there.sort();
    assert_eq!(there, names);
}
