//! Passwords: strength when chosen, Argon2id at rest, one path for right and wrong names.

use argon2::Argon2;
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use ring::rand::{SecureRandom, SystemRandom};
use tokio::sync::Semaphore;

/// The fewest characters of a password.
pub(crate) const SHORTEST: usize = 10;
/// The most; more would only cost time.
pub(crate) const LONGEST: usize = 200;
/// Each hash takes about 19 MiB for a moment: so many at once.
static AT_ONCE: Semaphore = Semaphore::const_new(2);

/// A hash of nothing anybody uses, checked for names that do not exist so that they take as long.
const NOBODY: &str =
    "$argon2id$v=19$m=19456,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$jQ8yFqb1eKXf0Z7vY9O0h6t8m1cQ2v3w4x5y6z7A8B0";

/// Checks a new password; the error says what to do.
pub(crate) fn check_strength(password: &str, member: &str) -> Result<(), String> {
    let length = password.chars().count();
    if length < SHORTEST {
        return Err(format!(
            "the password has {length} characters, at least {SHORTEST} are needed; three or four unrelated words do well"
        ));
    }
    if length > LONGEST {
        return Err(format!("the password has {length} characters, at most {LONGEST} are taken"));
    }
    // Guessed from lists of common passwords, names, dates and keyboard patterns.
    let estimate = zxcvbn::zxcvbn(password, &[member, "gubernum"]);
    if estimate.score() < zxcvbn::Score::Three {
        return Err("the password is easily guessed (a common word, name or pattern); choose three or four unrelated words".to_owned());
    }
    Ok(())
}

/// Hashes a password.
pub(crate) async fn hash(password: String) -> Option<String> {
    let _turn = AT_ONCE.acquire().await.ok()?;
    tokio::task::spawn_blocking(move || hash_now(&password)).await.ok().flatten()
}

/// The same for callers that may block.
pub(crate) fn hash_now(password: &str) -> Option<String> {
    let mut bytes = [0u8; 16];
    SystemRandom::new().fill(&mut bytes).ok()?;
    let salt = SaltString::encode_b64(&bytes).ok()?;
    Argon2::default().hash_password(password.as_bytes(), &salt).ok().map(|h| h.to_string())
}

/// Whether a password fits a hash; `None` stands for a member that does not exist, and never fits.
pub(crate) async fn verify(password: String, hash: Option<String>) -> bool {
    let Ok(_turn) = AT_ONCE.acquire().await else { return false };
    let verified = tokio::task::spawn_blocking(move || {
        let text = hash.as_deref().unwrap_or(NOBODY);
        let Ok(parsed) = PasswordHash::new(text) else { return false };
        let fits = Argon2::default().verify_password(password.as_bytes(), &parsed).is_ok();
        fits && hash.is_some()
    });
    verified.await.unwrap_or(false)
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
        let hashed = hash("russet ladder".into()).await.unwrap();
        assert!(hashed.starts_with("$argon2id$"));
        assert!(verify("russet ladder".into(), Some(hashed.clone())).await);
        assert!(!verify("russet ladders".into(), Some(hashed)).await);
        assert!(!verify("russet ladder".into(), None).await);
        assert!(PasswordHash::new(NOBODY).is_ok(), "the stand-in must be a real hash, or it would be quick");
    }
}
