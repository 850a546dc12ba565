//! A container with everything, deployed by the console's form in headless Chromium and by the command line, on real
//! engines with a real registry; then one variable of it is changed.

use std::process::Output;

use gubernum_testbed::browser::Browser;
use gubernum_testbed::hosts::{HostNet, NetHost};
use gubernum_testbed::registry::RealRegistry;
use gubernum_testbed::started::Started;
use serde_json::{Value, json};

use crate::acting_console::{press, write};
use crate::console::Page;
use crate::support::{binary, command, err, until};

const SERVES: &[&str] = &["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $!; done"];
const ACCOUNT: (&str, &str) = ("orchard", "winter pears");
const PASSWORD: &str = "russet ladder harvest moon";

/// A service with one real engine, claimed in the browser, and a registry that both reach.
struct Ground {
    service: Started,
    token: String,
    net: HostNet,
    image: String,
    _registry: RealRegistry,
    folder: tempfile::TempDir,
}

impl Ground {
    async fn new(net: HostNet, registry: RealRegistry, page: &Page<'_>, browser: &Browser) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let service = Started::serve(binary(), folder.path(), &["--find-local-engine", "false"]).unwrap();
        browser.window.goto(service.url()).await.unwrap();
        page.find("#code").await.send_keys(service.text("claim_code")).await.unwrap();
        page.find("#member").await.send_keys("ines").await.unwrap();
        page.find("#password").await.send_keys(PASSWORD).await.unwrap();
        page.click("button[type=submit]").await;
        page.reads("main", "The fleet is empty").await;
        let client =
            gubernum_client::Client::new(service.url(), None, gubernum_client::Trust::System).unwrap();
        let sign_in =
            gubernum_api::requests::SignIn { member: "ines".into(), password: PASSWORD.into(), code: None };
        let session = client.sign_in(&sign_in).await.unwrap();
        let wish = gubernum_api::requests::NewToken {
            name: "tests".into(),
            expires_in_days: None,
            bounds: None,
            networks: Vec::new(),
        };
        let token = session.make_token(&wish).await.unwrap().secret;
        let image = format!("{}/tarn/frost-api:3", registry.address);
        let ground = Self { service, token, net, image, _registry: registry, folder };
        ground.prepare();
        ground
    }

    fn prepare(&self) {
        self.does(&["add", "host", "packhouse", &self.host().socket_address()]);
        until("the host is live", || self.told(&["list", "hosts"])[0]["state"] == "live");
        let address = self.image.split('/').next().unwrap();
        let set = ["add", "registry", address, "--account", ACCOUNT.0, "--secret-stdin", "--plain-http"];
        let mut with_secret = self.command(&set);
        let secret = self.folder.path().join("secret");
        std::fs::write(&secret, ACCOUNT.1).unwrap();
        with_secret.stdin(std::fs::File::open(&secret).unwrap());
        let output = with_secret.output().unwrap();
        assert!(output.status.success(), "{}", err(&output));
        self.does(&["add", "network", "packhouse/cold-chain", "--subnet", "10.91.4.0/24"]);
        // Only the registry has it when it is deployed.
        self.host().make_image(self.net.archive(), &self.image, SERVES).unwrap();
        until("the image is known", || self.told(&["list", "images"]).to_string().contains(&self.image));
        self.does(&["push", &self.image, "--host", "packhouse"]);
        self.host().tool(&["image", "rm", &self.image]).unwrap();
    }

    fn host(&self) -> &NetHost {
        &self.net.hosts()[0]
    }

    fn command(&self, words: &[&str]) -> std::process::Command {
        let mut command = command(&self.service);
        command.env("GUBERNUM_TOKEN", &self.token).args(words);
        command
    }

    fn run(&self, words: &[&str]) -> Output {
        self.command(words).output().unwrap()
    }

    fn does(&self, words: &[&str]) {
        let output = self.run(words);
        assert!(output.status.success(), "{words:?}: {}", err(&output));
    }

    fn told(&self, words: &[&str]) -> Value {
        let output = self.run(&[words, &["--output", "json"]].concat());
        serde_json::from_slice(&output.stdout).unwrap_or_else(|e| panic!("{words:?}: {e}: {}", err(&output)))
    }

    fn inside(&self, name: &str, command: &[&str]) -> String {
        self.host().tool(&[&["exec", name], command].concat()).unwrap()
    }

