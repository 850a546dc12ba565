//! Calls that read: the objects of hosts, usage, merged logs, the timeline.

use gubernum_api::logs::{KeepRule, NewKeepRule};
use gubernum_api::requests::SetHost;
use gubernum_api::timeline::TimelineEvent;
use gubernum_api::usage::{CurrentUsage, History, Ranking};
use gubernum_api::views::{ImageDetail, Processes};
use gubernum_api::{Host, ImageRow, NetworkRow, PortRow, StackRow, VolumeRow};
use reqwest::Method;

use crate::client::{Client, TIMEOUT, container_path, encoded};
use crate::error::ClientError;
use crate::lines::MergedStream;

impl Client {
    /// The logs of many containers, merged; `fields` are those of `GET /api/v1/logs`.
    ///
    /// # Errors
    /// When nothing matches or a pattern cannot be read.
    pub async fn merged_logs(&self, fields: &[(&str, String)]) -> Result<MergedStream, ClientError> {
        let response = self.send(self.request(Method::GET, "/api/v1/logs").query(fields)).await?;
        Ok(MergedStream::new(response))
    }

    /// All images; `fields` narrow them down: `host`, `unused`.
    ///
    /// # Errors
    /// When a field is invalid.
    pub async fn images(&self, fields: &[(&str, String)]) -> Result<Vec<ImageRow>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/images").query(fields)).await
    }

    /// One image in full, by id or tag.
    ///
    /// # Errors
    /// When nothing or several match.
    pub async fn image(&self, name: &str) -> Result<ImageDetail, ClientError> {
        self.get(&format!("/api/v1/images/{}", encoded(name))).await
    }

    /// All volumes; `fields` narrow them down.
    ///
    /// # Errors
    /// When a field is invalid.
    pub async fn volumes(&self, fields: &[(&str, String)]) -> Result<Vec<VolumeRow>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/volumes").query(fields)).await
    }

    /// All networks; `fields` narrow them down.
    ///
    /// # Errors
    /// When a field is invalid.
    pub async fn networks(&self, fields: &[(&str, String)]) -> Result<Vec<NetworkRow>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/networks").query(fields)).await
    }

    /// All stacks.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn stacks(&self) -> Result<Vec<StackRow>, ClientError> {
        self.get("/api/v1/stacks").await
    }

    /// What listens where; `fields` narrow it down: `host`, `port`.
    ///
    /// # Errors
    /// When a field is invalid.
    pub async fn ports(&self, fields: &[(&str, String)]) -> Result<Vec<PortRow>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/ports").query(fields)).await
    }

    /// The timeline; `fields` are those of `GET /api/v1/timeline`.
    ///
    /// # Errors
    /// When a field is invalid.
    pub async fn timeline(&self, fields: &[(&str, String)]) -> Result<Vec<TimelineEvent>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/timeline").query(fields)).await
    }

    /// What containers use now; `fields` narrow them down: `reference`, `stack`, `host`.
    ///
    /// # Errors
    /// When a field is invalid.
    pub async fn use_now(&self, fields: &[(&str, String)]) -> Result<Vec<CurrentUsage>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/usage").query(fields)).await
    }

    /// Resource history; `fields` are those of `GET /api/v1/history`.
    ///
    /// # Errors
    /// When nothing matches or a field is invalid.
    pub async fn history(&self, fields: &[(&str, String)]) -> Result<History, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/history").query(fields)).await
    }

    /// Who used most of a figure in a time; `fields` are those of `GET /api/v1/usage-ranking`.
    ///
    /// # Errors
    /// When a field is invalid.
    pub async fn usage_ranking(&self, fields: &[(&str, String)]) -> Result<Ranking, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/usage-ranking").query(fields)).await
    }

    /// Changes settings of a host.
    ///
    /// # Errors
    /// When there is no such host or the setting is invalid.
    pub async fn set_host(&self, name: &str, wish: &SetHost) -> Result<Host, ClientError> {
        self.json(self.request(Method::PATCH, &format!("/api/v1/hosts/{}", encoded(name))).json(wish)).await
    }

    /// The rules by which log lines are kept.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn kept_logs(&self) -> Result<Vec<KeepRule>, ClientError> {
        self.get("/api/v1/kept-logs").await
    }

    /// Keeps the lines of some containers.
    ///
    /// # Errors
    /// When there is such a rule or it is invalid.
    pub async fn keep_logs(&self, rule: &NewKeepRule) -> Result<KeepRule, ClientError> {
        self.post("/api/v1/kept-logs", rule).await
    }

    /// Ends keeping by a rule.
    ///
    /// # Errors
    /// When nothing has that number.
    pub async fn stop_keeping_logs(&self, id: u64) -> Result<(), ClientError> {
        let path = format!("/api/v1/kept-logs/{id}");
        self.send(self.request(Method::DELETE, &path).timeout(TIMEOUT)).await.map(|_| ())
    }

    /// The processes of a running container.
    ///
    /// # Errors
    /// When it does not run.
    pub async fn processes(&self, reference: &str) -> Result<Processes, ClientError> {
        self.get(&format!("{}/processes", container_path(reference))).await
    }
}
