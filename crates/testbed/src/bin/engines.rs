//! Starts three real engines in network namespaces and keeps them until it is ended: for trying things
//! by hand (`cargo xtask engines`).

use std::io::Write;

use gubernum_testbed::BedError;
use gubernum_testbed::hosts::HostNet;

fn main() -> Result<(), BedError> {
    let mut net = HostNet::new(99)?;
    for name in ["packhouse", "coldstore", "orchard-edge"] {
        net.add(name)?;
    }
    let client = net.authority().client()?;
    let [ca, certificate, key] = net.authority().write(net.folder(), &client)?;
    let mut out = std::io::stdout();
    writeln!(out, "authority    {}", ca.display())?;
    writeln!(out, "certificate  {}", certificate.display())?;
    writeln!(out, "key          {}", key.display())?;
    for host in net.hosts() {
        writeln!(out, "{:12} {}   {}", host.name, host.tcp_address(), host.socket_address())?;
    }
    writeln!(out, "Press Enter to end them.")?;
    out.flush()?;
    std::io::stdin().read_line(&mut String::new())?;
    Ok(())
}
