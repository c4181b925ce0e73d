//! The board: one row an app, one column a key, and what to do first.

use jiff::Timestamp;
use serde::Serialize;

use crate::model::{App, Facts, Inventory, Item, KeystoreEntry, LastBackup, NineKey, Policy, Project, Role};

/// How a cell of the board stands, the most pressing first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Mark {
    /// Its validity has ended.
    Expired,
    /// It cannot be replaced and has no backup.
    AtRisk,
    /// It ends within the policy's days.
    Due,
    /// It is needed and not there.
    Missing,
    /// In use.
    InUse,
    /// Not needed.
    NotNeeded,
}

/// One cell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Cell {
    /// Which key.
    pub key: NineKey,
    /// How it stands.
    pub mark: Mark,
    /// The item behind it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
}

/// One app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Row {
    /// Its name in the project file.
    pub app: String,
    /// What people call it.
    pub title: String,
    /// Nine cells, in order.
    pub cells: Vec<Cell>,
}

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Task {
    /// Why.
    pub mark: Mark,
    /// What about.
    pub text: String,
    /// The command, as arguments.
    pub next: Vec<String>,
}

/// The state of everything in one look.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Board {
    /// What it is headed with.
    pub title: String,
    /// The time it stands for.
    pub at: Timestamp,
    /// Days within which something falls due.
    pub due_days: u32,
    /// The apps, by title.
    pub rows: Vec<Row>,
    /// What to do, the most pressing first.
    pub tasks: Vec<Task>,
}

/// What the board is drawn from.
pub struct BoardView<'a> {
    /// The apps and the policy.
    pub project: &'a Project,
    /// What the cabinet holds.
    pub inventory: &'a Inventory,
    /// The last backup.
    pub last_backup: Option<LastBackup>,
    /// The time it stands for.
    pub now: Timestamp,
}

/// Draws the board.
pub fn board(view: &BoardView<'_>) -> Board {
    let mut rows: Vec<Row> = view.project.apps.iter().map(|(name, app)| row(view, name, app)).collect();
    rows.sort_by(|a, b| a.title.cmp(&b.title));
    Board {
        title: view.project.title.clone(),
        at: view.now,
        due_days: view.project.policy.due_days,
        tasks: tasks(&rows),
        rows,
    }
}

fn row(view: &BoardView<'_>, name: &str, app: &App) -> Row {
    let cells = NineKey::ALL.iter().map(|key| cell(view, *key, name, app)).collect();
    Row { app: name.into(), title: app.title.clone(), cells }
}

fn cell(view: &BoardView<'_>, key: NineKey, name: &str, app: &App) -> Cell {
    match key {
        NineKey::Signing => android_cell(view, Role::Signing, name, app.android.is_some()),
        NineKey::Upload => android_cell(view, Role::Upload, name, false),
        NineKey::Cabinet => {
            let holds_any = view.inventory.iter().next().is_some();
            let at_risk = holds_any && view.last_backup.is_none();
            Cell { key, mark: if at_risk { Mark::AtRisk } else { Mark::InUse }, item: None, until: None }
        }
        // kinds that no command makes yet are shown only when something of theirs is there
        _ => Cell { key, mark: Mark::NotNeeded, item: None, until: None },
    }
}

fn android_cell(view: &BoardView<'_>, role: Role, name: &str, needed: bool) -> Cell {
    let key = role.nine_key();
    let states = view
        .inventory
        .android_keys(name)
        .filter(|(_, entry)| entry.role == role)
        .map(|(keystore, entry)| android_state(view, keystore, entry));
    let worst = states.min_by_key(|(mark, ..)| *mark);
    match worst {
        Some((mark, item, until)) => Cell { key, mark, item: Some(item), until },
        None if needed => Cell { key, mark: Mark::Missing, item: None, until: None },
        None => Cell { key, mark: Mark::NotNeeded, item: None, until: None },
    }
}

fn android_state(
    view: &BoardView<'_>,
    keystore: &Item,
    entry: &KeystoreEntry,
) -> (Mark, String, Option<Timestamp>) {
    let until = match view.inventory.get(&entry.certificate).map(|item| &item.facts) {
        Some(Facts::Certificate(certificate)) => Some(certificate.not_after),
        _ => None,
    };
    let backed_up = view.last_backup.is_some_and(|backup| backup.has_key(entry, view.inventory));
    let mark = match until.map(|until| date_mark(until, view.now, &view.project.policy)) {
        Some(Mark::Expired) => Mark::Expired,
        _ if !backed_up && entry.role == Role::Signing => Mark::AtRisk,
        Some(mark) => mark,
        None => Mark::InUse,
    };
    (mark, keystore.name.clone(), until)
}

/// Expired, due or in use, by a date alone.
pub fn date_mark(until: Timestamp, now: Timestamp, policy: &Policy) -> Mark {
    let days = (until.as_second() - now.as_second()).div_euclid(86_400);
    if until < now {
        Mark::Expired
    } else if days < i64::from(policy.due_days) {
        Mark::Due
    } else {
        Mark::InUse
    }
}

fn tasks(rows: &[Row]) -> Vec<Task> {
    let mut out: Vec<Task> = Vec::new();
    let mut add = |mark, text: String, next: Vec<&str>| {
        let next = next.into_iter().map(str::to_owned).collect();
        let task = Task { mark, text, next };
        if !out.contains(&task) {
            out.push(task);
        }
    };
    for (row, cell) in rows.iter().flat_map(|row| row.cells.iter().map(move |cell| (row, cell))) {
        let word = cell.key.word();
        match (cell.mark, &cell.item) {
            (Mark::Expired | Mark::Due, Some(item)) => {
                add(cell.mark, format!("{item} ({word})"), vec!["show", item]);
            }
            (Mark::AtRisk, Some(item)) => {
                add(cell.mark, format!("{item} ({word})"), vec!["cabinet", "backup", "FOLDER"]);
            }
            (Mark::Missing, _) => {
                let name = format!("{}-signing", row.app);
                let text = format!("{} has no {word}", row.title);
                add(
                    cell.mark,
                    text,
                    vec!["keystore", "create", &name, "--app", &row.app, "--common-name", "NAME"],
                );
            }
            _ => {}
        }
    }
    out.sort_by_key(|task| task.mark);
    out
}
