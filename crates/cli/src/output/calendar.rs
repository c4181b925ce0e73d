//! Ends and dates for calendars (RFC 5545): an event a day, with alarms before it. The format is two rules, for long lines and for
//! some characters; a crate for it would bring a second library of dates.

use std::io::{self, Write};

use jiff::Timestamp;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::model::State;
use ninekeys_ops::inventory::{InventoryReport, Line};

use super::pieces;

/// Days before an end at which calendars say so, beside those of the policy.
const LATE_ALARMS: [u32; 2] = [14, 1];
/// The most bytes of a line, without its end (RFC 5545, section 3.1).
const LONGEST_LINE: usize = 75;

/// A calendar as it is written.
#[derive(Default)]
struct Writer(String);

impl Writer {
    /// A content line: broken where it is too long, never inside a character.
    fn line(&mut self, name: &str, value: &str) {
        if name.len() + 1 + value.len() <= LONGEST_LINE {
            return self.0.extend([name, ":", value, "\r\n"]);
        }
        let mut room = LONGEST_LINE;
        for character in name.chars().chain([':']).chain(value.chars()) {
            if character.len_utf8() > room {
                self.0.push_str("\r\n ");
                room = LONGEST_LINE - 1;
            }
            room -= character.len_utf8();
            self.0.push(character);
        }
        self.0.push_str("\r\n");
    }

    /// The same, of a text (section 3.3.11).
    fn text(&mut self, name: &str, value: &str) {
        let is_special = |character: char| character.is_control() || matches!(character, '\\' | ';' | ',');
        if !value.contains(is_special) {
            return self.line(name, value);
        }
        let mut out = String::with_capacity(value.len());
        for character in value.chars() {
            match character {
                '\n' => out.push_str("\\n"),
                '\\' | ';' | ',' => out.extend(['\\', character]),
                other if other.is_control() => {}
                other => out.push(other),
            }
        }
        self.line(name, &out);
    }

    fn alarm(&mut self, summary: &str, days: u32) {
        self.line("BEGIN", "VALARM");
        self.line("ACTION", "DISPLAY");
        self.text("DESCRIPTION", summary);
        self.line("TRIGGER", &format!("-P{days}D"));
        self.line("END", "VALARM");
    }

    /// An event of a calendar that was made at that time.
    fn event(&mut self, report: &InventoryReport<'_>, made: &str, line: &Line<'_>, end: Timestamp) {
        let known = format!("{} {} {}", line.kind, line.name, line.alias.unwrap_or_default());
        let uid = sha256_hex(known.as_bytes());
        let summary = match (line.kind, line.subject) {
            ("date", Some(title)) => title.to_owned(),
            _ => format!("{} ends ({})", line.name, line.kind),
        };
        self.line("BEGIN", "VEVENT");
        self.line("UID", &format!("{}@ninekeys", uid.get(..32).unwrap_or_default()));
        self.line("DTSTAMP", made);
        self.line("DTSTART;VALUE=DATE", &end.strftime("%Y%m%d").to_string());
        self.text("SUMMARY", &summary);
        self.text("DESCRIPTION", &what_to_do(line));
        self.line("TRANSP", "TRANSPARENT");
        self.alarm(&summary, report.due_days);
        for days in LATE_ALARMS.into_iter().filter(|days| *days < report.due_days) {
            self.alarm(&summary, days);
        }
        self.line("END", "VEVENT");
    }
}

/// The command that sees to it, and what it is for.
fn what_to_do(line: &Line<'_>) -> String {
    let words = match line.kind {
        "date" => "date done",
        "signing key" | "device" => "show",
        _ => "rotate draft",
    };
    let apps = if line.apps.is_empty() { String::new() } else { format!("\nfor {}", line.apps.join(", ")) };
    format!("ninekeys {words} {}{apps}", line.name)
}

/// Writes the ends of what is in use.
pub(super) fn of_inventory(report: &InventoryReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let mut head = Writer::default();
    head.line("BEGIN", "VCALENDAR");
    head.line("VERSION", "2.0");
    head.line("PRODID", "-//Nine Keys//ninekeys//EN");
    out.write_all(head.0.as_bytes())?;
    let made = report.at.strftime("%Y%m%dT%H%M%SZ").to_string();
    let lay_out = |lines: &[Line<'_>]| {
        let mut writer = Writer::default();
        for line in lines.iter().filter(|line| line.state == State::Active) {
            if let Some(end) = line.not_after {
                writer.event(report, &made, line, end);
            }
        }
        Ok(writer.0.into_bytes())
    };
    pieces::each(&report.items, lay_out, |piece| out.write_all(piece))?;
    let mut foot = Writer::default();
    foot.line("END", "VCALENDAR");
    out.write_all(foot.0.as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_broken_between_characters_and_texts_escaped() {
        let mut writer = Writer::default();
        writer.text("SUMMARY", &format!("a,b;c\\d\ne\u{7}{}", "ü".repeat(60)));
        let lines: Vec<&str> = writer.0.split("\r\n").collect();
        assert!(lines[0].starts_with("SUMMARY:a\\,b\\;c\\\\d\\ne"), "{lines:?}");
        assert!(lines.iter().all(|line| line.len() <= 75), "{lines:?}");
        assert!(lines[1].starts_with(' ') && !writer.0.contains('\u{7}'));
        let joined = writer.0.replace("\r\n ", "");
        assert_eq!(joined.matches('ü').count(), 60, "nothing is lost");
    }
}
