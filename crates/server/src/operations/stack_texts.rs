//! The files of stacks: a request is completed from saved revisions, files are checked, drift is computed, and a
//! running stack without files is written as a Compose file.

use std::collections::BTreeSet;

use gubernum_api::stacks::{CheckStack, RevisionDifference, StackDefinition, StackReport};
use gubernum_api::views::{Adoption, Drift};
use gubernum_core::compose::read::read;
use gubernum_core::compose::report::{FileNote, report};
use gubernum_core::moving::ports;
use gubernum_core::plan::request::{ApplyRequest, MoveKind, MoveRequest};
use gubernum_core::plan::{Kind, Request};
use gubernum_core::revision::StackRevision;
use gubernum_core::stack::difference::difference;
use gubernum_core::stack::{StackDescription, adopt, desired, hidden};
use gubernum_core::text::shown;

use crate::operations::runner::Runner;
use crate::operations::{Author, OperationError};

impl Runner {
    /// A request with everything in it: a revision of a stack with its files, and what is hidden in a text that was shown.
    pub(super) async fn complete(
        &self,
        request: Request,
        references: &[String],
    ) -> Result<Request, OperationError> {
        let apply = match request {
            Request::Apply(apply) => apply,
            Request::Move(wish) => {
                return Ok(Request::Move(self.with_origin(wish, references, "moved").await?));
            }
            Request::Clone(wish) => {
                return Ok(Request::Clone(self.with_origin(wish, references, "a copy").await?));
            }
            other => return Ok(other),
        };
        // Only what came from a repository says of which commit it is.
        let apply = ApplyRequest { commit: None, ..apply };
        if apply.waiting {
            return self.waiting(apply, references).await;
        }
        let hides = hidden::hides(&apply);
        if apply.revision.is_none() && !hides {
            return Ok(Request::Apply(apply));
        }
        let [host] = references else {
            let text = "a revision belongs to a stack on one host; name that host";
            return Err(OperationError::invalid("/targets", text));
        };
        let newest = if hides { self.kept(host, &apply.stack, None).await? } else { None };
        let apply = revealed(apply, newest.as_ref())?;
        let Some(number) = apply.revision else { return Ok(Request::Apply(apply)) };
        let Some(kept) = self.kept(host, &apply.stack, Some(number)).await? else {
            return Err(no_revision(number, &apply.stack));
        };
        let is_changed = !apply.variables.is_empty() || !apply.scale.is_empty();
        let said = if is_changed { changes_in_words(&apply) } else { format!("back to revision {number}") };
        let comment = apply.comment.clone().or(Some(said));
        Ok(Request::Apply(ApplyRequest { comment, ..apply }.with_revision(kept)))
    }

    /// Where something comes from that goes to another host, and of a stack what it is applied from there.
    async fn with_origin(
        &self,
        wish: MoveRequest,
        references: &[String],
        what: &str,
    ) -> Result<MoveRequest, OperationError> {
        let from = references.first().cloned().unwrap_or_default();
        let mut wish = MoveRequest { from: Some(from.clone()), definition: None, ..wish };
        let (host, name) = wish.origin();
        if wish.what != MoveKind::Stack || host.is_empty() {
            return Ok(wish);
        }
        let Some(kept) = self.kept(host, name, None).await? else { return Ok(wish) };
        let comment = wish_comment(what, &from);
        let mut apply = ApplyRequest {
            stack: wish.new_name().to_owned(),
            comment: Some(comment),
            watch_seconds: wish.watch_seconds,
            ..kept
        };
        if !wish.ports.is_empty() {
            let (given, ports) = (apply.clone(), wish.ports.clone());
            let text = tokio::task::spawn_blocking(move || {
                read(&given.given()).ok().and_then(|(_, stack)| ports::text(&stack, &ports))
            });
            if let Some(text) = text.await? {
                apply.files.insert(ports::FILE.to_owned(), text);
                if !apply.main.iter().any(|path| path == ports::FILE) {
                    apply.main.push(ports::FILE.to_owned());
                }
            }
        }
        wish.definition = Some(Box::new(apply));
        Ok(wish)
    }

    /// The commit that waits for approval.
    async fn waiting(&self, apply: ApplyRequest, references: &[String]) -> Result<Request, OperationError> {
        let [host] = references else {
            let text = "a commit waits for a stack on one host; name that host";
            return Err(OperationError::invalid("/targets", text));
        };
        let (at, stack) = (host.clone(), apply.stack.clone());
        let Some(found) = self.db.run(move |store| store.waiting_commit(&at, &stack)).await? else {
            let sentence =
                format!("no commit waits for approval of the stack '{}' on {host}", shown(&apply.stack, 60));
            return Err(OperationError::NotFound { field: Some("/waiting".to_owned()), sentence });
        };
        let comment = apply.comment.clone().or_else(|| found.comment.clone());
        Ok(Request::Apply(ApplyRequest { comment, ..apply }.with_revision(found)))
    }

