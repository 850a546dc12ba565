//! Commands inside containers: output, exit code, terminal, shells.

use std::time::Duration;

use gubernum_core::logs::Stream;
use gubernum_engine::exec::ExecWish;
use gubernum_sim::Program;
use gubernum_testbed::bed::Bed;
use serde_json::json;

use crate::until;

async fn up(bed: &Bed, name: &str) -> String {
    let id = bed.run(name, &Program::idle(), json!({})).await.unwrap();
    until(bed, &id, "running", |c| c.state == gubernum_core::container::State::Running).await;
    id
}

fn wish(words: &[&str]) -> ExecWish {
    ExecWish { command: words.iter().map(|w| (*w).to_owned()).collect(), ..ExecWish::default() }
}

pub(crate) async fn a_command_gives_its_output_and_exit_code(bed: &Bed) {
    let id = up(bed, "commanded").await;
    let mut running =
        bed.engine.exec(&id, &wish(&["sh", "-c", "echo out; echo err >&2; exit 7"])).await.unwrap();
    let (mut out, mut err) = (Vec::new(), Vec::new());
    while let Some((stream, bytes)) = running.output.next().await.unwrap() {
        if stream == Stream::Stderr { &mut err } else { &mut out }.extend_from_slice(&bytes);
    }
    assert_eq!((out.as_slice(), err.as_slice()), (&b"out\n"[..], &b"err\n"[..]), "{:?}", bed.kind);
    let state = bed.engine.exec_state(&running.id).await.unwrap();
    assert_eq!((state.running, state.exit_code), (false, Some(7)), "{:?}", bed.kind);
    let (code, said) = bed
        .engine
        .run_to_end(&id, &ExecWish { folder: Some("/tmp".into()), ..wish(&["sh", "-c", "pwd"]) }, 100)
        .await
        .unwrap();
    assert_eq!((code, said.as_slice()), (Some(0), &b"/tmp\n"[..]));
    // What is not there is said, by the call or by the code.
    match bed.engine.run_to_end(&id, &wish(&["no-such-command"]), 1000).await {
        Err(error) => assert!(error.status().is_some(), "{error}"),
        Ok((code, _)) => assert!(matches!(code, Some(126 | 127)), "{code:?}"),
    }
    bed.engine.stop(&id, Some(1)).await.unwrap();
    let error = bed.engine.exec(&id, &wish(&["pwd"])).await.err().expect("it does not run");
    assert!(matches!(error.status(), Some(409 | 500)), "{error}");
}

pub(crate) async fn a_terminal_takes_input_and_a_size(bed: &Bed) {
    let id = up(bed, "talked-to").await;
    let with = ExecWish { terminal: true, input: true, ..wish(&["sh"]) };
    let mut running = bed.engine.exec(&id, &with).await.unwrap();
    bed.engine.resize(&running.id, 101, 37).await.unwrap();
    let mut said = String::new();
    let mut asked = false;
    let talk = async {
        while let Some((stream, bytes)) = running.output.next().await.unwrap() {
            assert_eq!(stream, Stream::Terminal);
            said.push_str(&String::from_utf8_lossy(&bytes));
            if !asked && said.contains('$') | said.contains('#') {
                asked = true;
                running.input.write(b"echo so-\"far\"; exit 5\r").await.unwrap();
            }
        }
    };
    tokio::time::timeout(Duration::from_secs(20), talk).await.expect("it ends by itself");
    let told = said.matches("so-far").count() + said.matches("so-\"far").count();
    assert!(told >= 1, "{:?}: {said}", bed.kind);
    // Some engines tell of the end a moment later.
    for _ in 0..100 {
        let state = bed.engine.exec_state(&running.id).await.unwrap();
        if !state.running {
            assert_eq!(state.exit_code, Some(5), "{:?}", bed.kind);
            return;
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    panic!("{:?}: it is said to run for ever", bed.kind);
}

pub(crate) async fn shells_are_found_without_running_anything(bed: &Bed) {
    let id = bed.create("shelled", &Program::idle(), json!({})).await.unwrap();
    let shells = bed.engine.shells(&id).await.unwrap();
    assert!(shells.contains(&"/bin/sh"), "{:?}: {shells:?}", bed.kind);
    assert!(!shells.contains(&"/usr/bin/fish") || !bed.kind.is_simulated(), "{shells:?}");
}
