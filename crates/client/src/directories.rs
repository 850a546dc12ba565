//! Directories that members sign in through.

use gubernum_api::directories::{Directory, DirectoryKind, DirectoryTest, SetDirectory};
use reqwest::Method;

use crate::client::Client;
use crate::error::ClientError;

fn path(kind: DirectoryKind) -> String {
    format!("/api/v1/directories/{}", kind.word())
}

impl Client {
    /// The directories that are set up.
    ///
    /// # Errors
    /// When not allowed.
    pub async fn directories(&self) -> Result<Vec<Directory>, ClientError> {
        self.get("/api/v1/directories").await
    }

    /// Sets a directory up, in place of what was set up for its kind.
    ///
    /// # Errors
    /// When the settings are invalid, or not allowed.
    pub async fn set_directory(&self, wish: &SetDirectory) -> Result<Directory, ClientError> {
        self.json(self.request(Method::PUT, &path(wish.settings.kind())).json(wish)).await
    }

    /// Tries a directory without setting it up.
    ///
    /// # Errors
    /// As [`Client::set_directory`].
    pub async fn test_directory(&self, wish: &SetDirectory) -> Result<DirectoryTest, ClientError> {
        self.post(&format!("{}/test", path(wish.settings.kind())), wish).await
    }

    /// Forgets a directory.
    ///
    /// # Errors
    /// When none of this kind is set up.
    pub async fn remove_directory(&self, kind: DirectoryKind) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &path(kind))).await.map(|_| ())
    }
}
