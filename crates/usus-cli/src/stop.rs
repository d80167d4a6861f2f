//! Ending cleanly when the user interrupts.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use crate::voice::Voice;

/// A flag that the first interrupt sets, also one because the terminal went away; a second one ends the program at once.
pub(crate) fn stop_flag(voice: &Voice) -> Arc<AtomicBool> {
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP] {
        let registered = signal_hook::flag::register_conditional_shutdown(signal, 130, Arc::clone(&stop))
            .and_then(|_| signal_hook::flag::register(signal, Arc::clone(&stop)));
        if let Err(error) = registered {
            voice.warn(&format!("an interrupt will end this without a summary: {error}"));
        }
    }
    stop
}
