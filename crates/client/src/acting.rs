//! Calls for changes: definitions, earlier revisions, registries, leftovers, newer images.

use gubernum_api::images::{
    DefinitionView, FoundImage, ImageCheck, NewRegistry, Preferences, Registry, Revision, SetKeepNote,
    TagList, Translate,
};
use gubernum_api::jobs::{JobRow, JobRun, JobRunOutput};
use gubernum_api::requests::Reveal;
use gubernum_api::sources::{SetSource, StackSource};
use gubernum_api::stacks::{
    CheckStack, DriftRow, RevisionDifference, StackDefinition, StackReport, StackRevision,
};
use gubernum_api::views::{Adoption, Drift, Variable};
use gubernum_api::{Operation, Suggestion, TidyPiece};
use reqwest::Method;
use serde_json::json;

use crate::client::{Client, TIMEOUT, container_path, encoded};
use crate::error::ClientError;

impl Client {
    /// What a container was made with; values that look like secrets are hidden.
    ///
    /// # Errors
    /// When nothing or several match.
    pub async fn definition(&self, reference: &str) -> Result<DefinitionView, ClientError> {
        self.get(&format!("{}/definition", container_path(reference))).await
    }

    /// What a clone of a container would be made with on a host, under a name.
    ///
    /// # Errors
    /// When nothing or several match, or one of the hosts cannot be reached.
    pub async fn clone_definition(
        &self,
        reference: &str,
        host: &str,
        name: &str,
    ) -> Result<DefinitionView, ClientError> {
        let path = format!("{}/clone", container_path(reference));
        self.json(self.request(Method::GET, &path).query(&[("host", host), ("name", name)])).await
    }

    /// The earlier states of a container, the newest first.
    ///
    /// # Errors
    /// When nothing or several match.
    pub async fn earlier(&self, reference: &str) -> Result<Vec<Revision>, ClientError> {
        self.get(&format!("{}/earlier", container_path(reference))).await
    }

    /// The revisions of a stack on a host, the newest first.
    ///
    /// # Errors
    /// When the service cannot be reached or refuses.
    pub async fn stack_revisions(&self, host: &str, stack: &str) -> Result<Vec<StackRevision>, ClientError> {
        self.get(&format!("/api/v1/stacks/{}/{}/revisions", encoded(host), encoded(stack))).await
    }

    /// A revision of a stack with its files; what looks like a secret is hidden in it.
    ///
    /// # Errors
    /// When nothing has this number.
    pub async fn stack_definition(
        &self,
        host: &str,
        stack: &str,
        number: u64,
    ) -> Result<StackDefinition, ClientError> {
        self.get(&format!("/api/v1/stacks/{}/{}/revisions/{number}", encoded(host), encoded(stack))).await
    }

    /// What differs in the texts of two revisions of a stack; of a revision and the one before it when `from` is absent.
    ///
    /// # Errors
    /// When one of them is not there.
    pub async fn stack_difference(
        &self,
        host: &str,
        stack: &str,
        number: u64,
        from: Option<u64>,
    ) -> Result<RevisionDifference, ClientError> {
        let base =
            format!("/api/v1/stacks/{}/{}/revisions/{number}/difference", encoded(host), encoded(stack));
        let from = from.map(|from| format!("?from={from}")).unwrap_or_default();
        self.get(&format!("{base}{from}")).await
    }

    /// Everything to report about a stack's files. Nothing is kept.
    ///
    /// # Errors
    /// When the service cannot be reached or refuses.
    pub async fn check_stack(&self, wish: &CheckStack) -> Result<StackReport, ClientError> {
        self.post("/api/v1/stacks/check", wish).await
    }

    /// The repository that a stack follows.
    ///
    /// # Errors
    /// When it follows none.
    pub async fn stack_source(&self, host: &str, stack: &str) -> Result<StackSource, ClientError> {
        self.get(&format!("/api/v1/stacks/{}/{}/source", encoded(host), encoded(stack))).await
    }

