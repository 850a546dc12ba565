//! Signing in and out.

use std::io::{BufRead, Write};

use gubernum_api::requests::{Claim, NewToken};
use gubernum_client::{Client, ClientError};

use crate::arguments::{Connection, SignIn};
use crate::connection::{DEFAULT_URL, Kept, forget, keep, kept, trust};
use crate::exit::{FINE, Failure};
use crate::table::say;

/// Days that a kept token lasts.
const DAYS: u32 = 90;

/// Asks for a secret on the terminal, without showing it; where there is no terminal, says which flag takes it instead.
pub(super) fn ask_secret(prompt: &str, flag: &str) -> Result<String, Failure> {
    rpassword::prompt_password(prompt)
        .map_err(|_| Failure::Usage(format!("no terminal to ask on; use '{flag}'")))
}

pub(super) async fn sign_in(wish: SignIn, connection: &Connection) -> Result<u8, Failure> {
    let url = wish.address.or_else(|| connection.url.clone()).unwrap_or_else(|| DEFAULT_URL.to_owned());
    let client = Client::new(&url, None, trust(connection.fingerprint.as_ref()))?;
    let state = client.service().await?;
    if state.unclaimed && wish.claim.is_none() {
        let text = "this service is not claimed yet; use '--claim CODE' with the code that it printed when it was started";
        return Err(Failure::NotSignedIn(text.to_owned()));
    }
    let member = match wish.member {
        Some(member) => member,
        None => ask("Member: ")?,
    };
    let password = if wish.password_stdin {
        let mut line = String::new();
        std::io::stdin().lock().read_line(&mut line)?;
        line.trim_end_matches(['\r', '\n']).to_owned()
    } else {
        ask_secret("Password: ", "--password-stdin")?
    };
    let session = match wish.claim {
        Some(code) => client.claim(&Claim { code, member, password }).await?,
        None => with_code(&client, gubernum_api::requests::SignIn { member, password, code: None }).await?,
    };
    let machine = std::env::var("HOSTNAME").unwrap_or_else(|_| "this machine".to_owned());
    let name = format!("command line on {machine}");
    let made = session
        .make_token(&NewToken { name, expires_in_days: Some(DAYS), bounds: None, networks: Vec::new() })
        .await?;
    session.sign_out().await?;
    let path = keep(&Kept {
        url,
        token: made.secret,
        token_id: made.token.id,
        fingerprint: connection.fingerprint.clone(),
    })?;
    say(&format!(
        "Signed in as {}. A token for {DAYS} days is saved in {}",
        made.token.member,
        path.display()
    ))?;
    Ok(FINE)
}

/// Signs in; asks for a code where the member has a second factor.
async fn with_code(client: &Client, wish: gubernum_api::requests::SignIn) -> Result<Client, Failure> {
    match client.sign_in(&wish).await {
        Err(ClientError::Problem(problem)) if problem.word() == "code-needed" => {
            let code = Some(ask("Code: ")?);
            Ok(client.sign_in(&gubernum_api::requests::SignIn { code, ..wish }).await?)
        }
        other => Ok(other?),
    }
}

fn ask(question: &str) -> Result<String, Failure> {
    let mut err = std::io::stderr();
    err.write_all(question.as_bytes())?;
    err.flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim().to_owned())
}

pub(super) async fn sign_out(connection: &Connection) -> Result<u8, Failure> {
    let Some(kept) = kept()? else {
        say("You were not signed in.")?;
        return Ok(FINE);
    };
    let fingerprint = connection.fingerprint.clone().or(kept.fingerprint);
    let client = Client::new(&kept.url, Some(kept.token), trust(fingerprint.as_ref()))?;
    let path = format!("/api/v1/tokens/{}", kept.token_id);
    // The token is forgotten here in any case; a service that is gone keeps it until it runs out.
    let revoked =
        client.raw(reqwest::Method::DELETE, &path, None).await.is_ok_and(|(status, _)| status.is_success());
    forget()?;
    say(if revoked {
        "Signed out; the token is revoked."
    } else {
        "Signed out here; the token could not be revoked at the service."
    })?;
    Ok(FINE)
}
