//! What holds of every stack, whatever its services need of each other.

use proptest::prelude::*;

use super::super::*;
use super::{done, plan, running, wanted};
use crate::plan::{ObjectKind, Step, Until};

/// A service: how many there are, which of those before it it needs and how, and whether it has a volume.
#[derive(Debug, Clone)]
struct Made {
    replicas: u32,
    needs: Vec<(usize, u8)>,
    has_volume: bool,
    zone: u8,
}

fn made() -> impl Strategy<Value = Vec<Made>> {
    let one = (1..3u32, prop::collection::vec((0..6usize, 0..3u8), 0..3), any::<bool>(), 0..4u8);
    let one = one.prop_map(|(replicas, needs, has_volume, zone)| Made { replicas, needs, has_volume, zone });
    prop::collection::vec(one, 1..6)
}

fn text(all: &[Made]) -> String {
    let mut out = String::from("services:\n");
    for (n, made) in all.iter().enumerate() {
        let mut needs: Vec<(usize, u8)> = made.needs.iter().filter(|(of, _)| *of < n).copied().collect();
        needs.sort_unstable();
        needs.dedup_by_key(|(of, _)| *of);
        let word = |kind: u8| {
            ["service_started", "service_healthy", "service_completed_successfully"][usize::from(kind)]
        };
        let needs: Vec<String> =
            needs.iter().map(|(of, kind)| format!("s{of}: {{condition: {}}}", word(*kind))).collect();
        out.push_str(&format!(
            "  s{n}:\n    image: tarn/s{n}:1\n    scale: {}\n    environment: {{ZONE: 'z{}'}}\n    depends_on: {{{}}}\n",
            made.replicas,
            made.zone,
            needs.join(", ")
        ));
        if made.has_volume {
            out.push_str(&format!("    volumes: ['v{n}:/data']\n"));
        }
    }
    out.push_str("volumes: {");
    let volumes: Vec<String> =
        all.iter().enumerate().filter(|(_, m)| m.has_volume).map(|(n, _)| format!("v{n}: {{}}")).collect();
    out.push_str(&volumes.join(", "));
    out.push_str("}\n");
    out
}

proptest! {
    #[test]
    fn each_waits_for_what_comes_before_it(all in made()) {
        let text = text(&all);
        let empty = Present { host: "packhouse", ..Present::default() };
        let pieces = plan(&text, &empty);
        let containers = pieces.iter().filter(|p| p.plan.object == ObjectKind::Container).count();
        prop_assert_eq!(containers, all.iter().map(|m| m.replicas as usize).sum::<usize>());
        for (n, piece) in pieces.iter().enumerate() {
            prop_assert!(piece.plan.refused.is_none() && !piece.plan.steps.is_empty());
            for after in &piece.plan.after {
                prop_assert!((after.target as usize) < n);
                let first = &pieces[after.target as usize].plan;
                // Whoever is waited for to its end is one that ends.
                let is_watched = |s: &Step| matches!(s, Step::Watch { .. } | Step::WaitForEnd);
                let tells = first.object != ObjectKind::Container || first.steps.iter().any(is_watched);
                prop_assert!(tells || after.until == Until::Started);
            }
        }
    }

    #[test]
    fn applied_again_nothing_is_done(all in made()) {
        let text = text(&all);
        let present = running(&wanted(&text).unwrap());
        let pieces = plan(&text, &present);
        prop_assert_eq!(done(&pieces), Vec::<&str>::new());
    }

    #[test]
    fn a_change_of_one_service_touches_that_one(all in made(), which in 0..6usize) {
        let present = running(&wanted(&text(&all)).unwrap());
        let mut changed = all.clone();
        let which = which % all.len();
        changed[which].zone += 4;
        let pieces = plan(&text(&changed), &present);
        let prefix = format!("frostwatch-s{which}-");
        let done = done(&pieces);
        prop_assert_eq!(done.len(), all[which].replicas as usize);
        prop_assert!(done.iter().all(|name| name.starts_with(&prefix)), "{:?}", done);
    }

    #[test]
    fn what_is_written_down_changes_nothing_and_means_the_same(all in made()) {
        let first = wanted(&text(&all)).unwrap();
        let present = running(&first);
        let written = adopt::written("frostwatch", &present).unwrap();
        prop_assert_eq!(adopt::differing(&written, "frostwatch", &present), Vec::<String>::new());
        let again = wanted(&written).unwrap();
        let told = |d: &Desired| -> Vec<_> {
            let mut all: Vec<_> =
                d.containers.iter().map(|c| (c.definition.clone(), c.needs.clone(), c.is_job)).collect();
            all.sort_by(|a, b| a.0.name.cmp(&b.0.name));
            all
        };
        prop_assert_eq!(told(&first), told(&again), "{}", written);
    }
}
