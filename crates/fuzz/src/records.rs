//! Properties of stored records: damaged bytes are reported as damage, and nothing allocates memory that the bytes do
//! not justify.

use std::io::Write;

use gubernum_core::history::Chunk;
use gubernum_core::logs::block::Block;
use gubernum_core::logs::index::Query;
use gubernum_store::segments::{Reader, Segments};

/// Chunks of history under a right checksum: what is read is written and read as the same.
pub fn history_chunks(bytes: &[u8]) {
    let mut whole = bytes.to_vec();
    whole.extend_from_slice(&crc32fast::hash(bytes).to_le_bytes());
    let Ok(chunk) = Chunk::decode(&whole) else { return };
    assert_eq!(chunk.codes.len(), chunk.times.len() * chunk.columns);
    // What the service writes has growing times at a usual step; only that is written back.
    let is_plain = chunk.times.windows(2).all(|pair| {
        let step = pair[1].checked_sub(pair[0]);
        step.is_some_and(|step| (1..=86_400).contains(&step))
    });
    if is_plain && chunk.columns > 0 {
        assert_eq!(Chunk::decode(&chunk.encode(10)), Ok(chunk));
    }
}

/// Blocks of kept lines and the files that hold them.
pub fn log_segments(bytes: &[u8]) {
    if let Ok(block) = Block::decode(bytes) {
        assert_eq!(block.metas.len(), block.starts.len());
        let lines: Vec<_> = (0..block.metas.len()).filter_map(|n| block.line(n)).collect();
        assert_eq!(lines.len(), block.metas.len());
        assert_eq!(Block::decode(&block.encode()).as_ref(), Ok(&block));
    }
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("0000000000000000001.log");
    let mut file = std::fs::File::create(&path).expect("a file");
    file.write_all(bytes).expect("room");
    drop(file);
    if let Ok(mut reader) = Reader::open(&path) {
        let places = reader.places();
        assert!(places.len() <= bytes.len());
        for place in &places {
            let _ = reader.block_at(place, &Query::Anything);
        }
        let mut parts = 0;
        while reader.next(i64::MIN, i64::MAX).is_some() {
            parts += 1;
            assert!(parts <= bytes.len(), "it does not end");
        }
    }
    // A whole folder is read as it is.
    assert!(Segments::new(folder.path()).containers().is_empty());
}