    /// What the engine's client says of it.
    fn record(&self, name: &str) -> Option<Value> {
        let text = self.host().tool(&["container", "inspect", name]).ok()?;
        serde_json::from_str::<Value>(&text).ok()?.get(0).cloned()
    }

    /// The engine's own record of what was requested, and what it wrote down to find again after the change.
    fn is_as_wanted(&self, name: &str, port: u16, address: &str, bind: &std::path::Path) {
        let record = self.record(name).unwrap();
        assert_eq!(record["State"]["Running"], true);
        let host = &record["HostConfig"];
        for (n, protocol) in [(0, "tcp"), (1, "tcp"), (2, "udp")] {
            let binding = &host["PortBindings"][format!("{}/{protocol}", 81 + n)];
            assert_eq!(binding[0]["HostPort"], json!((port + n).to_string()), "{}", host["PortBindings"]);
        }
        assert_eq!((&host["Memory"], &host["PidsLimit"]), (&json!(64 << 20), &json!(200)));
        assert_eq!(host["NanoCpus"].as_f64().map(|n| n / 1e9), Some(0.5));
        assert_eq!(host["RestartPolicy"]["Name"], "unless-stopped");
        let check = &record["Config"]["Healthcheck"]["Test"];
        assert_eq!(check, &json!(["CMD-SHELL", "test -d /readings"]));
        let joined = &record["NetworkSettings"]["Networks"]["cold-chain"];
        assert_eq!(joined["IPAddress"], address, "{joined}");
        assert!(joined["Aliases"].to_string().contains(&format!("\"alias-of-{name}\"")), "{joined}");
        let mounts = record["Mounts"].as_array().unwrap();
        assert_eq!(mounts.iter().filter(|m| m["Type"] == "volume").count(), 2, "{mounts:?}");
        assert!(mounts.iter().any(|m| m["Type"] == "bind" && m["Source"] == json!(bind)), "{mounts:?}");
        assert!(bind.is_dir());
        assert_eq!(std::os::unix::fs::MetadataExt::uid(&bind.metadata().unwrap()), 1000);
        let variables = self.inside(name, &["env"]);
        for n in (1..=12).filter(|n| *n != 5) {
            assert!(variables.contains(&format!("CROP_{n}=row {n}\n")), "{variables}");
        }
    }

    fn fill_with_data(&self, name: &str) {
        let text = "echo 4.2 > /readings/mast; echo note > /scratch/note; echo out > /exchange/out";
        self.inside(name, &["sh", "-c", text]);
    }

    fn has_its_data(&self, name: &str) {
        let data = self.inside(name, &["cat", "/readings/mast", "/scratch/note", "/exchange/out"]);
        assert_eq!(data, "4.2\nnote\nout\n");
        assert!(self.inside(name, &["env"]).contains("CROP_5=row five"));
    }
}

fn variables() -> String {
    (1..=12).map(|n| format!("CROP_{n}=row {n}\n")).collect()
}

