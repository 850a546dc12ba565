//! Reads a repository with the `git` program: the commit of a branch or tag, and a stack's files in it.
//!
//! Nothing is checked out: files are read from the commit itself, so that no link, hook or filter of a repository does anything here.
//! The program gets an environment of its own, addresses over `https` and `ssh` only, and a limit of time and size.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use base64::Engine as _;
use gubernum_core::compose::load::MOST_FILES;
use gubernum_core::compose::model::FileSource;
use gubernum_core::compose::read::read;
use gubernum_core::compose::{ReadPurpose, StackInput, missing_files};
use gubernum_core::plan::request::ApplyRequest;
use gubernum_core::stack::build::{LARGEST_CONTEXT, context_folder};
use gubernum_core::stack::source::Transport;
use gubernum_core::text::shown;
use gubernum_core::yaml::MOST_BYTES;
use gubernum_store::sources::{FoundCommit, SourceSettings};
use jiff::Timestamp;
use tokio::io::AsyncReadExt;
use tokio::process::Command;
use tokio::time::{Instant, sleep, timeout};

use crate::access::fresh_secret;

/// How long a repository may take to say which commit is there, and to give it.
const ASKING: Duration = Duration::from_secs(30);
const FETCHING: Duration = Duration::from_secs(180);
/// The most bytes of a repository's newest commit on the disk.
const MOST_FETCHED: u64 = 200 * 1024 * 1024;
/// How often its size is looked at.
const MEASURE_EVERY: Duration = Duration::from_millis(100);
/// The most bytes that the program says.
const MOST_SAID: u64 = 8 * 1024 * 1024;
/// How often files that were read may name further ones.
const MOST_ROUNDS: usize = 20;

/// A repository that could not be read.
#[derive(Debug, thiserror::Error)]
pub(crate) enum GitError {
    /// The program is not there.
    #[error("'git' is missing; install it on the service's machine")]
    NoProgram,
    /// It takes too long.
    #[error(
        "the repository did not answer within {0} s; is its address right, and can it be reached from here?"
    )]
    Slow(u64),
    /// It is too large.
    #[error("the newest commit has more than {} MiB; keep the stack's files in a repository of their own", MOST_FETCHED >> 20)]
    Large,
    /// The branch or tag is not there.
    #[error("the repository has no branch or tag '{0}'")]
    NoReference(String),
    /// A file is not there.
    #[error("the commit has no file '{0}'")]
    NoFile(String),
    /// A link, or a repository within the repository.
    #[error("'{0}' is a link or a submodule, which is not followed; commit the file itself")]
    NotAFile(String),
    /// A file that is no Compose text by its size or its bytes.
    #[error("'{0}' is not UTF-8 text of at most {most} MiB", most = MOST_BYTES >> 20)]
    NotAText(String),
    /// The program says why.
    #[error("'git' failed: {0}")]
    Refused(String),
    /// This machine.
    #[error("the data folder cannot be used: {0}")]
    Io(#[from] std::io::Error),
}

/// Reads repositories, one folder for each while it is read.
pub(crate) struct Git {
    folder: PathBuf,
}

/// A folder that goes with what was fetched into it.
struct Work(PathBuf);

impl Drop for Work {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

/// A file of a commit.
struct Entry {
    object: String,
    is_file: bool,
    size: u64,
}

impl Git {
    /// Works below a folder, which is emptied: what was left there was in the middle of something.
    pub(crate) fn new(data_dir: &Path) -> Self {
        let folder = data_dir.join("git");
        let _ = std::fs::remove_dir_all(&folder);
        Self { folder }
    }

    fn work(&self) -> Result<Work, GitError> {
        use std::os::unix::fs::DirBuilderExt;
        let name =
            fresh_secret("").map_err(|_| std::io::Error::other("the machine provides no random numbers"))?;
        let path = self.folder.join(name);
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&path)?;
        Ok(Work(path))
    }

