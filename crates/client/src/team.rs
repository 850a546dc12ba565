//! The team: presence, freezes, notes and queued operations.

use gubernum_api::team::{
    ChangeNote, Freeze, NewFreeze, NewNote, NewSnooze, Note, NotedObject, SeenMentions, Snooze, TeamState,
};
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
    /// When it is invalid, or not allowed.
    pub async fn freeze(&self, wish: &NewFreeze) -> Result<Freeze, ClientError> {
        self.post("/api/v1/freezes", wish).await
    }

    /// Lifts a freeze.
    ///
    /// # Errors
    /// When nothing has that number, or it is another's.
    pub async fn lift_freeze(&self, id: u64) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &format!("/api/v1/freezes/{id}"))).await.map(|_| ())
    }

    /// What is set aside now.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn snoozes(&self) -> Result<Vec<Snooze>, ClientError> {
        self.get("/api/v1/snoozes").await
    }

    /// Sets a reason for attention aside for a while.
    ///
    /// # Errors
    /// When it is invalid, or not allowed.
    pub async fn snooze(&self, wish: &NewSnooze) -> Result<Snooze, ClientError> {
        self.post("/api/v1/snoozes", wish).await
    }

    /// Ends a snooze before its time.
    ///
    /// # Errors
    /// When nothing has that number, or not allowed.
    pub async fn lift_snooze(&self, id: u64) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &format!("/api/v1/snoozes/{id}"))).await.map(|_| ())
    }

    /// The team at this moment.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn team(&self) -> Result<TeamState, ClientError> {
        self.get("/api/v1/team").await
    }

    /// The notes, the newest first; those on one object where one is named.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn notes(&self, on: Option<&NotedObject>) -> Result<Vec<Note>, ClientError> {
        let mut request = self.request(Method::GET, "/api/v1/notes");
        if let Some(on) = on {
            request = request.query(&[("on", on.to_string())]);
        }
        self.json(request).await
    }

    /// Writes a note.
    ///
    /// # Errors
    /// When the object is not there, or the text makes no note.
    pub async fn write_note(&self, wish: &NewNote) -> Result<Note, ClientError> {
        self.post("/api/v1/notes", wish).await
    }

    /// Changes a note.
    ///
    /// # Errors
    /// When nothing has that number, or its text is another's.
    pub async fn change_note(&self, id: u64, wish: &ChangeNote) -> Result<Note, ClientError> {
        self.json(self.request(Method::PATCH, &format!("/api/v1/notes/{id}")).json(wish)).await
    }

    /// Removes a note.
    ///
    /// # Errors
    /// When nothing has that number, or it is another's.
    pub async fn remove_note(&self, id: u64) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, &format!("/api/v1/notes/{id}"))).await.map(|_| ())
    }

    /// Says that notes which mention the member were seen.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn seen_mentions(&self, notes: &[u64]) -> Result<(), ClientError> {
        let wish = SeenMentions { notes: notes.to_vec() };
        self.send(self.request(Method::POST, "/api/v1/mentions/seen").json(&wish)).await.map(|_| ())
    }
}
