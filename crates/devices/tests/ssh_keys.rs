//! SSH keys of accounts, replaced on real OpenSSH hosts.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "what cannot be set up ends the test"
)]

mod rig;

use std::collections::BTreeSet;
use std::time::Duration;

use jexlin_core::upkeep::{Account, BoundLogin, Operator};
use jexlin_core::vault::ssh_keys::SshKey;
use jexlin_devices::ssh::Ssh;
use jexlin_devices::{Change, Connector as _, Probe, TimeLimits};
use jexlin_standins::host::Host;
use jexlin_standins::misbehaving_device::Wire;

use rig::watch::{Watched, watched};
use rig::{Place, answer, place, settled, yes};

fn ssh() -> Watched {
    watched(Ssh::new(TimeLimits {
        connect: Duration::from_secs(5),
        change: Duration::from_secs(8),
        idle: Duration::from_secs(60),
    }))
}

fn host() -> Host {
    let accounts = [("root", "Ridge-root-1"), ("deploy", "Deploy-tide-1")];
    Host::temporary("works-historian", &accounts).expect("a host")
}

struct Key {
    text: String,
    public: String,
}

fn key(kind: &str) -> Key {
    let key = SshKey::generate(&mut rand::rng(), kind, "deploy").unwrap();
    let public = key.facts()["public_key"].clone();
    let text = key.into_text().expose_secret_text().unwrap().to_owned();
    Key { text, public }
}

fn login(place: &Place, key: &Key, former: Option<&Key>) -> BoundLogin<Account> {
    let login = place.login(7, "deploy", &key.text, 1);
    login.replacing(former.map(|former| former.public.clone()))
}

/// The keys of the account, as root of the host sees them.
fn file(host: &Host) -> String {
    host.inside("cat ~deploy/.ssh/authorized_keys").unwrap()
}

/// Writes what the account's keys are.
fn set(host: &Host, text: &str) {
    let script = format!(
        "install -d -m 700 -o deploy ~deploy/.ssh; cat > ~deploy/.ssh/authorized_keys <<'END'\n{text}END\nchown deploy ~deploy/.ssh/authorized_keys"
    );
    host.inside(&script).unwrap();
}

/// Lines that belong to others, one of them with a key in a command.
fn others(ours: &Key) -> [String; 3] {
    let other = key("ed25519").public;
    [
        "# of the works\n".to_owned(),
        format!(
            "command=\"echo {}\",no-pty {other}  ines, by day\t\n",
            ours.public
        ),
        format!("  {}\n", key("ecdsa-p256").public),
    ]
}

#[tokio::test]
async fn an_account_replaces_its_own_key_and_leaves_the_lines_of_others_as_they_are() {
    let (host, ssh) = (host(), ssh());
    let place = place(host.address(), host.port()).confirmed(&ssh).await;
    for kind in ["ed25519", "ecdsa-p256", "ecdsa-p384", "rsa-3072"] {
        let (first, second) = (key(kind), key(kind));
        let [head, other, last] = others(&first);
        set(
            &host,
            &format!(
                "{head}{other}from=\"127.0.0.1\" {} pim\n{last}",
                first.public
            ),
        );
        let (present, next) = (
            login(&place, &first, None),
            login(&place, &second, Some(&first)),
        );
        assert_eq!(ssh.check(&present).await.result, Probe::Opened, "{kind}");
        assert_eq!(ssh.check(&next).await.result, Probe::Closed, "{kind}");
        let met = ssh.change_as_itself(&present, &next, answer(false)).await;
        assert_eq!(met.result, Change::LeaseLost);
        assert_eq!(ssh.check(&next).await.result, Probe::Closed, "{kind}");
        let met = ssh.change_as_itself(&present, &next, yes()).await;
        assert_eq!(met.result, Change::Applied, "{kind}");
        assert_eq!(ssh.check(&present).await.result, Probe::Closed, "{kind}");
        assert_eq!(ssh.check(&next).await.result, Probe::Opened, "{kind}");
        let mark = "jexlin-00000000-0000-0000-0000-000000000007";
        let public = second.public.rsplit_once(' ').unwrap().0;
        let whole = format!("{head}{other}from=\"127.0.0.1\" {public} {mark}\n{last}");
        assert_eq!(file(&host), whole, "{kind}");
    }
    let left = host.inside("ls -A ~deploy/.ssh").unwrap();
    assert_eq!(left.trim(), "authorized_keys", "nothing is left beside it");
}

#[tokio::test]
async fn an_operator_who_is_root_gives_an_account_a_key_that_it_never_had() {
    let (host, ssh) = (host(), ssh());
    let place = place(host.address(), host.port()).confirmed(&ssh).await;
    let root = place.operator("root", "Ridge-root-1");
    let (placeholder, first, second) = (key("ed25519"), key("ed25519"), key("ed25519"));
    let candidate = login(&place, &first, Some(&placeholder));
    let met = ssh.change_as_operator(&root, &candidate, yes()).await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(ssh.check(&candidate).await.result, Probe::Opened);
    let states = host.inside("stat -c '%U %a' ~deploy/.ssh ~deploy/.ssh/authorized_keys");
    assert_eq!(states.unwrap(), "deploy 700\ndeploy 600\n");
    let next = login(&place, &second, Some(&first));
    let met = ssh.change_as_operator(&root, &next, yes()).await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(ssh.check(&candidate).await.result, Probe::Closed);
    assert_eq!(file(&host).lines().count(), 1);
    // Somebody who signs in by a key operates as well as somebody with a password.
    let chief = key("ed25519");
    let script = format!(
        "install -d -m 700 ~/.ssh; echo '{}' > ~/.ssh/authorized_keys; passwd -l root",
        chief.public
    );
    host.inside(&script).unwrap();
    let by_key: BoundLogin<Operator> = place.login(8, "root", &chief.text, 2);
    let met = ssh
        .change_as_operator(&by_key, &place.account("deploy", "Deploy-tide-2"), yes())
        .await;
    assert_eq!(met.result, Change::Applied);
    assert!(host.opens("deploy", "Deploy-tide-2").unwrap());
    let nobody: Key = key("ed25519");
    let met = ssh
        .change_as_operator(
            &place.login(9, "root", &nobody.text, 1),
            &place.account("deploy", "Deploy-tide-3"),
            yes(),
        )
        .await;
    assert_eq!(met.result, Change::OperatorRefused);
}

