//! Tables of cases: checksums, scales, sentences.

use usus::checksum::{CatalogueEntry, Checksum};
use usus::{Chunk, Decoder, Format, Record};

#[test]
fn every_crc_of_the_catalogue_gives_its_check_value() {
    let catalogue = Checksum::catalogue();
    assert_eq!(catalogue.len(), 7 + 113);
    for CatalogueEntry { name, check, .. } in catalogue {
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

fn plan(text: &str) -> usus::Plan {
    usus::Format::parse(text).unwrap().compile().unwrap()
}

/// Every value of 16 bits, at scales whose binary neighbours would betray a floating-point number on the way.
#[test]
fn scaled_integers_are_exact() {
    for (scale, numerator, places) in [("0.1", 1i64, 1usize), ("0.01", 1, 2), ("0.001", 1, 3), ("0.005", 5, 3)] {
        let plan = plan(&format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 3\n[record.r]\nfields = [{{ name = 'v', type = 'i16be', scale = {scale} }}]"
        ));
        let bytes: Vec<u8> =
            (i16::MIN..=i16::MAX).flat_map(|raw| [vec![0xAA], raw.to_be_bytes().to_vec()].concat()).collect();
        let mut expected = i16::MIN..=i16::MAX;
        let mut decoder = usus::Decoder::new(&plan);
        let line = decoder.line("", 0).unwrap();
        let mut events = decoder.feed(usus::Chunk::new(line, &bytes));
        while let Some(event) = events.next() {
            let usus::Event::Record(record) = event else { panic!("{event:?}") };
            let raw = i64::from(expected.next().unwrap());
            // By whole numbers only: the value in units of the last place.
            let units = raw * numerator;
            let unit = 10i64.pow(places as u32);
            let sign = if units < 0 { "-" } else { "" };
            let wanted = format!("{sign}{}.{:0places$}", units.abs() / unit, units.abs() % unit);
            assert_eq!(record.get("v").unwrap().value.to_string(), wanted, "raw {raw} at {scale}");
        }
        assert!(expected.next().is_none());
    }
}

#[test]
fn an_offset_is_added_after_scaling() {
    for (raw, scale, add, wanted) in [
        (0i16, "0.1", "-40", "-40.0"),
        (2315, "0.1", "0", "231.5"),
        (2315, "0.10", "0.25", "231.75"),
        (-1, "1", "0.005", "-0.995"),
        (7, "100", "3", "703"),
        (7, "1e-3", "0", "0.007"),
        (7, "-0.5", "0", "-3.5"),
        (-7, "-0.5", "-3.5", "0.0"),
    ] {
        let plan = plan(&format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 3\n[record.r]\nfields = [{{ name = 'v', type = 'i16le', scale = {scale}, add = {add} }}]"
        ));
        let bytes = [vec![0xAA], raw.to_le_bytes().to_vec()].concat();
        let (events, _) = crate::drive::run(&plan, &crate::drive::Input::raw(&bytes), &mut || 9);
        assert_eq!(events, [format!("0+3 r v={wanted}")], "{raw} x {scale} + {add}");
    }
}

/// Positions from sentences, worked out by hand: a minute is a sixtieth of a degree, south and west are negative.
#[test]
fn sentences_give_their_positions() {
    let (_, plan, _) = &crate::properties::formats()[0];
    for (sentence, wanted) in [
        (
            "$GNGGA,061742,4518.207,N,00853.915,W,1,11,1.2,1843.7,M,48.3,M,,*73",
            "latitude=45.3034500 longitude=-8.8985833",
        ),
        (
            "$GPRMC,235959,A,3827.516,S,01302.438,E,003.7,211.4,281226,014.2,E*61",
            "latitude=-38.4586000 longitude=13.0406333",
        ),
        (
            "$GPRMC,000001,A,0007.50,N,17959.40,W,000.5,011.7,010127,014.2,W*72",
            "latitude=0.1250000 longitude=-179.9900000",
        ),
        (
            "$GPGGA,031415.000,5842.3310,S,02717.0054,W,1,9,1.07,12.6,M,19.4,M,,*6F",
            "latitude=-58.7055167 longitude=-27.2834233",
        ),
        ("$GPRMC,031415.000,A,5842.3310,S,02717.0054,W,0.08,127.30,290228,,,A*67", "date=2028-02-29"),
        (
            "$GPGSV,3,1,12,05,07,103,00,09,21,254,00,14,02,036,00,23,08,318,00*70",
            "satellites=[id=5 elevation=7 azimuth=103 snr=0][id=9 elevation=21",
        ),
    ] {
        let (events, _) =
            crate::drive::run(plan, &crate::drive::Input::raw(format!("{sentence}\r\n").as_bytes()), &mut || 11);
        assert!(events.len() == 1 && events[0].contains(wanted), "{sentence} gives {events:?}");
    }
}

/// A packet is told by its first bytes and its checksum, or its checksum's own checksum; in whatever order its bytes are sent.
#[test]
fn every_checksum_tells_sound_packets_from_damaged_ones() {
    let mut tried = 0;
    for name in Checksum::names() {
        let checksum = Checksum::named(name).unwrap();
        let width = usize::from(checksum.width());
        let orders = ["le", "be"].iter().take(if width == 8 { 1 } else { 2 });
        // Packets of so many more bytes: a CRC takes eight at a time, and those that make no eight otherwise.
        for (order, more) in orders.flat_map(|order| (0..9).map(move |more| (order, more))) {
            let order_word = if width == 8 { "" } else { order };
            let size = width / 8;
            let format = format!(
                "format = 'x'
                [[frame]]
                cut = 'packet'
                start = 'AA'
                length = {}
                checksum = {{ algorithm = '{name}', type = 'u{width}{order_word}' }}
                header = [{{ name = 'kind', byte = 1, type = 'u8', internal = true }}]
                [record.r]
                when = 'kind == 1'
                fields = [{{ name = 'value', type = 'u32be' }}{}]",
                6 + size + more,
                if more > 0 { format!(", {{ name = 'note', type = 'text', width = {more} }}") } else { String::new() }
            );
            // Not every width is one of whole bytes.
            let Ok(plan) = Format::parse(&format).and_then(|format| format.compile()) else { continue };
            tried += 1;
            let packet = |value: u32| {
                let mut packet = [&[0xAA, 1][..], &value.to_be_bytes(), &b"ropeways"[..more]].concat();
                let sum = checksum.of(&packet).to_be_bytes();
                let mut sum = sum[16 - size..].to_vec();
                if *order == "le" {
                    sum.reverse();
                }
                packet.extend(sum);
                packet
            };
            let length = packet(0).len();
            for bit in (16..8 * length).step_by(if more == 0 { 1 } else { 11 }) {
                let mut bytes = [packet(0x1020_3040), packet(0xFFFF_0000), packet(7)].concat();
                bytes[length + bit / 8] ^= 1 << (bit % 8);
                let mut values = Vec::new();
                let mut decoder = Decoder::new(&plan);
                let line = decoder.line("", 0).unwrap();
                let mut take = |record: &Record<'_>| values.push(record.get("value").unwrap().value.to_string());
                let Ok(()) = decoder.feed(Chunk::new(line, &bytes)).drain(&mut take);
                let Ok(()) = decoder.finish().drain(&mut take);
                assert_eq!(values, ["270544960", "7"], "{name}, {order}, bit {bit}");
            }
        }
    }
    assert!(tried > 900, "{tried}");
}