    /// The commit that a branch or tag is at.
    pub(crate) async fn newest(&self, settings: &SourceSettings) -> Result<String, GitError> {
        let work = self.work()?;
        let reference = &settings.place.reference;
        let names = [
            format!("refs/heads/{reference}"),
            format!("refs/tags/{reference}"),
            format!("refs/tags/{reference}^{{}}"),
        ];
        let mut words = vec!["ls-remote".to_owned(), "--".to_owned(), settings.place.url.clone()];
        words.extend(names.iter().cloned());
        let said = self.run(&work, settings, &words, ASKING).await?;
        let text = String::from_utf8_lossy(&said);
        let found: BTreeMap<&str, &str> =
            text.lines().filter_map(|line| line.split_once('\t')).map(|(id, name)| (name, id)).collect();
        // A branch before a tag; of a tag with words of its own, the commit that it stands for.
        let id = [&names[0], &names[2], &names[1]].into_iter().find_map(|name| found.get(name.as_str()));
        match id.filter(|id| is_commit(id)) {
            Some(id) => Ok((*id).to_owned()),
            None => Err(GitError::NoReference(shown(reference, 80))),
        }
    }

    /// Fetches the newest commit and reads the stack's files from it.
    pub(crate) async fn fetch(
        &self,
        stack: &str,
        settings: &SourceSettings,
    ) -> Result<(FoundCommit, ApplyRequest), GitError> {
        let work = self.work()?;
        let repository = work.0.join("repository");
        let path = repository.display().to_string();
        let in_it = |words: &[&str]| -> Vec<String> {
            let mut all = vec!["--git-dir".to_owned(), path.clone()];
            all.extend(words.iter().map(|word| (*word).to_owned()));
            all
        };
        self.run(&work, settings, &["init", "--bare", "--quiet", &path].map(str::to_owned), ASKING).await?;
        let reference = &settings.place.reference;
        let fetch = [
            "fetch",
            "--quiet",
            "--depth=1",
            "--no-tags",
            "--no-recurse-submodules",
            "--",
            &settings.place.url,
            reference,
        ];
        self.run(&work, settings, &in_it(&fetch), FETCHING).await?;
        let head =
            in_it(&["log", "-1", "--no-show-signature", "--format=%H%x00%an%x00%aI%x00%s", "FETCH_HEAD"]);
        let said = self.run(&work, settings, &head, ASKING).await?;
        let commit = commit(&String::from_utf8_lossy(&said))
            .ok_or_else(|| GitError::Refused("it reported no commit".to_owned()))?;
        let listing = in_it(&["ls-tree", "-r", "-l", "-z", "--full-tree", &commit.id]);
        let said = self.run(&work, settings, &listing, ASKING).await?;
        let tree = tree(&String::from_utf8_lossy(&said));
        let mut request = ApplyRequest {
            stack: stack.to_owned(),
            variables: settings.variables.clone(),
            profiles: settings.profiles.clone(),
            comment: Some(shown(&commit.subject, 400)).filter(|text| !text.is_empty()),
            commit: Some(commit.id.clone()),
            ..ApplyRequest::default()
        };
        let reading = Reading { git: self, work: &work, settings, path: &path, tree };
        for path in &settings.place.paths {
            let Some(name) = settings.place.inside(path) else {
                return Err(GitError::NoFile(shown(path, 120)));
            };
            request.files.insert(name.to_owned(), reading.file(name).await?);
            request.main.push(name.to_owned());
        }
        reading.named(&mut request).await?;
        Ok((commit, request))
    }

