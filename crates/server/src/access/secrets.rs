//! Random secrets and their hashes.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::digest::{SHA256, digest};
use ring::rand::{SecureRandom, SystemRandom};

/// There was no randomness to be had.
#[derive(Debug, Clone, Copy, thiserror::Error)]
#[error("the machine provides no random numbers")]
pub struct NoRandomness;

/// A secret of 256 random bits as text, beginning with `prefix` so that a leaked one is recognised.
pub(crate) fn fresh(prefix: &str) -> Result<String, NoRandomness> {
    let mut bytes = [0u8; 32];
    SystemRandom::new().fill(&mut bytes).map_err(|_| NoRandomness)?;
    Ok(format!("{prefix}{}", URL_SAFE_NO_PAD.encode(bytes)))
}

/// What is kept of a secret. It is random itself, so a plain hash is enough.
pub(crate) fn hash(secret: &str) -> Vec<u8> {
    digest(&SHA256, secret.as_bytes()).as_ref().to_vec()
}

/// A claim code that can be typed: five groups of four from an alphabet without look-alikes (100 bits).
pub(crate) fn claim_code() -> Result<String, NoRandomness> {
    const ALPHABET: &[u8; 32] = b"ABCDEFGHJKLMNPQRSTUVWXYZ23456789";
    let mut bytes = [0u8; 20];
    SystemRandom::new().fill(&mut bytes).map_err(|_| NoRandomness)?;
    let letters: Vec<char> = bytes.iter().map(|b| char::from(ALPHABET[usize::from(b % 32)])).collect();
    Ok(letters.chunks(4).map(|group| group.iter().collect::<String>()).collect::<Vec<_>>().join("-"))
}

/// A code without what only helps to read it.
pub(crate) fn plain_code(text: &str) -> String {
    text.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_uppercase()
}

/// Compares claim codes without telling by time how much fits; case and spaces do not matter.
pub(crate) fn same_code(given: &str, expected: &str) -> bool {
    // Hashes have one length and tell nothing of where two texts part.
    hash(&plain_code(given)).iter().zip(hash(&plain_code(expected))).fold(0, |sum, (a, b)| sum | (a ^ b)) == 0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_typed_leniently() {
        let code = claim_code().unwrap();
        assert_eq!(code.len(), 24);
        assert!(same_code(&code.to_lowercase().replace('-', " "), &code));
        assert!(!same_code("", &code) && !same_code(&code[1..], &code));
    }

    #[test]
    fn secrets_differ_and_carry_256_bits() {
        let (a, b) = (fresh("gbt_").unwrap(), fresh("gbt_").unwrap());
        assert_ne!(a, b);
        assert_eq!(a.len(), 4 + 43);
        assert_ne!(hash(&a), hash(&b));
    }
}