/// Presses the one button of the form once it can be pressed, and waits until the operation succeeded.
async fn carry_out(page: &Page<'_>, words: &str) {
    for _ in 0..200 {
        if page.count(".end button:not(:disabled)").await > 0 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_ne!(page.count(".end button:not(:disabled)").await, 0, "{}", page.text(".shown").await);
    press(page, words).await;
    page.reads("[data-test=targets]", "succeeded").await;
}

async fn by_form(page: &Page<'_>, ground: &Ground) {
    let name = "frost-form";
    page.go(&ground.service, "/deploy?host=packhouse").await;
    write(page, "Image", &ground.image).await;
    write(page, "Name", name).await;
    for (n, (port, inner)) in [("7311", "81"), ("7312", "82"), ("7313", "83")].into_iter().enumerate() {
        press(page, "Add a port").await;
        write(page, &format!("Host port {}", n + 1), port).await;
        write(page, &format!("Container port {}", n + 1), inner).await;
    }
    write(page, "Protocol of port 3", "udp").await;
    let bind = ground.folder.path().join("form/not/there/yet");
    let mounts = [("volume", "form-readings", "/readings"), ("volume", "form-scratch", "/scratch")];
    let bound = ("bind", bind.to_str().unwrap(), "/exchange");
    for (n, (kind, source, path)) in mounts.into_iter().chain([bound]).enumerate() {
        press(page, "Add a mount").await;
        write(page, &format!("Kind of mount {}", n + 1), kind).await;
        write(page, &format!("Source of mount {}", n + 1), source).await;
        write(page, &format!("Path of mount {}", n + 1), path).await;
    }
    page.reads("[data-title=Storage]", "does not exist on").await;
    page.click("[data-title=Storage] .make label").await;
    write(page, "Owner of the folder of mount 3", "1000").await;
    write(page, "Group of the folder of mount 3", "1000").await;
    press(page, "Paste NAME=value lines").await;
    write(page, "Lines of NAME=value", &variables()).await;
    press(page, "Add these").await;
    write(page, "Restart", "unless-stopped").await;
    write(page, "Health check", "test -d /readings").await;
    write(page, "Interval of the check", "1 s").await;
    write(page, "Memory", "64 MiB").await;
    write(page, "Processors", "0.5").await;
    write(page, "Processes", "200").await;
    page.click("[data-title=Network]:not([open]) > summary").await;
    press(page, "Add a network").await;
    write(page, "Network 1", "cold-chain").await;
    write(page, "Aliases in network 1", &format!("alias-of-{name}")).await;
    write(page, "Address in network 1", "10.91.4.9").await;
    page.reads("[data-test=consequences]", "Create the folder").await;
    carry_out(page, "Deploy container").await;
    until("it runs", || ground.record(name).is_some_and(|r| r["State"]["Running"] == true));
    ground.is_as_wanted(name, 7311, "10.91.4.9", &bind);
    ground.fill_with_data(name);
    let before = ground.record(name).unwrap()["Id"].clone();

    page.go(&ground.service, &format!("/deploy?edit=packhouse/{name}")).await;
    write(page, "Value of CROP_5", "row five").await;
    page.reads("[data-test=consequences]", "CROP_5").await;
    carry_out(page, "Apply changes").await;
    until("it runs", || {
        ground.record(name).is_some_and(|r| r["State"]["Running"] == true && r["Id"] != before)
    });
    ground.is_as_wanted(name, 7311, "10.91.4.9", &bind);
    ground.has_its_data(name);
}

fn by_client(ground: &Ground) {
    let name = "frost-client";
    let bind = ground.folder.path().join("client/not/there/yet");
    let file = ground.folder.path().join("variables");
    std::fs::write(&file, variables()).unwrap();
    let limits = ground.folder.path().join("limits.yaml");
    let text = json!({"services": {name: {"image": ground.image, "pids_limit": 200,
        "healthcheck": {"test": "true", "interval": "1s"}}}});
    std::fs::write(&limits, text.to_string()).unwrap();
    let target = format!("packhouse/{name}");
    let mount = format!("{}=/exchange", bind.display());
    let join = format!("cold-chain,address=10.91.4.10,alias=alias-of-{name}");
    let words = [
        ["deploy", &target].as_slice(),
        &["--file", limits.to_str().unwrap(), "--variables-from", file.to_str().unwrap()],
        &["--port", "7321=81", "--port", "7322=82", "--port", "7323=83/udp"],
        &["--mount", "client-readings=/readings", "--mount", "client-scratch=/scratch", "--mount", &mount],
        &["--create-folders", "1000:1000", "--restart", "unless-stopped", "--check", "test -d /readings"],
        &["--memory", "64MiB", "--processors", "0.5", "--join", &join],
    ]
    .concat();
    ground.does(&words);
    ground.is_as_wanted(name, 7321, "10.91.4.10", &bind);
    ground.fill_with_data(name);
    ground.does(&["edit", &target, "--variable", "CROP_5=row five"]);
    ground.is_as_wanted(name, 7321, "10.91.4.10", &bind);
    ground.has_its_data(name);
}

async fn on(net: HostNet, registry: RealRegistry) {
    let browser = Browser::start().await.expect("Chromium and its driver must be there for this test");
    let page = Page(&browser.window);
    let ground = Ground::new(net, registry, &page, &browser).await;
    by_form(&page, &ground).await;
    by_client(&ground);
    let violations = page.script("return window.violations").await;
    assert_eq!(violations, json!([]));
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn by_form_and_by_client_on_dockerd() {
    let mut net = HostNet::new(64).unwrap();
    net.add("packhouse").unwrap();
    let registry = RealRegistry::start_at(&net.registry_address().unwrap(), Some(ACCOUNT)).unwrap();
    on(net, registry).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn by_form_and_by_client_on_podman() {
    let mut net = HostNet::new(65).unwrap();
    let address = net.registry_address().unwrap();
    net.add_podman("packhouse", &address).unwrap();
    let registry = RealRegistry::start_at(&address, Some(ACCOUNT)).unwrap();
    on(net, registry).await;
}
