//! Files from elsewhere are read in a process of their own: this program again, called for that
//! alone, without the environment, the vault's keys, the database or any file, and with limits of
//! memory and time that it sets itself before it reads the first byte. If it dies of a file, that
//! is an answer like any other; the service goes on.

use std::io::{Read as _, Write as _};
use std::process::{ExitCode, Stdio};
use std::sync::{LazyLock, Mutex};
use std::time::Duration;

use jexlin_api::ErrorCode;
use jexlin_core::transfer::{Grid, MOST_TEXT, ReadOptions, SheetProblem};
use jexlin_core::vault::pictures;
use jexlin_core::vault::readings::{PEM_BEGINS, Readings};
use rlimit::Resource;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::Command;
use tokio::sync::Semaphore;
use zeroize::{Zeroize, Zeroizing};

use crate::error::{AppError, AppResult};

/// The command by which a program calls itself for this.
const WORD: &str = "read";
/// The memory of a reader, in bytes: so much for a small file, so much more for each byte of a
/// larger one, and never more than that.
const MEMORY: (u64, u64, u64) = (80 * MIB, 12, 768 * MIB);
/// The address space of a reader, its program included.
const ADDRESSES: u64 = 2048 * MIB;
/// The processor time of a reader in seconds, and how many bytes give it one more.
const TIME_FOR: (u64, u64) = if cfg!(debug_assertions) {
    (8, MIB)
} else {
    (2, 6 * MIB)
};
const MIB: u64 = 1024 * 1024;
/// A reader has so long altogether, and another one waits at most so long for its turn.
const TIME: Duration = Duration::from_secs(40);
/// So many readers at a time; what others do is not kept waiting by more.
const READERS: usize = 2;
/// The most that a reader says: what a sheet may hold, escaped, and what its keys and certificates
/// say.
const MOST_SAID: u64 = 8 * MOST_TEXT as u64;
/// Of so many certificates the service remembers what they say.
const MOST_REMEMBERED: usize = 2000;

static TURNS: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(READERS));
/// What certificates say, which is nothing secret, so that showing one again takes no reader.
static REMEMBERED: LazyLock<Mutex<Readings>> = LazyLock::new(Mutex::default);

/// The rows of a file, and the keys in them.
#[derive(Debug, Serialize, Deserialize)]
pub struct FileRead {
    /// What is in it.
    pub grid: Grid,
    /// The keys and certificates in its cells.
    pub readings: Readings,
}

/// Reads a file of rows; what the options leave out, it finds out.
///
/// # Errors
/// [`AppError`] when it cannot be read within the limits. What is wrong in it is in the answer.
pub async fn rows(
    bytes: &[u8],
    options: &ReadOptions,
) -> AppResult<Result<FileRead, SheetProblem>> {
    let options =
        serde_json::to_string(options).map_err(|error| AppError::internal(error.to_string()))?;
    ask("file", "rows", &options, bytes).await
}

/// Reads the address of a seed out of a picture.
///
/// # Errors
/// As [`rows`].
pub async fn picture(bytes: &[u8]) -> AppResult<Result<Zeroizing<String>, String>> {
    let read: Result<String, String> = ask("picture", "picture", "", bytes).await?;
    Ok(read.map(Zeroizing::new))
}

/// Reads the keys and certificates in a JSON body. Whatever is wrong with one is said where it is
/// wanted for what it is.
///
/// # Errors
/// [`AppError`] when they cannot be read within the limits.
pub async fn keys_in(body: &[u8]) -> AppResult<Readings> {
    // An escape could spell the mark by which keys and certificates begin.
    let holds = |text: &[u8]| body.windows(text.len()).any(|window| window == text);
    if !holds(PEM_BEGINS.as_bytes()) && !holds(b"\\u00") {
        return Ok(Readings::default());
    }
    let read: Readings = ask("body", "keys", "", body).await?;
    remember(&read);
    Ok(read)
}

/// Reads keys and certificates.
///
/// # Errors
/// As [`keys_in`].
pub async fn keys(texts: &[&str]) -> AppResult<Readings> {
    let body = serde_json::to_vec(texts)
        .map(Zeroizing::new)
        .map_err(|error| AppError::internal(error.to_string()))?;
    keys_in(&body).await
}

/// What certificates of the vault say. Those that cannot be read now say nothing.
pub async fn certificates(texts: &[&str]) -> Readings {
    let mut known = Readings::default();
    if let Ok(remembered) = REMEMBERED.lock() {
        known.extend(remembered.only(texts));
    }
    let rest: Vec<&str> = texts
        .iter()
        .copied()
        .filter(|text| !known.has(text))
        .collect();
    if !rest.is_empty()
        && let Ok(read) = keys(&rest).await
    {
        known.extend(read);
    }
    known
}

fn remember(read: &Readings) {
    if let Ok(mut all) = REMEMBERED.lock() {
        if all.len() >= MOST_REMEMBERED {
            *all = Readings::default();
        }
        all.extend(read.certificates());
    }
}

