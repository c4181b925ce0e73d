//! What a build command is lent, as text: a properties file, and secrets that are masked in what it says.

use std::path::Path;

use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use zeroize::Zeroize;

use crate::model::Properties;

/// What stands in the place of a secret.
const MASK: &[u8] = b"***";

/// Masks secrets in a stream that comes in pieces. A secret that is cut by the end of a piece is found as well: what
/// could be its beginning is kept back until more comes.
pub struct Mask {
    secrets: Vec<SecretBytes>,
    held: Vec<u8>,
}

impl Mask {
    /// For these secrets; empty ones are nobody's.
    pub fn new<'a>(secrets: impl IntoIterator<Item = &'a SecretText>) -> Self {
        let bytes =
            secrets.into_iter().map(|secret| secret.lend(|text| Secret::new(text.clone().into_bytes())));
        Mask { secrets: bytes.filter(|secret| !secret.lend(Vec::is_empty)).collect(), held: Vec::new() }
    }

    /// Takes a piece and gives what can be shown of all that came so far.
    pub fn feed(&mut self, piece: &[u8]) -> Vec<u8> {
        self.held.extend_from_slice(piece);
        self.show(false)
    }

    /// What was kept back, when no more comes.
    pub fn finish(&mut self) -> Vec<u8> {
        self.show(true)
    }

    fn show(&mut self, whole: bool) -> Vec<u8> {
        let mut out = Vec::new();
        let mut at = 0;
        while at < self.held.len() {
            let rest = self.held.get(at..).unwrap_or_default();
            if !whole && self.may_begin(rest) {
                break;
            }
            match self.found(rest) {
                Some(length) => {
                    out.extend_from_slice(MASK);
                    at += length;
                }
                None => {
                    out.extend(rest.first());
                    at += 1;
                }
            }
        }
        let kept = self.held.split_off(at);
        self.held.zeroize();
        self.held = kept;
        out
    }

    /// The length of the longest secret that `bytes` begin with.
    fn found(&self, bytes: &[u8]) -> Option<usize> {
        let lengths = self
            .secrets
            .iter()
            .filter_map(|secret| secret.lend(|secret| bytes.starts_with(secret).then_some(secret.len())));
        lengths.max()
    }

    /// Whether `bytes` are the beginning of a secret, and not yet all of it.
    fn may_begin(&self, bytes: &[u8]) -> bool {
        self.secrets
            .iter()
            .any(|secret| secret.lend(|secret| secret.len() > bytes.len() && secret.starts_with(bytes)))
    }
}

impl Drop for Mask {
    fn drop(&mut self) {
        self.held.zeroize();
    }
}

/// A properties file of these fields, behind a comment: one field a line, what has a meaning there escaped.
fn properties(comment: &str, fields: &[(&str, &SecretText)]) -> SecretText {
    let mut out = String::new();
    out.push_str("# ");
    out.extend(comment.chars().filter(|c| !c.is_control()));
    out.push('\n');
    for (name, value) in fields {
        escape(name, true, &mut out);
        out.push('=');
        value.lend(|value| escape(value, false, &mut out));
        out.push('\n');
    }
    Secret::new(out)
}

/// A properties file that leads to a keystore's key, behind a comment.
pub fn keystore_properties(
    comment: &str,
    names: &Properties,
    keystore: &Path,
    alias: &str,
    password: &SecretText,
) -> SecretText {
    let keystore = Secret::new(forward_strokes(keystore));
    let alias = Secret::new(alias.to_owned());
    let [keystore_name, alias_name, password_name, key_password_name] = names.fields();
    let fields = [
        (keystore_name, &keystore),
        (alias_name, &alias),
        (password_name, password),
        (key_password_name, password),
    ];
    properties(comment, &fields)
}

/// Escapes as the format wants it: what separates or comments with a backslash, all but ASCII as UTF-16 units.
fn escape(text: &str, key: bool, out: &mut String) {
    for (index, c) in text.chars().enumerate() {
        match c {
            ' ' if !key && index > 0 => out.push(' '),
            ' ' | '=' | ':' | '#' | '!' | '\\' => {
                out.push('\\');
                out.push(c);
            }
            ' '..='~' => out.push(c),
            other => {
                let mut units = [0; 2];
                for unit in other.encode_utf16(&mut units) {
                    out.push_str(&format!("\\u{unit:04x}"));
                }
            }
        }
    }
}

/// A path as build files want it on every system: with forward strokes.
pub fn forward_strokes(path: &std::path::Path) -> String {
    path.display().to_string().replace(std::path::MAIN_SEPARATOR, "/")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn secret(text: &str) -> SecretText {
        Secret::new(text.into())
    }

    fn masked(secrets: &[&str], pieces: &[&str]) -> String {
        let secrets: Vec<SecretText> = secrets.iter().map(|text| secret(text)).collect();
        let mut mask = Mask::new(&secrets);
        let mut out = Vec::new();
        for piece in pieces {
            out.extend(mask.feed(piece.as_bytes()));
        }
        out.extend(mask.finish());
        String::from_utf8(out).unwrap()
    }

    #[test]
    fn secrets_are_masked_wherever_pieces_end() {
        assert_eq!(masked(&["garnet"], &["the garnet is garnet"]), "the *** is ***");
        let text = "a gar garnet b garnets";
        for cut in 0..text.len() {
            let pieces = [&text[..cut], &text[cut..]];
            assert_eq!(masked(&["garnet"], &pieces), "a gar *** b ***s", "cut at {cut}");
        }
        let letters: Vec<String> = text.chars().map(String::from).collect();
        let letters: Vec<&str> = letters.iter().map(String::as_str).collect();
        assert_eq!(masked(&["garnet"], &letters), "a gar *** b ***s");
        assert_eq!(masked(&["gar", "garnet"], &["garnet gar"]), "*** ***", "the longest first");
        assert_eq!(masked(&["gar", "garnet"], &["gar", "net gar"]), "*** ***", "and nothing of its end");
        assert_eq!(masked(&[""], &["as it is"]), "as it is");
    }

    #[test]
    fn nothing_is_kept_back_that_is_no_beginning() {
        let mut mask = Mask::new(&[secret("garnet")]);
        assert_eq!(mask.feed(b"Password? "), b"Password? ", "a prompt is shown at once");
        assert_eq!(mask.feed(b"ga"), b"");
        assert_eq!(mask.feed(b"le"), b"gale");
        assert_eq!(mask.feed(b"gar"), b"");
        assert_eq!(mask.finish(), b"gar");
    }

    #[test]
    fn fields_of_a_properties_file_are_escaped() {
        let path = secret("C:/ferry keys/ä.p12");
        let out = properties("lent\nfor a build", &[("store File", &path), ("a", &secret(" #x=y\\"))]);
        let wanted = "# lentfor a build\nstore\\ File=C\\:/ferry keys/\\u00e4.p12\na=\\ \\#x\\=y\\\\\n";
        assert_eq!(out.lend(String::clone), wanted);
    }
}
