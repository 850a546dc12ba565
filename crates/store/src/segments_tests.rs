use super::*;
use gubernum_core::logs::Stream;
use jiff::Timestamp;
use proptest::prelude::*;

fn line(nanos: i64, text: &str) -> LogLine {
    let time = Timestamp::from_nanosecond(i128::from(nanos)).unwrap();
    LogLine { stream: Stream::Stdout, time: Some(time), bytes: text.as_bytes().to_vec(), continued: false }
}

fn texts(segments: &Segments) -> Vec<String> {
    let mut out = Vec::new();
    for segment in segments.of("packhouse", "api") {
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
fn lines_are_gone_on_with_where_they_stopped() {
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
    let whole = segments.of("packhouse", "api")[0].bytes;
    writer.push(&line(20, "b")).unwrap();
    writer.flush().unwrap();
    drop(writer);
    let path = segments.of("packhouse", "api")[0].path.clone();
    for cut in whole + 1..segments.of("packhouse", "api")[0].bytes {
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
fn a_damaged_block_is_skipped_and_told() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    for n in 0..3 {
        writer.push(&line(n * 10, &format!("line {n}"))).unwrap();
        writer.flush().unwrap();
    }
    drop(writer);
    let path = segments.of("packhouse", "api")[0].path.clone();
    let mut bytes = std::fs::read(&path).unwrap();
    let second =
        usize::try_from(HEAD).unwrap() + (bytes.len() - usize::try_from(HEAD).unwrap()) / 3 + BLOCK_HEAD + 3;
    bytes[second] ^= 0xff;
    std::fs::write(&path, bytes).unwrap();
    let mut reader = Reader::open(&path).unwrap();
    let all: Vec<bool> = std::iter::from_fn(|| reader.next(i64::MIN, i64::MAX)).map(|b| b.is_ok()).collect();
    assert_eq!(all, [true, false, true]);
}

#[test]
fn blocks_outside_the_range_are_passed_over() {
    let folder = tempfile::tempdir().unwrap();
    let segments = Segments::new(folder.path());
    let mut writer = segments.write("packhouse", "api", "ab12").unwrap();
    for n in 0..5 {
        writer.push(&line(n * 10, &format!("line {n}"))).unwrap();
        writer.flush().unwrap();
    }
    let mut reader = Reader::open(&segments.of("packhouse", "api")[0].path).unwrap();
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
    let before = segments.of("packhouse", "api")[0].bytes;
    writer.push(&line(SEGMENT_NANOS + 5, "the next day")).unwrap();
    writer.flush().unwrap();
    let all = segments.of("packhouse", "api");
    assert_eq!(all.len(), 2);
    assert!(all[0].bytes * 4 < before, "{} of {before}", all[0].bytes);
    assert_eq!(texts(&segments).len(), 201);
}

proptest! {
    #[test]
    fn odd_names_stay_in_the_folder(name in "[a-zA-Z0-9._%-]{1,20}") {
        let file = file_name(&name);
        prop_assert!(!file.starts_with('.') && !file.contains('/'));
        prop_assert_eq!(plain_name(&file), Some(name));
    }
}