    async fn kept(
        &self,
        host: &str,
        stack: &str,
        number: Option<u64>,
    ) -> Result<Option<ApplyRequest>, OperationError> {
        let (host, stack) = (host.to_owned(), stack.to_owned());
        Ok(self.db.run(move |store| store.stack_revision(&host, &stack, number)).await?)
    }

    /// The revisions of a stack on a host, the newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub(crate) async fn revisions(
        &self,
        host: &str,
        stack: &str,
    ) -> Result<Vec<StackRevision>, OperationError> {
        let (host, stack) = (host.to_owned(), stack.to_owned());
        Ok(self.db.run(move |store| store.stack_revisions(&host, &stack)).await?)
    }

    async fn numbered(
        &self,
        host: &str,
        stack: &str,
        number: u64,
    ) -> Result<(StackRevision, ApplyRequest), OperationError> {
        let found = self.revisions(host, stack).await?.into_iter().find(|r| r.number == number);
        let kept = self.kept(host, stack, Some(number)).await?;
        found.zip(kept).ok_or_else(|| no_revision(number, stack))
    }

    /// A revision with its files, as everybody may see it.
    ///
    /// # Errors
    /// When nothing has this number.
    pub(crate) async fn definition_of(
        &self,
        host: &str,
        stack: &str,
        number: u64,
    ) -> Result<StackDefinition, OperationError> {
        let (revision, kept) = self.numbered(host, stack, number).await?;
        let shown = tokio::task::spawn_blocking(move || {
            let meaning = read(&kept.given()).ok().map(|(_, stack)| stack);
            hidden::shown(&kept, meaning.as_ref())
        });
        let ApplyRequest { files, main, variables, profiles, scale, .. } = shown.await?;
        Ok(StackDefinition { revision, files, main, variables, profiles, scale })
    }

    /// What differs from one revision to another; from the one before when `from` is absent.
    ///
    /// # Errors
    /// When one of them is not there.
    pub(crate) async fn difference_of(
        &self,
        host: &str,
        stack: &str,
        number: u64,
        from: Option<u64>,
    ) -> Result<RevisionDifference, OperationError> {
        let (_, after) = self.numbered(host, stack, number).await?;
        let before = match from {
            Some(from) => Some(self.numbered(host, stack, from).await?.1),
            None => match self.revisions(host, stack).await?.into_iter().find(|r| r.number < number) {
                Some(earlier) => self.kept(host, stack, Some(earlier.number)).await?,
                None => None,
            },
        };
        Ok(tokio::task::spawn_blocking(move || difference(before.as_ref(), &after)).await?)
    }

    /// Everything to report about a stack's files. Keeps nothing and asks no engine.
    ///
    /// # Errors
    /// When the request itself is invalid. Errors of the text are in what is reported.
    pub(crate) async fn check_stack(&self, wish: CheckStack) -> Result<StackReport, OperationError> {
        let CheckStack { host, stack, files, main, variables, profiles } = wish;
        let name = stack.clone();
        // (A text that is not finished may not say its name yet.)
        let stack = stack.unwrap_or_else(|| "unnamed".to_owned());
        let mut wish = ApplyRequest { stack, files, main, variables, profiles, ..ApplyRequest::default() };
        Request::Apply(wish.clone()).check()?;
        if hidden::hides(&wish) {
            let newest = match &host {
                Some(host) => self.kept(host, &wish.stack, None).await?,
                None => None,
            };
            wish = revealed(wish, newest.as_ref())?;
        }
        let db = self.db.clone();
        let told = tokio::task::spawn_blocking(move || {
            let given = gubernum_core::compose::StackInput { name: name.as_deref(), ..wish.given() };
            let (mut told, read) = report(&given);
            if let Some((loaded, stack)) = &read {
                let mark = |parts: &[&[u8]]| db.seal().mark("configs and secrets", parts);
                let (name, scale) = (&wish.stack, &wish.scale);
                let wish = StackDescription { loaded, stack, name, scale, given: &given, mark: &mark };
                if let Err(errors) = desired(&wish) {
                    told.valid = false;
                    told.errors.extend(errors.iter().map(FileNote::from));
                }
            }
            told
        });
        Ok(told.await?)
    }

    /// What differs between a stack as it was applied last and what runs; `None` when it was never applied here.
    ///
    /// # Errors
    /// When the host cannot be asked.
    pub(crate) async fn drift(&self, host: &str, stack: &str) -> Result<Option<Drift>, OperationError> {
        let Some(newest) = self.revisions(host, stack).await?.into_iter().next() else { return Ok(None) };
        let Some(request) = self.kept(host, stack, Some(newest.number)).await? else { return Ok(None) };
        let request = Request::Apply(ApplyRequest { remove_rest: false, ..request });
        let planned = self.planner.plan(&request, &[host.to_owned()]).await?;
        let targets = planned.into_iter().map(|p| p.plan).filter(|p| p.unchanged.is_none()).collect();
        Ok(Some(Drift { revision: newest.number, targets }))
    }

    /// Whether something is under way that changes containers of a stack.
    pub(crate) fn is_changing(&self, host: &str, stack: &str) -> bool {
        let mut running = self.active.running();
        // A job runs beside the stack and changes nothing of it.
        running.retain(|operation| operation.request.kind() != Kind::Run);
        if running.is_empty() {
            return false;
        }
        let whole = format!("{host}/{stack}");
        let of_stack: BTreeSet<String> = self.hub.look(|fleet| {
            let all = fleet.containers_of(host).filter(|c| c.stack.as_deref() == Some(stack));
            all.map(|c| c.name.clone()).collect()
        });
        running.iter().any(|operation| {
            operation.references.contains(&whole)
                || operation.targets.iter().any(|t| t.host == host && of_stack.contains(&t.name))
        })
    }

    /// Writes a stack that runs down as a text, and keeps that as its newest revision where `keeps` says so.
    ///
    /// # Errors
    /// When the host cannot be asked, or what runs cannot be written down; then why.
    pub(crate) async fn adopt(
        &self,
        host: &str,
        stack: &str,
        author: &Author,
        keeps: bool,
    ) -> Result<Adoption, OperationError> {
        let mut present = self.planner.stack_on(host, stack).await?;
        let refused = |wrong: Vec<String>| OperationError::invalid("/stack", wrong.join("; "));
        let text = adopt::written(stack, &present).map_err(refused)?;
        let differing = adopt::differing(&text, stack, &present);
        if !differing.is_empty() {
            let mut all =
                vec!["what runs cannot be expressed as Compose text without changing it".to_owned()];
            all.extend(differing);
            return Err(refused(all));
        }
        for container in &mut present.containers {
            container.definition = container.definition.masked();
        }
        let shown = adopt::written(stack, &present).map_err(refused)?;
        if !keeps {
            return Ok(Adoption { text: shown, revision: None });
        }
        let request = ApplyRequest {
            stack: stack.to_owned(),
            files: [(adopt::FILE.to_owned(), text)].into(),
            main: vec![adopt::FILE.to_owned()],
            comment: Some("saved from what ran".to_owned()),
            ..ApplyRequest::default()
        };
        Request::Apply(request.clone()).check()?;
        let (host, member, now) = (host.to_owned(), author.member.clone(), self.clock.now());
        let revision = self.db.run(move |store| store.adopt(&host, &request, &member, now)).await?;
        Ok(Adoption { text: shown, revision: Some(revision) })
    }
}

