//! Tables of cases: checksums, scales, sentences.

use usus::Checksum;

#[test]
fn every_crc_of_the_catalogue_gives_its_check_value() {
    let catalogue = Checksum::catalogue();
    assert_eq!(catalogue.len(), 113);
    for (name, check) in catalogue {
        assert_eq!(Checksum::named(name).unwrap().of(b"123456789"), check, "{name}");
    }
}

#[test]
fn long_inputs_give_what_bits_give() {
    let bytes: Vec<u8> = (0..1_000u32).map(|index| (index.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    // The catalogue's definition, one bit at a time, for a reflected and an unreflected CRC.
    let reflected = |bytes: &[u8]| {
        bytes.iter().fold(0xFFFFu16, |crc, &byte| {
            (0..8).fold(crc ^ u16::from(byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xA001 } else { crc >> 1 })
        })
    };
    let unreflected = |bytes: &[u8]| {
        bytes.iter().fold(0u16, |crc, &byte| {
            (0..8).fold(crc ^ u16::from(byte) << 8, |crc, _| if crc >> 15 == 1 { crc << 1 ^ 0x1021 } else { crc << 1 })
        })
    };
    let (modbus, xmodem) = (Checksum::named("CRC-16/MODBUS").unwrap(), Checksum::named("CRC-16/XMODEM").unwrap());
    for length in (0..70).chain([999, 1_000]) {
        assert_eq!(modbus.of(&bytes[..length]), reflected(&bytes[..length]).into(), "{length} bytes");
        assert_eq!(xmodem.of(&bytes[..length]), unreflected(&bytes[..length]).into(), "{length} bytes");
    }
}
