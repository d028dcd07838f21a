//! Devices that misbehave on purpose, and a wire that can be cut.

use std::io::{self, Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;

/// How a device misbehaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manner {
    /// Takes the connection and never says a word.
    Hangs,
    /// Writes without end.
    Floods,
    /// Says something that is no SSH and closes.
    Babbles,
}

/// Starts a device that misbehaves; returns its port. It runs until the process ends.
///
/// # Errors
/// When there is no port.
pub fn device(manner: Manner) -> io::Result<u16> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let port = listener.local_addr()?.port();
    thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            thread::spawn(move || misbehave(manner, stream));
        }
    });
    Ok(port)
}

fn misbehave(manner: Manner, mut stream: TcpStream) {
    match manner {
        Manner::Hangs => {
            let mut buffer = [0; 1024];
            while stream.read(&mut buffer).is_ok_and(|count| count > 0) {}
        }
        Manner::Floods => while stream.write_all(&[b'x'; 65_536]).is_ok() {},
        Manner::Babbles => {
            let _ = stream.write_all(b"HTTP/1.1 400 Bad Request\r\n\r\n");
        }
    }
}

/// A wire to a device that can be cut, now or after so many more bytes from either side.
#[derive(Clone, Debug)]
pub struct Wire {
    port: u16,
    cut: Arc<AtomicBool>,
    left: Arc<AtomicI64>,
    open: Arc<Mutex<Vec<TcpStream>>>,
    joined: Arc<AtomicUsize>,
}

impl Wire {
    /// A wire to an address and port.
    ///
    /// # Errors
    /// When there is no port.
    pub fn to(address: &str, port: u16) -> io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let wire = Self {
            port: listener.local_addr()?.port(),
            cut: Arc::new(AtomicBool::new(false)),
            left: Arc::new(AtomicI64::new(i64::MAX)),
            open: Arc::default(),
            joined: Arc::default(),
        };
        let (address, own) = (address.to_owned(), wire.clone());
        thread::spawn(move || {
            for near in listener.incoming().flatten() {
                if own.cut.load(Ordering::SeqCst) {
                    continue;
                }
                let Ok(far) = TcpStream::connect((address.as_str(), port)) else {
                    continue;
                };
                own.join(near, far);
            }
        });
        Ok(wire)
    }

    fn join(&self, near: TcpStream, far: TcpStream) {
        let (Ok(near2), Ok(far2), Ok(near3), Ok(far3)) = (
            near.try_clone(),
            far.try_clone(),
            near.try_clone(),
            far.try_clone(),
        ) else {
            return;
        };
        if let Ok(mut open) = self.open.lock() {
            open.extend([near3, far3]);
        }
        self.joined.fetch_add(1, Ordering::SeqCst);
        for (mut from, mut to) in [(near, far), (far2, near2)] {
            let own = self.clone();
            thread::spawn(move || {
                let mut buffer = [0; 16_384];
                while let Ok(count) = from.read(&mut buffer) {
                    let left = own
                        .left
                        .fetch_sub(i64::try_from(count).unwrap_or(0), Ordering::SeqCst);
                    if count == 0 || own.cut.load(Ordering::SeqCst) {
                        break;
                    }
                    if left < i64::try_from(count).unwrap_or(0) {
                        own.cut();
                        break;
                    }
                    if to
                        .write_all(buffer.get(..count).unwrap_or_default())
                        .is_err()
                    {
                        break;
                    }
                }
                let _ = to.shutdown(Shutdown::Both);
                let _ = from.shutdown(Shutdown::Both);
            });
        }
    }

    /// The port of its near end on 127.0.0.1.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// How many connections there have been.
    #[must_use]
    pub fn connections(&self) -> usize {
        self.joined.load(Ordering::SeqCst)
    }

    /// Cuts it: what is under way is lost, and nothing new gets through.
    pub fn cut(&self) {
        self.cut.store(true, Ordering::SeqCst);
        if let Ok(mut open) = self.open.lock() {
            for stream in open.drain(..) {
                let _ = stream.shutdown(Shutdown::Both);
            }
        }
    }

    /// Lets so many more bytes through, counted over both directions, and cuts then.
    pub fn cut_after(&self, bytes: i64) {
        self.left.store(bytes, Ordering::SeqCst);
    }

    /// Fixes it.
    pub fn fix(&self) {
        self.left.store(i64::MAX, Ordering::SeqCst);
        self.cut.store(false, Ordering::SeqCst);
    }
}
