//! Settings that few containers have, to the engine's call and back from its record: block device rates, real-time
//! shares, cgroups, runtimes and the like.
//!
//! podman writes values of its own into most of these in its records, so there they are only written. What everybody sets is
//! in [`crate::make`] and [`crate::defined`].

use std::collections::BTreeMap;

use gubernum_core::definition::{BlockDeviceRate, BlockDeviceWeight, BlockLimits, Definition};
use serde_json::{Map, Value, json};

/// The runtime that dockerd takes by itself.
const USUAL_RUNTIME: &str = "runc";

/// Puts what is set into the host's side of a call.
pub(crate) fn write(d: &Definition, host: &mut Map<String, Value>) {
    let (l, r) = (&d.limits, &d.rights);
    let mut put = |key: &str, value: Option<Value>| {
        if let Some(value) = value {
            host.insert(key.to_owned(), value);
        }
    };
    put("OomKillDisable", l.waits_for_memory.then_some(Value::Bool(true)));
    put("MemorySwappiness", l.swappiness.map(Value::from));
    put("CpuPeriod", l.processor_period.map(Value::from));
    put("CpuQuota", l.processor_quota.map(Value::from));
    put("CpuRealtimePeriod", l.real_time_period.map(Value::from));
    put("CpuRealtimeRuntime", l.real_time_runtime.map(Value::from));
    put("CgroupParent", l.control_group.clone().map(Value::from));
    put("BlkioWeight", l.block.weight.map(Value::from));
    let weights: Vec<Value> =
        l.block.weights.iter().map(|w| json!({"Path": w.path, "Weight": w.weight})).collect();
    put("BlkioWeightDevice", some(weights));
    for (key, rates) in rates_of(&l.block) {
        put(key, some(rates.iter().map(|r| json!({"Path": r.path, "Rate": r.rate})).collect()));
    }
    put("DeviceCgroupRules", some(r.device_rules.iter().map(|rule| json!(rule)).collect()));
    put("UTSMode", r.hostname_of.clone().map(Value::from));
    put("CgroupnsMode", r.groups_of.clone().map(Value::from));
    put("Runtime", d.runtime.clone().map(Value::from));
    put("StorageOpt", (!d.storage.is_empty()).then(|| json!(d.storage)));
    put("Annotations", (!d.annotations.is_empty()).then(|| json!(d.annotations)));
}

fn some(all: Vec<Value>) -> Option<Value> {
    (!all.is_empty()).then_some(Value::Array(all))
}

fn rates_of(block: &BlockLimits) -> [(&'static str, &Vec<BlockDeviceRate>); 4] {
    [
        ("BlkioDeviceReadBps", &block.read_bytes),
        ("BlkioDeviceWriteBps", &block.write_bytes),
        ("BlkioDeviceReadIOps", &block.reads),
        ("BlkioDeviceWriteIOps", &block.writes),
    ]
}

/// Reads what dockerd's record has of them. Whose control groups it sees is not told apart from dockerd's own choice; that is
/// carried over as it is.
pub(crate) fn read(host: &Value, d: &mut Definition) {
    let text = |key: &str| host[key].as_str().filter(|t| !t.is_empty()).map(str::to_owned);
    let positive = |key: &str| host[key].as_u64().filter(|n| *n > 0);
    let texts = |key: &str| -> Vec<String> {
        host[key].as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect()
    };
    let pairs = |key: &str| -> BTreeMap<String, String> {
        let all = host[key].as_object().into_iter().flatten();
        all.filter_map(|(k, v)| Some((k.clone(), v.as_str()?.to_owned()))).collect()
    };
    let rates = |key: &str| -> Vec<BlockDeviceRate> {
        let all = host[key].as_array().into_iter().flatten();
        all.filter_map(|r| {
            Some(BlockDeviceRate { path: r["Path"].as_str()?.to_owned(), rate: r["Rate"].as_u64()? })
        })
        .collect()
    };
    let weight = |value: &Value| value.as_u64().and_then(|w| u16::try_from(w).ok()).filter(|w| *w > 0);
    let weights = host["BlkioWeightDevice"].as_array().into_iter().flatten();
    let weights = weights.filter_map(|w| {
        Some(BlockDeviceWeight { path: w["Path"].as_str()?.to_owned(), weight: weight(&w["Weight"])? })
    });
    d.limits.waits_for_memory = host["OomKillDisable"].as_bool().unwrap_or(false);
    d.limits.swappiness =
        host["MemorySwappiness"].as_u64().and_then(|n| u8::try_from(n).ok()).filter(|n| *n <= 100);
    d.limits.real_time_period = positive("CpuRealtimePeriod");
    d.limits.real_time_runtime = positive("CpuRealtimeRuntime");
    d.limits.control_group = text("CgroupParent");
    d.limits.block = BlockLimits {
        weight: weight(&host["BlkioWeight"]),
        weights: weights.collect(),
        read_bytes: rates("BlkioDeviceReadBps"),
        write_bytes: rates("BlkioDeviceWriteBps"),
        reads: rates("BlkioDeviceReadIOps"),
        writes: rates("BlkioDeviceWriteIOps"),
    };
    d.rights.device_rules = texts("DeviceCgroupRules");
    d.rights.hostname_of = text("UTSMode");
    d.runtime = text("Runtime").filter(|name| name != USUAL_RUNTIME);
    d.storage = pairs("StorageOpt");
    d.annotations = pairs("Annotations");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read() {
        let mut d = Definition::for_image("x");
        let rate = |path: &str, rate| vec![BlockDeviceRate { path: path.into(), rate }];
        d.limits.block = BlockLimits {
            weight: Some(300),
            weights: vec![BlockDeviceWeight { path: "/dev/a".into(), weight: 10 }],
            read_bytes: rate("/dev/a", 1 << 20),
            write_bytes: rate("/dev/b", 2),
            reads: rate("/dev/c", 3),
            writes: rate("/dev/d", 4),
        };
        d.limits.swappiness = Some(0);
        d.limits.waits_for_memory = true;
        d.limits.real_time_period = Some(1000);
        d.limits.real_time_runtime = Some(900);
        d.limits.control_group = Some("/orchard".into());
        d.rights.device_rules = vec!["c 1:3 mr".into()];
        d.rights.hostname_of = Some("host".into());
        d.runtime = Some("other".into());
        d.storage.insert("size".into(), "1g".into());
        d.annotations.insert("a".into(), "b".into());
        let mut host = Map::new();
        write(&d, &mut host);
        let mut back = Definition::for_image("x");
        read(&Value::Object(host), &mut back);
        assert_eq!(back, d);
    }

    #[test]
    fn what_dockerd_fills_in_is_not_set() {
        let host = json!({
            "OomKillDisable": false, "MemorySwappiness": null, "CgroupParent": "", "BlkioWeight": 0,
            "BlkioWeightDevice": [], "BlkioDeviceReadBps": null, "DeviceCgroupRules": null, "UTSMode": "",
            "CgroupnsMode": "private", "Runtime": "runc", "CpuRealtimePeriod": 0,
        });
        let mut d = Definition::for_image("x");
        read(&host, &mut d);
        assert_eq!(d, Definition::for_image("x"));
    }
}
