//! Changes: preview them, or submit them and wait.

use gubernum_api::TargetPlan;
use gubernum_api::requests::NewOperation;
use gubernum_api::views::Preview;
use gubernum_client::Client;
use gubernum_core::reason::bytes_words;

use crate::arguments::{ChangeOptions, Output};
use crate::exit::{ALL_FAILED, FINE, Failure, SOME_FAILED};
use crate::progress;
use crate::table::{say, say_json, table};

pub(super) async fn run(
    client: &Client,
    mut wish: NewOperation,
    manner: &ChangeOptions,
    output: Output,
) -> Result<u8, Failure> {
    if manner.preview {
        let preview = client.preview(&wish).await?;
        if output == Output::Json {
            say_json(&preview)?;
        } else {
            say(&told(&preview))?;
        }
        return Ok(code(&preview));
    }
    wish.wait_seconds = manner.queue;
    if let Some(seconds) = manner.queue {
        tell_holder(client, &wish, seconds).await?;
    }
    let operation = client.submit(&wish, manner.key.as_deref()).await?;
    if manner.no_wait {
        if output == Output::Json {
            say_json(&operation)?;
        } else {
            say(&format!("operation {} is running on {} targets", operation.id, operation.targets.len()))?;
        }
        return Ok(FINE);
    }
    let over = progress::wait(client, operation).await?;
    progress::outcome(over.as_ref(), output)
}

/// Says which operations are ahead in the queue.
async fn tell_holder(client: &Client, wish: &NewOperation, seconds: u32) -> Result<(), Failure> {
    let preview = client.preview(wish).await?;
    let busy = preview.targets.iter().filter(|t| t.busy);
    let busy = busy.filter_map(|t| t.refused.as_ref().map(|why| (t.reference(), why)));
    for (target, why) in busy.take(3) {
        eprintln!("{}: {}", gubernum_core::text::shown(&target, 100), gubernum_core::text::shown(why, 300));
        eprintln!("Queued for at most {seconds} s. Ctrl-C leaves the queue.");
    }
    Ok(())
}

/// As the operation's would be: refusals are failures, what is up to date is none.
fn code(preview: &Preview) -> u8 {
    let refused = preview.targets.iter().filter(|t| t.refused.is_some()).count();
    match refused {
        0 => FINE,
        n if n == preview.targets.len() => ALL_FAILED,
        _ => SOME_FAILED,
    }
}

pub(super) async fn cancel(client: &Client, id: u64, output: Output) -> Result<u8, Failure> {
    let operation = client.cancel(id).await?;
    let over = progress::wait(client, operation).await?;
    progress::outcome(over.as_ref(), output)?;
    Ok(FINE)
}

/// A preview for people: few targets in full, many as a table.
fn told(preview: &Preview) -> String {
    let head = format!("Preview of {}; nothing was changed.", preview.kind);
    if preview.kind.is_whole() {
        return format!("{head}\n\n{}", super::stacks::told(&preview.targets));
    }
    if preview.targets.len() > 3 || preview.kind == gubernum_api::Kind::Tidy {
        let rows = preview.targets.iter().map(|t| {
            let what = match (&t.refused, &t.unchanged) {
                (Some(why), _) => format!("Refused: {why}"),
                (None, Some(why)) => why.clone(),
                (None, None) => t.consequence.clone(),
            };
            vec![t.reference(), t.bytes.map(bytes_words).unwrap_or_default(), what]
        });
        let won: u64 = preview.targets.iter().filter(|t| t.refused.is_none()).filter_map(|t| t.bytes).sum();
        let sum = if won > 0 { format!("\n\nFrees {} in all.", bytes_words(won)) } else { String::new() };
        let rows: Vec<Vec<String>> = rows.collect();
        if let Some(shared) = shared_by_all(preview) {
            let targets: Vec<String> =
                preview.targets.iter().map(|t| format!("  {}", t.reference())).collect();
            return format!("{head}\n\n{shared}\n{}{sum}", targets.join("\n"));
        }
        return format!("{head}\n\n{}{sum}", table(&["TARGET", "FREES", "CONSEQUENCE"], rows));
    }
    let blocks: Vec<String> = preview.targets.iter().map(block).collect();
    format!("{head}\n\n{}", blocks.join("\n\n"))
}

/// The consequence, where it is the same for every target and nothing else is to be said of any.
fn shared_by_all(preview: &Preview) -> Option<&str> {
    let first = preview.targets.first()?.consequence.as_str();
    let is_plain = |t: &TargetPlan| {
        t.refused.is_none() && t.unchanged.is_none() && t.bytes.is_none() && t.data_at_risk.is_empty()
    };
    preview.targets.iter().all(|t| is_plain(t) && t.consequence == first).then_some(first)
}