#[tokio::test]
async fn a_key_that_does_not_open_the_account_is_taken_out_again() {
    let (mut host, ssh) = (host(), ssh());
    let (first, second) = (key("ed25519"), key("ed25519"));
    let here = place(host.address(), host.port()).confirmed(&ssh).await;
    let root = here.operator("root", "Ridge-root-1");
    set(&host, &format!("{} pim\n", first.public));
    let next = login(&here, &second, Some(&first));
    // sshd looks elsewhere.
    host.stop().unwrap();
    let config = host.etc().join("ssh/sshd_config");
    let text = std::fs::read_to_string(&config).unwrap();
    let elsewhere = "AuthorizedKeysFile /etc/ssh/keys/%u\n";
    std::fs::write(&config, format!("{text}{elsewhere}")).unwrap();
    host.start_again().unwrap();
    let met = ssh.change_as_operator(&root, &next, yes()).await;
    assert!(
        matches!(&met.result, Change::Refused(why) if why.contains("was taken out again")),
        "{met:?}"
    );
    assert!(!file(&host).contains(second.public.split(' ').nth(1).unwrap()));
    assert!(file(&host).contains(first.public.split(' ').nth(1).unwrap()));
    // A link is left alone: root does not write where the account says.
    let link = "rm ~deploy/.ssh/authorized_keys; ln -s /etc/shadow ~deploy/.ssh/authorized_keys";
    host.inside(link).unwrap();
    let before = host.inside("cat /etc/shadow").unwrap();
    let met = ssh.change_as_operator(&root, &next, yes()).await;
    assert!(
        matches!(&met.result, Change::Refused(why) if why.contains("symbolic link")),
        "{met:?}"
    );
    assert_eq!(host.inside("cat /etc/shadow").unwrap(), before);
}

#[tokio::test]
async fn a_line_that_drops_at_any_byte_leaves_a_key_that_opens_and_the_lines_of_others() {
    let (host, ssh) = (host(), ssh());
    let here = place(host.address(), host.port()).confirmed(&ssh).await;
    let mut present = key("ed25519");
    let [head, other, last] = others(&present);
    set(
        &host,
        &format!("{head}{other}{last}{} pim\n", present.public),
    );
    let mut outcomes = BTreeSet::new();
    for step in 0..26 {
        let wire = Wire::to(host.address(), host.port()).unwrap();
        let there = place("127.0.0.1", wire.port()).confirmed(&ssh).await;
        let wanted = key("ed25519");
        wire.cut_after(step * 1_300);
        let (old, new) = (
            login(&there, &present, None),
            login(&there, &wanted, Some(&present)),
        );
        let met = ssh.change_as_itself(&old, &new, yes()).await;
        let opens =
            async |key: &Key| ssh.check(&login(&here, key, None)).await.result == Probe::Opened;
        outcomes.insert(settled(met.result, &mut present, wanted, opens).await);
        let file = file(&host);
        assert!(
            file.starts_with(&format!("{head}{other}{last}")),
            "{step}: {file}"
        );
    }
    assert!(
        outcomes.contains("lost") && outcomes.contains("applied"),
        "{outcomes:?}"
    );
    // What was left of rotations that broke off goes with the next one.
    let last = key("ed25519");
    let (old, new) = (
        login(&here, &present, None),
        login(&here, &last, Some(&present)),
    );
    let met = ssh.change_as_itself(&old, &new, yes()).await;
    assert_eq!(met.result, Change::Applied);
    assert_eq!(file(&host).matches("jexlin-").count(), 1);
}

#[tokio::test]
async fn a_device_that_asks_for_the_password_by_a_prompt_gets_it_and_one_that_asks_for_more_does_not()
 {
    let (mut host, ssh) = (host(), ssh());
    host.stop().unwrap();
    let config = host.etc().join("ssh/sshd_config");
    let text = std::fs::read_to_string(&config).unwrap();
    let text = text
        .replace("PasswordAuthentication yes", "PasswordAuthentication no")
        .replace(
            "KbdInteractiveAuthentication no",
            "KbdInteractiveAuthentication yes",
        );
    std::fs::write(&config, &text).unwrap();
    host.start_again().unwrap();
    let here = place(host.address(), host.port()).confirmed(&ssh).await;
    let check = async |password: &str| ssh.check(&here.account("deploy", password)).await.result;
    assert_eq!(check("Deploy-tide-1").await, Probe::Opened);
    assert_eq!(check("Wrong-tide-1").await, Probe::Closed);
    host.stop().unwrap();
    let both = "AuthenticationMethods publickey,keyboard-interactive\n";
    std::fs::write(&config, format!("{text}{both}")).unwrap();
    host.start_again().unwrap();
    match check("Deploy-tide-1").await {
        Probe::NoAnswer(why) => assert!(why.contains("does not accept a password alone"), "{why}"),
        other => panic!("{other:?}"),
    }
}
