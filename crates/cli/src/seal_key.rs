//! `gubernum seal-key`: adds a passphrase to the key file of a data folder, changes it or removes it.

use crate::arguments_serve::SealKey;
use crate::exit::{FINE, Failure};
use crate::serve::{DataDir, open_seal, passphrase};
use crate::table::say;

pub(crate) fn run(wish: &SealKey) -> Result<u8, Failure> {
    if !wish.data_dir.join("seal.key").exists() {
        let text = format!("{} is not a data folder: it has no seal.key", wish.data_dir.display());
        return Err(Failure::Said(text));
    }
    // The service writes the file too, when keys change.
    let _data = DataDir::take(&wish.data_dir)?;
    let new = wish.new_passphrase_file.as_deref().map(passphrase).transpose()?;
    let seal = open_seal(&wish.data_dir, wish.passphrase.file.as_deref())?;
    seal.set_passphrase(new.as_deref()).map_err(|e| Failure::Said(e.to_string()))?;
    say(match new {
        Some(_) => {
            "seal.key now needs its passphrase: start the service with --passphrase-file. Without it no secret can be decrypted."
        }
        None => "seal.key no longer needs a passphrase.",
    })?;
    Ok(FINE)
}