fn wish_comment(what: &str, from: &str) -> String {
    let preposition = if what == "moved" { "from" } else { "of" };
    shown(&format!("{what} {preposition} {from}"), 400)
}

fn no_revision(number: u64, stack: &str) -> OperationError {
    let sentence = format!("no revision {number} of the stack '{}' on this host", shown(stack, 60));
    OperationError::NotFound { field: Some("/revision".to_owned()), sentence }
}

fn revealed(request: ApplyRequest, before: Option<&ApplyRequest>) -> Result<ApplyRequest, OperationError> {
    hidden::revealed(request, before).map_err(|e| match e.file.as_str() {
        "variables" => OperationError::invalid(
            "/variables",
            "a masked value is only known on hosts that have it; enter it",
        ),
        _ => OperationError::Text(vec![FileNote {
            sentence: e.to_string(),
            file: e.file,
            line: e.line,
            column: 1,
        }]),
    })
}

/// What is asked for beside a revision, as a comment.
fn changes_in_words(request: &ApplyRequest) -> String {
    let variables = request.variables.keys().map(|name| format!("another {name}"));
    let scale = request.scale.iter().map(|(service, count)| format!("{service} {count} times"));
    shown(&variables.chain(scale).collect::<Vec<_>>().join(", "), 400)
}
