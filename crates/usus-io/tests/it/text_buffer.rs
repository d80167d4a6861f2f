//! Text put together piece by piece: what is put is what is shown, and too little room is noticed.

use proptest::prelude::*;
use usus::{Absent, Clock, Date, Decimal, Value};
use usus_io::TextBuffer;

/// What is put into room that is just large enough, as text.
fn put(put: impl Fn(&mut TextBuffer<'_>)) -> String {
    let mut bytes = [0; 256];
    let mut room = TextBuffer::new(&mut bytes);
    room.text(b"before ");
    put(&mut room);
    let length = room.filled().expect("there is room");
    // Less room is either enough, or noticed.
    for less in 0..length {
        let mut bytes = vec![0; less];
        let mut room = TextBuffer::new(&mut bytes);
        room.text(b"before ");
        put(&mut room);
        assert_eq!(room.filled(), None);
    }
    String::from_utf8(bytes[7..length].to_vec()).unwrap()
}

/// All numbers of few digits, and those around powers of ten.
#[test]
fn small_numbers_are_put_as_they_are_shown() {
    let powers = (4..18).flat_map(|digits| [-1, 0, 1].map(|beside| 10i64.pow(digits) + beside));
    for number in (0..=2_000).chain(powers).flat_map(|number| [number, -number]) {
        for places in [0, 1, 2, 3, 7, 8] {
            let shown = Decimal::new(number.into(), places).unwrap().to_string();
            assert_eq!(put(|room| room.number(number, places, b';')), format!("{shown};"), "{number} {places}");
        }
        if let Ok(whole) = u64::try_from(number) {
            assert_eq!(put(|room| room.whole(whole, b',')), format!("{whole},"));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn decimals_are_put_as_they_are_shown(coefficient: i64, shift in 0..63u32, places in 0..=38u8) {
        let coefficient = coefficient >> shift;
        let number = Decimal::new(coefficient.into(), places).unwrap();
        prop_assert_eq!(put(|room| room.decimal(number)), number.to_string());
        prop_assert_eq!(put(|room| room.number(coefficient, places, b';')), format!("{number};"));
    }

    #[test]
    fn what_is_put_is_what_is_shown(
        text in ".{0,40}", whole: u64, shift in 0..64u32, double: f64, bytes in prop::collection::vec(any::<u8>(), 0..40),
        time in (0..24u8, 0..60u8, 0..61u8, 0..1_000_000_000u32, 0..=9u8), day in (0..10_000i16, 1..13u8, 1..29u8),
    ) {
        prop_assert_eq!(put(|room| room.text(text.as_bytes())), text.clone());
        let whole = whole >> shift;
        prop_assert_eq!(put(|room| room.whole(whole, b'|')), format!("{whole}|"));
        // The digits that were not sent are zeros.
        let (hour, minute, second, nanosecond, digits) = time;
        let nanosecond = nanosecond - nanosecond % 10u32.pow(9 - u32::from(digits));
        let values = [
            Value::Clock(Clock::new(hour, minute, second, nanosecond, digits).unwrap()),
            Value::Date(Date::new(day.0, day.1, day.2).unwrap()),
            Value::F64(double),
            Value::F32(double as f32),
            Value::Bool(whole % 2 == 0),
            Value::Bytes(&bytes),
            Value::Decimal(Decimal::from_unsigned(whole)),
            Value::Absent(Absent::Empty),
        ];
        for value in values {
            prop_assert_eq!(put(|room| room.value(value)), value.to_string());
        }
        let comma = put(|room| {
            room.text(text.as_bytes());
            room.byte(b',');
            room.take_back(b',');
            room.block(b"] ", 1);
        });
        prop_assert_eq!(comma, format!("{text}]"));
    }
}
