//! Real engines in network namespaces with addresses of their own, whose links can be cut. dockerd is reached over
//! mutual TLS, podman over its socket. Engines without networks are in [`crate::real`].

use std::fs::File;
use std::net::{IpAddr, Ipv4Addr};
use std::os::fd::AsRawFd;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use tempfile::TempDir;

use crate::BedError;
use crate::certs::Authority;
use crate::process::{Running, finished, run};
use crate::real::{IMAGE, RealEngine, image_archive};

/// A bridge with a private subnet and the hosts on it. Everything goes away when dropped.
pub struct HostNet {
    bridge: String,
    octet: u8,
    authority: Authority,
    folder: TempDir,
    archive: PathBuf,
    hosts: Vec<NetHost>,
}

/// One host.
pub struct NetHost {
    /// Its name.
    pub name: String,
    /// Its address.
    pub address: Ipv4Addr,
    namespace: String,
    veth: String,
    socket: PathBuf,
    kind: Kind,
    process: Running,
    /// What the engine saw of the disk when it came up. Asked of its process later it can be a container's view:
    /// podman's service leaves a thread of its own, and that may be its first, with the container into which it copied.
    view: File,
}

enum Kind {
    Dockerd,
    /// With the folder in which it keeps everything.
    Podman(PathBuf),
}

/// The network of a host that has no engine yet.
struct Wired {
    address: Ipv4Addr,
    namespace: String,
    veth: String,
    folder: PathBuf,
}

impl HostNet {
    /// Makes the bridge. `octet` (1 to 254) keeps several of them apart: the subnet is `10.213.octet.0/24`.
    ///
    /// # Errors
    /// When the network tools are missing or refuse.
    pub fn new(octet: u8) -> Result<Self, BedError> {
        let bridge = format!("gbr{octet}");
        let _ = run("ip", &["link", "delete", &bridge]);
        run("ip", &["link", "add", &bridge, "type", "bridge"])?;
        run("ip", &["address", "add", &format!("10.213.{octet}.1/24"), "dev", &bridge])?;
        run("ip", &["link", "set", &bridge, "up"])?;
        let folder = tempfile::Builder::new().prefix("gubernum-net-").tempdir()?;
        let archive = image_archive(folder.path())?;
        Ok(Self { bridge, octet, authority: Authority::new()?, folder, archive, hosts: Vec::new() })
    }

    /// Makes the namespace of the next host and joins it to the bridge.
    fn wire(&self, name: &str) -> Result<Wired, BedError> {
        let number = u8::try_from(self.hosts.len() + 2).unwrap_or(254);
        let address = Ipv4Addr::new(10, 213, self.octet, number);
        let namespace = format!("gbn{}-{number}", self.octet);
        let veth = format!("gbv{}-{number}", self.octet);
        let inner = format!("gbi{}-{number}", self.octet);
        let _ = run("ip", &["netns", "delete", &namespace]);
        let _ = run("ip", &["link", "delete", &veth]);
        run("ip", &["netns", "add", &namespace])?;
        run("ip", &["link", "add", &veth, "type", "veth", "peer", "name", &inner])?;
        run("ip", &["link", "set", &inner, "netns", &namespace])?;
        run("ip", &["link", "set", &veth, "master", &self.bridge, "up"])?;
        run("ip", &["-n", &namespace, "address", "add", &format!("{address}/24"), "dev", &inner])?;
        run("ip", &["-n", &namespace, "link", "set", &inner, "up"])?;
        run("ip", &["-n", &namespace, "link", "set", "lo", "up"])?;
        let folder = self.folder.path().join(name);
        std::fs::create_dir_all(&folder)?;
        Ok(Wired { address, namespace, veth, folder })
    }

