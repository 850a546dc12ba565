//! Recognises the container that Gubernum itself runs in, from what the kernel shows a process of
//! its own surroundings. Reading those files is the service's work; here they are only understood.

/// Finds a container id (64 hex digits) in `/proc/self/cgroup` or `/proc/self/mountinfo`.
///
/// Under cgroup v1 and v2 without a private namespace the id is in the cgroup path; with a
/// private one only the mounts of `/etc/hostname`, `/etc/hosts` or `/etc/resolv.conf` show it,
/// because the engine keeps those files in a folder named after the container.
///
/// ```
/// use gubernum_core::selfguard::own_container_id;
/// let id = "3f".repeat(32);
/// assert_eq!(own_container_id(&format!("0::/system.slice/docker-{id}.scope"), ""), Some(id));
/// assert_eq!(own_container_id("0::/user.slice", ""), None);
/// ```
pub fn own_container_id(cgroup: &str, mountinfo: &str) -> Option<String> {
    let from_cgroup = cgroup.lines().filter_map(|line| line.splitn(3, ':').nth(2)).find_map(last_id);
    from_cgroup.or_else(|| {
        mountinfo
            .lines()
            .filter_map(|line| {
                let mut fields = line.split(' ').skip(3);
                Some((fields.next()?, fields.next()?))
            })
            .filter(|(_, target)| {
                matches!(*target, "/etc/hostname" | "/etc/hosts" | "/etc/resolv.conf" | "/run/.containerenv")
            })
            .find_map(|(root, _)| last_id(root))
    })
}

fn last_id(path: &str) -> Option<String> {
    path.split(|c: char| !c.is_ascii_alphanumeric())
        .rfind(|part| part.len() == 64 && part.bytes().all(|b| b.is_ascii_hexdigit()))
        .map(str::to_ascii_lowercase)
}

#[cfg(test)]
mod tests {
    use super::own_container_id;
    use rstest::rstest;

    const ID: &str = "3f4f0b6f5a0b1c2d3e4f5a6b7c8d9e0f1a2b3c4d5e6f708192a3b4c5d6e7f809";

    #[rstest]
    #[case::cgroup_v1(format!("12:pids:/docker/{ID}\n1:name=systemd:/docker/{ID}\n"), String::new())]
    #[case::systemd_scope(format!("0::/system.slice/docker-{ID}.scope\n"), String::new())]
    #[case::podman(format!("0::/machine.slice/libpod-{ID}.scope/container\n"), String::new())]
    #[case::private_namespace(
        "0::/\n".to_owned(),
        format!("602 590 254:0 /var/lib/docker/containers/{ID}/hostname /etc/hostname rw,relatime - ext4 /dev/vda rw\n")
    )]
    fn finds_itself(#[case] cgroup: String, #[case] mountinfo: String) {
        assert_eq!(own_container_id(&cgroup, &mountinfo).as_deref(), Some(ID));
    }

    #[test]
    fn on_a_plain_host_there_is_none() {
        let mountinfo = "22 1 254:0 / / rw,relatime - ext4 /dev/vda rw\n";
        assert_eq!(own_container_id("0::/init.scope\n", mountinfo), None);
        // A mount of somebody else's container folder elsewhere is not ours.
        let other = format!("9 8 0:1 /x/{ID}/merged /var/lib/other rw - overlay o rw\n");
        assert_eq!(own_container_id("", &other), None);
    }
}
