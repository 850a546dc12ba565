//! The team at work together.

use gubernum_api::team::{Freeze, NewFreeze};
use reqwest::Method;

use crate::client::Client;
use crate::error::ClientError;

impl Client {
    /// The freezes that hold now.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn freezes(&self) -> Result<Vec<Freeze>, ClientError> {
        self.get("/api/v1/freezes").await
    }

    /// Holds changes to a part of the fleet.
    ///
    /// # Errors
    /// When it makes no sense, or not allowed.
    pub async fn freeze(&self, wish: &NewFreeze) -> Result<Freeze, ClientError> {
        self.post("/api/v1/freezes", wish).await
    }

    /// Lifts a freeze.
    ///
    /// # Errors
    /// When there is none of that number, or it is another's.
    pub async fn lift_freeze(&self, id: u64) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &format!("/api/v1/freezes/{id}"))).await.map(|_| ())
    }
}