    async fn run(
        &self,
        work: &Work,
        settings: &SourceSettings,
        words: &[String],
        longest: Duration,
    ) -> Result<Vec<u8>, GitError> {
        let mut command = Command::new("git");
        command
            .args(words)
            .current_dir(&work.0)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        command.kill_on_drop(true).process_group(0);
        environment(&mut command, work, settings)?;
        let mut child = command.spawn().map_err(|e| match e.kind() {
            std::io::ErrorKind::NotFound => GitError::NoProgram,
            _ => GitError::Io(e),
        })?;
        let (stdout, stderr) = (child.stdout.take(), child.stderr.take());
        let said = async {
            let mut out = Vec::new();
            if let Some(stdout) = stdout {
                stdout.take(MOST_SAID + 1).read_to_end(&mut out).await?;
            }
            std::io::Result::Ok(out)
        };
        let told = async {
            let mut out = Vec::new();
            if let Some(stderr) = stderr {
                stderr.take(64 * 1024).read_to_end(&mut out).await?;
            }
            std::io::Result::Ok(out)
        };
        let ended = async {
            let (said, told) = tokio::try_join!(said, told)?;
            std::io::Result::Ok((said, told, child.wait().await?))
        };
        let outcome = tokio::select! {
            outcome = timeout(longest, ended) => match outcome {
                Ok(outcome) => outcome?,
                Err(_) => return Err(GitError::Slow(longest.as_secs())),
            },
            () = too_large(&work.0) => return Err(GitError::Large),
        };
        let (said, told, status) = outcome;
        if said.len() as u64 > MOST_SAID {
            return Err(GitError::Large);
        }
        if status.success() { Ok(said) } else { Err(refusal(&String::from_utf8_lossy(&told), settings)) }
    }
}

/// A commit that is read.
struct Reading<'a> {
    git: &'a Git,
    work: &'a Work,
    settings: &'a SourceSettings,
    /// The repository's folder.
    path: &'a str,
    tree: BTreeMap<String, Entry>,
}

impl Reading<'_> {
    /// A path of the stack's folder, from the repository's root.
    fn whole(&self, name: &str) -> String {
        match self.settings.place.folder() {
            "" => name.to_owned(),
            folder => format!("{folder}/{name}"),
        }
    }

    fn has(&self, name: &str) -> bool {
        self.tree.contains_key(&self.whole(name))
    }

    async fn file(&self, name: &str) -> Result<String, GitError> {
        let whole = self.whole(name);
        let entry = self.tree.get(&whole).ok_or_else(|| GitError::NoFile(shown(&whole, 120)))?;
        if !entry.is_file {
            return Err(GitError::NotAFile(shown(&whole, 120)));
        }
        if entry.size > MOST_BYTES as u64 {
            return Err(GitError::NotAText(shown(&whole, 120)));
        }
        let words = ["--git-dir", self.path, "cat-file", "blob", &entry.object].map(str::to_owned);
        let bytes = self.git.run(self.work, self.settings, &words, ASKING).await?;
        String::from_utf8(bytes).map_err(|_| GitError::NotAText(shown(&whole, 120)))
    }

    /// Reads what the files name, until they name nothing that is there and was not read; then what configs and secrets are made of.
    async fn named(&self, request: &mut ApplyRequest) -> Result<(), GitError> {
        let mut looked_for = BTreeSet::new();
        for _ in 0..MOST_ROUNDS {
            let named = missing_files(&given(request));
            let mut new: Vec<String> =
                named.into_iter().filter(|path| looked_for.insert(path.clone())).collect();
            new.retain(|path| self.has(path));
            if new.is_empty() {
                break;
            }
            for path in new {
                let text = self.file(&path).await?;
                request.files.insert(path, text);
            }
        }
        // What is wrong with the text is told when it is planned, at its place.
        let Ok((_, stack)) = read(&given(request)) else { return Ok(()) };
        for source in stack.configs.values().chain(stack.secrets.values()) {
            let FileSource::File(path) = source else { continue };
            let path = path.strip_prefix("./").unwrap_or(path);
            if self.has(path) && !request.files.contains_key(path) {
                let text = self.file(path).await?;
                request.files.insert(path.to_owned(), text);
            }
        }
        for build in stack.services.values().filter_map(|service| service.build.as_ref()) {
            if let Some(folder) = context_folder(&build.context) {
                self.context(&folder, request).await?;
            }
        }
        Ok(())
    }

    /// Reads the folder that an image is built from.
    async fn context(&self, folder: &str, request: &mut ApplyRequest) -> Result<(), GitError> {
        let prefix = |path: String| if path.is_empty() { path } else { format!("{path}/") };
        let (of_stack, of_folder) =
            (prefix(self.settings.place.folder().to_owned()), prefix(folder.to_owned()));
        let names = self.tree.keys().filter_map(|path| path.strip_prefix(&of_stack));
        let names: Vec<String> =
            names.filter(|name| name.starts_with(&of_folder)).map(str::to_owned).collect();
        if names.len() + request.files.len() > MOST_FILES {
            return Err(GitError::Large);
        }
        let mut total = 0;
        for name in names {
            if let std::collections::btree_map::Entry::Vacant(place) = request.files.entry(name) {
                let text = self.file(place.key()).await?;
                total += text.len();
                if total > LARGEST_CONTEXT {
                    return Err(GitError::Large);
                }
                place.insert(text);
            }
        }
        Ok(())
    }
}

