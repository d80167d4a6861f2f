//! Character sets of texts: which bytes are which characters.

use alloc::boxed::Box;
use alloc::string::String;
use alloc::vec::Vec;

/// A character set in which texts are sent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Charset {
    /// ASCII (ISO/IEC 646 IRV): no byte above 7F.
    Ascii,
    /// UTF-8 (RFC 3629): what texts are if nothing is said.
    #[default]
    Utf8,
    /// Latin-1 (ISO/IEC 8859-1): every byte is the character of its number.
    Latin1,
    /// Windows code page 1252: as Latin-1, with characters that can be seen from 80 to 9F, five of which are none.
    Windows1252,
}

/// The characters from 80 on in Latin-1, two bytes of UTF-8 each.
const HIGH: &str = "\u{80}\u{81}\u{82}\u{83}\u{84}\u{85}\u{86}\u{87}\u{88}\u{89}\u{8A}\u{8B}\u{8C}\u{8D}\u{8E}\u{8F}\
                    \u{90}\u{91}\u{92}\u{93}\u{94}\u{95}\u{96}\u{97}\u{98}\u{99}\u{9A}\u{9B}\u{9C}\u{9D}\u{9E}\u{9F}\
                    \u{A0}¡¢£¤¥¦§¨©ª«¬\u{AD}®¯°±²³´µ¶·¸¹º»¼½¾¿ÀÁÂÃÄÅÆÇÈÉÊËÌÍÎÏÐÑÒÓÔÕÖ×ØÙÚÛÜÝÞßàáâãäåæçèéêëìíîïðñòóôõö÷øùúûüýþÿ";

/// The characters from 80 to 9F of Windows-1252; empty where there is none.
const WINDOWS: [&str; 32] = [
    "€", "", "‚", "ƒ", "„", "…", "†", "‡", "ˆ", "‰", "Š", "‹", "Œ", "", "Ž", "", "", "‘", "’", "“", "”", "•", "–", "—",
    "˜", "™", "š", "›", "œ", "", "ž", "Ÿ",
];

/// Every ASCII character.
const LOW: &str = "\0\u{1}\u{2}\u{3}\u{4}\u{5}\u{6}\u{7}\u{8}\t\n\u{B}\u{C}\r\u{E}\u{F}\u{10}\u{11}\u{12}\u{13}\u{14}\u{15}\u{16}\
                   \u{17}\u{18}\u{19}\u{1A}\u{1B}\u{1C}\u{1D}\u{1E}\u{1F} !\"#$%&'()*+,-./0123456789:;<=>?@ABCDEFGHIJKLMNO\
                   PQRSTUVWXYZ[\\]^_`abcdefghijklmnopqrstuvwxyz{|}~\u{7F}";

impl Charset {
    pub(crate) const WORDS: [(&'static str, Charset); 4] = [
        ("ascii", Charset::Ascii),
        ("utf-8", Charset::Utf8),
        ("latin-1", Charset::Latin1),
        ("windows-1252", Charset::Windows1252),
    ];

    /// Its word in format files.
    pub const fn word(self) -> &'static str {
        match self {
            Charset::Ascii => "ascii",
            Charset::Utf8 => "utf-8",
            Charset::Latin1 => "latin-1",
            Charset::Windows1252 => "windows-1252",
        }
    }

    /// Whether bytes are a text in it.
    pub fn fits(self, bytes: &[u8]) -> bool {
        match self {
            Charset::Utf8 => core::str::from_utf8(bytes).is_ok(),
            _ => bytes.iter().all(|byte| self.character(*byte).is_some()),
        }
    }

    /// The character that a byte is; nothing if it is none by itself.
    pub(crate) fn character(self, byte: u8) -> Option<&'static str> {
        let place = usize::from(byte);
        let found = match (self, byte) {
            (_, ..0x80) => LOW.get(place..=place),
            (Charset::Ascii | Charset::Utf8, _) => None,
            (Charset::Windows1252, ..0xA0) => WINDOWS.get(place - 0x80).copied(),
            (Charset::Latin1 | Charset::Windows1252, _) => HIGH.get(2 * (place - 0x80)..2 * (place - 0x80) + 2),
        };
        found.filter(|character| !character.is_empty())
    }

    /// A text as it is sent; nothing if the set does not have its characters.
    pub(crate) fn encode(self, text: &str) -> Option<Vec<u8>> {
        if self == Charset::Utf8 {
            return Some(text.as_bytes().into());
        }
        let mut room = [0; 4];
        let byte = |character: char| {
            let wanted: &str = character.encode_utf8(&mut room);
            (0..=u8::MAX).find(|byte| self.character(*byte) == Some(wanted))
        };
        text.chars().map(byte).collect()
    }
}

/// All ways in which a text may be sent in one of these sets, UTF-8 if there is none; the usual one first.
pub(crate) fn sent_as(text: &str, charsets: &[Charset]) -> Vec<Box<[u8]>> {
    let mut all: Vec<Box<[u8]>> = Vec::new();
    let usual = [Charset::Utf8];
    let charsets = if text.is_ascii() || charsets.is_empty() { &usual } else { charsets };
    for sent in charsets.iter().filter_map(|charset| charset.encode(text)) {
        if !all.iter().any(|known| **known == *sent) {
            all.push(sent.into());
        }
    }
    if all.is_empty() {
        all.push(text.as_bytes().into());
    }
    all
}

/// The usual one of them.
pub(crate) fn sent(text: &str, charsets: &[Charset]) -> Box<[u8]> {
    sent_as(text, charsets).into_iter().next().unwrap_or_default()
}

/// The words of some sets, as they stand in a file.
pub(crate) fn charset_words(charsets: &[Charset]) -> String {
    charsets.iter().map(|charset| charset.word()).collect::<Vec<_>>().join(" or ")
}
