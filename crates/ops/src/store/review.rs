//! What the people of a review are told: from the project file, where it is answered once, and from the cabinet, where the login lies
//! that they try the app with.

use std::collections::BTreeMap;

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::model::ReviewSays;
use ninekeys_portal::store::{Contact, Login, Question, Review};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;
use toml_edit::{DocumentMut, InlineTable, Item, Table, TableLike, value};

use crate::apikey::{self, FindError};
use crate::ask::{Ask, AskError, Judged};
use crate::ctx::Ctx;
use crate::project::{ProjectError, ProjectFile};

/// The table of the project file, in an app's.
const REVIEW: &str = "review";
const CONTACT: &str = "contact";
const DECLARATIONS: &str = "declarations";

/// What was sent, without the password in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ReviewSaid {
    /// What is new in this version, for those who use the app.
    pub whats_new: String,
    /// Whom the people of the review ask.
    pub contact: Contact,
    /// What they have to know to try it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub notes: Option<String>,
    /// The answers to the store's questions, each with what was asked.
    pub declarations: Vec<Declared>,
    /// The account that they log in with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub login: Option<String>,
}

/// An answer to a question of the store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Declared {
    /// The question.
    #[serde(flatten)]
    pub question: Question,
    /// The answer.
    pub answer: bool,
}

/// Why the review has not all that it wants.
#[derive(Debug, Error)]
pub enum ReviewError {
    /// The project file does not say it, and there was nobody to ask.
    #[error("the project file does not say what the review of {app} wants to know: {}", missing.join(", "))]
    Missing {
        /// The app.
        app: String,
        /// The keys that are missing.
        missing: Vec<String>,
    },
    /// Nobody said what is new.
    #[error("nothing says what is new in this version")]
    WhatsNew,
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The login is not in the cabinet.
    #[error(transparent)]
    Login(#[from] FindError),
    /// What it names has no password.
    #[error("{0} has no account and password that could be told to the people of the review")]
    NoPassword(String),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// What was answered, all of it.
struct Answered {
    contact: Contact,
    declarations: BTreeMap<String, bool>,
}

/// Gathers what the review wants to know. What the project file does not say is asked of a person, and written into it.
pub(super) fn gather(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    app: &str,
    (whats_new, questions): (Option<&str>, &[Question]),
) -> Result<Review, ReviewError> {
    let says = file.project.apps.get(app).and_then(|app| app.review.clone()).unwrap_or_default();
    let asked = ask_for_missing(ctx.ask, app, &says, questions)?;
    if asked.contact != says.contact || asked.declarations != says.declarations {
        file.change(ctx, |_, document| write(document, file, app, &asked))?;
    }
    let Answered { contact, declarations } = complete(app, asked, questions)?;
    let whats_new = match whats_new {
        Some(text) => Some(text.to_owned()),
        None => ctx.ask.answer("What is new in this version, for those who use the app", None, &not_empty)?,
    };
    let whats_new = whats_new.filter(|text| !text.trim().is_empty()).ok_or(ReviewError::WhatsNew)?;
    let login = says.login.as_deref().map(|name| login(cabinet, name)).transpose()?;
    Ok(Review { whats_new: whats_new.trim().to_owned(), contact, notes: says.notes, declarations, login })
}

fn not_empty(text: &str) -> Judged {
    if text.trim().is_empty() { Err("that is empty".into()) } else { Ok(()) }
}

fn yes_or_no(text: &str) -> Judged {
    match text.to_ascii_lowercase().as_str() {
        "y" | "yes" | "n" | "no" => Ok(()),
        _ => Err("yes or no".into()),
    }
}

/// What a person adds to what the project file says; as it was where there is nobody.
fn ask_for_missing(
    ask: &dyn Ask,
    app: &str,
    says: &ReviewSays,
    questions: &[Question],
) -> Result<ReviewSays, AskError> {
    let mut says = says.clone();
    if says.contact.is_none() {
        let name =
            ask.answer(&format!("Whom may the people of the review ask about {app}"), None, &not_empty)?;
        let email = match &name {
            Some(_) => ask.answer("The address for mail", None, &not_empty)?,
            None => None,
        };
        says.contact =
            name.zip(email).map(|(name, email)| ninekeys_core::model::Contact { name, email, phone: None });
    }
    for question in questions {
        if says.declarations.contains_key(&question.name) {
            continue;
        }
        match ask.answer(&format!("{} yes or no", question.asks), None, &yes_or_no)? {
            Some(answer) => {
                let yes = answer.to_ascii_lowercase().starts_with('y');
                says.declarations.insert(question.name.clone(), yes);
            }
            None => break,
        }
    }
    Ok(says)
}

/// All of it, or the names of what is missing.
fn complete(app: &str, says: ReviewSays, questions: &[Question]) -> Result<Answered, ReviewError> {
    let mut missing: Vec<String> = Vec::new();
    if says.contact.is_none() {
        missing.push(CONTACT.into());
    }
    let open = questions.iter().filter(|question| !says.declarations.contains_key(&question.name));
    missing.extend(open.map(|question| format!("{DECLARATIONS}.{}", question.name)));
    match says.contact {
        Some(contact) if missing.is_empty() => Ok(Answered {
            contact: Contact { name: contact.name, email: contact.email, phone: contact.phone },
            declarations: says.declarations,
        }),
        _ => Err(ReviewError::Missing { app: app.into(), missing }),
    }
}

/// A table in a table; made where there is none, nothing where something else stands there.
fn table<'d>(within: &'d mut dyn TableLike, key: &str) -> Option<&'d mut dyn TableLike> {
    if within.get(key).is_none() {
        within.insert(key, Item::Table(Table::new()));
    }
    within.get_mut(key).and_then(Item::as_table_like_mut)
}

