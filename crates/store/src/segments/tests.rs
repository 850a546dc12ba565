use super::record::{FILTER_MARK, FIRST_RECORD, RECORD_HEAD, RecordHead};
use super::writer::SEGMENT_NANOS;
use super::*;
use gubernum_core::logs::LogLine;
use gubernum_core::logs::Stream;
use gubernum_core::logs::filter::{Filter, LineCriteria};
use jiff::Timestamp;
use proptest::prelude::*;

fn line(nanos: i64, text: &str) -> LogLine {
    let time = Timestamp::from_nanosecond(i128::from(nanos)).unwrap();
    LogLine { stream: Stream::Stdout, time: Some(time), bytes: text.as_bytes().to_vec(), continued: false }
}

fn texts(segments: &Segments) -> Vec<String> {
    let mut out = Vec::new();
    for segment in segments.list("packhouse", "api") {
        let mut reader = Reader::open(&segment.path).unwrap();
        while let Some(block) = reader.next(i64::MIN, i64::MAX) {
            let Ok(block) = block else { continue };
            out.extend(
                (0..block.metas.len()).map(|n| String::from_utf8_lossy(block.text_of(n)).into_owned()),
            );
        }
    }
    out
}

#[test]
fn lines_are_resumed_where_they_stopped() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    assert_eq!(writer.last(), None);
    for (nanos, text) in [(10, "a"), (20, "b"), (20, "c")] {
        writer.push(&line(nanos, text)).unwrap();
    }
    drop(writer);
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    assert_eq!(writer.last(), Some(Last { nanos: 20, count: 2 }));
    writer.push(&line(30, "d")).unwrap();
    writer.flush().unwrap();
    assert_eq!(writer.last(), Some(Last { nanos: 30, count: 1 }));
    // Another container of the same name begins a segment of its own.
    let other = segments.write("packhouse", "api", "cd34").unwrap();
    assert_eq!(other.last(), None);
    assert_eq!(texts(&segments), ["a", "b", "c", "d"]);
    assert_eq!(segments.containers(), [("packhouse".to_owned(), "api".to_owned())]);
}

#[test]
fn a_crash_in_a_block_cuts_that_block_only() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    writer.push(&line(10, "a")).unwrap();
    writer.flush().unwrap();
    let whole = segments.list("packhouse", "api")[0].bytes;
    writer.push(&line(20, "b")).unwrap();
    writer.flush().unwrap();
    drop(writer);
    let path = segments.list("packhouse", "api")[0].path.clone();
    for cut in whole + 1..segments.list("packhouse", "api")[0].bytes {
        let copy = tempfile::tempdir().unwrap();
        let there = Segments::new(copy.path());
        drop(there.write("packhouse", "api", "x").unwrap());
        let bytes = std::fs::read(&path).unwrap();
        std::fs::write(
            there.folder("packhouse", "api").join(path.file_name().unwrap()),
            &bytes[..usize::try_from(cut).unwrap()],
        )
        .unwrap();
        let mut writer = there.write("packhouse", "api", "ab12").unwrap();
        assert_eq!(writer.last(), Some(Last { nanos: 10, count: 1 }));
        writer.push(&line(20, "b")).unwrap();
        drop(writer);
        assert_eq!(texts(&there), ["a", "b"]);
    }
}

#[test]
fn a_damaged_block_is_skipped_and_reported() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    for n in 0..3 {
        writer.push(&line(n * 10, &format!("line {n}"))).unwrap();
        writer.flush().unwrap();
    }
    drop(writer);
    let path = segments.list("packhouse", "api")[0].path.clone();
    let mut bytes = std::fs::read(&path).unwrap();
    let second = usize::try_from(FIRST_RECORD).unwrap()
        + (bytes.len() - usize::try_from(FIRST_RECORD).unwrap()) / 3
        + RECORD_HEAD
        + 3;
    bytes[second] ^= 0xff;
    std::fs::write(&path, bytes).unwrap();
    let mut reader = Reader::open(&path).unwrap();
    let all: Vec<bool> = std::iter::from_fn(|| reader.next(i64::MIN, i64::MAX)).map(|b| b.is_ok()).collect();
    assert_eq!(all, [true, false, true]);
}

#[test]
fn blocks_outside_the_range_are_skipped() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    for n in 0..5 {
        writer.push(&line(n * 10, &format!("line {n}"))).unwrap();
        writer.flush().unwrap();
    }
    let mut reader = Reader::open(&segments.list("packhouse", "api")[0].path).unwrap();
    let block = reader.next(15, 25).unwrap().unwrap();
    assert_eq!(block.text_of(0), b"line 2");
    assert!(reader.next(15, 25).is_none());
}

#[test]
fn small_blocks_of_a_finished_segment_are_put_together() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    for n in 0..200 {
        writer.push(&line(n, &format!("line {n}"))).unwrap();
        writer.flush().unwrap();
    }
    let before = segments.list("packhouse", "api")[0].bytes;
    writer.push(&line(SEGMENT_NANOS + 5, "the next day")).unwrap();
    writer.flush().unwrap();
    let all = segments.list("packhouse", "api");
    assert_eq!(all.len(), 2);
    assert!(all[0].bytes * 4 < before, "{} of {before}", all[0].bytes);
    assert_eq!(texts(&segments).len(), 201);
}