/// What would happen to one target, a line for each fact.
pub(crate) fn block(t: &TargetPlan) -> String {
    let mut lines = vec![t.reference()];
    match &t.refused {
        Some(why) => lines.push(format!("  Refused: {why}")),
        None if t.unchanged.is_some() => lines.extend(t.unchanged.iter().map(|why| format!("  {why}"))),
        None if t.consequence.is_empty() => {}
        None => lines.push(format!("  {}", t.consequence)),
    }
    for f in t.findings.iter().filter(|f| t.refused.as_ref() != Some(&f.sentence)) {
        let weight = if f.weight == gubernum_api::Weight::Error { "error" } else { "warning" };
        lines.push(format!("  {weight} at {}: {}", f.field, f.sentence));
    }
    lines.extend(t.differences.iter().map(|d| format!("  change: {}", d.words())));
    if t.refused.is_some() {
        // Nothing of the rest happens.
        return shown(&lines);
    }
    // One step is what the consequence says already.
    if t.steps_in_words.len() > 1 {
        lines.extend(t.steps_in_words.iter().enumerate().map(|(n, step)| format!("  {}. {step}", n + 1)));
    }
    let lists =
        [("creates", &t.creates), ("recreates", &t.recreates), ("keeps", &t.keeps), ("removes", &t.removes)];
    lines
        .extend(lists.iter().filter(|(_, l)| !l.is_empty()).map(|(w, l)| format!("  {w}: {}", l.join(", "))));
    lines.extend(t.data_at_risk.iter().map(|d| format!("  Data at risk: {d}")));
    lines.extend(t.downtime.iter().map(|d| format!("  downtime: {d}")));
    lines.extend(t.bytes.map(|b| format!("  frees: {}", bytes_words(b))));
    shown(&lines)
}

fn shown(lines: &[String]) -> String {
    lines.iter().map(|l| gubernum_core::text::shown(l, 400)).collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use gubernum_api::ObjectKind;
    use rstest::rstest;

    use super::*;

    fn restart(name: &str) -> TargetPlan {
        TargetPlan {
            host: "packhouse".into(),
            object: ObjectKind::Container,
            name: name.into(),
            consequence: "Stops it, then starts it.".into(),
            downtime: Some("while it restarts".into()),
            ..TargetPlan::default()
        }
    }

    fn preview(targets: Vec<TargetPlan>) -> Preview {
        Preview { kind: gubernum_api::Kind::Restart, targets, digest: String::new() }
    }

    #[test]
    fn what_is_refused_shows_its_reason_and_nothing_that_will_not_happen() {
        let refused = TargetPlan {
            refused: Some("it is pinned".into()),
            removes: vec!["volume crates".into()],
            data_at_risk: vec!["everything in the volume crates".into()],
            steps_in_words: vec!["Stop it.".into(), "Remove it.".into()],
            ..restart("sorter")
        };
        assert_eq!(block(&refused), "packhouse/sorter\n  Refused: it is pinned");
    }

    #[test]
    fn what_happens_is_reported_a_line_for_each_fact() {
        let plan = TargetPlan {
            steps_in_words: vec!["Stop it.".into(), "Start it.".into()],
            keeps: vec!["volume crates".into(), "network cold".into()],
            bytes: Some(2048),
            ..restart("sorter")
        };
        let lines = [
            "packhouse/sorter",
            "  Stops it, then starts it.",
            "  1. Stop it.",
            "  2. Start it.",
            "  keeps: volume crates, network cold",
            "  downtime: while it restarts",
            "  frees: 2.0 KiB",
        ];
        assert_eq!(block(&plan).lines().collect::<Vec<_>>(), lines);
    }

    #[test]
    fn what_is_the_same_for_all_is_said_once() {
        let all = preview(vec![restart("sorter"), restart("scale")]);
        assert_eq!(shared_by_all(&all), Some("Stops it, then starts it."));
        let mixed = preview(vec![
            restart("sorter"),
            TargetPlan { refused: Some("it is pinned".into()), ..restart("scale") },
        ]);
        assert_eq!(shared_by_all(&mixed), None);
    }

    #[rstest]
    #[case::all_would(&[false, false], FINE)]
    #[case::one_would_not(&[false, true], SOME_FAILED)]
    #[case::none_would(&[true, true], ALL_FAILED)]
    fn a_preview_ends_as_the_change_would(#[case] refused: &[bool], #[case] expected: u8) {
        let target = |refused: &bool| TargetPlan {
            refused: refused.then(|| "it is pinned".to_owned()),
            ..restart("sorter")
        };
        assert_eq!(code(&preview(refused.iter().map(target).collect())), expected);
    }
}