    /// Starts an engine in the namespace, with a `/run` and CNI records of its own, and gives it the image.
    fn start(
        &mut self,
        name: &str,
        wired: Wired,
        kind: Kind,
        engine: &str,
        disk: Option<u32>,
    ) -> Result<&NetHost, BedError> {
        let data = wired.folder.join(if matches!(kind, Kind::Dockerd) { "data" } else { "root" });
        std::fs::create_dir_all(&data)?;
        let disk =
            disk.map_or_else(String::new, |m| format!("mount -t tmpfs -o size={m}m t {};", data.display()));
        let script = format!(
            "{disk} mount -t tmpfs t /run; mkdir -p /var/lib/cni; mount -t tmpfs t /var/lib/cni; hostname {name}; exec {engine}"
        );
        let mut command = Command::new("nsenter");
        command
            .arg(format!("--net=/run/netns/{}", wired.namespace))
            .args(["unshare", "-m", "--uts", "sh", "-c", &script]);
        if matches!(kind, Kind::Podman(_)) {
            RealEngine::podman_settings(&mut command, &wired.folder);
        }
        let mut process = Running::start(command, &wired.folder.join("log"), Duration::from_secs(20))?;
        let socket = wired.folder.join("engine.sock");
        process.wait_until(&format!("the engine of {name}"), 60, || {
            std::os::unix::net::UnixStream::connect(&socket).is_ok()
        })?;
        let Wired { address, namespace, veth, .. } = wired;
        let view = File::open(format!("/proc/{}/ns/mnt", process.id()))?;
        let host = NetHost { name: name.to_owned(), address, namespace, veth, socket, kind, process, view };
        host.tool(&["import", &self.archive.to_string_lossy(), IMAGE])?;
        self.hosts.push(host);
        let last = self.hosts.len() - 1;
        Ok(&self.hosts[last])
    }

    /// Adds a host with a dockerd that listens with mutual TLS on port 2376 of its address.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn add(&mut self, name: &str) -> Result<&NetHost, BedError> {
        self.dockerd(name, None)
    }

    /// Adds such a host whose engine has a disk of its own, in MiB.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn add_cramped(&mut self, name: &str, mebibytes: u32) -> Result<&NetHost, BedError> {
        self.dockerd(name, Some(mebibytes))
    }

    fn dockerd(&mut self, name: &str, disk: Option<u32>) -> Result<&NetHost, BedError> {
        let wired = self.wire(name)?;
        let (folder, address) = (&wired.folder, wired.address);
        let signed = self.authority.server(IpAddr::V4(address), false)?;
        let [ca, certificate, key] = self.authority.write(folder, &signed)?;
        let at = |n: &str| folder.join(n).display().to_string();
        let engine = format!(
            "dockerd --data-root={} --exec-root={} --pidfile={} --shutdown-timeout=2 --insecure-registry=10.213.0.0/16 \
             --host=unix://{} --host=tcp://{address}:2376 --tlsverify --tlscacert={} --tlscert={} --tlskey={}",
            at("data"),
            at("exec"),
            at("pid"),
            at("engine.sock"),
            ca.display(),
            certificate.display(),
            key.display(),
        );
        self.start(name, wired, Kind::Dockerd, &engine, disk)
    }

    /// Adds a host with a podman service with networks of its own, which speaks plainly with the registry at this
    /// address. It is reached over its socket.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn add_podman(&mut self, name: &str, registry: &str) -> Result<&NetHost, BedError> {
        self.podman(name, registry, None)
    }

    /// Adds such a host whose engine has a disk of its own, in MiB.
    ///
    /// # Errors
    /// When it does not come up.
    pub fn add_cramped_podman(
        &mut self,
        name: &str,
        registry: &str,
        mebibytes: u32,
    ) -> Result<&NetHost, BedError> {
        self.podman(name, registry, Some(mebibytes))
    }

    fn podman(&mut self, name: &str, registry: &str, disk: Option<u32>) -> Result<&NetHost, BedError> {
        let wired = self.wire(name)?;
        let folder = wired.folder.clone();
        RealEngine::write_podman_settings(&folder, registry)?;
        let words = RealEngine::podman_words(&folder).join(" ");
        let networks = folder.join("net");
        std::fs::create_dir_all(&networks)?;
        let engine = format!(
            "podman {words} --network-config-dir {} system service --time=0 unix://{}",
            networks.display(),
            folder.join("engine.sock").display()
        );
        self.start(name, wired, Kind::Podman(folder), &engine, disk)
    }

    /// An address at which a registry can be that all hosts reach and speak plainly with.
    ///
    /// # Errors
    /// When no port is free.
    pub fn registry_address(&self) -> Result<String, BedError> {
        let address = Ipv4Addr::new(10, 213, self.octet, 1);
        Ok(std::net::TcpListener::bind((address, 0))?.local_addr()?.to_string())
    }

    /// The hosts in the order in which they were added.
    pub fn hosts(&self) -> &[NetHost] {
        &self.hosts
    }

    /// The authority that signed the hosts' certificates.
    pub fn authority(&self) -> &Authority {
        &self.authority
    }

    /// An archive with busybox, to make images from.
    pub fn archive(&self) -> &Path {
        &self.archive
    }

    /// Its folder.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }
}

