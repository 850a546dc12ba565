//! A service made of the answers that a test gives it, one for each connection, over plain HTTP/1.1 on loopback.

use std::sync::Arc;
use std::sync::Mutex;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// One answer.
pub(crate) struct Answer {
    status: u16,
    kind: &'static str,
    headers: Vec<&'static str>,
    body: Vec<u8>,
    piece: usize,
    cut: Option<usize>,
}

impl Answer {
    pub(crate) fn status(status: u16) -> Self {
        Self {
            status,
            kind: "text/plain",
            headers: Vec::new(),
            body: Vec::new(),
            piece: usize::MAX,
            cut: None,
        }
    }

    pub(crate) fn json(self, text: &str) -> Self {
        Self { kind: "application/json", body: text.into(), ..self }
    }

    pub(crate) fn text(self, text: &str) -> Self {
        Self { body: text.into(), ..self }
    }

    pub(crate) fn header(mut self, line: &'static str) -> Self {
        self.headers.push(line);
        self
    }

    /// The body comes in pieces of this many bytes.
    pub(crate) fn in_pieces(self, piece: usize) -> Self {
        Self { piece, ..self }
    }

    /// The connection ends after this many bytes of the body.
    pub(crate) fn cut_after(self, bytes: usize) -> Self {
        Self { cut: Some(bytes), ..self }
    }
}

/// A service on loopback.
pub(crate) struct Stub {
    pub(crate) url: String,
    asked: Arc<Mutex<Vec<String>>>,
}

impl Stub {
    pub(crate) async fn answering(answers: impl IntoIterator<Item = Answer>) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let asked: Arc<Mutex<Vec<String>>> = Arc::default();
        let (answers, notes) = (answers.into_iter().collect::<Vec<_>>(), asked.clone());
        tokio::spawn(async move {
            for answer in answers {
                let Ok((stream, _)) = listener.accept().await else { return };
                serve(stream, answer, &notes).await;
            }
        });
        Self { url, asked }
    }

    /// The requests so far as they came, head and body.
    pub(crate) fn asked(&self) -> Vec<String> {
        self.asked.lock().unwrap().clone()
    }
}

async fn serve(mut stream: TcpStream, answer: Answer, asked: &Mutex<Vec<String>>) {
    let request = request(&mut stream).await;
    asked.lock().unwrap().push(request);
    let mut head =
        format!("HTTP/1.1 {} Any\r\nConnection: close\r\nContent-Type: {}\r\n", answer.status, answer.kind);
    if answer.status != 204 {
        head.push_str(&format!("Content-Length: {}\r\n", answer.body.len()));
    }
    for line in &answer.headers {
        head.push_str(line);
        head.push_str("\r\n");
    }
    let _ = stream.write_all(format!("{head}\r\n").as_bytes()).await;
    let body = &answer.body[..answer.cut.unwrap_or(answer.body.len())];
    for piece in body.chunks(answer.piece.min(body.len().max(1))) {
        let _ = stream.write_all(piece).await;
        let _ = stream.flush().await;
        tokio::task::yield_now().await;
    }
}

/// Reads one request: its head, and as much of a body as it says or as comes in chunks.
async fn request(stream: &mut TcpStream) -> String {
    let mut bytes = Vec::new();
    let mut buffer = [0u8; 4096];
    loop {
        let count = stream.read(&mut buffer).await.unwrap_or(0);
        bytes.extend_from_slice(&buffer[..count]);
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let Some((head, body)) = text.split_once("\r\n\r\n") else {
            if count == 0 {
                return text;
            }
            continue;
        };
        let lower = head.to_ascii_lowercase();
        let length =
            lower.split("content-length: ").nth(1).and_then(|rest| rest.lines().next()?.parse().ok());
        let is_whole = match length {
            Some(length) => body.len() >= length,
            None if lower.contains("transfer-encoding: chunked") => body.ends_with("0\r\n\r\n"),
            None => true,
        };
        if is_whole || count == 0 {
            return text;
        }
    }
}
