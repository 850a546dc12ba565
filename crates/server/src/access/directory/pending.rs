//! Pending sign-ins at a provider, bound to the browser that began them. While a browser is at the provider the
//! service stores nothing: the state travels with it, sealed, so that strangers cannot exhaust it. Completed ones
//! wait here, few and for a short while.

use std::collections::HashMap;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use gubernum_store::Seal;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use tokio::time::Instant;

use super::openid::Tokens;
use crate::access::secrets;

/// The most sign-ins under way at once; beyond it the oldest are forgotten.
const MOST: usize = 1000;

/// A browser was sent to the provider.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Begun {
    pub(crate) state: String,
    pub(crate) nonce: String,
    pub(crate) verifier: String,
    /// Until when it may come back, in seconds since 1970.
    pub(crate) until: i64,
}

/// What it is sealed for.
const PURPOSE: &str = "sign-in at a provider";

impl Begun {
    /// As it goes with the browser.
    pub(crate) fn sealed(&self, seal: &Seal) -> Option<String> {
        let text = serde_json::to_vec(self).ok()?;
        Some(URL_SAFE_NO_PAD.encode(seal.seal(PURPOSE, &text).ok()?))
    }

    /// What came back with a browser; nothing when it was not created here, or is too old.
    pub(crate) fn opened(seal: &Seal, text: &str, now: i64) -> Option<Self> {
        let sealed = URL_SAFE_NO_PAD.decode(text).ok()?;
        let opened = seal.open_sealed(PURPOSE, &sealed).ok()?;
        let begun: Self = serde_json::from_slice(&opened).ok()?;
        (now < begun.until).then_some(begun)
    }
}

/// The provider sent a browser back, and what it said of the member holds.
#[derive(Debug, Clone)]
pub(crate) struct CompletedSignIn {
    pub(crate) member: i64,
    pub(crate) name: String,
    pub(crate) tokens: Tokens,
}

type Waiting<T> = (Vec<u8>, Instant, T);

/// What waits under a secret for a browser that has another.
pub(crate) struct Pending<T> {
    /// By the secret's hash: the browser's, since when, and what.
    all: Mutex<HashMap<Vec<u8>, Waiting<T>>>,
    lifetime: Duration,
}

impl<T> Pending<T> {
    pub(super) fn new(lifetime: Duration) -> Self {
        Self { all: Mutex::default(), lifetime }
    }

    /// Keeps something under a secret, for the browser that shows the other.
    pub(crate) fn put(&self, secret: &str, browser: &str, what: T) {
        let now = Instant::now();
        let mut all = self.all.lock();
        all.retain(|_, (_, began, _)| now.duration_since(*began) < self.lifetime);
        if all.len() >= MOST
            && let Some(oldest) =
                all.iter().min_by_key(|(_, (_, began, _))| *began).map(|(key, _)| key.clone())
        {
            all.remove(&oldest);
        }
        all.insert(secrets::hash(secret), (secrets::hash(browser), now, what));
    }

    /// Takes it out, once.
    pub(crate) fn take(&self, secret: &str, browser: &str) -> Option<T> {
        let key = secrets::hash(secret);
        let mut all = self.all.lock();
        let (owner, began, _) = all.get(&key)?;
        let fits = *owner == secrets::hash(browser) && began.elapsed() < self.lifetime;
        // Shown by another browser it is not used up: that one only guesses.
        if fits { all.remove(&key).map(|(_, _, what)| what) } else { None }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_goes_with_a_browser_is_valid_for_a_while_and_made_here_only() {
        let folder = tempfile::tempdir().unwrap();
        let seal = Seal::open(&folder.path().join("seal.key")).unwrap();
        let other = Seal::open(&folder.path().join("other.key")).unwrap();
        let begun = Begun { state: "s".into(), nonce: "n".into(), verifier: "v".into(), until: 100 };
        let text = begun.sealed(&seal).unwrap();
        assert!(!text.contains("nonce"));
        assert_eq!(Begun::opened(&seal, &text, 99).unwrap().verifier, "v");
        assert!(Begun::opened(&seal, &text, 100).is_none());
        assert!(Begun::opened(&other, &text, 99).is_none());
        assert!(Begun::opened(&seal, &text[1..], 99).is_none() && Begun::opened(&seal, "", 99).is_none());
    }

    #[test]
    fn each_is_taken_once_and_by_its_own_browser() {
        let pending = Pending::new(Duration::from_secs(60));
        pending.put("state", "mine", 7);
        assert_eq!(pending.take("state", "another"), None);
        assert_eq!(pending.take("stat", "mine"), None);
        assert_eq!(pending.take("state", "mine"), Some(7));
        assert_eq!(pending.take("state", "mine"), None);
    }

    #[test]
    fn what_is_too_old_is_forgotten() {
        let pending = Pending::new(Duration::ZERO);
        pending.put("state", "mine", 7);
        assert_eq!(pending.take("state", "mine"), None);
    }

    #[test]
    fn no_more_are_kept_than_there_is_room_for() {
        let pending = Pending::new(Duration::from_secs(60));
        for n in 0..=MOST {
            pending.put(&format!("state {n}"), "mine", n);
        }
        assert_eq!(pending.all.lock().len(), MOST);
        assert_eq!(pending.take(&format!("state {MOST}"), "mine"), Some(MOST));
    }
}
