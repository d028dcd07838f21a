//! The file of leaked passwords that an administrator supplies: SHA-1 in hexadecimal, sorted, a
//! line each, with or without `:COUNT`; or a folder of files by the first five digits, each with
//! the other thirty-five. Looked up without loading it: a file of a hundred gigabytes takes forty
//! reads.

use std::fs::File;
use std::io::{BufRead as _, BufReader, Read as _, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};

/// Where leaked passwords are looked up.
#[derive(Clone, Debug, Default)]
pub struct LeakedPasswords(Option<PathBuf>);

impl LeakedPasswords {
    /// In a file or folder, or nowhere.
    #[must_use]
    pub const fn at(path: Option<PathBuf>) -> Self {
        Self(path)
    }

    /// What tells one state of the file from another.
    #[must_use]
    pub fn stamp(&self) -> String {
        let Some(path) = &self.0 else {
            return String::new();
        };
        let Ok(meta) = path.metadata() else {
            return "away".into();
        };
        let index = meta
            .modified()
            .ok()
            .and_then(|time| time.duration_since(std::time::UNIX_EPOCH).ok())
            .map_or(0, |time| time.as_secs());
        format!("{} {index}", meta.len())
    }

    /// How often a password is in it, by its SHA-1; 0 when it is not, or when there is no file.
    pub async fn count(&self, sha1: [u8; 20]) -> u64 {
        let Some(path) = self.0.clone() else { return 0 };
        let look = move || {
            look_up(
                &path,
                &sha1
                    .iter()
                    .map(|byte| format!("{byte:02X}"))
                    .collect::<String>(),
            )
        };
        match tokio::task::spawn_blocking(look).await {
            Ok(Ok(count)) => count,
            Ok(Err(error)) => {
                tracing::warn!("the file of leaked passwords cannot be read: {error}");
                0
            }
            Err(_) => 0,
        }
    }
}

fn look_up(path: &Path, hash: &str) -> std::io::Result<u64> {
    if !path.is_dir() {
        return in_sorted(&mut File::open(path)?, hash);
    }
    let (range, rest) = hash.split_at(5);
    let Some(file) = [range.to_owned(), format!("{range}.txt")]
        .iter()
        .map(|name| path.join(name))
        .find(|file| file.exists())
    else {
        return Ok(0);
    };
    for line in BufReader::new(File::open(file)?).lines() {
        if let Some(count) = counted(&line?, rest) {
            return Ok(count);
        }
    }
    Ok(0)
}

/// The count in a line that begins with a hash; 1 when it says none.
fn counted(line: &str, hash: &str) -> Option<u64> {
    let (found, count) = line.trim().split_once(':').unwrap_or((line.trim(), "1"));
    found
        .eq_ignore_ascii_case(hash)
        .then(|| count.trim().parse().unwrap_or(1))
}

/// Looks for the line of a hash by halving.
fn in_sorted(file: &mut File, hash: &str) -> std::io::Result<u64> {
    let (mut low, mut high) = (0, file.metadata()?.len());
    while low < high {
        let middle = low + (high - low) / 2;
        let (start, line) = line_at(file, middle)?;
        if let Some(count) = counted(&line, hash) {
            return Ok(count);
        }
        if line.trim().to_ascii_uppercase().as_str() < hash {
            low = (start + line.len() as u64).max(middle + 1);
        } else {
            high = start.min(middle);
        }
    }
    Ok(0)
}

/// The line in which a byte lies, and where it begins. Lines are short.
fn line_at(file: &mut File, position: u64) -> std::io::Result<(u64, String)> {
    const REACH: u64 = 128;
    let from = position.saturating_sub(REACH);
    file.seek(SeekFrom::Start(from))?;
    let mut bytes = vec![];
    file.take(2 * REACH).read_to_end(&mut bytes)?;
    let offset = usize::try_from(position - from)
        .unwrap_or(0)
        .min(bytes.len());
    let (before, after) = bytes.split_at(offset);
    let begin = before
        .iter()
        .rposition(|byte| *byte == b'\n')
        .map_or(0, |place| place + 1);
    let end = after
        .iter()
        .position(|byte| *byte == b'\n')
        .map_or(bytes.len(), |place| offset + place + 1);
    let line = bytes.get(begin..end).unwrap_or_default();
    Ok((
        from + begin as u64,
        String::from_utf8_lossy(line).into_owned(),
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write as _;

    fn hash(n: u32) -> String {
        format!("{:040X}", u128::from(n) * 0x0123_4567_89AB_CDEF_0123)
    }

    fn folder() -> PathBuf {
        let path = std::env::temp_dir().join(format!(
            "jexlin-leaks-{}-{:?}",
            std::process::id(),
            std::thread::current().id()
        ));
        std::fs::create_dir_all(&path).expect("a folder");
        path
    }

    #[test]
    fn every_line_of_a_sorted_file_is_found_and_nothing_else() {
        let folder = folder();
        for (name, end, counts) in [("plain", "\n", false), ("windows", "\r\n", true)] {
            let path = folder.join(name);
            let mut file = File::create(&path).expect("a file");
            for n in (1..500).filter(|n| n % 2 == 1) {
                let count = if counts {
                    format!(":{n}")
                } else {
                    String::new()
                };
                write!(file, "{}{count}{end}", hash(n)).expect("a line");
            }
            for n in 0..501 {
                let wanted = if n % 2 == 0 {
                    0
                } else if counts {
                    u64::from(n)
                } else {
                    1
                };
                assert_eq!(
                    look_up(&path, &hash(n)).expect("a look"),
                    wanted,
                    "{name} {n}"
                );
            }
        }
        File::create(folder.join("empty")).expect("a file");
        assert_eq!(look_up(&folder.join("empty"), &hash(1)).expect("a look"), 0);
        assert!(look_up(&folder.join("none"), &hash(1)).is_err());
        let _ = std::fs::remove_dir_all(folder);
    }

    #[test]
    fn a_folder_of_ranges_is_looked_up_by_the_first_five_digits() {
        let folder = folder();
        let hash = "5BAA61E4C9B93F3F0682250B6CF8331B7EE68FD8";
        std::fs::write(
            folder.join("5BAA6.txt"),
            "0000000000000000000000000000000000A:3\r\n1e4c9b93f3f0682250b6cf8331b7ee68fd8:52\r\n",
        )
        .expect("a file");
        assert_eq!(look_up(&folder, hash).expect("a look"), 52);
        assert_eq!(
            look_up(&folder, &hash.replace("FD8", "FD9")).expect("a look"),
            0
        );
        assert_eq!(
            look_up(&folder, &hash.replace("5BAA6", "5BAA7")).expect("a look"),
            0
        );
        let _ = std::fs::remove_dir_all(folder);
    }
}
