//! Undoing the escapes of the telnet protocol (RFC 854), which some device servers put on a socket: a byte FF is sent doubled, and behind
//! a single one comes a command, which is no data.

/// Takes escapes out, whatever pieces they come in.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Telnet {
    state: State,
    /// Bytes of commands that were taken out.
    pub(super) commands: u64,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum State {
    #[default]
    Data,
    /// Behind FF.
    Command,
    /// Behind FF and WILL, WON'T, DO or DON'T: the option's number follows.
    Option,
    /// In a subnegotiation, which ends with FF F0.
    Negotiation,
    /// Behind FF in it.
    NegotiationCommand,
}

const ESCAPE: u8 = 0xFF;
const NEGOTIATION: u8 = 0xFA;
const NEGOTIATION_END: u8 = 0xF0;

impl Telnet {
    /// A new connection begins; the count goes on.
    pub(super) fn begin(&mut self) {
        self.state = State::Data;
    }

    /// Adds the data of a piece to `data`.
    pub(super) fn take(&mut self, piece: &[u8], data: &mut Vec<u8>) {
        for &byte in piece {
            let before = data.len();
            self.state = match (self.state, byte) {
                (State::Data, ESCAPE) => State::Command,
                (State::Data, byte) => {
                    data.push(byte);
                    State::Data
                }
                (State::Command, ESCAPE) => {
                    data.push(ESCAPE);
                    // The first of the two was counted as the begin of a command.
                    self.commands -= 1;
                    State::Data
                }
                (State::Command, 0xFB..=0xFE) => State::Option,
                (State::Command, NEGOTIATION) => State::Negotiation,
                (State::Command | State::Option, _) => State::Data,
                (State::Negotiation, ESCAPE) => State::NegotiationCommand,
                (State::Negotiation, _) => State::Negotiation,
                (State::NegotiationCommand, NEGOTIATION_END) => State::Data,
                (State::NegotiationCommand, _) => State::Negotiation,
            };
            self.commands += u64::from(data.len() == before);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn data_is_kept_and_commands_are_counted() {
        let sent = b"a\xFF\xFFb\xFF\xFD\x01c\xFF\xF1d\xFF\xFA\x18\x01xterm\xFF\xF0e\xFF\xFF";
        for split in 0..=sent.len() {
            let (mut telnet, mut data) = (Telnet::default(), Vec::new());
            telnet.take(&sent[..split], &mut data);
            telnet.take(&sent[split..], &mut data);
            assert_eq!(data, b"a\xFFbcde\xFF");
            assert_eq!(telnet.commands as usize, sent.len() - data.len() - 2);
        }
    }
}
