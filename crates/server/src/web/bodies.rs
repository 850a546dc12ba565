//! Streamed bodies: archives and files, in either direction.

use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use futures_util::{Stream, StreamExt};

pub(crate) const TAR: &str = "application/x-tar";
/// How long nothing may come of a body that is being sent.
const SILENCE: Duration = Duration::from_secs(30);

/// An answer that is saved as a file of this name.
pub(crate) fn streamed(
    kind: &'static str,
    name: &str,
    body: impl Stream<Item = std::io::Result<Bytes>> + Send + 'static,
) -> Response {
    let plain: String =
        name.chars().map(|c| if c.is_ascii_graphic() && !"\"\\/".contains(c) { c } else { '_' }).collect();
    let disposition = format!("attachment; filename=\"{plain}\"");
    (
        [(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, disposition)],
        Body::from_stream(body),
    )
        .into_response()
}

/// The body as it arrives; the transfer counts as broken off when nothing arrives for this long.
pub(crate) fn stream_of(body: Body) -> impl Stream<Item = std::io::Result<Bytes>> + Send + 'static {
    futures_util::stream::unfold(Some(body.into_data_stream()), |body| async move {
        let mut body = body?;
        match tokio::time::timeout(SILENCE, body.next()).await {
            Ok(None) => None,
            Ok(Some(Ok(piece))) => Some((Ok(piece), Some(body))),
            Ok(Some(Err(error))) => Some((Err(std::io::Error::other(error)), None)),
            Err(_) => {
                let text = format!("no data for {} s", SILENCE.as_secs());
                Some((Err(std::io::Error::new(std::io::ErrorKind::TimedOut, text)), None))
            }
        }
    })
}
