//! 389 Directory Server: its configuration is made from the templates that come with it.

use std::fs;
use std::io;
use std::path::Path;
use std::process::{Command, Stdio};

use super::{DirectoryServer, SUFFIX, entries, folder, run};
use crate::{spawn_tied, wait_for_port};

/// The name of the user who runs the tests: the server runs as the same one.
fn user() -> io::Result<String> {
    let output = Command::new("id").arg("-un").output()?;
    Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

/// Puts the certificate of the folder where the server looks for it.
fn take_certificate(folder: &Path) -> io::Result<()> {
    let tool = |program: &str, arguments: &str, more: &[&str]| {
        let mut command = Command::new(program);
        command.args(arguments.split(' ')).args(more);
        run(command.current_dir(folder))
    };
    tool("certutil", "-N -d certificates --empty-password", &[])?;
    tool(
        "openssl",
        "pkcs12 -export -in tls.pem -inkey tls.key -certfile ca.pem -name Server-Cert -out tls.p12",
        &["-passout", "pass:"],
    )?;
    let empty = ["-W", "", "-K", ""];
    tool("pk12util", "-i tls.p12 -d certificates", &empty)?;
    tool(
        "certutil",
        "-A -d certificates -n Authority -t CT,, -i ca.pem",
        &[],
    )
}

/// The configuration, from the server's own templates.
fn configuration(folder: &Path, port: u16) -> io::Result<String> {
    let at = |name: &str| folder.join(name).display().to_string();
    let templates = Path::new("/usr/share/dirsrv/data");
    let mut text = fs::read_to_string(templates.join("template-dse.ldif"))?;
    text.push_str(&fs::read_to_string(
        templates.join("template-suffix-db.ldif"),
    )?);
    let listening = format!(
        "nsslapd-port: 0\nnsslapd-security: on\nnsslapd-securePort: {port}\nnsslapd-securelistenhost: 127.0.0.1\nnsslapd-accesslog-logbuffering: off"
    );
    let user = user()?;
    let (data, logs, own) = (at("data"), at("logs"), at("own"));
    let values = [
        ("nsslapd-port: %ds_port%", listening.as_str()),
        // There is no manager: whoever signs in is in the directory.
        ("nsslapd-rootpw: %ds_passwd%\n", ""),
        ("%schema_dir%", &at("configuration/schema")),
        ("%config_dir%", &at("configuration")),
        ("%cert_dir%", &at("certificates")),
        ("%log_dir%", &logs),
        ("%db_dir%", &data),
        ("%db_home_dir%", &data),
        ("%db_lib%", "bdb"),
        ("%lock_dir%", &own),
        ("%tmp_dir%", &own),
        ("%ldif_dir%", &own),
        ("%bak_dir%", &own),
        ("%run_dir%", &own),
        ("%inst_dir%", &own),
        ("%ldapi%", &at("own/socket")),
        ("%ldapi_enabled%", "off"),
        ("%ldapi_autobind%", "off"),
        ("%fqdn%", "localhost"),
        ("%ds_user%", &user),
        ("%rootdn%", "cn=manager"),
        ("%ds_bename%", "people"),
        ("%ds_suffix%", SUFFIX),
    ];
    for (placeholder, value) in values {
        text = text.replace(placeholder, value);
    }
    let lines = text.lines().filter(|line| !line.starts_with('#'));
    Ok(lines.collect::<Vec<_>>().join("\n") + "\n")
}

impl DirectoryServer {
    /// Starts 389 Directory Server with the same entries as [`DirectoryServer::temporary`].
    ///
    /// # Errors
    /// The server's, certutil's or openssl's own words.
    pub fn temporary_389(operator: &str, accounts: &[(&str, &str)]) -> io::Result<Self> {
        let (folder, port) = folder()?;
        for name in [
            "configuration/schema",
            "certificates",
            "data",
            "logs",
            "own",
        ] {
            fs::create_dir_all(folder.join(name))?;
        }
        take_certificate(&folder)?;
        let own = folder.join("configuration");
        fs::copy(
            "/etc/dirsrv/schema/99user.ldif",
            own.join("schema/99user.ldif"),
        )?;
        fs::copy(
            "/etc/dirsrv/config/slapd-collations.conf",
            own.join("slapd-collations.conf"),
        )?;
        fs::write(own.join("dse.ldif"), configuration(&folder, port)?)?;
        let rights = format!(
            "aci: (targetattr=\"userPassword\")(version 3.0; acl \"rotator\"; allow(write) userdn=\"ldap:///cn=rotator,{SUFFIX}\";)
aci: (targetattr=\"userPassword\")(version 3.0; acl \"own\"; allow(write) userdn=\"ldap:///self\";)
aci: (targetattr!=\"userPassword\")(version 3.0; acl \"all\"; allow(read,search,compare) userdn=\"ldap:///all\";)
"
        );
        let text = folder.join("entries.ldif");
        fs::write(&text, entries(operator, accounts, &rights))?;
        run(Command::new("/usr/sbin/ns-slapd")
            .args(["ldif2db", "-n", "people", "-D"])
            .arg(&own)
            .arg("-i")
            .arg(&text))?;
        let (pid, output) = (folder.join("pid"), fs::File::create(folder.join("output"))?);
        let child = spawn_tied("/usr/sbin/ns-slapd", "KILL", move |command| {
            command
                .args(["-d", "0", "-D"])
                .arg(&own)
                .arg("-i")
                .arg(&pid);
            command.stdout(Stdio::null()).stderr(output);
        })?;
        let server = Self {
            folder,
            log: "logs/access",
            port,
            child,
        };
        wait_for_port("127.0.0.1", port)?;
        Ok(server)
    }
}
