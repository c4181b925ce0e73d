//! Bytes that must not leak: wiped when dropped, absent from every printed form, lent and never given.

use std::fmt;

use zeroize::Zeroize;

/// A secret value. It is only ever lent to a closure, so that no copy outlives its use.
pub struct Secret<T: Zeroize>(T);

/// Secret bytes: a private key's DER, a derived key.
pub type SecretBytes = Secret<Vec<u8>>;

/// A secret text: a password, a passphrase.
pub type SecretText = Secret<String>;

impl<T: Zeroize> Secret<T> {
    /// Takes the value in charge.
    pub fn new(value: T) -> Self {
        Secret(value)
    }

    /// Lends the value to be changed in place, for the time of one call.
    pub fn change<R>(&mut self, by: impl FnOnce(&mut T) -> R) -> R {
        by(&mut self.0)
    }

    /// Lends the value for the time of one call.
    pub fn lend<R>(&self, to: impl FnOnce(&T) -> R) -> R {
        to(&self.0)
    }
}

impl<T: Zeroize + Clone> Secret<T> {
    /// A second, separately wiped holder of the same value.
    #[must_use]
    pub fn duplicate(&self) -> Self {
        Secret(self.0.clone())
    }
}

impl<T: Zeroize> Drop for Secret<T> {
    fn drop(&mut self) {
        self.0.zeroize();
    }
}

impl<T: Zeroize> fmt::Debug for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(..)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_does_not_show_itself() {
        let secret = SecretText::new("open sesame".into());
        assert_eq!(format!("{secret:?}"), "Secret(..)");
        assert_eq!(secret.lend(|s| s.len()), 11);
    }
}