    /// Has a stack follow a place in a Git repository.
    ///
    /// # Errors
    /// When the service refuses.
    pub async fn set_stack_source(
        &self,
        host: &str,
        stack: &str,
        wish: &SetSource,
    ) -> Result<StackSource, ClientError> {
        let path = format!("/api/v1/stacks/{}/{}/source", encoded(host), encoded(stack));
        self.json(self.request(Method::PUT, &path).json(wish)).await
    }

    /// Removes the repository of a stack; the stack stays as it is.
    ///
    /// # Errors
    /// When it follows none.
    pub async fn remove_stack_source(&self, host: &str, stack: &str) -> Result<(), ClientError> {
        let path = format!("/api/v1/stacks/{}/{}/source", encoded(host), encoded(stack));
        self.send(self.request(Method::DELETE, &path)).await.map(drop)
    }

    /// Has a stack's repository looked at now.
    ///
    /// # Errors
    /// When it follows none.
    pub async fn look_at_stack_source(&self, host: &str, stack: &str) -> Result<StackSource, ClientError> {
        self.json(self.request(
            Method::POST,
            &format!("/api/v1/stacks/{}/{}/source/look", encoded(host), encoded(stack)),
        ))
        .await
    }

    /// Gives the hook of a stack's repository another secret.
    ///
    /// # Errors
    /// When it follows none.
    pub async fn fresh_hook_secret(&self, host: &str, stack: &str) -> Result<StackSource, ClientError> {
        self.json(self.request(
            Method::POST,
            &format!("/api/v1/stacks/{}/{}/source/hook-secret", encoded(host), encoded(stack)),
        ))
        .await
    }

    /// All jobs, with when each is due next and what its last run came to.
    ///
    /// # Errors
    /// When the service cannot be reached or refuses.
    pub async fn jobs(&self) -> Result<Vec<JobRow>, ClientError> {
        self.get("/api/v1/jobs").await
    }

    /// The runs of a job that are kept, the newest first.
    ///
    /// # Errors
    /// When there is no such job.
    pub async fn job_runs(&self, host: &str, stack: &str, service: &str) -> Result<Vec<JobRun>, ClientError> {
        let path = format!("/api/v1/jobs/{}/{}/{}/runs", encoded(host), encoded(stack), encoded(service));
        self.get(&path).await
    }

    /// A run of a job with what it said.
    ///
    /// # Errors
    /// When it is not kept any more.
    pub async fn job_run(&self, id: u64) -> Result<JobRunOutput, ClientError> {
        self.get(&format!("/api/v1/job-runs/{id}")).await
    }

    /// The stacks that were deployed by way of Gubernum, and which of them are not as their newest revision says.
    ///
    /// # Errors
    /// When the service cannot be reached or refuses.
    pub async fn drifts(&self) -> Result<Vec<DriftRow>, ClientError> {
        self.get("/api/v1/drift").await
    }

    /// What differs between a stack as it was applied last and what runs.
    ///
    /// # Errors
    /// When it was never applied, or its host cannot be asked.
    pub async fn stack_drift(&self, host: &str, stack: &str) -> Result<Drift, ClientError> {
        self.get(&format!("/api/v1/stacks/{}/{}/drift", encoded(host), encoded(stack))).await
    }

    /// Writes a stack that runs down as a text, and keeps it as its newest revision where `keeps` says so.
    ///
    /// # Errors
    /// When it cannot be written down so that nothing changes; then why.
    pub async fn adopt_stack(&self, host: &str, stack: &str, keeps: bool) -> Result<Adoption, ClientError> {
        let base = format!("/api/v1/stacks/{}/{}", encoded(host), encoded(stack));
        if keeps {
            self.json(self.request(Method::POST, &format!("{base}/adopt"))).await
        } else {
            self.get(&format!("{base}/text")).await
        }
    }

    /// The value of a hidden variable; this is written to the audit log.
    ///
    /// # Errors
    /// When nothing has this name.
    pub async fn reveal(&self, reference: &str, variable: &str) -> Result<Variable, ClientError> {
        let wish = Reveal { variable: variable.to_owned() };
        self.post(&format!("{}/reveal", container_path(reference)), &wish).await
    }