async fn ask<T: DeserializeOwned>(
    field: &str,
    what: &str,
    options: &str,
    bytes: &[u8],
) -> AppResult<T> {
    let busy = || {
        AppError::conflict(
            ErrorCode::ReadersBusy,
            "The service is busy with other files.",
            "Try again in a minute.",
        )
    };
    let _turn = tokio::time::timeout(TIME, TURNS.acquire())
        .await
        .map_err(|_| busy())?
        .map_err(|_| busy())?;
    let died = |why: &str| {
        AppError::field(
            field,
            format!("it cannot be read within the limits for uploaded files: {why}"),
        )
    };
    let mut child = Command::new("/proc/self/exe")
        .args([WORD, what, &bytes.len().to_string(), options])
        .env_clear()
        .current_dir("/")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| AppError::internal(format!("a reader of files: {error}")))?;
    let (Some(mut input), Some(output)) = (child.stdin.take(), child.stdout.take()) else {
        return Err(AppError::internal("a reader without a line to it"));
    };
    let said = async {
        let send = async move {
            // A reader that has seen enough hangs up; what it says counts.
            let _ = input.write_all(bytes).await;
            drop(input);
        };
        let mut said = Zeroizing::new(vec![]);
        let mut output = output.take(MOST_SAID);
        let ((), read) = tokio::join!(send, output.read_to_end(&mut said));
        read?;
        child.wait().await.map(|status| (status.success(), said))
    };
    match tokio::time::timeout(TIME, said).await {
        Ok(Ok((true, said))) => {
            serde_json::from_slice(&said).map_err(|_| died("what its reader says makes no sense"))
        }
        Ok(Ok((false, _))) => Err(died("it takes too much memory or time")),
        Ok(Err(error)) => Err(AppError::internal(format!("a reader of files: {error}"))),
        Err(_) => Err(died("it takes too much time")),
    }
}

/// Reads one file and exits, when this process was started for that. Every program that runs the
/// service calls this first.
#[must_use]
pub fn run_if_called() -> Option<ExitCode> {
    let mut arguments = std::env::args().skip(1);
    (arguments.next()? == WORD).then(|| {
        let mut next = || arguments.next().unwrap_or_default();
        let (what, length, options) = (next(), next(), next());
        child(&what, length.parse().unwrap_or(0), &options)
    })
}

/// What the reader itself does: the limits first, then the file.
fn child(what: &str, length: u64, options: &str) -> ExitCode {
    let (least, per_byte, most) = MEMORY;
    let (seconds, bytes_for_one) = TIME_FOR;
    let limits = [
        (
            Resource::DATA,
            least
                .saturating_add(per_byte.saturating_mul(length))
                .min(most),
        ),
        (Resource::AS, ADDRESSES),
        (Resource::CPU, seconds + length / bytes_for_one),
        (Resource::NOFILE, 8),
        (Resource::FSIZE, 0),
        (Resource::CORE, 0),
        (Resource::NPROC, 0),
    ];
    if limits
        .into_iter()
        .any(|(resource, limit)| resource.set(limit, limit).is_err())
    {
        return ExitCode::FAILURE;
    }
    let mut bytes = Zeroizing::new(vec![]);
    if std::io::stdin().read_to_end(&mut bytes).is_err() {
        return ExitCode::FAILURE;
    }
    let said = match what {
        "picture" => serde_json::to_vec(&pictures::read_seed(&bytes).and_then(|seed| {
            seed.expose_secret_text()
                .map(str::to_owned)
                .map_err(|_| String::new())
        })),
        "keys" => {
            let mut readings = Readings::default();
            // What is no JSON is said where the body is read.
            if let Ok(body) = serde_json::from_slice(&bytes) {
                read_all(body, &mut readings);
            }
            serde_json::to_vec(&readings)
        }
        "rows" => match serde_json::from_str(options) {
            Ok(options) => serde_json::to_vec(&read_rows(&bytes, &options)),
            Err(_) => return ExitCode::FAILURE,
        },
        _ => return ExitCode::FAILURE,
    };
    let Ok(said) = said.map(Zeroizing::new) else {
        return ExitCode::FAILURE;
    };
    if std::io::stdout().write_all(&said).is_ok() {
        ExitCode::SUCCESS
    } else {
        ExitCode::FAILURE
    }
}

fn read_rows(bytes: &[u8], options: &ReadOptions) -> Result<FileRead, SheetProblem> {
    let grid = Grid::read(bytes, options)?;
    let mut readings = Readings::default();
    grid.rows
        .iter()
        .flat_map(|row| &row.cells)
        .for_each(|cell| readings.parse(cell));
    Ok(FileRead { grid, readings })
}

fn read_all(value: serde_json::Value, readings: &mut Readings) {
    match value {
        serde_json::Value::String(mut text) => {
            readings.parse(&text);
            text.zeroize();
        }
        serde_json::Value::Array(items) => {
            items.into_iter().for_each(|item| read_all(item, readings))
        }
        serde_json::Value::Object(fields) => fields
            .into_iter()
            .for_each(|(_, value)| read_all(value, readings)),
        _ => {}
    }
}