/// What the stack is read from.
fn given(request: &ApplyRequest) -> StackInput<'_> {
    StackInput { wanted: ReadPurpose::Stack, ..request.given() }
}

fn is_commit(id: &str) -> bool {
    matches!(id.len(), 40 | 64) && id.bytes().all(|b| b.is_ascii_hexdigit())
}

fn commit(said: &str) -> Option<FoundCommit> {
    let mut parts = said.trim_end().splitn(4, '\0');
    let (id, author) = (parts.next().filter(|id| is_commit(id))?, parts.next()?);
    let time: Timestamp = parts.next()?.parse().ok()?;
    let subject = shown(parts.next().unwrap_or_default(), 200);
    Some(FoundCommit { id: id.to_owned(), author: shown(author, 100), time, subject })
}

/// The files of a commit by their paths: `mode type object size<TAB>path`, each ended by a zero byte.
fn tree(said: &str) -> BTreeMap<String, Entry> {
    let entry = |line: &str| {
        let (head, path) = line.split_once('\t')?;
        let mut words = head.split_whitespace();
        let (mode, _kind, object) = (words.next()?, words.next()?, words.next()?);
        let size = words.next()?.parse().unwrap_or(u64::MAX);
        let is_file = matches!(mode, "100644" | "100755");
        Some((path.to_owned(), Entry { object: object.to_owned(), is_file, size }))
    };
    said.split('\0').filter_map(entry).collect()
}

/// Never returns while a folder is small enough.
async fn too_large(folder: &Path) {
    loop {
        sleep(MEASURE_EVERY).await;
        let path = folder.to_owned();
        let begun = Instant::now();
        let size = tokio::task::spawn_blocking(move || size_of(&path)).await.unwrap_or(0);
        if size > MOST_FETCHED {
            return;
        }
        // A folder with very many files is not walked all the time.
        sleep(begun.elapsed() * 4).await;
    }
}

fn size_of(folder: &Path) -> u64 {
    let Ok(entries) = std::fs::read_dir(folder) else { return 0 };
    let size = |entry: std::fs::DirEntry| match entry.metadata() {
        Ok(data) if data.is_dir() => size_of(&entry.path()),
        Ok(data) => data.len(),
        Err(_) => 0,
    };
    entries.flatten().map(size).sum()
}

