//! What is to be said about places at which other programs may call.

use std::net::SocketAddr;

use usus_io::ServePlace;

use crate::voice::Voice;

/// Says so if whoever reaches this machine can read what is served there.
pub(crate) fn warn_of_readers(place: &ServePlace, what: &str, voice: &Voice) {
    if let ServePlace::Callers(address) = place {
        warn_if_open(*address, &format!("whoever reaches this machine can read {what}"), voice);
    }
}

/// Says so if an address is that of all interfaces.
pub(crate) fn warn_if_open(address: SocketAddr, what: &str, voice: &Voice) {
    if address.ip().is_unspecified() {
        let port = address.port();
        voice.warn(&format!("{what}, at port {port}; tcp://127.0.0.1:{port} is for this machine's own programs only"));
    }
}
