//! Fits a table into a width: empty columns are dropped, and long cells are cut, names in the middle and sentences at
//! the end.
//!
//! Only the arithmetic; `table.rs` knows the terminal and draws. With `--wide` nothing of this happens.

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Columns between two columns.
pub(crate) const GAP: usize = 2;
/// A column is not made narrower than this, unless it is.
const LEAST: usize = 8;
/// Columns up to this width are left whole as long as the others stay readable: times, numbers, states.
const WHOLE: usize = 23;
/// Names that are cut are still told apart in this width.
const READABLE: usize = 14;
/// Stands for what is cut out; one column wide.
const CUT: char = '…';

/// Takes out the columns in which every row is empty.
pub(crate) fn without_empty_columns(head: &mut Vec<String>, rows: &mut [Vec<String>]) {
    let is_empty = |at: usize| rows.iter().all(|row| row.get(at).is_none_or(|cell| cell.trim().is_empty()));
    let empty: Vec<bool> = (0..head.len()).map(is_empty).collect();
    let keep = |cells: &mut Vec<String>| {
        let mut at = 0;
        cells.retain(|_| {
            at += 1;
            !empty.get(at - 1).copied().unwrap_or(false)
        });
    };
    if empty.iter().all(|e| *e) {
        return;
    }
    keep(head);
    rows.iter_mut().for_each(keep);
}

/// Cuts cells so that a row takes at most `width` columns, where the narrowest columns allow it. The widest columns give
/// first, all down to the same width.
pub(crate) fn fit(head: &[String], rows: &mut [Vec<String>], width: usize) {
    let column = |at: usize| {
        let cells = rows.iter().filter_map(|row| row.get(at)).map(|cell| cell.width());
        cells.chain(head.get(at).map(|name| name.width())).max().unwrap_or(0)
    };
    let widths: Vec<usize> = (0..head.len()).map(column).collect();
    let room = width.saturating_sub(GAP * head.len().saturating_sub(1));
    let Some((most, whole)) = limit(&widths, room) else { return };
    for row in rows {
        for (cell, natural) in row.iter_mut().zip(&widths) {
            if *natural > whole && cell.width() > most {
                *cell = shortened(cell, most);
            }
        }
    }
}

/// The width that no column may pass so that all together fit, and up to which width a column is left whole; nothing when
/// they fit as they are. A time or a number that is cut says nothing, so narrow columns stay whole where that is enough.
fn limit(widths: &[usize], room: usize) -> Option<(usize, usize)> {
    let widest = widths.iter().copied().max().unwrap_or(0);
    let sum = |most: usize, whole: usize| {
        widths.iter().map(|w| if *w <= whole { *w } else { *w.min(&most) }).sum::<usize>()
    };
    if sum(widest, 0) <= room {
        return None;
    }
    let find = |least: usize, whole: usize| (least..widest).rev().find(|most| sum(*most, whole) <= room);
    find(READABLE, WHOLE)
        .map(|most| (most, WHOLE))
        .or_else(|| find(LEAST, 0).map(|most| (most, 0)))
        .or(Some((LEAST, 0)))
}

/// A text in at most `most` columns: a name without its middle, a sentence without its end.
pub(crate) fn shortened(text: &str, most: usize) -> String {
    if text.width() <= most {
        return text.to_owned();
    }
    let room = most.saturating_sub(1);
    let tail = if text.contains(char::is_whitespace) { 0 } else { room / 2 };
    let start = taken(text.chars(), room - tail);
    let end = taken(text.chars().rev(), tail);
    start.into_iter().chain([CUT]).chain(end.into_iter().rev()).collect()
}

fn taken(chars: impl Iterator<Item = char>, room: usize) -> Vec<char> {
    let mut used = 0;
    chars
        .take_while(|c| {
            used += c.width().unwrap_or(0);
            used <= room
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn texts(cells: &[&str]) -> Vec<String> {
        cells.iter().map(|c| (*c).to_owned()).collect()
    }

    #[rstest]
    #[case("packhouse/frostwatch-api-1", 26, "packhouse/frostwatch-api-1")]
    #[case("packhouse/frostwatch-api-1", 15, "packhou…h-api-1")]
    #[case("Exited with code 2. Last output: gone", 20, "Exited with code 2.…")]
    #[case("冷蔵庫の温度", 7, "冷…度")]
    #[case("abc", 1, "…")]
    fn names_lose_their_middle_and_sentences_their_end(
        #[case] text: &str,
        #[case] most: usize,
        #[case] expected: &str,
    ) {
        let cut = shortened(text, most);
        assert!(cut.width() <= most, "{cut}");
        assert_eq!(cut, expected);
    }

    #[test]
    fn the_widest_column_gives_first() {
        let head = texts(&["HOST", "REASON"]);
        let mut rows = vec![texts(&["packhouse", "Restart loop: 43 restarts, last exit code 1"])];
        fit(&head, &mut rows, 40);
        assert_eq!(rows[0][0], "packhouse");
        assert_eq!(rows[0][1].width(), 29, "{}", rows[0][1]);
    }

    #[test]
    fn a_time_stays_whole_while_names_give_way() {
        let head = texts(&["TIME", "OBJECT", "OUTCOME"]);
        let row = [
            "2026-11-30 22:37:39 UTC",
            "coldstore/registry.example/base/rowstore:4.2",
            "operation 9: failed",
        ];
        let mut rows = vec![texts(&row)];
        fit(&head, &mut rows, 70);
        assert_eq!((rows[0][0].as_str(), rows[0][2].as_str()), (row[0], row[2]));
        assert_eq!(rows[0][1].width(), 70 - 4 - 23 - 19, "{}", rows[0][1]);
    }

    #[test]
    fn columns_without_content_go_and_a_table_without_any_stays() {
        let mut head = texts(&["NAME", "STACK", "HOST"]);
        let mut rows = vec![texts(&["a", "", "x"]), texts(&["b", " ", "y"])];
        without_empty_columns(&mut head, &mut rows);
        assert_eq!(head, texts(&["NAME", "HOST"]));
        assert_eq!(rows[1], texts(&["b", "y"]));
        let mut rows = vec![texts(&["", ""])];
        without_empty_columns(&mut head, &mut rows);
        assert_eq!(head.len(), 2);
    }

    proptest! {
        #[test]
        fn a_row_fits_wherever_the_narrowest_columns_do(
            cells in proptest::collection::vec("[a-z/ ]{0,40}", 1..7),
            width in 10_usize..200,
        ) {
            let head: Vec<String> = cells.iter().map(|_| "HEAD".to_owned()).collect();
            let mut rows = vec![cells.clone()];
            fit(&head, &mut rows, width);
            let gaps = GAP * (head.len() - 1);
            let total = gaps + rows[0].iter().map(|c| c.width().max(4)).sum::<usize>();
            prop_assert!(total <= width.max(LEAST * head.len() + gaps), "{rows:?}");
            for (before, after) in cells.iter().zip(&rows[0]) {
                prop_assert!(after == before || after.contains(CUT));
            }
        }
    }
}