/// Lines that fill several blocks, with a number in each.
fn many(segments: &Segments, count: i64) {
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    for n in 0..count {
        let text = format!("level=info msg=\"bid taken\" lot={} member={}", n * 7919 % 90_000, n * 31 % 4000);
        writer.push(&line(n, &text)).unwrap();
    }
    writer.flush().unwrap();
}

/// The lines that a pattern finds, and how many blocks were unpacked for it.
fn found(segments: &Segments, pattern: &str) -> (Vec<String>, usize) {
    let wish = LineCriteria { with: vec![pattern.to_owned()], ..LineCriteria::default() };
    let filter = Filter::new(&wish).unwrap();
    let (mut lines, mut unpacked, mut unpacker) = (Vec::new(), 0, Unpacker::default());
    for segment in segments.list("packhouse", "api") {
        let mut reader = Reader::open(&segment.path).unwrap();
        for place in reader.candidates((i64::MIN, i64::MAX), filter.query()).places {
            unpacked += 1;
            let block = reader.packed_at(&place).unwrap().block(&mut unpacker).unwrap();
            filter.scan(&block.text, |n, line| {
                assert_eq!(line, block.text_of(n));
                lines.push(String::from_utf8_lossy(line).into_owned());
            });
        }
    }
    (lines, unpacked)
}

#[test]
fn a_search_unpacks_only_blocks_that_may_have_it() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    many(&segments, 20_000);
    let (all, blocks) = found(&segments, "taken");
    assert!(all.len() == 20_000 && blocks > 10, "{} in {blocks}", all.len());
    for pattern in ["lot=7919 ", r"lot=791\d\b", "member=31$", "\"bid taken\" lot=15838 member"] {
        let expected: Vec<String> = {
            let regex = regex::Regex::new(pattern).unwrap();
            all.iter().filter(|l| regex.is_match(l)).cloned().collect()
        };
        let (lines, unpacked) = found(&segments, pattern);
        assert_eq!(lines, expected, "{pattern}");
        assert!(!lines.is_empty());
        assert!(
            unpacked <= lines.len() + blocks / 4,
            "{pattern}: {unpacked} of {blocks} for {}",
            lines.len()
        );
    }
    assert_eq!(found(&segments, "accepted"), (Vec::new(), 0));
}

/// Where each record begins, and its mark.
fn records(bytes: &[u8]) -> Vec<(usize, u32)> {
    let mut all = Vec::new();
    let mut at = usize::try_from(FIRST_RECORD).unwrap();
    while at < bytes.len() {
        let head = RecordHead::read(bytes[at..at + RECORD_HEAD].try_into().unwrap());
        all.push((at, head.mark));
        at += RECORD_HEAD + head.body as usize;
    }
    all
}

#[test]
fn segments_without_filters_are_searched_whole() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    many(&segments, 5000);
    let path = segments.list("packhouse", "api")[0].path.clone();
    let bytes = std::fs::read(&path).unwrap();
    let all = records(&bytes);
    let filters = all.iter().filter(|(_, mark)| *mark == FILTER_MARK).count();
    let mut old = bytes[..usize::try_from(FIRST_RECORD).unwrap()].to_vec();
    for (n, (at, mark)) in all.iter().enumerate() {
        let end = all.get(n + 1).map_or(bytes.len(), |(next, _)| *next);
        if *mark != FILTER_MARK {
            old.extend_from_slice(&bytes[*at..end]);
        }
    }
    assert!(filters > 2 && old.len() < bytes.len());
    std::fs::write(&path, &old).unwrap();
    let (lines, unpacked) = found(&segments, "lot=7919 ");
    assert!(lines.len() == 1 && unpacked > filters - 2, "{unpacked}");
    // And it is resumed.
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    assert_eq!(writer.last(), Some(Last { nanos: 4999, count: 1 }));
    writer.push(&line(5000, "lot=7919 again")).unwrap();
    drop(writer);
    assert_eq!(found(&segments, "lot=7919 ").0.len(), 2);
}

#[test]
fn a_damaged_filter_rules_nothing_out() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    many(&segments, 5000);
    let path = segments.list("packhouse", "api")[0].path.clone();
    let mut bytes = std::fs::read(&path).unwrap();
    for (at, mark) in records(&bytes) {
        if mark == FILTER_MARK {
            bytes[at + RECORD_HEAD..at + RECORD_HEAD + 400].fill(0);
        }
    }
    std::fs::write(&path, &bytes).unwrap();
    assert_eq!(found(&segments, "lot=7919 ").0.len(), 1);
}

proptest! {
    #[test]
    fn odd_names_stay_in_the_folder(name in "[a-zA-Z0-9._%-]{1,20}") {
        let file = file_name(&name);
        prop_assert!(!file.starts_with('.') && !file.contains('/'));
        prop_assert_eq!(plain_name(&file), Some(name));
    }
}
