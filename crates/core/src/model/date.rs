//! Dates that belong to the job and to no key: a yearly membership, a contract, an audit.

use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::moment;

/// The most months between two times.
pub const MOST_MONTHS: u32 = 600;

/// A date that is kept beside the keys.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DateFacts {
    /// What people call it.
    pub title: String,
    /// When it falls due next.
    #[serde(deserialize_with = "moment::read")]
    pub on: Timestamp,
    /// After how many months it falls due again; nothing for once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every_months: Option<u32>,
    /// The apps that it is for by name; empty for all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub apps: Vec<String>,
    /// When it was last seen to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub done: Option<Timestamp>,
}

impl DateFacts {
    /// When it falls due after the next time; nothing for once, and beyond all calendars.
    pub fn after(&self) -> Option<Timestamp> {
        let months = i64::from(self.every_months.filter(|months| (1..=MOST_MONTHS).contains(months))?);
        let later = self.on.to_zoned(TimeZone::UTC).checked_add(Span::new().months(months)).ok()?;
        Some(later.timestamp())
    }

    /// How often, in words.
    pub fn how_often(&self) -> String {
        match self.every_months {
            None => "once".into(),
            Some(1) => "every month".into(),
            Some(12) => "every year".into(),
            Some(months) if months % 12 == 0 => format!("every {} years", months / 12),
            Some(months) => format!("every {months} months"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_date_falls_due_again_after_whole_months() {
        let date = |on: &str, every_months| DateFacts {
            title: "Membership".into(),
            on: on.parse().unwrap(),
            every_months,
            apps: Vec::new(),
            done: None,
        };
        let after = |on, every| date(on, Some(every)).after().unwrap().to_string();
        assert_eq!(after("2031-05-19T00:00:00Z", 12), "2032-05-19T00:00:00Z");
        assert_eq!(after("2031-01-31T00:00:00Z", 1), "2031-02-28T00:00:00Z", "a month that is shorter");
        assert_eq!(date("2031-01-31T00:00:00Z", None).after(), None);
        assert_eq!(date("2031-01-31T00:00:00Z", Some(0)).after(), None);
        let words = [None, Some(1), Some(12), Some(24), Some(3)]
            .map(|every| date("2031-01-31T00:00:00Z", every).how_often());
        assert_eq!(words, ["once", "every month", "every year", "every 2 years", "every 3 months"]);
    }
}
