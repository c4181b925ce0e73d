//! Passwords in settings: files of lines that give values to names, as properties and environment files are.

use ninekeys_formats::secret::{Secret, SecretText};

/// What a setting's name has in it that holds a password.
const WORDS: [&str; 5] = ["password", "passwd", "passphrase", "secret", "storepass"];
/// The longest line that is looked at.
const LONGEST: usize = 1_000;

/// Whether the beginning of a file looks like settings, one of which may be a password.
pub(super) fn may_be(head: &[u8]) -> bool {
    let Ok(text) = std::str::from_utf8(head)
        .or_else(|error| std::str::from_utf8(head.get(..error.valid_up_to()).unwrap_or_default()))
    else {
        return false;
    };
    let lower = text.to_ascii_lowercase();
    WORDS.iter().any(|word| lower.contains(word)) && is_settings(text)
}

/// Whether nearly all lines give values to names.
fn is_settings(text: &str) -> bool {
    let lines = text
        .lines()
        .map(str::trim)
        .filter(|line| !line.is_empty() && !line.starts_with(['#', '!', ';', '[']));
    let (mut all, mut settings) = (0, 0);
    for line in lines {
        all += 1;
        settings += usize::from(setting(line).is_some());
    }
    all > 0 && settings * 10 >= all * 8
}

/// The name and the value of a line.
fn setting(line: &str) -> Option<(&str, &str)> {
    let line = line.strip_prefix("export ").unwrap_or(line);
    let (name, value) = line.split_once(['=', ':'])?;
    let name = name.trim();
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-');
    (!name.is_empty() && name.len() <= 100 && name.chars().all(plain)).then(|| (name, value.trim()))
}

/// Whether a value is a password, and no reference to one.
fn is_password(value: &str) -> bool {
    let value = value.trim_matches(['"', '\'']);
    let stands_for = value.starts_with(['$', '%', '@', '<', '{', '/', '.']);
    let none = ["", "null", "none", "true", "false", "changeme", "xxx"];
    !stands_for && value.len() >= 4 && !none.contains(&value.to_ascii_lowercase().as_str())
}

/// The lines with passwords: their numbers, the names of the settings, and the values.
fn each(bytes: &[u8]) -> impl Iterator<Item = (usize, &str, &str)> {
    let text = std::str::from_utf8(bytes).ok().filter(|text| is_settings(text)).unwrap_or_default();
    let lines = text.lines().enumerate().filter(|(_, line)| line.len() <= LONGEST);
    lines.filter_map(|(index, line)| {
        let (name, value) = setting(line.trim())?;
        let lower = name.to_ascii_lowercase();
        let named = WORDS.iter().any(|word| lower.contains(word));
        (named && is_password(value)).then_some((index + 1, name, value))
    })
}

/// The lines with passwords: their numbers, and the names of the settings. The values are looked at and not kept.
pub(super) fn passwords(bytes: &[u8]) -> Vec<(usize, String)> {
    each(bytes).map(|(line, name, _)| (line, name.to_owned())).collect()
}

/// The passwords, by line: what may open a keystore that lies beside them.
pub(super) fn values(bytes: &[u8]) -> Vec<(usize, SecretText)> {
    let plain = |value: &str| Secret::new(value.trim_matches(['"', '\'']).to_owned());
    each(bytes).map(|(line, _, value)| (line, plain(value))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_passwords_and_references_are_none() {
        let text = b"# signing\nstoreFile=../keys/a.jks\nstorePassword=tide-and-time\nkeyPassword=${KEY}\nkeyAlias=app\n";
        assert_eq!(passwords(text), [(3, "storePassword".to_owned())]);
        assert_eq!(passwords(b"export API_SECRET='0123456789'\n"), [(1, "API_SECRET".to_owned())]);
        let values = values(b"a=b\nexport API_SECRET='0123456789'\n");
        assert_eq!(values.len(), 1);
        assert!(values[0].0 == 2 && values[0].1.lend(|value| value == "0123456789"));
        for none in ["password=", "password=$PW", "PASSWORD=null", "password_file=/run/pw", "a=b"] {
            assert_eq!(passwords(none.as_bytes()), [], "{none}");
        }
    }

    #[test]
    fn prose_and_code_are_no_settings() {
        for text in [
            "The password is told by phone.\nNobody writes it down.\n",
            "let password = ask();\nif password { go() }\nfor x in y {}\n",
        ] {
            assert_eq!(passwords(text.as_bytes()), [], "{text}");
            assert!(!may_be(text.as_bytes()), "{text}");
        }
        assert!(may_be(b"storePassword=x\n"));
        assert!(!may_be(&[0xff, 0xfe, b'p']));
    }
}
