//! Files of containers, data of volumes and archives of images, streamed.

use bytes::Bytes;
use futures_util::{Stream, StreamExt};
use gubernum_api::files::{BuildLine, FileChange, Folder, Imported, Received};
use reqwest::{Body, Method, Response};

use crate::client::{Client, container_path, encoded};
use crate::error::{ClientError, root};
use crate::lines::JsonLines;

/// What holds files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Holder {
    /// A container, as `host/name`.
    Container(String),
    /// A volume, as `host/name`.
    Volume(String),
}

impl Holder {
    fn path(&self) -> String {
        match self {
            Self::Container(reference) => container_path(reference),
            Self::Volume(reference) => {
                let (host, name) = reference.split_once('/').unwrap_or(("-", reference));
                format!("/api/v1/volumes/{}/{}", encoded(host), encoded(name))
            }
        }
    }
}

impl From<&str> for Holder {
    /// A container.
    fn from(reference: &str) -> Self {
        Self::Container(reference.to_owned())
    }
}

/// A fresh word for an upload that can be resumed.
///
/// # Errors
/// When the machine provides no random numbers.
pub fn upload_word() -> Result<String, ClientError> {
    let mut bytes = [0u8; 10];
    ring::rand::SecureRandom::fill(&ring::rand::SystemRandom::new(), &mut bytes)
        .map_err(|_| ClientError::Broken("the machine provides no random numbers".to_owned()))?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

/// Where a stream goes to or comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// A file.
    File {
        /// Of what.
        of: Holder,
        /// The path inside.
        path: String,
    },
    /// A folder, as a tar archive.
    Folder {
        /// Of what.
        of: Holder,
        /// The path inside.
        path: String,
    },
    /// A volume's data, as a tar archive.
    Volume {
        /// `host/volume`.
        reference: String,
    },
}

impl Place {
    fn address(&self) -> (String, Vec<(&'static str, String)>) {
        match self {
            Self::File { of, path } => (format!("{}/file", of.path()), vec![("path", path.clone())]),
            Self::Folder { of, path } => (format!("{}/archive", of.path()), vec![("path", path.clone())]),
            Self::Volume { reference } => {
                (format!("{}/data", Holder::Volume(reference.clone()).path()), Vec::new())
            }
        }
    }
}

/// What a builder says, as it comes.
pub struct BuildStream(JsonLines);

impl BuildStream {
    /// The next piece; `None` after the last.
    ///
    /// # Errors
    /// When the connection breaks.
    pub async fn next(&mut self) -> Result<Option<BuildLine>, ClientError> {
        self.0.next().await
    }
}

/// A stream that comes in.
pub struct Download {
    response: Response,
    /// How many bytes come, where it is said.
    pub size: Option<u64>,
}

impl Download {
    fn new(response: Response) -> Self {
        let size = response.content_length();
        Self { response, size }
    }

    /// The next piece; `None` at the end.
    ///
    /// # Errors
    /// When the connection breaks.
    pub async fn next(&mut self) -> Result<Option<Bytes>, ClientError> {
        self.response.chunk().await.map_err(|e| ClientError::Broken(root(&e)))
    }
}

impl Client {
    /// The entries of a folder.
    ///
    /// # Errors
    /// When there is none.
    pub async fn folder(&self, of: impl Into<Holder>, path: &str) -> Result<Folder, ClientError> {
        let request = self.request(Method::GET, &format!("{}/folder", of.into().path()));
        self.json(request.query(&[("path", path)])).await
    }

    /// Makes a folder, renames, deletes, or sets permissions and owner.
    ///
    /// # Errors
    /// When the container does not run, or has not the means.
    pub async fn change_file(&self, of: impl Into<Holder>, change: &FileChange) -> Result<(), ClientError> {
        let request = self.request(Method::POST, &format!("{}/file-changes", of.into().path()));
        self.send(request.json(change)).await.map(drop)
    }

    /// Fetches something, of a file from this byte on.
    ///
    /// # Errors
    /// When there is nothing.
    pub async fn fetch(&self, place: &Place, from: u64) -> Result<Download, ClientError> {
        let (path, mut query) = place.address();
        if from > 0 {
            query.push(("from", from.to_string()));
        }
        Ok(Download::new(self.send(self.request(Method::GET, &path).query(&query)).await?))
    }

    /// Sends something: a file of this size, or an archive.
    ///
    /// # Errors
    /// Why it was not taken.
    pub async fn put(
        &self,
        place: &Place,
        size: Option<u64>,
        body: impl Stream<Item = std::io::Result<Bytes>> + Send + 'static,
        more: &[(&str, String)],
    ) -> Result<(), ClientError> {
        let (path, query) = place.address();
        let mut request = self.request(Method::PUT, &path).query(&query).query(more);
        if let Some(size) = size {
            request = request.header(reqwest::header::CONTENT_LENGTH, size);
        }
        self.send(request.body(Body::wrap_stream(body))).await.map(drop)
    }

    /// How many bytes have come of an interrupted upload, by the word under which it was sent (`upload` in the query of
    /// [`Client::put`]). It is resumed `from` there.
    ///
    /// # Errors
    /// When the place is none, or it is still being sent.
    pub async fn received(&self, place: &Place, upload: &str) -> Result<u64, ClientError> {
        let (path, query) = place.address();
        let request = self.request(Method::GET, &format!("{path}-upload")).query(&query);
        let received: Received = self.json(request.query(&[("upload", upload)])).await?;
        Ok(received.received)
    }

    /// Builds an image on a host; `query` as the interface describes it.
    ///
    /// # Errors
    /// When it is not begun; what goes wrong later is in the last line.
    pub async fn build(
        &self,
        host: &str,
        query: &[(&str, String)],
        context: impl Stream<Item = std::io::Result<Bytes>> + Send + 'static,
    ) -> Result<BuildStream, ClientError> {
        let request =
            self.request(Method::POST, &format!("/api/v1/hosts/{}/builds", encoded(host))).query(query);
        Ok(BuildStream(JsonLines::new(self.send(request.body(Body::wrap_stream(context))).await?)))
    }

    /// An image of a host as an archive.
    ///
    /// # Errors
    /// When the host has no such image.
    pub async fn export_image(&self, host: &str, image: &str) -> Result<Download, ClientError> {
        let request = self.request(Method::GET, &format!("/api/v1/hosts/{}/image-archive", encoded(host)));
        Ok(Download::new(self.send(request.query(&[("image", image)])).await?))
    }

    /// Takes images of an archive in on a host.
    ///
    /// # Errors
    /// When it is no archive of images.
    pub async fn import_images(
        &self,
        host: &str,
        body: impl Stream<Item = std::io::Result<Bytes>> + Send + 'static,
    ) -> Result<Imported, ClientError> {
        let request = self.request(Method::POST, &format!("/api/v1/hosts/{}/image-archive", encoded(host)));
        let response = self.send(request.body(Body::wrap_stream(body.boxed()))).await?;
        let held = self.body(response).await?;
        serde_json::from_slice(&held)
            .map_err(|e| ClientError::Unreadable { url: self.url().to_owned(), detail: e.to_string() })
    }
}
