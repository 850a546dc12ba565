//! Passwords: strength when chosen, Argon2id at rest, one path for right and wrong names.
//!
//! Hashing takes memory on purpose. A fixed number of workers with buffers of their own do it, so that no number of
//! sign-ins takes more; those that wait have a bounded queue, and beyond it they are told to come again. Browsers and
//! addresses that have signed in before have a worker and a queue to themselves, so that a crowd of strangers does not keep
//! them out.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use argon2::password_hash::{Ident, Output, ParamsString, PasswordHash, Salt, SaltString};
use argon2::{Algorithm, Argon2, Block, Params, Version};
use parking_lot::Mutex;
use ring::rand::{SecureRandom, SystemRandom};
use tokio::sync::{Semaphore, SemaphorePermit};

/// The fewest characters of a password.
pub(crate) const SHORTEST: usize = 12;
/// The most; more would only cost time.
pub(crate) const LONGEST: usize = 200;
/// How many passwords of one lane may wait for its worker.
const MOST_WAITING: usize = 32;
/// How long one may wait.
const LONGEST_WAIT: Duration = Duration::from_secs(10);
/// Seconds after which a client that was turned away may try again.
pub(crate) const COME_AGAIN: u64 = 2;
/// The most memory that a kept hash may ask for, in KiB: a damaged record must not take all of it.
const MOST_MEMORY: u32 = 64 * 1024;

/// Who asks, which decides with whom they wait.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SignInLane {
    /// A browser or an address that has signed in to this account before.
    Known,
    /// Anybody else.
    Stranger,
}

/// The places of one lane, and its one worker.
struct Gate {
    waiting: Semaphore,
    worker: Semaphore,
}

impl Gate {
    const fn new() -> Self {
        Self { waiting: Semaphore::const_new(1 + MOST_WAITING), worker: Semaphore::const_new(1) }
    }
}

static KNOWN: Gate = Gate::new();
static STRANGERS: Gate = Gate::new();
/// Buffers that are used again. One stays, so that the memory of the next check is there already; more only while others
/// wait.
static BUFFERS: Mutex<Vec<Vec<Block>>> = Mutex::new(Vec::new());
/// Whether a buffer was used since it was last looked.
static USED: AtomicBool = AtomicBool::new(false);
/// A buffer that nobody has used for this long is given back: twenty megabytes.
const KEPT_FOR: Duration = Duration::from_secs(60);

/// Whether more than one password is being checked or waits for it.
fn crowd() -> bool {
    let busy = |gate: &Gate| 1 + MOST_WAITING - gate.waiting.available_permits();
    busy(&KNOWN) + busy(&STRANGERS) > 1
}

/// A hash of nothing anybody uses, checked for names that do not exist so that they take as long.
const NOBODY: &str =
    "$argon2id$v=19$m=19456,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$jQ8yFqb1eKXf0Z7vY9O0h6t8m1cQ2v3w4x5y6z7A8B0";

/// Too many passwords are being checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("too many sign-ins at once; try again in {COME_AGAIN} s")]
pub(crate) struct TooManySignIns;

/// Checks a new password; the error says what to do.
pub(crate) fn check_strength(password: &str, member: &str) -> Result<(), String> {
    let length = password.chars().count();
    if length < SHORTEST {
        return Err(format!(
            "the password has {length} characters, at least {SHORTEST} are needed; three or four unrelated words work well"
        ));
    }
    if length > LONGEST {
        return Err(format!("the password has {length} characters, at most {LONGEST} are allowed"));
    }
    // Guessed from lists of common passwords, names, dates and keyboard patterns.
    let estimate = zxcvbn::zxcvbn(password, &[member, "gubernum"]);
    if estimate.score() < zxcvbn::Score::Three {
        return Err("the password is easy to guess (a common word, name or pattern); choose three or four unrelated words".to_owned());
    }
    Ok(())
}

/// Waits for a worker.
async fn turn(
    lane: SignInLane,
) -> Result<(SemaphorePermit<'static>, SemaphorePermit<'static>), TooManySignIns> {
    let gate = match lane {
        SignInLane::Known => &KNOWN,
        SignInLane::Stranger => &STRANGERS,
    };
    let place = gate.waiting.try_acquire().map_err(|_| TooManySignIns)?;
    let worker = tokio::time::timeout(LONGEST_WAIT, gate.worker.acquire()).await;
    Ok((place, worker.map_err(|_| TooManySignIns)?.map_err(|_| TooManySignIns)?))
}

/// Hashes a password; `None` when no random numbers are available.
pub(crate) async fn hash(password: String, lane: SignInLane) -> Result<Option<String>, TooManySignIns> {
    let turn = turn(lane).await?;
    let hashed = tokio::task::spawn_blocking(move || {
        let _turn = turn;
        hash_now(&password)
    });
    Ok(hashed.await.ok().flatten())
}

/// Gives buffers back that are not used any more, for as long as the service runs.
pub(crate) async fn give_back_buffers() {
    loop {
        tokio::time::sleep(KEPT_FOR).await;
        if !USED.swap(false, Ordering::Relaxed) {
            BUFFERS.lock().clear();
        }
    }
}

