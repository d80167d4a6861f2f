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

#[cfg(test)]
mod tests {
    use super::*;
    use rustix::pty::OpenptFlags;
    use rustix::termios::tcgetattr;

    fn serial(text: &str) -> Serial {
        Serial::parse(text).unwrap()
    }

    fn fresh() -> Termios {
        tcgetattr(rustix::pty::openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap()).unwrap()
    }

    #[test]
    fn nothing_is_translated_sent_or_dropped() {
        let mut termios = fresh();
        prepare(&mut termios, serial("9600 8N1")).unwrap();
        assert_eq!(termios.input_modes, InputModes::INPCK | InputModes::PARMRK);
        assert_eq!((termios.output_modes, termios.local_modes), (OutputModes::empty(), LocalModes::empty()));
        let forbidden = ControlModes::CRTSCTS | ControlModes::HUPCL;
        assert!(!termios.control_modes.intersects(forbidden));
        assert!(termios.control_modes.contains(ControlModes::CREAD | ControlModes::CLOCAL));
    }

    #[test]
    fn character_formats_are_the_systems() {
        use ControlModes as C;
        for (text, modes) in [
            ("300 5N1.5", C::CS5 | C::CSTOPB),
            ("9600 6N1", C::CS6),
            ("9600 7E1", C::CS7 | C::PARENB),
            ("9600 7O2", C::CS7 | C::PARENB | C::PARODD | C::CSTOPB),
            ("9600 8M1", C::CS8 | C::PARENB | C::PARODD | C::CMSPAR),
            ("9600 8S1", C::CS8 | C::PARENB | C::CMSPAR),
            ("9600 8N1.5", C::CS8),
        ] {
            assert_eq!(character(serial(text)), modes, "{text}");
            let mut termios = fresh();
            prepare(&mut termios, serial(text)).unwrap();
            assert_eq!(compare(&termios, serial(text), false), Ok(()), "{text}");
        }
    }

    /// What a driver has made of the settings is held against them.
    #[test]
    fn refusals_are_noticed() {
        let mut made = fresh();
        prepare(&mut made, serial("9600 8N1")).unwrap();
        let seven = serial("9600 7E1");
        assert_eq!(compare(&made, seven, false), Err(Refused::Character { asked: seven }));
        assert_eq!(compare(&made, seven, true), Ok(()), "pseudo-terminals do not keep it");
        assert_eq!(compare(&made, serial("9700 8N1"), false), Ok(()), "a divisor is not exact");
        let refused = Err(Refused::Speed { asked: 115_200, got: 9_600 });
        assert_eq!(compare(&made, serial("115200 8N1"), true), refused);
    }
}
