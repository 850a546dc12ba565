//! The second factor: time-based codes (RFC 6238, six digits, thirty seconds) and recovery codes. A library computes
//! the codes; the store makes sure that each works once.

use std::collections::HashMap;
use std::time::Duration;

use gubernum_store::{Store, StoreError};
use jiff::Timestamp;
use parking_lot::Mutex;
use ring::rand::{SecureRandom, SystemRandom};
use tokio::time::Instant;
use totp_rs::{Builder, Totp};

use crate::access::secrets::{NoRandomness, claim_code, hash, plain_code};

/// Bytes of a secret: as many as SHA-1 gives (RFC 4226, section 4).
const SECRET: usize = 20;
/// The number of recovery codes.
const RECOVERY_CODES: usize = 10;
/// How long setting one up may take.
const SETTING_UP: Duration = Duration::from_secs(600);
/// The most second factors that may be in setup at once.
const MOST_BEGUN: usize = 1000;

/// Second factors that are being set up, by member.
#[derive(Default)]
pub(crate) struct Begun(Mutex<HashMap<i64, (Vec<u8>, Instant)>>);

impl Begun {
    /// Begins to set one up; returns its secret.
    pub(crate) fn begin(&self, member: i64, now: Instant) -> Result<Vec<u8>, NoRandomness> {
        let mut secret = vec![0u8; SECRET];
        SystemRandom::new().fill(&mut secret).map_err(|_| NoRandomness)?;
        let mut all = self.0.lock();
        all.retain(|_, (_, at)| now.duration_since(*at) < SETTING_UP);
        if all.len() >= MOST_BEGUN {
            all.clear();
        }
        all.insert(member, (secret.clone(), now));
        Ok(secret)
    }

    /// The secret of the one that a member is setting up.
    pub(crate) fn secret(&self, member: i64, now: Instant) -> Option<Vec<u8>> {
        let all = self.0.lock();
        all.get(&member)
            .filter(|(_, at)| now.duration_since(*at) < SETTING_UP)
            .map(|(secret, _)| secret.clone())
    }

    /// It is set up.
    pub(crate) fn done(&self, member: i64) {
        self.0.lock().remove(&member);
    }
}

/// What makes and checks codes.
pub(crate) fn codes(secret: &[u8], member: &str) -> Option<Totp> {
    let account = member.replace(':', " ");
    Builder::new()
        .with_secret(secret.to_vec())
        .with_account_name(account)
        .with_issuer(Some("Gubernum"))
        .build()
        .ok()
}

/// The step of time that a code is of; one step early or late will do.
pub(crate) fn step_of(secret: &[u8], code: &str, now: Timestamp) -> Option<i64> {
    let digits: String = code.chars().filter(|c| !c.is_whitespace()).collect();
    let time = u64::try_from(now.as_second()).ok()?;
    i64::try_from(codes(secret, "member")?.check(&digits, time)?).ok()
}

/// Fresh recovery codes with the hashes that are kept of them.
pub(crate) fn recovery_codes() -> Result<(Vec<String>, Vec<Vec<u8>>), NoRandomness> {
    let codes = (0..RECOVERY_CODES).map(|_| claim_code()).collect::<Result<Vec<_>, _>>()?;
    let hashes = codes.iter().map(|code| hash(&plain_code(code))).collect();
    Ok((codes, hashes))
}

/// Uses a code, or a recovery code, of a member: whether it was good.
pub(crate) fn use_code(
    store: &Store,
    member: i64,
    secret: &[u8],
    code: &str,
    now: Timestamp,
) -> Result<bool, StoreError> {
    match step_of(secret, code, now) {
        Some(step) => store.use_step(member, step),
        None => store.use_recovery_code(member, &hash(&plain_code(code))),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// The secret and codes of RFC 6238, appendix B, cut to six digits.
    #[rstest]
    #[case(59, "287082", true)]
    #[case(1_111_111_109, "081804", true)]
    #[case(1_111_111_109, "081 804", true)]
    #[case(1_111_111_109 + 30, "081804", true)]
    #[case(1_111_111_109 + 60, "081804", false)]
    #[case(1_111_111_109, "081805", false)]
    #[case(1_111_111_109, "", false)]
    #[case(1_111_111_109, "0818041", false)]
    fn codes_are_those_of_the_standard(#[case] second: i64, #[case] code: &str, #[case] good: bool) {
        let now = Timestamp::from_second(second).unwrap();
        assert_eq!(step_of(b"12345678901234567890", code, now).is_some(), good);
    }

    #[test]
    fn setting_up_takes_no_longer_than_ten_minutes() {
        let (begun, now) = (Begun::default(), Instant::now());
        let secret = begun.begin(1, now).unwrap();
        assert_eq!(begun.secret(1, now + SETTING_UP / 2), Some(secret));
        assert_eq!(begun.secret(2, now), None);
        assert_eq!(begun.secret(1, now + SETTING_UP), None);
    }
}