/// Works a hash out in a buffer that is used again.
fn derive(password: &str, salt: &[u8], params: &Params, out: &mut [u8]) -> Option<()> {
    if params.m_cost() > MOST_MEMORY {
        return None;
    }
    let mut buffer = BUFFERS.lock().pop().unwrap_or_default();
    let blocks = params.block_count();
    if buffer.len() < blocks {
        buffer.resize(blocks, Block::default());
    }
    let argon2 = Argon2::new(Algorithm::Argon2id, Version::V0x13, params.clone());
    let done = argon2.hash_password_into_with_memory(password.as_bytes(), salt, out, &mut buffer[..blocks]);
    USED.store(true, Ordering::Relaxed);
    let mut buffers = BUFFERS.lock();
    if buffers.is_empty() || crowd() {
        buffers.push(buffer);
    } else {
        buffers.truncate(1);
    }
    done.ok()
}

/// The same for callers that may block.
pub(crate) fn hash_now(password: &str) -> Option<String> {
    let mut bytes = [0u8; 16];
    SystemRandom::new().fill(&mut bytes).ok()?;
    let salt = SaltString::encode_b64(&bytes).ok()?;
    let params = Params::default();
    let mut out = [0u8; Params::DEFAULT_OUTPUT_LEN];
    derive(password, &bytes, &params, &mut out)?;
    let hash = PasswordHash {
        algorithm: Ident::new_unwrap("argon2id"),
        version: Some(Version::V0x13.into()),
        params: ParamsString::try_from(&params).ok()?,
        salt: Some(salt.as_salt()),
        hash: Some(Output::new(&out).ok()?),
    };
    Some(hash.to_string())
}

/// Whether a password fits a hash; `None` stands for a member that does not exist, and never fits.
pub(crate) async fn verify(
    password: String,
    hash: Option<String>,
    lane: SignInLane,
) -> Result<bool, TooManySignIns> {
    let turn = turn(lane).await?;
    let verified = tokio::task::spawn_blocking(move || {
        let _turn = turn;
        let fits = fits(&password, hash.as_deref().unwrap_or(NOBODY)).unwrap_or(false);
        fits && hash.is_some()
    });
    Ok(verified.await.unwrap_or(false))
}

fn fits(password: &str, text: &str) -> Option<bool> {
    let parsed = PasswordHash::new(text).ok()?;
    let params = Params::try_from(&parsed).ok()?;
    let (salt, expected): (Salt<'_>, Output) = (parsed.salt?, parsed.hash?);
    let mut bytes = [0u8; 64];
    let salt = salt.decode_b64(&mut bytes).ok()?;
    let mut out = vec![0u8; expected.len()];
    derive(password, salt, &params, &mut out)?;
    // Compared in a time that does not depend on where they part.
    Some(Output::new(&out).ok()? == expected)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("short", false)]
    #[case("password1234", false)]
    #[case("qwertyuiop12", false)]
    #[case("mara mara mara", false)]
    #[case("russet ladder harvest moon", true)]
    fn strength(#[case] password: &str, #[case] fine: bool) {
        assert_eq!(check_strength(password, "mara").is_ok(), fine);
    }

    #[tokio::test]
    async fn only_the_right_password_fits_and_nobody_has_none() {
        let hashed = hash("russet ladder".into(), SignInLane::Known).await.unwrap().unwrap();
        assert!(hashed.starts_with("$argon2id$v=19$m=19456,t=2,p=1$"), "{hashed}");
        assert!(verify("russet ladder".into(), Some(hashed.clone()), SignInLane::Known).await.unwrap());
        assert!(!verify("russet ladders".into(), Some(hashed), SignInLane::Known).await.unwrap());
        assert!(!verify("russet ladder".into(), None, SignInLane::Known).await.unwrap());
        assert!(PasswordHash::new(NOBODY).is_ok(), "the stand-in must be a real hash, or it would be quick");
    }

    #[test]
    fn hashes_of_the_library_itself_fit_too() {
        use argon2::PasswordHasher;
        let salt = SaltString::encode_b64(b"sixteen bytes ok").unwrap();
        let kept = Argon2::default().hash_password(b"russet ladder", &salt).unwrap().to_string();
        assert_eq!(fits("russet ladder", &kept), Some(true));
        assert_eq!(fits("russet ladders", &kept), Some(false));
        assert_eq!(fits("x", &kept.replace("m=19456", "m=4194304")), None, "no record takes all memory");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn hundreds_of_strangers_take_the_memory_of_a_few_and_keep_nobody_else_out() {
        let strangers = tokio::spawn(futures_util::future::join_all(
            (0..200).map(|n| tokio::spawn(verify(format!("guess {n}"), None, SignInLane::Stranger))),
        ));
        while STRANGERS.waiting.available_permits() > 0 {
            tokio::task::yield_now().await;
        }
        let known = verify("one of us".into(), None, SignInLane::Known).await;
        assert_eq!(known, Ok(false), "it does not wait in that queue");
        assert!(STRANGERS.waiting.available_permits() < MOST_WAITING, "nor for its end");
        let all = strangers.await.unwrap();
        let outcomes: Vec<Result<bool, TooManySignIns>> = all.into_iter().map(|r| r.unwrap()).collect();
        assert!(outcomes.iter().filter(|o| o.is_err()).count() >= 100, "most are told to come again");
        assert!(outcomes.iter().all(|o| *o != Ok(true)));
        assert!(BUFFERS.lock().len() <= 2);
    }
}
