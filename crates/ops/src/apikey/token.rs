//! `apikey token`: a signed token, for a program that asks the portal or the store by itself.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::keys::{KeyError, PrivateKey};
use ninekeys_core::model::{Service, State};
use ninekeys_core::token::{Claims, TokenError, make};
use ninekeys_formats::secret::SecretText;
use thiserror::Error;

use super::FindError;
use crate::apikey;
use crate::ctx::{Ctx, OpenError};

/// Whom tokens of store API keys are for when nobody says.
pub const PORTAL: &str = "ninekeys-portal";

/// The token to be made.
#[derive(Debug)]
pub struct Request {
    /// The API key.
    pub name: String,
    /// Whom it is for; the key's file may say.
    pub audience: Option<String>,
    /// What it asks for.
    pub scope: Vec<String>,
    /// How many minutes it is good for.
    pub minutes: u16,
}

/// A token, and until when it is good.
#[derive(Debug)]
pub struct Made {
    /// The API key's name.
    pub name: String,
    /// The token: whoever has it may do what the key may, until it ends.
    pub token: SecretText,
    /// What it says.
    pub claims: Claims,
}

/// Why no token was made.
#[derive(Debug, Error)]
pub enum ApiKeyTokenError {
    /// The API key.
    #[error(transparent)]
    Find(#[from] FindError),
    /// It is retired.
    #[error("{0} is retired")]
    Retired(String),
    /// It has no private key: a labelled password.
    #[error("{0} has no private key to sign with")]
    NoKey(String),
    /// Nobody says whom it is for.
    #[error("the file of {0} did not say whom its tokens are for")]
    NoAudience(String),
    /// The token.
    #[error(transparent)]
    Token(#[from] TokenError),
    /// The key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Makes a token. Nothing is written: a token ends by itself within minutes.
///
/// # Errors
/// [`ApiKeyTokenError`].
pub fn apikey_token(ctx: &Ctx<'_>, request: &Request) -> Result<Made, ApiKeyTokenError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = apikey::find(&inventory, &request.name)?;
    if item.state == State::Retired {
        return Err(ApiKeyTokenError::Retired(item.name.clone()));
    }
    let key = facts.key.and_then(|id| inventory.get(&id));
    let key = key.ok_or_else(|| ApiKeyTokenError::NoKey(item.name.clone()))?;
    let usual = match facts.service {
        Service::Store => Some(PORTAL.to_owned()),
        Service::Account => facts.audience.clone(),
    };
    let audience = request.audience.clone().or(usual);
    let iat = ctx.env.now.as_second();
    let claims = Claims {
        iss: facts.issuer.clone(),
        aud: audience.ok_or_else(|| ApiKeyTokenError::NoAudience(item.name.clone()))?,
        iat,
        exp: iat + 60 * i64::from(request.minutes),
        scope: Some(request.scope.join(" ")).filter(|scope| !scope.is_empty()),
    };
    ctx.unlock(&mut cabinet)?;
    let secret = cabinet.secret(key)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    Ok(Made { name: item.name.clone(), token: make(&key, &facts.key_id, &claims)?, claims })
}
