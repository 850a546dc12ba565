//! Writes the seeds of the corpus that are records of ours: `cargo run --package gubernum-fuzz --example seeds`. Run it again
//! when their form changes, and keep the old ones: they must stay readable.

use std::error::Error;
use std::fs;
use std::path::Path;

use gubernum_core::history::{Chunk, Code};
use gubernum_core::logs::block::Block;
use gubernum_core::logs::{LogLine, Stream};
use gubernum_store::segments::Segments;
use jiff::Timestamp;

fn line(n: i64) -> Result<LogLine, jiff::Error> {
    let time = Some(Timestamp::from_second(1_790_000_000 + n)?);
    let stream = if n % 3 == 0 { Stream::Stderr } else { Stream::Stdout };
    Ok(LogLine { stream, time, bytes: format!("lot {n} refused").into_bytes(), continued: n % 5 == 0 })
}

fn main() -> Result<(), Box<dyn Error>> {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus");
    let mut chunk = Chunk::new(3);
    for n in 0..40 {
        chunk.push(
            1_790_000_000 + n * 10,
            &[Code::new(7), Code::new(n.unsigned_abs() * 31 % 97), Code::UNKNOWN],
        );
    }
    let packed = chunk.encode(10);
    // The target writes the checksum itself.
    fs::write(corpus.join("history_chunks/forty-rows"), &packed[..packed.len() - 4])?;
    let mut block = Block::default();
    for n in 0..12 {
        block.push(&line(n)?);
    }
    fs::write(corpus.join("log_segments/block"), block.encode())?;
    let folder = tempfile::tempdir()?;
    let segments = Segments::new(folder.path());
    let mut writer = segments.write("packhouse", "auction", "ab12")?;
    for n in 0..12 {
        writer.push(&line(n)?)?;
        if n % 4 == 3 {
            writer.flush()?;
        }
    }
    drop(writer);
    for (n, segment) in segments.list("packhouse", "auction").iter().enumerate() {
        fs::copy(&segment.path, corpus.join(format!("log_segments/segment-{n}")))?;
    }
    Ok(())
}
