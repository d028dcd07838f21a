//! Files that are written and read: nothing is overwritten by accident, and none is left half
//! written.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use tempfile::NamedTempFile;

use crate::error::ClientError;

/// Where output goes: standard output (`-`), or a file that appears under its name once it is
/// whole. Until then it is beside it, readable only by its owner, and it stays so.
#[derive(Debug)]
pub struct Output {
    kind: Kind,
    written: u64,
}

#[derive(Debug)]
enum Kind {
    Standard(io::Stdout),
    File {
        target: PathBuf,
        force: bool,
        beside: BufWriter<NamedTempFile>,
    },
}

/// What went wrong with a file, in the words of the system.
pub fn cannot(verb: &str, path: &Path) -> impl Fn(io::Error) -> ClientError {
    let name = path.display().to_string();
    move |error| ClientError::local(format!("{name} cannot be {verb}: {error}."))
}

fn exists(path: &Path) -> ClientError {
    ClientError::input(
        format!("{} exists already.", path.display()),
        "Choose another name, or use --force to overwrite it.",
    )
}

impl Output {
    /// Opens it. A file that exists is overwritten only with `force`.
    ///
    /// # Errors
    /// When it exists, or its folder cannot be written.
    pub fn open(target: &Path, force: bool) -> Result<Self, ClientError> {
        if target == Path::new("-") {
            return Ok(Self {
                kind: Kind::Standard(io::stdout()),
                written: 0,
            });
        }
        if !force && target.symlink_metadata().is_ok() {
            return Err(exists(target));
        }
        let folder = target
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty());
        let made = NamedTempFile::new_in(folder.unwrap_or(Path::new(".")));
        let beside = BufWriter::new(made.map_err(cannot("written", target))?);
        Ok(Self {
            kind: Kind::File {
                target: target.to_owned(),
                force,
                beside,
            },
            written: 0,
        })
    }

    /// How many bytes have been written.
    #[must_use]
    pub const fn written(&self) -> u64 {
        self.written
    }

    /// Gives the file its name. Returns whether there is a file, and not standard output.
    ///
    /// # Errors
    /// When it cannot be written to the end, or exists meanwhile.
    pub fn finish(self) -> Result<bool, ClientError> {
        match self.kind {
            Kind::Standard(mut stdout) => {
                stdout.flush().map_err(cannot("written", Path::new("-")))?;
                Ok(false)
            }
            Kind::File {
                target,
                force,
                beside,
            } => {
                let broken = cannot("written", &target);
                let file = beside
                    .into_inner()
                    .map_err(|error| broken(error.into_error()))?;
                file.as_file().sync_all().map_err(&broken)?;
                let kept = if force {
                    file.persist(&target)
                } else {
                    file.persist_noclobber(&target)
                };
                match kept {
                    Ok(_) => Ok(true),
                    Err(error) if error.error.kind() == io::ErrorKind::AlreadyExists => {
                        Err(exists(&target))
                    }
                    Err(error) => Err(broken(error.error)),
                }
            }
        }
    }
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = match &mut self.kind {
            Kind::Standard(stdout) => stdout.write(bytes)?,
            Kind::File { beside, .. } => beside.write(bytes)?,
        };
        self.written += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        match &mut self.kind {
            Kind::Standard(stdout) => stdout.flush(),
            Kind::File { beside, .. } => beside.flush(),
        }
    }
}

/// Opens a file to send it, with its length where it has one: a pipe has none.
///
/// # Errors
/// When it cannot be read, or is a directory.
pub fn open_to_send(path: &Path) -> Result<(File, Option<u64>), ClientError> {
    let broken = cannot("read", path);
    let file = File::open(path).map_err(&broken)?;
    let metadata = file.metadata().map_err(&broken)?;
    if metadata.is_dir() {
        return Err(broken(io::Error::from(io::ErrorKind::IsADirectory)));
    }
    Ok((file, metadata.is_file().then_some(metadata.len())))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt as _;

    use super::*;

    #[test]
    fn a_file_appears_whole_and_replaces_another_only_by_force() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("log.jsonl");
        let write = |text: &str, force: bool| {
            let mut output = Output::open(&target, force)?;
            output.write_all(text.as_bytes()).unwrap();
            output.finish()
        };
        assert!(write("one", false).unwrap());
        assert!(write("two", false).is_err());
        assert_eq!(std::fs::read_to_string(&target).unwrap(), "one");
        assert!(write("three", true).unwrap());
        assert_eq!(std::fs::read_to_string(&target).unwrap(), "three");
        let mode = target.metadata().unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        // One that is given up leaves nothing.
        drop(Output::open(&folder.path().join("other"), false).unwrap());
        assert_eq!(folder.path().read_dir().unwrap().count(), 1);
        // One that came meanwhile is not overwritten.
        let late = folder.path().join("late");
        let output = Output::open(&late, false).unwrap();
        std::fs::write(&late, "theirs").unwrap();
        assert!(output.finish().is_err());
        assert_eq!(std::fs::read_to_string(&late).unwrap(), "theirs");
    }

    #[test]
    fn a_directory_is_not_sent_and_a_device_has_no_length() {
        assert!(open_to_send(Path::new("/")).is_err());
        assert_eq!(open_to_send(Path::new("/dev/null")).unwrap().1, None);
    }
}
