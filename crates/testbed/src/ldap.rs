//! An LDAP server on loopback: Debian's `slapd` with StartTLS and LDAPS, people, and groups that can be changed while it runs.

use std::collections::HashSet;
use std::net::{IpAddr, Ipv4Addr};
use std::process::Command;
use std::sync::Arc;
use std::time::Duration;

use ldap3::{Ldap, LdapConnAsync, LdapConnSettings, LdapError};
use rustls::RootCertStore;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use tempfile::TempDir;

use crate::BedError;
use crate::certs::Authority;
use crate::process::{Running, finished};
use crate::real::free_address;

/// The name and password with which the service binds.
pub const SERVICE: (&str, &str) = ("cn=service,dc=orchard,dc=example", "cellar-key");
/// Everybody's password.
pub const PASSWORD: &str = "plum brandy by the stove";
/// Where people are.
pub const PEOPLE: &str = "ou=people,dc=orchard,dc=example";
/// Where groups are.
pub const GROUPS: &str = "ou=groups,dc=orchard,dc=example";

/// A server. It ends when dropped.
pub struct LdapPeer {
    folder: TempDir,
    plain: String,
    private: String,
    authority: Authority,
    running: Option<Running>,
}

impl LdapPeer {
    /// Starts a server with these people, in no groups.
    ///
    /// # Errors
    /// When it is not installed or does not come up.
    pub fn start(people: &[&str]) -> Result<Self, BedError> {
        let folder = tempfile::Builder::new().prefix("gubernum-ldap-").tempdir()?;
        let authority = Authority::new()?;
        let signed = authority.server(IpAddr::V4(Ipv4Addr::LOCALHOST), false)?;
        let at = folder.path();
        let [ca, cert, key] = authority.write(at, &signed)?;
        std::fs::create_dir(at.join("db"))?;
        let settings = format!(
            "include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\n\
             include /etc/ldap/schema/inetorgperson.schema\npidfile {at}/slapd.pid\nmodulepath /usr/lib/ldap\n\
             moduleload back_mdb\nmoduleload memberof\nTLSCACertificateFile {ca}\nTLSCertificateFile {cert}\n\
             TLSCertificateKeyFile {key}\nTLSVerifyClient never\ndatabase mdb\nsuffix \"dc=orchard,dc=example\"\n\
             rootdn \"{root}\"\nrootpw {password}\ndirectory {at}/db\noverlay memberof\n\
             access to attrs=userPassword by anonymous auth by * none\naccess to * by dn.exact=\"{root}\" write by * none\n",
            at = at.display(),
            ca = ca.display(),
            cert = cert.display(),
            key = key.display(),
            root = SERVICE.0,
            password = SERVICE.1,
        );
        let conf = at.join("slapd.conf");
        std::fs::write(&conf, settings)?;
        let mut entries = String::from(
            "dn: dc=orchard,dc=example\nobjectClass: dcObject\nobjectClass: organization\ndc: orchard\no: Tarn Valley\n\n\
             dn: ou=people,dc=orchard,dc=example\nobjectClass: organizationalUnit\nou: people\n\n\
             dn: ou=groups,dc=orchard,dc=example\nobjectClass: organizationalUnit\nou: groups\n\n",
        );
        for name in people {
            entries.push_str(&format!(
                "dn: uid={name},{PEOPLE}\nobjectClass: inetOrgPerson\nuid: {name}\ncn: {name}\nsn: {name}\nuserPassword: {PASSWORD}\n\n"
            ));
        }
        let file = at.join("people.ldif");
        std::fs::write(&file, entries)?;
        let mut add = Command::new("slapadd");
        add.env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin").arg("-f").arg(&conf).arg("-l").arg(&file);
        finished(add)?;
        let mut peer =
            Self { folder, plain: free_address()?, private: free_address()?, authority, running: None };
        peer.run()?;
        Ok(peer)
    }

    /// Starts it after [`LdapPeer::stop`].
    ///
    /// # Errors
    /// When it does not come up.
    pub fn run(&mut self) -> Result<(), BedError> {
        let mut command = Command::new("slapd");
        command
            .env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin")
            .arg("-f")
            .arg(self.folder.path().join("slapd.conf"));
        command.args(["-d", "0", "-h"]).arg(format!("ldap://{} ldaps://{}", self.plain, self.private));
        let log = self.folder.path().join("slapd.log");
        let mut running = Running::start(command, &log, Duration::from_secs(3))?;
        let address = self.private.clone();
        running.wait_until("the LDAP server", 15, || std::net::TcpStream::connect(&address).is_ok())?;
        self.running = Some(running);
        Ok(())
    }

    /// Stops it: nobody answers any more.
    pub fn stop(&mut self) {
        self.running = None;
    }

    /// Its address, where StartTLS makes the connection private.
    pub fn address(&self) -> String {
        format!("ldap://{}", self.plain)
    }

    /// Its address where the connection is private from the first byte.
    pub fn private_address(&self) -> String {
        format!("ldaps://{}", self.private)
    }

    /// The authority that signed its certificate, as PEM.
    pub fn ca(&self) -> &str {
        self.authority.certificate()
    }

    async fn connect(&self) -> Result<Ldap, BedError> {
        let mut roots = RootCertStore::empty();
        for certificate in CertificateDer::pem_slice_iter(self.ca().as_bytes()).flatten() {
            let _ = roots.add(certificate);
        }
        let config = rustls::ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
        let settings = LdapConnSettings::new().set_config(Arc::new(config));
        let made = LdapConnAsync::with_settings(settings, &self.private_address()).await;
        let (connection, mut ldap) = made.map_err(said)?;
        ldap3::drive!(connection);
        ldap.simple_bind(SERVICE.0, SERVICE.1).await.and_then(ldap3::LdapResult::success).map_err(said)?;
        Ok(ldap)
    }

    /// Makes a group of these people, in place of the one before.
    ///
    /// # Errors
    /// When the server refuses.
    pub async fn set_group(&self, group: &str, people: &[&str]) -> Result<(), BedError> {
        let mut ldap = self.connect().await?;
        let dn = format!("cn={group},{GROUPS}");
        // There may be none yet.
        let _ = ldap.delete(&dn).await;
        if !people.is_empty() {
            let members: Vec<String> = people.iter().map(|name| format!("uid={name},{PEOPLE}")).collect();
            let set = |text: &str| HashSet::from([text.to_owned()]);
            let attributes = vec![
                ("objectClass".to_owned(), set("groupOfNames")),
                ("cn".to_owned(), set(group)),
                ("member".to_owned(), members.into_iter().collect()),
            ];
            ldap.add(&dn, attributes).await.and_then(ldap3::LdapResult::success).map_err(said)?;
        }
        Ok(())
    }

    /// Removes somebody.
    ///
    /// # Errors
    /// When the server refuses.
    pub async fn remove(&self, name: &str) -> Result<(), BedError> {
        let mut ldap = self.connect().await?;
        let gone = ldap.delete(&format!("uid={name},{PEOPLE}")).await;
        gone.and_then(ldap3::LdapResult::success).map(|_| ()).map_err(said)
    }
}

fn said(error: LdapError) -> BedError {
    BedError::Command { command: "LDAP".to_owned(), detail: error.to_string() }
}
