//! Line settings as the system's terminal settings (POSIX termios).

use rustix::termios::{ControlModes, InputModes, LocalModes, OutputModes, SpecialCodeIndex, Termios};
use usus::format::{Parity, Serial};

/// What a driver refuses.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Refused {
    /// A speed.
    #[error("the driver does not take {asked} bits per second; it says {got}")]
    Speed {
        /// What was asked for.
        asked: u32,
        /// What it is set to.
        got: u32,
    },
    /// A character size, parity or number of stop bits.
    #[error("the driver does not take the character format of `{asked}`")]
    Character {
        /// What was asked for.
        asked: Serial,
    },
    /// The settings as a whole.
    #[error("the driver does not take `{asked}`")]
    All {
        /// What was asked for.
        asked: Serial,
    },
}

/// Makes settings raw, with these line settings, and with faults marked in what is read.
pub(super) fn prepare(termios: &mut Termios, serial: Serial) -> Result<(), Refused> {
    termios.make_raw();
    // Nothing of what is received is changed, and nothing is ever sent by the system itself: no echo, no flow control.
    termios.input_modes = InputModes::INPCK | InputModes::PARMRK;
    termios.output_modes = OutputModes::empty();
    termios.local_modes = LocalModes::empty();
    termios.control_modes -= ControlModes::CSIZE
        | ControlModes::PARENB
        | ControlModes::PARODD
        | ControlModes::CMSPAR
        | ControlModes::CSTOPB
        | ControlModes::CRTSCTS
        | ControlModes::HUPCL;
    termios.control_modes |= ControlModes::CREAD | ControlModes::CLOCAL | character(serial);
    termios.special_codes[SpecialCodeIndex::VMIN] = 1;
    termios.special_codes[SpecialCodeIndex::VTIME] = 0;
    termios.set_speed(serial.baud).map_err(|_| Refused::Speed { asked: serial.baud, got: termios.input_speed() })
}

fn character(serial: Serial) -> ControlModes {
    let size = match serial.data_bits {
        5 => ControlModes::CS5,
        6 => ControlModes::CS6,
        7 => ControlModes::CS7,
        _ => ControlModes::CS8,
    };
    let parity = match serial.parity {
        Parity::None => ControlModes::empty(),
        Parity::Even => ControlModes::PARENB,
        Parity::Odd => ControlModes::PARENB | ControlModes::PARODD,
        Parity::Mark => ControlModes::PARENB | ControlModes::PARODD | ControlModes::CMSPAR,
        Parity::Space => ControlModes::PARENB | ControlModes::CMSPAR,
    };
    // The system knows one and two stop bits; with five data bits, two are one and a half. A receiver looks at the first only.
    let stop = match (serial.half_stop_bits, serial.data_bits) {
        (4, _) | (3, 5) => ControlModes::CSTOPB,
        _ => ControlModes::empty(),
    };
    size | parity | stop
}

/// Whether the settings were made. A pseudo-terminal keeps eight bits without parity whatever is asked for.
pub(super) fn compare(made: &Termios, asked: Serial, pseudo_terminal: bool) -> Result<(), Refused> {
    // Drivers report the speed that their divisor gives: it may be a little beside the one asked for.
    let got = made.input_speed();
    if u64::from(got.abs_diff(asked.baud)) * 100 > u64::from(asked.baud) * 3 {
        return Err(Refused::Speed { asked: asked.baud, got });
    }
    let relevant = ControlModes::CSIZE | ControlModes::PARENB | ControlModes::PARODD | ControlModes::CMSPAR;
    if !pseudo_terminal && made.control_modes & relevant != character(asked) & relevant {
        return Err(Refused::Character { asked });
    }
    Ok(())
}