impl NetHost {
    /// Its address for a link.
    pub fn tcp_address(&self) -> String {
        format!("tcp://{}:2376", self.address)
    }

    /// Its address over its socket, which crosses no network.
    pub fn socket_address(&self) -> String {
        format!("unix://{}", self.socket.display())
    }

    /// Runs the engine's client on that host.
    ///
    /// # Errors
    /// When the client fails.
    pub fn tool(&self, arguments: &[&str]) -> Result<String, BedError> {
        match &self.kind {
            Kind::Dockerd => {
                run("docker", &[&["--host", self.socket_address().as_str()], arguments].concat())
            }
            Kind::Podman(folder) => {
                let mut command = Command::new("nsenter");
                let view = format!("--mount=/proc/{}/fd/{}", std::process::id(), self.view.as_raw_fd());
                command.args([&view, &format!("--net=/run/netns/{}", self.namespace), "podman"]);
                command.args(RealEngine::podman_words(folder));
                command.arg("--network-config-dir").arg(folder.join("net")).args(arguments);
                RealEngine::podman_settings(&mut command, folder);
                finished(command)
            }
        }
    }

    /// Makes an image with this command on that host, as its operator would.
    ///
    /// # Errors
    /// When the client fails.
    pub fn make_image(&self, archive: &Path, name: &str, command: &[&str]) -> Result<(), BedError> {
        let change = format!("CMD {}", serde_json::json!(command));
        self.tool(&["import", "--change", &change, &archive.to_string_lossy(), name]).map(drop)
    }

    /// Lets a program that is no container listen on a port of the host, until what is given back ends.
    ///
    /// # Errors
    /// When it does not listen.
    pub fn occupy(&self, port: u16) -> Result<Running, BedError> {
        let inside = format!("--net=/run/netns/{}", self.namespace);
        let mut command = Command::new("nsenter");
        command.args([&inside, "busybox", "nc", "-l", "-p", &port.to_string()]);
        let log = self.socket.with_file_name(format!("port-{port}.log"));
        let mut program = Running::start(command, &log, Duration::from_secs(2))?;
        let mark = format!(":{port:04X} ");
        program.wait_until("a program on the port", 10, || {
            ["tcp", "tcp6"].iter().any(|kind| {
                run("nsenter", &[&inside, "cat", &format!("/proc/net/{kind}")])
                    .is_ok_and(|t| t.contains(&mark))
            })
        })?;
        Ok(program)
    }

    /// Cuts the host's link, or joins it again.
    ///
    /// # Errors
    /// When the network tools refuse.
    pub fn set_link(&self, up: bool) -> Result<(), BedError> {
        run("ip", &["link", "set", &self.veth, if up { "up" } else { "down" }]).map(|_| ())
    }
}

impl Drop for HostNet {
    fn drop(&mut self) {
        for host in &mut self.hosts {
            if matches!(host.kind, Kind::Podman(_)) {
                // Its containers outlive the service.
                let _ = host.tool(&["rm", "--all", "--force", "--time", "0"]);
            }
            host.process.end();
            let _ = run("ip", &["link", "delete", &host.veth]);
            let _ = run("ip", &["netns", "delete", &host.namespace]);
        }
        let _ = run("ip", &["link", "delete", &self.bridge]);
    }
}