    /// Turns Compose text into a definition or back, and judges it for a host where one is named.
    ///
    /// # Errors
    /// The first error of the text, with its place.
    pub async fn translate(
        &self,
        wish: &Translate,
        host: Option<&str>,
    ) -> Result<DefinitionView, ClientError> {
        let mut request = self.request(Method::POST, "/api/v1/definitions/translate").json(wish);
        if let Some(host) = host {
            request = request.query(&[("host", host)]);
        }
        self.json(request).await
    }

    /// Asks once more for the targets of an operation that failed.
    ///
    /// # Errors
    /// When it is under way or nothing failed.
    pub async fn retry(&self, id: u64) -> Result<Operation, ClientError> {
        self.post(&format!("/api/v1/operations/{id}/retry"), &json!({})).await
    }

    /// The registries that are set.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn registries(&self) -> Result<Vec<Registry>, ClientError> {
        self.get("/api/v1/registries").await
    }

    /// Sets a registry after trying it.
    ///
    /// # Errors
    /// Why the registry did not take it.
    pub async fn set_registry(&self, new: &NewRegistry) -> Result<Registry, ClientError> {
        self.json(self.request(Method::PUT, "/api/v1/registries").json(new)).await
    }

    /// Tries a registry without keeping it.
    ///
    /// # Errors
    /// Why the registry did not take it.
    pub async fn test_registry(&self, new: &NewRegistry) -> Result<(), ClientError> {
        let request = self.request(Method::POST, "/api/v1/registries/test").json(new);
        self.send(request.timeout(TIMEOUT)).await.map(drop)
    }

    /// Forgets a registry.
    ///
    /// # Errors
    /// When it is not set.
    pub async fn remove_registry(&self, address: &str) -> Result<(), ClientError> {
        let path = format!("/api/v1/registries/{}", encoded(address));
        self.send(self.request(Method::DELETE, &path).timeout(TIMEOUT)).await.map(drop)
    }

    /// The tags of an image at its registry.
    ///
    /// # Errors
    /// Why the registry did not tell.
    pub async fn tags(&self, image: &str, limit: usize) -> Result<TagList, ClientError> {
        let query = [("image", image.to_owned()), ("limit", limit.to_string())];
        self.json(self.request(Method::GET, "/api/v1/registry-tags").query(&query)).await
    }

    /// Images whose names hold a text.
    ///
    /// # Errors
    /// When the text is empty.
    pub async fn search_images(&self, text: &str) -> Result<Vec<FoundImage>, ClientError> {
        self.json(self.request(Method::GET, "/api/v1/image-search").query(&[("text", text)])).await
    }

    /// Everything that nothing uses.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn leftovers(&self) -> Result<Vec<Suggestion>, ClientError> {
        self.get("/api/v1/leftovers").await
    }

    /// Says that something is to be kept when things are tidied, or takes that back.
    ///
    /// # Errors
    /// When there is no such host.
    pub async fn keep(&self, piece: &TidyPiece, keep: bool, text: &str) -> Result<(), ClientError> {
        let wish = SetKeepNote { piece: piece.clone(), keep, text: text.to_owned() };
        let request = self.request(Method::PUT, "/api/v1/leftovers/keep").json(&wish);
        self.send(request.timeout(TIMEOUT)).await.map(drop)
    }

    /// What is known of newer images.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn image_checks(&self) -> Result<Vec<ImageCheck>, ClientError> {
        self.get("/api/v1/image-checks").await
    }

    /// Asks all registries now for newer images.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn check_images(&self) -> Result<Vec<ImageCheck>, ClientError> {
        self.post("/api/v1/image-checks", &json!({})).await
    }

    /// Settings of the whole service.
    ///
    /// # Errors
    /// When not signed in.
    pub async fn preferences(&self) -> Result<Preferences, ClientError> {
        self.get("/api/v1/preferences").await
    }

    /// Sets them.
    ///
    /// # Errors
    /// When one is beyond its limits.
    pub async fn set_preferences(&self, new: &Preferences) -> Result<Preferences, ClientError> {
        self.json(self.request(Method::PUT, "/api/v1/preferences").json(new)).await
    }
}
