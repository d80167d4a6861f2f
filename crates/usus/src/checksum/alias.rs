//! What datasheets call checksums, and the names or parameters that are meant. A datasheet's name is answered, never accepted: one name each.

/// Names that may be meant, and what else is to be said.
pub(crate) struct Meant {
    pub(crate) names: &'static [&'static str],
    pub(crate) note: Option<&'static str>,
}

/// What a datasheet's name means: the names of checksums that it may be, or their parameters, the likeliest first.
pub(crate) fn meant(word: &str) -> Option<Meant> {
    let plain: alloc::string::String =
        word.chars().filter(char::is_ascii_alphanumeric).map(|character| character.to_ascii_uppercase()).collect();
    let plain = plain.strip_prefix("CRC16").filter(|rest| rest.len() > 2).unwrap_or(&plain);
    let (_, names, note) = ALIASES.iter().find(|(words, ..)| words.contains(&plain))?;
    Some(Meant { names, note: (!note.is_empty()).then_some(note) })
}

type Alias = (&'static [&'static str], &'static [&'static str], &'static str);

const ALIASES: &[Alias] = &[
    (
        &["CRC16", "CRC", "CRC16BIT", "16BITCRC"],
        &["CRC-16/ARC", "CRC-16/MODBUS", "CRC-16/XMODEM", "CRC-16/IBM-3740", "CRC-16/KERMIT", "CRC-16/USB"],
        "many differ by nothing but their first register, so try them on an example",
    ),
    (&["IBM", "CRCIBM", "LHA", "ANSI", "CRC16ANSI", "CRCANSI"], &["CRC-16/ARC"], ""),
    (&["MODBUS", "CRCMODBUS", "MODBUSCRC", "MODBUSRTU"], &["CRC-16/MODBUS"], ""),
    (&["CCITTFALSE", "CRCCCITTFALSE", "AUTOSAR"], &["CRC-16/IBM-3740"], ""),
    (&["CCITTTRUE", "CRCCCITTTRUE", "V41LSB", "BLUETOOTH"], &["CRC-16/KERMIT"], ""),
    (
        &["CCITT", "CRCCCITT", "CCITTCRC", "CCITTCRC16"],
        &["CRC-16/IBM-3740", "CRC-16/XMODEM", "CRC-16/KERMIT", "CRC-16/IBM-SDLC", "CRC-16/SPI-FUJITSU"],
        "the name is used for all of these, so try them on an example",
    ),
    (&["CCITTZERO", "ZMODEM", "ACORN", "XMODEM", "CRCXMODEM", "LTE", "V41MSB"], &["CRC-16/XMODEM"], ""),
    (&["X25", "CRCX25", "HDLC", "CRCHDLC", "FCS16", "PPPFCS16", "SDLC", "CRCB", "ISOHDLC"], &["CRC-16/IBM-SDLC"], ""),
    (&["AUGCCITT", "CCITTAUG"], &["CRC-16/SPI-FUJITSU"], ""),
    (&["BUYPASS", "VERIFONE"], &["CRC-16/UMTS"], ""),
    (&["CRCA"], &["CRC-16/ISO-IEC-14443-3-A"], ""),
    (&["KERMIT", "CRCKERMIT"], &["CRC-16/KERMIT"], ""),
    (&["DNP", "DNP3", "CRCDNP"], &["CRC-16/DNP"], ""),
    (
        &["CRC32", "CRC32BIT", "32BITCRC"],
        &["CRC-32/ISO-HDLC", "CRC-32/BZIP2", "CRC-32/MPEG-2", "CRC-32/ISCSI"],
        "the first is the usual one",
    ),
    (
        &["PKZIP", "ETHERNET", "CRC32ETHERNET", "ADCCP", "V42", "FCS32", "CRC32ZIP", "CRC32IEEE", "IEEE8023"],
        &["CRC-32/ISO-HDLC"],
        "",
    ),
    (&["CRC32C", "CASTAGNOLI"], &["CRC-32/ISCSI"], ""),
    (&["POSIX", "CRC32POSIX"], &["CRC-32/CKSUM"], ""),
    (&["CRC32MPEG", "MPEG2"], &["CRC-32/MPEG-2"], ""),
    (&["CRC32Q"], &["CRC-32/AIXM"], ""),
    (
        &["CRC8", "CRC8BIT", "8BITCRC"],
        &["CRC-8/SMBUS", "CRC-8/MAXIM-DOW", "CRC-8/SAE-J1850", "CRC-8/ROHC", "CRC-8/CDMA2000"],
        "try them on an example",
    ),
    (&["CRC8CCITT", "CRC8ATM", "SMBUS", "PEC"], &["CRC-8/SMBUS"], ""),
    (&["DALLAS", "CRC8DALLAS", "CRC8MAXIM", "1WIRE", "ONEWIRE", "IBUTTON"], &["CRC-8/MAXIM-DOW"], ""),
    (&["J1850", "CRC8J1850", "SAEJ1850"], &["CRC-8/SAE-J1850"], ""),
    (&["CRC64", "CRC64BIT"], &["CRC-64/ECMA-182", "CRC-64/XZ", "CRC-64/GO-ISO"], "try them on an example"),
    (&["XOR", "XOR8", "XORSUM", "BCC", "BLOCKCHECK", "EXOR", "EXCLUSIVEOR", "PARITY", "NMEA"], &["XOR-8"], ""),
    (
        &["LRC", "LRC8", "LONGITUDINALREDUNDANCYCHECK"],
        &["XOR-8", NEGATED],
        "the first is all bytes xored, the second what makes their sum zero",
    ),
    (
        &["MODBUSASCII", "MODBUSLRC", "LRCMODBUS", "TWOSCOMPLEMENT", "2SCOMPLEMENT", "NEGSUM", "TWOSCOMPLEMENTSUM"],
        &[NEGATED, "{ bits = 16, complement = \"two\" }"],
        "",
    ),
    (
        &["ONESCOMPLEMENT", "1SCOMPLEMENT", "INVERTEDSUM", "NOTSUM"],
        &["{ bits = 8, complement = \"one\" }", INVERTED_AROUND],
        "the second adds the carry at the low end",
    ),
    (&["LIN", "LINCLASSIC", "LINENHANCED"], &[INVERTED_AROUND], ""),
    (
        &["INTERNET", "INTERNETCHECKSUM", "RFC1071", "IPCHECKSUM", "TCPCHECKSUM"],
        &["{ of = \"u16be\", bits = 16, modulus = \"end-around\", complement = \"one\" }"],
        "",
    ),
    (&["XORFF", "INVERTEDXOR", "NOTXOR", "XORINVERTED"], &["{ xor = true, bits = 8, complement = \"one\" }"], ""),
    (
        &["XOR16", "XORWORDS"],
        &["{ xor = true, of = \"u16be\", bits = 16 }", "{ xor = true, of = \"u16le\", bits = 16 }"],
        "",
    ),
    (&["MOD255", "SUM255", "MODULO255"], &["{ bits = 8, modulus = 255 }"], ""),
    (&["MOD100", "MODULO100"], &["{ bits = 7, modulus = 100 }"], "as digits it is of the type `number`"),
    (&["MOD1000", "MODULO1000"], &["{ bits = 10, modulus = 1000 }"], "as digits it is of the type `number`"),
    (&["MOD10000", "MODULO10000"], &["{ bits = 14, modulus = 10000 }"], "as digits it is of the type `number`"),
    (&["SUM7", "MOD128", "MODULO128"], &["{ bits = 7 }"], ""),
    (&["MOD64", "MODULO64"], &["{ bits = 6 }"], ""),
    (&["FLETCHER", "FLETCHER16", "FLETCHER8BIT"], &["FLETCHER-16", TWO_OF_BYTES], "the second is modulo 256"),
    (
        &["UBX", "FLETCHER256", "FLETCHER8", "CKACKB", "CKA", "8BITFLETCHER"],
        &[TWO_OF_BYTES, "FLETCHER-16"],
        "with the type u16le the first sum is sent first",
    ),
    (
        &["FLETCHER32"],
        &["FLETCHER-32", "{ sums = 2, of = \"u16be\", bits = 16, modulus = 65535 }"],
        "they differ by the order of bytes in a word",
    ),
    (&["ADLER", "ADLER32", "ZLIB"], &["ADLER-32"], ""),
    (&["SUM8", "CHECKSUM8", "MOD256", "ADD8", "SUM256", "MODULO256"], &["SUM-8"], ""),
    (&["SUM16", "CHECKSUM16", "ADD16", "MOD65536"], &["SUM-16"], ""),
    (&["SUM32", "CHECKSUM32", "ADD32"], &["SUM-32"], ""),
    (
        &["SUM", "CHECKSUM", "ADD", "ADDITIVE", "CS", "CHK", "ARITHMETICSUM"],
        &["SUM-8", "SUM-16", "XOR-8", NEGATED, "{ bits = 8, complement = \"one\" }"],
        "`usus check FORMAT --against SOURCE` finds which on what was recorded",
    ),
];

