//! The client's clipboard: that of a real X server, and that of the terminal at the end of a line.

use std::io::{BufRead as _, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};

use jexlin_acceptance::{Client, Service, program, until};

/// An X server without a screen, on a display of its own.
struct Display(Child, String);

impl Display {
    fn start() -> Self {
        let mut child = Command::new("Xvfb")
            .args([
                "-displayfd",
                "1",
                "-nolisten",
                "tcp",
                "-screen",
                "0",
                "640x480x24",
            ])
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("Xvfb");
        let mut number = String::new();
        BufReader::new(child.stdout.take().unwrap())
            .read_line(&mut number)
            .unwrap();
        Self(child, format!(":{}", number.trim()))
    }

    /// What is in its clipboard.
    fn clipboard(&self) -> Option<String> {
        // The owner of the selection may exit before it answers, and xclip then waits forever.
        let out = Command::new("timeout")
            .args(["2", "xclip", "-o", "-selection", "clipboard"])
            .env("DISPLAY", &self.1)
            .output()
            .expect("xclip");
        out.status
            .success()
            .then(|| String::from_utf8_lossy(&out.stdout).into_owned())
            .filter(|text| !text.is_empty())
    }
}

impl Drop for Display {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn world(service: &Service) -> Client {
    let ines = service.sign_in("ines");
    let folder = ines.folder("Pumping");
    let _ = ines.login(&folder, "Ridge", "Winter-tide-41");
    service.client("ines")
}

#[test]
fn a_copied_password_is_in_the_clipboard_of_the_display_until_its_time_or_ctrl_c() {
    let service = Service::ready();
    let client = world(&service);
    let display = Display::start();
    // Long enough that only Ctrl-C ends it; then time does, once a busy machine has had time to look.
    for (seconds, interrupt) in [("300", true), ("20", false)] {
        let _ = client.good(&["settings", "edit", &format!("clipboard_seconds={seconds}")]);
        let mut copying = client.command(&program("jexlin"));
        copying
            .args(["copy", "/Pumping/Ridge"])
            .env("DISPLAY", &display.1)
            .stderr(Stdio::piped())
            .stdout(Stdio::piped());
        let copying = copying.spawn().unwrap();
        until("the password in the clipboard", || {
            (display.clipboard().as_deref() == Some("Winter-tide-41")).then_some(())
        });
        if interrupt {
            assert!(
                Command::new("kill")
                    .args(["-INT", &copying.id().to_string()])
                    .status()
                    .unwrap()
                    .success()
            );
        }
        let out = copying.wait_with_output().unwrap();
        let words = String::from_utf8_lossy(&out.stderr).into_owned();
        assert!(
            out.status.success()
                && words.contains("the X11 clipboard")
                && words.contains("The clipboard is cleared."),
            "{words}"
        );
        assert!(!words.contains("Winter") && out.stdout.is_empty());
        assert_eq!(display.clipboard(), None);
    }
}

#[test]
fn without_a_display_the_terminals_clipboard_is_set_and_cleared() {
    let service = Service::ready();
    let client = world(&service);
    let _ = client.good(&["settings", "edit", "clipboard_seconds=5"]);
    let typescript = client.folder.join("typescript");
    let line = format!("{} copy /Pumping/Ridge", program("jexlin").display());
    let mut script = client.command(Path::new("script"));
    let status = script
        .args(["-qec", &line])
        .arg(&typescript)
        .env_remove("DISPLAY")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .status()
        .unwrap();
    assert!(status.success());
    let seen = std::fs::read_to_string(&typescript).unwrap();
    // RFC 4648 for Winter-tide-41, set and then cleared.
    let (set, cleared) = (
        "\u{1b}]52;c;V2ludGVyLXRpZGUtNDE=\u{7}",
        "\u{1b}]52;c;!\u{7}",
    );
    let place = |sign: &str| seen.find(sign).unwrap_or_else(|| panic!("{seen:?}"));
    assert!(place(set) < place(cleared));
    assert!(
        seen.contains("OSC 52") && !seen.contains("Winter"),
        "{seen:?}"
    );
}
