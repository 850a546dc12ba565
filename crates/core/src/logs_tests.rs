use super::*;
use proptest::prelude::*;

const T1: &str = "2026-11-23T05:00:00.000000001Z ";
const T2: &str = "2026-11-23T05:00:00.000000002Z ";

fn texts(lines: &[LogLine]) -> Vec<String> {
    lines.iter().map(|l| String::from_utf8_lossy(&l.bytes).into_owned()).collect()
}

fn frames(all: &[(Stream, String)]) -> Vec<LogLine> {
    let (mut assembler, mut out) = (LineAssembler::new(), Vec::new());
    for (stream, payload) in all {
        assembler.frame(*stream, payload.as_bytes(), &mut out);
    }
    assembler.end(&mut out);
    out
}

#[test]
fn a_frame_is_a_line_with_its_time() {
    let out = frames(&[(Stream::Stdout, format!("{T1}frost at 4\n")), (Stream::Stderr, format!("{T2}oh\n"))]);
    assert_eq!(texts(&out), ["frost at 4", "oh"]);
    assert_eq!(out[0].time.unwrap().as_nanosecond() + 1, out[1].time.unwrap().as_nanosecond());
    assert_eq!((out[0].stream, out[1].stream), (Stream::Stdout, Stream::Stderr));
}

#[test]
fn pieces_of_one_line_are_joined_without_their_times() {
    let out = frames(&[
        (Stream::Stdout, format!("{T1}aaa")),
        (Stream::Stderr, format!("{T2}between\n")),
        (Stream::Stdout, format!("{T2}bbb\n")),
    ]);
    assert_eq!(texts(&out), ["between", "aaabbb"]);
}

#[test]
fn a_frame_may_hold_several_lines_and_an_unended_one() {
    let out = frames(&[(Stream::Stdout, format!("{T1}a\n{T2}b"))]);
    assert_eq!(texts(&out), ["a", "b"]);
    assert!(out.iter().all(|l| l.time.is_some()));
}

#[test]
fn terminal_pieces_that_come_read_by_read_are_joined() {
    let (mut assembler, mut out) = (LineAssembler::new(), Vec::new());
    for part in [
        format!("{T1}xxx"),
        format!("{T1}yyy"),
        "zzz".into(),
        T2[..9].into(),
        format!("{}w\r\n{T1}next\r\n", &T2[9..]),
    ] {
        assembler.raw(part.as_bytes(), Pieces::AtReads, &mut out);
    }
    assert_eq!(texts(&out), ["xxxyyyzzzw", "next"]);
}

#[test]
fn empty_lines_and_bad_utf8_stay() {
    let (mut assembler, mut out) = (LineAssembler::new(), Vec::new());
    assembler.frame(Stream::Stdout, format!("{T1}\n").as_bytes(), &mut out);
    let mut bad = T1.as_bytes().to_vec();
    bad.extend_from_slice(b"\xff\xfe\x1b[31m\r50%\rdone\n");
    assembler.frame(Stream::Stdout, &bad, &mut out);
    assert_eq!(out[0].bytes, b"");
    assert_eq!(out[1].bytes, b"\xff\xfe\x1b[31m\r50%\rdone");
}

#[test]
fn a_line_beyond_the_limit_comes_in_marked_pieces() {
    let (mut assembler, mut out) = (LineAssembler::new(), Vec::new());
    let piece = vec![b'x'; 1024 * 1024];
    for _ in 0..9 {
        assembler.frame(Stream::Stdout, &piece, &mut out);
    }
    assembler.frame(Stream::Stdout, b"\n", &mut out);
    assert_eq!(out.iter().map(|l| l.continued).collect::<Vec<_>>(), [true, true, false]);
    assert_eq!(out.iter().map(|l| l.bytes.len()).sum::<usize>(), 9 * 1024 * 1024);
}

fn terminal_wire(lines: &[String]) -> Vec<u8> {
    let mut wire = Vec::new();
    for line in lines {
        let whole = format!("{line}\r\n");
        for piece in whole.as_bytes().chunks(MESSAGE_PIECE) {
            wire.extend_from_slice(T1.as_bytes());
            wire.extend_from_slice(piece);
        }
    }
    wire
}

proptest! {
    /// The quick reader agrees with the full one on every time that it takes.
    #[test]
    fn times_are_read_alike(
        year in 1900i64..9999, month in 0i64..14, day in 0i64..33,
        hour in 0i64..26, minute in 0i64..62, second in 0i64..62, fraction in "|[.][0-9]{1,9}",
    ) {
        let text = format!("{year:04}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}{fraction}Z");
        let full = text.parse::<jiff::Timestamp>().ok();
        let quick = super::utc(text.as_bytes());
        if quick.is_some() {
            prop_assert_eq!(quick, full);
        } else if full.is_some() {
            // Left to the full reader: only before 1970 or after 9000, or on a leap second.
            prop_assert!(!(1970..=9000).contains(&year) || second == 60, "{}", text);
        }
    }

    /// However the network cuts a terminal's log, the same lines come out.
    #[test]
    fn terminal_lines_survive_any_cut(
        lines in proptest::collection::vec("[a-z0-9 :-]{0,60}", 0..8),
        long in 0usize..50_000,
        cuts in proptest::collection::vec(1usize..700, 1..200),
    ) {
        let mut lines = lines;
        lines.push("y".repeat(long));
        let wire = terminal_wire(&lines);
        let (mut assembler, mut out, mut rest) = (LineAssembler::new(), Vec::new(), &wire[..]);
        for cut in cuts.iter().cycle() {
            if rest.is_empty() { break }
            let (now, later) = rest.split_at((*cut).min(rest.len()));
            assembler.raw(now, Pieces::Every16K, &mut out);
            rest = later;
        }
        assembler.end(&mut out);
        prop_assert_eq!(texts(&out), lines);
        prop_assert!(out.iter().all(|l| l.time.is_some() && l.stream == Stream::Terminal));
    }

    #[test]
    fn no_bytes_are_lost_or_invented_without_times(payloads in proptest::collection::vec("[a-c\n]{0,9}", 0..20)) {
        let all: Vec<_> = payloads.iter().map(|p| (Stream::Stdout, p.clone())).collect();
        let joined = payloads.concat();
        let mut expected: Vec<&str> = joined.split('\n').collect();
        if expected.last() == Some(&"") { expected.pop(); }
        prop_assert_eq!(texts(&frames(&all)), expected);
    }

    #[test]
    fn any_bytes_are_taken(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        let (mut assembler, mut out) = (LineAssembler::new(), Vec::new());
        assembler.raw(&bytes, Pieces::AtReads, &mut out);
        assembler.frame(Stream::Stdout, &bytes, &mut out);
        assembler.end(&mut out);
    }
}
