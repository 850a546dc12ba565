//! The service's records, and approvals by a second member.

use gubernum_api::guard::{Approval, DecideApproval, StepUp, SteppedUp, ViewAs};
use gubernum_api::members::Profile;
use gubernum_api::records::{SealRotated, SyslogSettings, SyslogState};
use reqwest::Method;

use crate::client::Client;
use crate::error::ClientError;

impl Client {
    /// What waits for a second member's word, and what was decided lately.
    ///
    /// # Errors
    /// When not allowed.
    pub async fn approvals(&self) -> Result<Vec<Approval>, ClientError> {
        self.get("/api/v1/approvals").await
    }

    /// Approves or refuses what another asks for.
    ///
    /// # Errors
    /// When it does not wait any more, is one's own, or one may not.
    pub async fn decide_approval(&self, id: u64, approve: bool) -> Result<(), ClientError> {
        let request = self.request(Method::POST, &format!("/api/v1/approvals/{id}"));
        self.send(request.json(&DecideApproval { approve })).await.map(|_| ())
    }

    /// Where the audit log is sent.
    ///
    /// # Errors
    /// When not allowed.
    pub async fn syslog(&self) -> Result<SyslogState, ClientError> {
        self.get("/api/v1/syslog").await
    }

    /// Sends the audit log to a collector.
    ///
    /// # Errors
    /// When the settings are invalid, or not allowed.
    pub async fn set_syslog(&self, settings: &SyslogSettings) -> Result<SyslogState, ClientError> {
        self.json(self.request(Method::PUT, "/api/v1/syslog").json(settings)).await
    }

    /// Sends it nowhere any more.
    ///
    /// # Errors
    /// When it is not sent anywhere.
    pub async fn remove_syslog(&self) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, "/api/v1/syslog")).await.map(|_| ())
    }

    /// Seals all secrets with a fresh key.
    ///
    /// # Errors
    /// When not allowed, or the key file cannot be written.
    pub async fn rotate_seal(&self) -> Result<SealRotated, ClientError> {
        self.json(self.request(Method::POST, "/api/v1/seal-rotations")).await
    }

    /// What one has set for oneself.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn profile(&self) -> Result<Profile, ClientError> {
        self.get("/api/v1/profile").await
    }

    /// Sets it.
    ///
    /// # Errors
    /// When something is invalid.
    pub async fn set_profile(&self, profile: &Profile) -> Result<Profile, ClientError> {
        self.json(self.request(Method::PUT, "/api/v1/profile").json(profile)).await
    }

    /// Shows once more who one is; for a client that has signed in.
    ///
    /// # Errors
    /// When the password or the code is not right, or this is a token.
    pub async fn step_up(&self, wish: &StepUp) -> Result<SteppedUp, ClientError> {
        self.post("/api/v1/step-up", wish).await
    }

    /// Is as before one stepped up.
    ///
    /// # Errors
    /// When this is a token.
    pub async fn step_down(&self) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, "/api/v1/step-up")).await.map(|_| ())
    }

    /// Looks at everything through a role, or as oneself again.
    ///
    /// # Errors
    /// When no such role, or this is a token.
    pub async fn view_as(&self, role: Option<&str>) -> Result<(), ClientError> {
        let request = match role {
            Some(role) => {
                self.request(Method::PUT, "/api/v1/view-as").json(&ViewAs { role: role.to_owned() })
            }
            None => self.request(Method::DELETE, "/api/v1/view-as"),
        };
        self.send(request).await.map(|_| ())
    }
}