/// Nothing of this machine's settings, and secrets where no list of processes shows them.
fn environment(command: &mut Command, work: &Work, settings: &SourceSettings) -> Result<(), GitError> {
    command.env_clear();
    for name in ["PATH", "SSL_CERT_FILE", "SSL_CERT_DIR"] {
        if let Some(value) = std::env::var_os(name) {
            command.env(name, value);
        }
    }
    command
        .env("HOME", &work.0)
        .env("LC_ALL", "C")
        .env("GIT_CONFIG_NOSYSTEM", "1")
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .env("GIT_TERMINAL_PROMPT", "0")
        .env("GIT_ALLOW_PROTOCOL", "http:https:ssh")
        .env("GIT_LFS_SKIP_SMUDGE", "1");
    let mut config = vec![
        ("core.hooksPath", "/dev/null".to_owned()),
        ("credential.helper", String::new()),
        // Another host would be shown the token.
        ("http.followRedirects", "false".to_owned()),
        ("http.lowSpeedLimit", "1000".to_owned()),
        ("http.lowSpeedTime", "20".to_owned()),
        ("fetch.fsckObjects", "true".to_owned()),
        ("gc.auto", "0".to_owned()),
    ];
    match settings.place.transport() {
        Ok(Transport::Http { .. }) => {
            if let Some(token) = &settings.token {
                let pair = format!("{}:{token}", settings.account.as_deref().unwrap_or("git"));
                let pair = base64::engine::general_purpose::STANDARD.encode(pair);
                config.push(("http.extraHeader", format!("Authorization: Basic {pair}")));
            }
        }
        Ok(Transport::Ssh) => {
            let key = secret_file(work, "key", settings.ssh_key.as_deref().unwrap_or_default())?;
            let known =
                secret_file(work, "known_hosts", settings.known_hosts.as_deref().unwrap_or_default())?;
            command.env(
                "GIT_SSH_COMMAND",
                format!(
                    "ssh -F /dev/null -i {} -o IdentitiesOnly=yes -o IdentityAgent=none -o BatchMode=yes -o StrictHostKeyChecking=yes -o GlobalKnownHostsFile=/dev/null -o UserKnownHostsFile={} -o ConnectTimeout=15 -o ServerAliveInterval=5 -o ServerAliveCountMax=4",
                    quoted(&key),
                    quoted(&known)
                ),
            );
        }
        Err(error) => return Err(GitError::Refused(error.sentence)),
    }
    command.env("GIT_CONFIG_COUNT", config.len().to_string());
    for (n, (name, value)) in config.into_iter().enumerate() {
        command.env(format!("GIT_CONFIG_KEY_{n}"), name).env(format!("GIT_CONFIG_VALUE_{n}"), value);
    }
    Ok(())
}

/// A path as a shell takes it.
fn quoted(path: &Path) -> String {
    format!("'{}'", path.display().to_string().replace('\'', r"'\''"))
}

fn secret_file(work: &Work, name: &str, text: &str) -> Result<PathBuf, GitError> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let path = work.0.join(name);
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path)?;
    file.write_all(text.trim_end().as_bytes())?;
    file.write_all(b"\n")?;
    Ok(path)
}

/// What the program says last, without what it was given in secret.
fn refusal(told: &str, settings: &SourceSettings) -> GitError {
    let lines: Vec<&str> = told.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
    let telling = lines
        .iter()
        .rev()
        .find(|l| l.starts_with("fatal:") || l.contains("denied") || l.contains("verification failed"));
    let mut text = (*telling.or(lines.last()).unwrap_or(&"it did not say why")).to_owned();
    for secret in [&settings.token, &settings.ssh_key].into_iter().flatten().filter(|s| s.len() > 3) {
        text = text.replace(secret.as_str(), gubernum_core::mask::MASK);
    }
    if text.contains("terminal prompts disabled") || text.contains("could not read Username") {
        return GitError::Refused("the repository needs a sign-in; set a token with read access".to_owned());
    }
    GitError::Refused(shown(&gubernum_core::mask::text(&text), 300))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_program_says_is_read() {
        let id = "a".repeat(40);
        let found =
            commit(&format!("{id}\0Mara Quill\x002026-11-29T10:00:00+01:00\0Raise the level: 3\n")).unwrap();
        assert_eq!((found.author.as_str(), found.subject.as_str()), ("Mara Quill", "Raise the level: 3"));
        assert_eq!(commit("fatal: nothing"), None);
        let said = format!(
            "100644 blob {id}     120\tstack.yaml\x00120000 blob {id}      10\tlink\x00160000 commit {id}       -\tother\0"
        );
        let tree = tree(&said);
        assert!(tree["stack.yaml"].is_file && tree["stack.yaml"].size == 120);
        assert!(!tree["link"].is_file && !tree["other"].is_file);
    }
}
