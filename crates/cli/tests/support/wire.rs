//! A way to the database that can be cut.

use std::time::Duration;

use super::until;

/// A way to the database that can be cut.
pub struct Wire {
    pub port: u16,
    connected: std::sync::Arc<std::sync::atomic::AtomicBool>,
    live: std::sync::Arc<std::sync::atomic::AtomicUsize>,
}

impl Wire {
    /// Begins to pass bytes on to a port of this machine.
    pub async fn to(target: u16) -> Self {
        use std::sync::atomic::{AtomicBool, Ordering};
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let connected = std::sync::Arc::new(AtomicBool::new(true));
        let live = std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0));
        let (open, alive) = (connected.clone(), live.clone());
        tokio::spawn(async move {
            while let Ok((mut near, _)) = listener.accept().await {
                if !open.load(Ordering::Relaxed) {
                    continue;
                }
                let (open, alive) = (open.clone(), alive.clone());
                alive.fetch_add(1, Ordering::Relaxed);
                tokio::spawn(async move {
                    let Ok(mut far) = tokio::net::TcpStream::connect(("127.0.0.1", target)).await else {
                        alive.fetch_sub(1, Ordering::Relaxed);
                        return;
                    };
                    let cut = async {
                        while open.load(Ordering::Relaxed) {
                            tokio::time::sleep(Duration::from_millis(20)).await;
                        }
                    };
                    tokio::select! {
                        _ = tokio::io::copy_bidirectional(&mut near, &mut far) => {}
                        () = cut => {}
                    }
                    alive.fetch_sub(1, Ordering::Relaxed);
                });
            }
        });
        Self { port, connected, live }
    }

    /// Cuts every connection and refuses new ones; returns when none is left.
    pub async fn cut(&self) {
        use std::sync::atomic::Ordering;
        self.connected.store(false, Ordering::Relaxed);
        until("every connection is cut", || async { (self.live.load(Ordering::Relaxed) == 0).then_some(()) }).await;
    }

    /// Lets connections through again.
    pub fn mend(&self) {
        self.connected.store(true, std::sync::atomic::Ordering::Relaxed);
    }
}