/// What makes the sum of all bytes zero.
const NEGATED: &str = "{ bits = 8, complement = \"two\" }";
/// A sum of bytes with its carry added at the low end, inverted.
const INVERTED_AROUND: &str = "{ bits = 8, modulus = \"end-around\", complement = \"one\" }";
/// Two sums of bytes, each modulo 256.
const TWO_OF_BYTES: &str = "{ sums = 2, bits = 8 }";

#[cfg(test)]
mod tests {
    use alloc::string::{String, ToString};

    use super::*;
    use crate::checksum::Checksum;

    #[test]
    fn whatever_is_meant_is_there() {
        for (words, names, note) in ALIASES {
            for name in *names {
                assert_eq!(declared(name).as_deref(), Some(*name));
            }
            assert!(!names.is_empty() || !note.is_empty(), "{words:?}");
            assert!(words.iter().all(|word| Checksum::named(word).is_none()), "{words:?}");
        }
        let first = |word: &str| meant(word).and_then(|meant| meant.names.first().copied());
        for (word, wanted) in [
            ("CRC-16", "CRC-16/ARC"),
            ("crc16/ccitt-false", "CRC-16/IBM-3740"),
            ("CCITT-FALSE", "CRC-16/IBM-3740"),
            ("CRC-16-IBM", "CRC-16/ARC"),
            ("XOR", "XOR-8"),
            ("LRC", "XOR-8"),
            ("Fletcher", "FLETCHER-16"),
            ("Adler-32 ", "ADLER-32"),
            ("two's complement", NEGATED),
            ("Fcs-32", "CRC-32/ISO-HDLC"),
            ("CRC-32", "CRC-32/ISO-HDLC"),
            ("CRC-16/X-25", "CRC-16/IBM-SDLC"),
        ] {
            assert_eq!(first(word), Some(wanted), "{word}");
        }
        assert!(meant("abacus").is_none());
    }

    /// How an answer is written, once a format has it.
    fn declared(answer: &str) -> Option<String> {
        let quoted = if answer.starts_with('{') { answer.to_string() } else { alloc::format!("'{answer}'") };
        let text = alloc::format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 9\nchecksum = {{ algorithm = {quoted}, type = 'u64be', byte = 1, from = 0, to = 0 }}"
        );
        let format = crate::Format::parse(&text).ok()?;
        Some(format.frames[0].checksums.first()?.algorithm.to_string())
    }
}
