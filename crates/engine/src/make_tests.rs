//! What a definition becomes in the engine's create call: each setting at its place, and nothing said of what is not set.

use gubernum_core::definition::compose::read;
use rstest::rstest;

use super::*;

/// The call's body for a service with these further lines of Compose text.
fn body(lines: &str, dialect: Dialect) -> Value {
    let mut text = String::from("services:\n  row:\n    image: tarn/row:1\n");
    for line in lines.lines() {
        text.push_str(&format!("    {line}\n"));
    }
    let definition = read(&text).unwrap_or_else(|e| panic!("{lines}: {e}")).definition;
    create_body(&definition, None, dialect)
}

#[test]
fn nothing_is_said_of_what_is_not_set() {
    let expected = json!({
        "Image": "tarn/row:1",
        "HostConfig": {
            "Privileged": false, "ReadonlyRootfs": false,
            "RestartPolicy": {"Name": "no", "MaximumRetryCount": 0},
        },
    });
    assert_eq!(body("", Dialect::Dockerd), expected);
    let mut expected = expected;
    expected["StopTimeout"] = json!(DEFAULT_GRACE_SECONDS);
    assert_eq!(body("", Dialect::Podman), expected, "podman would kill at once");
}

#[rstest]
#[case("entrypoint: [/bin/row]", "/Entrypoint", json!(["/bin/row"]))]
#[case("command: serve --all", "/Cmd", json!(["serve", "--all"]))]
#[case("environment: {B: \"2\", A: x=y}", "/Env", json!(["B=2", "A=x=y"]))]
#[case("user: \"1000\"", "/User", json!("1000"))]
#[case("working_dir: /srv", "/WorkingDir", json!("/srv"))]
#[case("hostname: row", "/Hostname", json!("row"))]
#[case("domainname: tarnvalley.example", "/Domainname", json!("tarnvalley.example"))]
#[case("mac_address: \"02:42:ac:11:00:02\"", "/MacAddress", json!("02:42:ac:11:00:02"))]
#[case("labels: {a: b}", "/Labels", json!({"a": "b"}))]
#[case("stop_signal: SIGINT", "/StopSignal", json!("SIGINT"))]
#[case("stop_signal: int", "/StopSignal", json!("SIGINT"))]
#[case("stop_grace_period: 90s", "/StopTimeout", json!(90))]
#[case("tty: true", "/Tty", json!(true))]
#[case("stdin_open: true", "/OpenStdin", json!(true))]
#[case("healthcheck: {disable: true}", "/Healthcheck", json!({"Test": ["NONE"]}))]
#[case(
    "healthcheck: {test: exit 0, interval: 1500ms, retries: 3}",
    "/Healthcheck",
    json!({"Test": ["CMD-SHELL", "exit 0"], "Interval": 1_500_000_000u64, "Timeout": 0, "Retries": 3, "StartPeriod": 0})
)]
#[case("mem_limit: 64m", "/HostConfig/Memory", json!(64 << 20))]
#[case("memswap_limit: -1", "/HostConfig/MemorySwap", json!(-1))]
#[case("mem_reservation: 32m", "/HostConfig/MemoryReservation", json!(32 << 20))]
#[case("shm_size: 16m", "/HostConfig/ShmSize", json!(16 << 20))]
#[case("cpus: 0.25", "/HostConfig/NanoCpus", json!(250_000_000))]
#[case("cpus: 0.1", "/HostConfig/NanoCpus", json!(100_000_000))]
#[case("cpu_shares: 512", "/HostConfig/CpuShares", json!(512))]
#[case("cpuset: 0-1", "/HostConfig/CpusetCpus", json!("0-1"))]
#[case("pids_limit: 100", "/HostConfig/PidsLimit", json!(100))]
#[case("oom_score_adj: -100", "/HostConfig/OomScoreAdj", json!(-100))]
#[case("ulimits: {nofile: {soft: 10, hard: 20}}", "/HostConfig/Ulimits", json!([{"Name": "nofile", "Soft": 10, "Hard": 20}]))]
#[case("volumes: [/data]", "/Volumes", json!({"/data": {}}))]
#[case(
    "volumes: [\"data:/x:ro\"]",
    "/HostConfig/Mounts",
    json!([{"Type": "volume", "Source": "data", "Target": "/x", "ReadOnly": true}])
)]
#[case(
    "volumes: [{type: volume, target: /x, read_only: true}]",
    "/HostConfig/Mounts",
    json!([{"Type": "volume", "Target": "/x", "ReadOnly": true}])
)]
#[case(
    "volumes: [\"/s:/x:rslave\"]",
    "/HostConfig/Mounts",
    json!([{"Type": "bind", "Source": "/s", "Target": "/x", "ReadOnly": false, "BindOptions": {"Propagation": "rslave"}}])
)]
#[case("tmpfs: /run", "/HostConfig/Tmpfs", json!({"/run": ""}))]
#[case("volumes: [{type: tmpfs, target: /run, tmpfs: {size: 1m}}]", "/HostConfig/Tmpfs", json!({"/run": "size=1048576"}))]
#[case("privileged: true", "/HostConfig/Privileged", json!(true))]
#[case("read_only: true", "/HostConfig/ReadonlyRootfs", json!(true))]
#[case("cap_add: [NET_ADMIN]", "/HostConfig/CapAdd", json!(["NET_ADMIN"]))]
#[case("cap_drop: [ALL]", "/HostConfig/CapDrop", json!(["ALL"]))]
#[case("security_opt: [\"no-new-privileges:true\"]", "/HostConfig/SecurityOpt", json!(["no-new-privileges:true"]))]
#[case("group_add: [audio]", "/HostConfig/GroupAdd", json!(["audio"]))]
#[case(
    "devices: [/dev/a]",
    "/HostConfig/Devices",
    json!([{"PathOnHost": "/dev/a", "PathInContainer": "/dev/a", "CgroupPermissions": "rwm"}])
)]
#[case(
    "devices: [\"/dev/a:/dev/b:r\"]",
    "/HostConfig/Devices",
    json!([{"PathOnHost": "/dev/a", "PathInContainer": "/dev/b", "CgroupPermissions": "r"}])
)]
#[case("gpus: all", "/HostConfig/DeviceRequests", json!([{"Capabilities": [["gpu"]], "Driver": "", "Count": -1}]))]
#[case(
    "gpus: [{driver: x, device_ids: [\"0\"]}]",
    "/HostConfig/DeviceRequests",
    json!([{"Capabilities": [["gpu"]], "Driver": "x", "DeviceIDs": ["0"]}])
)]
#[case("sysctls: {a.b: 1}", "/HostConfig/Sysctls", json!({"a.b": "1"}))]
#[case("pid: host", "/HostConfig/PidMode", json!("host"))]
#[case("ipc: shareable", "/HostConfig/IpcMode", json!("shareable"))]
#[case("userns_mode: host", "/HostConfig/UsernsMode", json!("host"))]
#[case("network_mode: host", "/HostConfig/NetworkMode", json!("host"))]
#[case("networks: [front, back]", "/HostConfig/NetworkMode", json!("front"))]
#[case("networks: [front, back]", "/NetworkingConfig/EndpointsConfig", json!({"front": {}}))]
#[case(
    "networks: {front: {aliases: [row], ipv4_address: 10.9.0.2, ipv6_address: \"fd00::2\"}}",
    "/NetworkingConfig/EndpointsConfig/front",
    json!({"Aliases": ["row"], "IPAMConfig": {"IPv4Address": "10.9.0.2", "IPv6Address": "fd00::2"}})
)]
#[case("dns: [192.0.2.1]", "/HostConfig/Dns", json!(["192.0.2.1"]))]
#[case("dns_search: [tarnvalley.example]", "/HostConfig/DnsSearch", json!(["tarnvalley.example"]))]
#[case("dns_opt: [\"ndots:2\"]", "/HostConfig/DnsOptions", json!(["ndots:2"]))]
#[case("extra_hosts: [\"gate:192.0.2.1\"]", "/HostConfig/ExtraHosts", json!(["gate:192.0.2.1"]))]
#[case("ports: [\"80\"]", "/HostConfig/PortBindings", json!({"80/tcp": [{"HostIp": "", "HostPort": ""}]}))]
#[case(
    "ports: [\"7311:80\", \"127.0.0.1:7312:80\"]",
    "/HostConfig/PortBindings/80~1tcp",
    json!([{"HostIp": "", "HostPort": "7311"}, {"HostIp": "127.0.0.1", "HostPort": "7312"}])
)]
#[case("ports: [\"53:53/udp\"]", "/ExposedPorts", json!({"53/udp": {}}))]
#[case("expose: [\"9000\"]", "/ExposedPorts", json!({"9000/tcp": {}}))]
#[case("restart: on-failure:5", "/HostConfig/RestartPolicy", json!({"Name": "on-failure", "MaximumRetryCount": 5}))]
#[case("x-gubernum-auto-remove: true", "/HostConfig/AutoRemove", json!(true))]
#[case("init: false", "/HostConfig/Init", json!(false))]
#[case("logging: {driver: local}", "/HostConfig/LogConfig", json!({"Type": "local", "Config": {}}))]
#[case(
    "logging: {options: {max-size: 1m}}",
    "/HostConfig/LogConfig",
    json!({"Type": "", "Config": {"max-size": "1m"}})
)]
fn each_setting_is_at_its_place(
    #[case] lines: &str,
    #[case] place: &str,
    #[case] expected: Value,
    #[values(Dialect::Dockerd, Dialect::Podman)] dialect: Dialect,
) {
    let whole = body(lines, dialect);
    let mut found = whole.pointer(place).cloned().unwrap_or_default();
    if dialect == Dialect::Podman
        && place == "/Labels"
        && let Some(labels) = found.as_object_mut()
    {
        labels.remove(addresses::LABEL);
    }
    assert_eq!(found, expected, "{whole}");
}

#[test]
fn podman_is_told_of_addresses_by_a_label_and_other_networks_are_joined_later() {
    let lines = "networks: {front: {ipv4_address: 10.9.0.2}, back: {aliases: [row]}}";
    assert!(body(lines, Dialect::Dockerd).get("Labels").is_none());
    let labels = &body(lines, Dialect::Podman)["Labels"];
    assert!(labels[addresses::LABEL].as_str().is_some_and(|text| text.contains("10.9.0.2")), "{labels}");
    let definition = Definition {
        network: gubernum_core::definition::NetworkRule {
            networks: ["front", "back", "side"]
                .map(|name| NetworkConnection { name: name.into(), ..NetworkConnection::default() })
                .into(),
            ..Default::default()
        },
        ..Definition::default()
    };
    let later: Vec<&str> = join_later(&definition).iter().map(|join| join.name.as_str()).collect();
    assert_eq!(later, ["back", "side"]);
    assert!(join_later(&Definition::default()).is_empty());
}

#[test]
fn times_that_are_too_long_are_the_longest() {
    assert_eq!((nanos(None), nanos(Some(1)), nanos(Some(u64::MAX))), (0, 1_000_000, u64::MAX));
}
