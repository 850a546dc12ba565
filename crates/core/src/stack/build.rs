//! Images built from a stack's files: the build context, and the image name derived from it.
//!
//! An image is named after what it is built from, so that a changed file gives another image, which the plan then treats as any
//! other difference; going back to an earlier text finds the earlier image. Building is the engine's.

use std::collections::BTreeMap;

use super::desired::Maker;
use crate::compose::model::{Build, Service};
use crate::text::shown;

/// The name in a context of steps that are in the text itself.
const INLINE: &str = ".gubernum.build";
/// The most bytes of one context.
pub const LARGEST_CONTEXT: usize = 16 * 1024 * 1024;

/// How an image is built.
#[derive(Clone, PartialEq, Eq, Default)]
pub struct DesiredBuild {
    /// The name that stands for what is in it.
    pub image: String,
    /// Further names that it gets.
    pub tags: Vec<String>,
    /// The path of the steps in the context.
    pub file: String,
    /// The files of its context; none where it is an address.
    pub context: BTreeMap<String, Vec<u8>>,
    /// The address of a Git repository that the engine fetches itself.
    pub remote: Option<String>,
    /// Values for the steps.
    pub arguments: BTreeMap<String, String>,
    /// What else the text says.
    pub settings: Build,
}

impl std::fmt::Debug for DesiredBuild {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "DesiredBuild({}, {} files)", self.image, self.context.len())
    }
}

/// The folder of a local context from the stack's, without `./` and the slash at its end; `None` for an address.
pub fn context_folder(context: &str) -> Option<String> {
    if context.contains("://") || context.starts_with("git@") {
        return None;
    }
    let parts = context.split('/').filter(|part| !matches!(*part, "" | "."));
    Some(parts.collect::<Vec<_>>().join("/"))
}

impl Maker<'_> {
    /// How a service's image is built, where the text says so and it can be.
    pub(super) fn build(&mut self, key: &str, service: &Service) -> Option<DesiredBuild> {
        let build = service.build.as_ref()?;
        let at = |attribute: &'static str| ["services", key, "build", attribute];
        if !build.each_process.is_empty() {
            self.cannot(
                &at("ulimits"),
                "ulimits are not supported while an image is built; remove 'ulimits'",
            );
        }
        let mut made = DesiredBuild {
            file: build.file.clone().unwrap_or_else(|| "Dockerfile".to_owned()),
            settings: build.clone(),
            ..DesiredBuild::default()
        };
        for (name, value) in &build.arguments {
            let value = value.as_ref().or_else(|| self.wish.given.variables.get(name));
            // One without a value is what the steps say themselves.
            made.arguments.extend(value.map(|value| (name.clone(), value.clone())));
        }
        match context_folder(&build.context) {
            None => made.remote = Some(build.context.clone()),
            Some(folder) => {
                made.context = self.context(key, &folder)?;
                if let Some(steps) = &build.steps {
                    made.context.insert(INLINE.to_owned(), steps.clone().into_bytes());
                    INLINE.clone_into(&mut made.file);
                }
                made.file = made.file.trim_start_matches("./").to_owned();
                if !made.context.contains_key(&made.file) {
                    let path =
                        if folder.is_empty() { made.file.clone() } else { format!("{folder}/{}", made.file) };
                    let sentence =
                        format!("the file '{}' is missing; add the whole build folder", shown(&path, 100));
                    self.cannot(&at("dockerfile"), sentence);
                    return None;
                }
            }
        }
        made.tags.extend(Some(&service.container.image).filter(|image| !image.is_empty()).cloned());
        made.tags.extend(build.tags.iter().cloned());
        // With the registry that engines take for their own, so that all of them call it the same.
        made.image =
            format!("localhost/{}-{}:build-{}", self.wish.name, key.to_lowercase(), self.mark_of(&made));
        Some(made)
    }

    fn context(&mut self, key: &str, folder: &str) -> Option<BTreeMap<String, Vec<u8>>> {
        let at = ["services", key, "build", "context"];
        let prefix = if folder.is_empty() { String::new() } else { format!("{folder}/") };
        let files = self.wish.given.files.iter();
        let context: BTreeMap<String, Vec<u8>> = files
            .filter_map(|(path, text)| {
                Some((path.strip_prefix("./").unwrap_or(path).strip_prefix(&prefix)?, text))
            })
            .map(|(path, text)| (path.to_owned(), text.clone().into_bytes()))
            .collect();
        let total: usize = context.values().map(Vec::len).sum();
        if total > LARGEST_CONTEXT {
            let sentence = format!(
                "the build folder has {total} bytes; the limit is {LARGEST_CONTEXT}. Build the image with 'gubernum build', and set it as 'image'"
            );
            self.cannot(&at, sentence);
            return None;
        }
        Some(context)
    }

    /// What stands for all that goes into an image.
    fn mark_of(&self, build: &DesiredBuild) -> String {
        let of = &build.settings;
        let settings = format!(
            "{:?} {:?} {:?} {:?} {:?} {:?} {:?} {:?} {:?}",
            build.file,
            // Another name has to be given too.
            build.tags,
            build.remote,
            build.arguments,
            of.labels,
            of.network,
            of.platform,
            of.target,
            of.hosts
        );
        let mut parts: Vec<&[u8]> = vec![b"image", settings.as_bytes()];
        for (path, content) in &build.context {
            parts.extend([path.as_bytes(), content.as_slice()]);
        }
        (self.wish.mark)(&parts).chars().take(16).collect()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(".", Some(""))]
    #[case("./api/", Some("api"))]
    #[case("deep/er", Some("deep/er"))]
    #[case("https://git.example/frost.git#main", None)]
    #[case("git@git.example:frost.git", None)]
    fn a_context_is_a_folder_or_an_address(#[case] context: &str, #[case] folder: Option<&str>) {
        assert_eq!(context_folder(context).as_deref(), folder);
    }
}
