//! MIDI bytes to messages (MIDI 1.0), running status included.

/// A channel message. Channels count from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MidiMessage {
    /// A key goes down, velocity 1 to 127.
    NoteOn {
        /// From 0.
        channel: u8,
        /// Key.
        key: u8,
        /// Strike.
        velocity: u8,
    },
    /// A key comes up (note-on with velocity 0 included).
    NoteOff {
        /// From 0.
        channel: u8,
        /// Key.
        key: u8,
    },
    /// A controller moves.
    Controller {
        /// From 0.
        channel: u8,
        /// Number.
        number: u8,
        /// Value.
        value: u8,
    },
    /// Another program, from 0.
    Program {
        /// From 0.
        channel: u8,
        /// From 0.
        program: u8,
    },
    /// The bend, −8192 to 8191.
    Bend {
        /// From 0.
        channel: u8,
        /// Centred on 0.
        value: i16,
    },
}

/// Puts bytes together to messages.
#[derive(Debug, Default)]
pub struct MidiParser {
    status: u8,
    data: Option<u8>,
}

impl MidiParser {
    /// Takes one byte; gives a message when it is complete. Real-time bytes may stand anywhere; system messages end the running status.
    pub fn push(&mut self, byte: u8) -> Option<MidiMessage> {
        if byte >= 0xF8 {
            return None;
        }
        if byte >= 0x80 {
            self.status = if byte >= 0xF0 { 0 } else { byte };
            self.data = None;
            return None;
        }
        let (kind, channel) = (self.status & 0xF0, self.status & 0x0F);
        match (kind, self.data.take()) {
            (0xC0, _) => Some(MidiMessage::Program {
                channel,
                program: byte,
            }),
            (0x80 | 0x90 | 0xA0 | 0xB0 | 0xE0, None) => {
                self.data = Some(byte);
                None
            }
            (0x90, Some(key)) if byte > 0 => Some(MidiMessage::NoteOn {
                channel,
                key,
                velocity: byte,
            }),
            (0x80 | 0x90, Some(key)) => Some(MidiMessage::NoteOff { channel, key }),
            (0xB0, Some(number)) => Some(MidiMessage::Controller {
                channel,
                number,
                value: byte,
            }),
            (0xE0, Some(low)) => Some(MidiMessage::Bend {
                channel,
                value: (i16::from(byte) << 7 | i16::from(low)) - 8192,
            }),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn running_status_and_silent_note_ons_are_understood() {
        let mut parser = MidiParser::default();
        let bytes = [0x90, 60, 100, 64, 90, 0xF8, 60, 0, 0xE0, 0, 64, 0xC1, 5];
        let messages: Vec<MidiMessage> = bytes.iter().filter_map(|&byte| parser.push(byte)).collect();
        assert_eq!(
            messages,
            [
                MidiMessage::NoteOn {
                    channel: 0,
                    key: 60,
                    velocity: 100
                },
                MidiMessage::NoteOn {
                    channel: 0,
                    key: 64,
                    velocity: 90
                },
                MidiMessage::NoteOff { channel: 0, key: 60 },
                MidiMessage::Bend { channel: 0, value: 0 },
                MidiMessage::Program {
                    channel: 1,
                    program: 5
                },
            ]
        );
    }
}