/// Writes what is said into the table of an app; the rest of it stays. Nothing where that is no table.
pub(crate) fn write_says(app: &mut dyn TableLike, says: &ReviewSays) -> Option<()> {
    if *says == ReviewSays::default() {
        return Some(());
    }
    let review = table(app, REVIEW)?;
    if let Some(contact) = &says.contact {
        let mut new = InlineTable::new();
        new.insert("name", contact.name.as_str().into());
        new.insert("email", contact.email.as_str().into());
        if let Some(phone) = &contact.phone {
            new.insert("phone", phone.as_str().into());
        }
        review.insert(CONTACT, value(new));
    }
    for (key, text) in [("notes", &says.notes), ("login", &says.login)] {
        if let Some(text) = text {
            review.insert(key, value(text));
        }
    }
    if !says.declarations.is_empty() {
        let declarations = table(review, DECLARATIONS)?;
        for (name, answer) in &says.declarations {
            declarations.insert(name, value(*answer));
        }
    }
    Some(())
}

fn write(
    document: &mut DocumentMut,
    file: &ProjectFile,
    app: &str,
    says: &ReviewSays,
) -> Result<(), ReviewError> {
    let malformed = || ProjectError::Malformed {
        path: file.path.display().to_string(),
        reason: format!("`app.{app}` is not a table"),
    };
    let apps = document.get_mut("app").and_then(Item::as_table_like_mut).ok_or_else(malformed)?;
    let own = apps.get_mut(app).and_then(Item::as_table_like_mut).ok_or_else(malformed)?;
    Ok(write_says(own, says).ok_or_else(malformed)?)
}

/// The account and the password that are sealed under that name.
fn login(cabinet: &Cabinet<'_>, name: &str) -> Result<Login, ReviewError> {
    let inventory = cabinet.inventory()?;
    let (item, facts) = apikey::find(&inventory, name)?;
    if facts.label.is_none() {
        return Err(ReviewError::NoPassword(item.name.clone()));
    }
    let secret = cabinet.secret(item)?;
    let password = secret.lend(|bytes| String::from_utf8(bytes.to_vec()));
    let password = password.map_err(|_| ReviewError::NoPassword(item.name.clone()))?;
    Ok(Login { account: facts.issuer.clone(), password })
}

impl ReviewSaid {
    /// What is sent, as it can be shown.
    pub(super) fn of(review: &Review, questions: &[Question]) -> Self {
        let answer = |question: &Question| review.declarations.get(&question.name).copied();
        let declared = questions
            .iter()
            .filter_map(|question| Some(Declared { question: question.clone(), answer: answer(question)? }));
        ReviewSaid {
            whats_new: review.whats_new.clone(),
            contact: review.contact.clone(),
            notes: review.notes.clone(),
            declarations: declared.collect(),
            login: review.login.as_ref().map(|login| login.account.clone()),
        }
    }

    /// It, in lines, for whoever has to say yes.
    pub fn lines(&self) -> Vec<(&'static str, String)> {
        let contact = [Some(&self.contact.name), Some(&self.contact.email), self.contact.phone.as_ref()];
        let contact: Vec<&str> = contact.into_iter().flatten().map(String::as_str).collect();
        let mut lines = vec![("new", self.whats_new.clone()), (CONTACT, contact.join(", "))];
        lines.extend(self.notes.clone().map(|notes| ("notes", notes)));
        lines.extend(self.login.clone().map(|login| ("login", format!("{login}, with its password"))));
        for one in &self.declarations {
            let answer = if one.answer { "yes" } else { "no" };
            lines.push(("declared", format!("{} {answer}", one.question.asks)));
        }
        lines
    }
}
