//! Browsers are sent to the issuer and come back with a code, which the server changes for a token (RFC 6749, section 4.1, with
//! proof of who began: RFC 7636).

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde::Deserialize;
use sha2::{Digest, Sha256};

use super::{Issuer, LARGEST};
use crate::address::is_safe;
use crate::people::person::{Named, Refused};

/// What a browser keeps while it is away: nobody else can come back in its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Errand {
    state: String,
    nonce: String,
    verifier: String,
}

impl Errand {
    fn new() -> Option<Errand> {
        let random = || {
            let mut bytes = [0u8; 32];
            getrandom::fill(&mut bytes).ok()?;
            Some(URL_SAFE_NO_PAD.encode(bytes))
        };
        Some(Errand { state: random()?, nonce: random()?, verifier: random()? })
    }

    /// As a cookie has it.
    pub fn to_cookie(&self) -> String {
        format!("{}.{}.{}", self.state, self.nonce, self.verifier)
    }

    /// From what a cookie had.
    pub fn from_cookie(text: &str) -> Option<Errand> {
        let parts: Vec<&str> = text.split('.').collect();
        let [state, nonce, verifier] = parts.as_slice() else { return None };
        let of = |part: &str| (part.len() == 43).then(|| part.to_string());
        Some(Errand { state: of(state)?, nonce: of(nonce)?, verifier: of(verifier)? })
    }
}

/// What the issuer gives for a code.
#[derive(Debug, Deserialize)]
struct Given {
    id_token: String,
}

impl Issuer {
    /// Where a browser goes to sign in, and what it keeps meanwhile. `back` is where it comes back to.
    ///
    /// # Errors
    /// When the issuer cannot be asked, or does not take browsers.
    pub fn begin(&self, back: &str) -> Result<(String, Errand), Refused> {
        let about = self.about()?;
        let to = about.authorization_endpoint.filter(|url| is_safe(url)).ok_or(Refused::Unavailable)?;
        let errand = Errand::new().ok_or(Refused::Unavailable)?;
        let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(errand.verifier.as_bytes()));
        let pairs = [
            ("response_type", "code"),
            ("client_id", &self.section.audience),
            ("redirect_uri", back),
            ("scope", "openid email profile"),
            ("state", &errand.state),
            ("nonce", &errand.nonce),
            ("code_challenge", &challenge),
            ("code_challenge_method", "S256"),
        ];
        let query = serde_urlencoded::to_string(pairs).unwrap_or_default();
        let joint = if to.contains('?') { '&' } else { '?' };
        Ok((format!("{to}{joint}{query}"), errand))
    }

    /// Who has come back, and the token that says so.
    ///
    /// # Errors
    /// When it is not who went, or the issuer does not give a token that is good.
    pub fn end(&self, errand: &Errand, state: &str, code: &str, back: &str) -> Result<(Named, String), Refused> {
        // Compared by their digests, so that the time it takes tells nothing.
        if Sha256::digest(errand.state.as_bytes()) != Sha256::digest(state.as_bytes()) {
            return Err(Refused::Wrong);
        }
        let at = self.about()?.token_endpoint.filter(|url| is_safe(url)).ok_or(Refused::Unavailable)?;
        let mut form = vec![
            ("grant_type", "authorization_code"),
            ("code", code),
            ("redirect_uri", back),
            ("client_id", &self.section.audience),
            ("code_verifier", &errand.verifier),
        ];
        form.extend(self.secret.as_deref().map(|secret| ("client_secret", secret)));
        let told = |e: ureq::Error| {
            // The code and the secret stand in neither.
            tracing::warn!(issuer = self.section.issuer, why = %e, "no token for a code");
            Refused::Wrong
        };
        let mut reply = self.agent.post(&at).send_form(form).map_err(told)?;
        let given: Given = reply.body_mut().with_config().limit(LARGEST).read_json().map_err(told)?;
        let named = self.person(&given.id_token, Some(&errand.nonce))?;
        Ok((named, given.id_token))
    }

    fn about(&self) -> Result<super::Discovery, Refused> {
        let known = self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone();
        match known {
            Some(known) => Ok(known.about.clone()),
            None => Ok(self.read()?.about.clone()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_errand_is_kept_whole_or_not_at_all() {
        let errand = Errand::new().unwrap();
        assert_eq!(Errand::from_cookie(&errand.to_cookie()).as_ref(), Some(&errand));
        assert_ne!(Errand::new(), Some(errand.clone()));
        for wrong in ["", "..", "a.b.c", &errand.to_cookie()[1..], &format!("{}.x", errand.to_cookie())] {
            assert_eq!(Errand::from_cookie(wrong), None, "{wrong}");
        }
    }
}
