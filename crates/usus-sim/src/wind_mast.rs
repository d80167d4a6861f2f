//! The wind mast on tower 4: wind, air and time sentences; and on the same line the receiver of the groomer that parks below it,
//! which has no fix for its first seconds.

use fastrand::Rng;
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::Offset;

use crate::{BEGIN, Fact, Message, Model, Wander, half_even, places};

/// How long the receiver has no fix.
const NO_FIX: u32 = 20;

type Fields = Vec<(&'static str, Fact)>;

pub(crate) struct Mast {
    angle: Wander,
    speed: Wander,
    air: Wander,
    pressure: Wander,
    humidity: Wander,
    /// In ten-thousandths of a minute.
    latitude: Wander,
    longitude: Wander,
    altitude: Wander,
    ground_speed: Wander,
    course: Wander,
    satellites: Wander,
}

impl Model for Mast {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let time = BEGIN + i64::from(second) * 1_000_000_000;
        let mut messages = Vec::new();
        if second.is_multiple_of(60) {
            messages.push(text(time, second));
        }
        messages.push(self.wind(rng, time));
        if second.is_multiple_of(5) {
            messages.push(self.air(rng, time));
        }
        if second.is_multiple_of(10) {
            messages.push(clock(time));
        }
        if second < NO_FIX {
            messages.extend(no_fix(time, second));
        } else {
            messages.extend(self.fix(rng, time, second));
        }
        if second % 5 == 3 {
            messages.extend(self.sky(rng, time, second));
        }
        messages
    }
}

impl Mast {
    pub(crate) fn new(rng: &mut Rng) -> Mast {
        Mast {
            angle: Wander::new(rng.i64(0..3600), 0, 3600, 40),
            speed: Wander::new(rng.i64(0..150), 0, 340, 9),
            air: Wander::new(rng.i64(-120..40), -250, 150, 1),
            pressure: Wander::new(8_213, 7_900, 8_600, 2),
            humidity: Wander::new(72, 20, 100, 1),
            latitude: Wander::new(46 * 600_000 + rng.i64(0..600_000), 45 * 600_000, 47 * 600_000, 30),
            longitude: Wander::new(-(9 * 600_000 + rng.i64(0..600_000)), -10 * 600_000, -8 * 600_000, 30),
            altitude: Wander::new(21_434, 15_000, 28_000, 8),
            ground_speed: Wander::new(0, 0, 120, 6),
            course: Wander::new(900, 0, 3599, 50),
            satellites: Wander::new(7, 4, 12, 1),
        }
    }

    fn wind(&mut self, rng: &mut Rng, time: i64) -> Message {
        let (angle, speed) = (places(self.angle.next(rng), 1), places(self.speed.next(rng), 1));
        let valid = rng.u32(0..200) != 0;
        let status = if valid { "A" } else { "V" };
        let fields: Fields = vec![
            ("talker", "WI".into()),
            ("angle", angle.clone().into()),
            ("reference", "relative".into()),
            ("speed", speed.clone().into()),
            ("status", if valid { "valid" } else { "invalid" }.into()),
        ];
        Message::sentence(time, &format!("WIMWV,{angle},R,{speed},M,{status}"), Some(("mwv", fields)))
    }

    fn air(&mut self, rng: &mut Rng, time: i64) -> Message {
        let air = places(self.air.next(rng), 1);
        let pressure = places(self.pressure.next(rng), 4);
        let humidity = self.humidity.next(rng).to_string();
        let item = |kind: &str, value: &str, unit: &str, name: &str| {
            [("type", kind), ("value", value), ("unit", unit), ("name", name)]
                .map(|(key, text)| (key.to_owned(), text.into()))
                .to_vec()
        };
        let items = vec![
            item("temperature", &air, "C", "air"),
            item("pressure", &pressure, "B", "station"),
            item("humidity", &humidity, "P", "air"),
        ];
        let fields = vec![("talker", "WI".into()), ("transducers", Fact::Items(items))];
        let sentence = format!("WIXDR,C,{air},C,air,P,{pressure},B,station,H,{humidity},P,air");
        Message::sentence(time, &sentence, Some(("xdr", fields)))
    }

    fn fix(&mut self, rng: &mut Rng, time: i64, second: u32) -> Vec<Message> {
        let now = civil(time);
        let (latitude, longitude) = (self.latitude.next(rng), self.longitude.next(rng));
        let (lat, lat_letter) = (degrees_minutes(latitude, 2), if latitude < 0 { "S" } else { "N" });
        let (lon, lon_letter) = (degrees_minutes(longitude, 3), if longitude < 0 { "W" } else { "E" });
        let satellites = self.satellites.next(rng);
        let hdop = places(rng.i64(7..25), 1);
        let altitude = places(self.altitude.next(rng), 1);
        let speed = places(self.ground_speed.next(rng), 1);
        let course = places(self.course.next(rng), 1);
        let clock = clock_digits(now);
        let position = |fields: &mut Fields| {
            fields.push(("latitude", degrees(latitude).into()));
            fields.push(("longitude", degrees(longitude).into()));
        };
        let mut gga: Fields = vec![("talker", "GN".into()), ("time", clock_text(now).into())];
        position(&mut gga);
        gga.extend([
            ("fix", "gps".into()),
            ("satellites", satellites.to_string().into()),
            ("hdop", hdop.clone().into()),
            ("altitude", altitude.clone().into()),
            ("geoid_separation", "49.2".into()),
            ("dgps_age", "".into()),
            ("dgps_station", "".into()),
        ]);
        let mut rmc: Fields =
            vec![("talker", "GN".into()), ("time", clock_text(now).into()), ("status", "valid".into())];
        position(&mut rmc);
        rmc.extend([
            ("speed", speed.clone().into()),
            ("course", course.clone().into()),
            ("date", date_text(now).into()),
            ("variation", "".into()),
            ("variation_direction", "".into()),
            ("mode", "autonomous".into()),
            ("navigation_status", "".into()),
        ]);
        let date = format!("{:02}{:02}{:02}", now.day(), now.month(), now.year() % 100);
        let position = format!("{lat},{lat_letter},{lon},{lon_letter}");
        let gga_text = format!("GNGGA,{clock},{position},1,{satellites:02},{hdop},{altitude},M,49.2,M,,");
        let rmc_text = format!("GNRMC,{clock},A,{position},{speed},{course},{date},,,A");
        both(time, second, (&gga_text, gga), (&rmc_text, rmc))
    }

    /// The satellites in view, four to a sentence.
    fn sky(&mut self, rng: &mut Rng, time: i64, second: u32) -> Vec<Message> {
        let in_view = rng.usize(5..=11);
        let satellites: Vec<[String; 4]> = (0..in_view)
            .map(|index| {
                let snr = if rng.u32(0..5) == 0 { String::new() } else { format!("{:02}", rng.u32(18..50)) };
                let id = format!("{:02}", index * 3 + 1);
                [id, format!("{:02}", rng.u32(3..88)), format!("{:03}", rng.u32(0..360)), snr]
            })
            .collect();
        let sentences = satellites.len().div_ceil(4);
        let number = |text: &String| text.trim_start_matches('0').to_owned();
        let at_least_zero =
            |text: String, sent: &String| if text.is_empty() && !sent.is_empty() { "0".to_owned() } else { text };
        let item = |satellite: &[String; 4]| -> Vec<(String, Fact)> {
            ["id", "elevation", "azimuth", "snr"]
                .map(str::to_owned)
                .into_iter()
                .zip(satellite.iter().map(|text| at_least_zero(number(text), text).into()))
                .collect()
        };
        let all = || -> Fields {
            vec![
                ("talker", "GP".into()),
                ("in_view", in_view.to_string().into()),
                ("satellites", Fact::Items(satellites.iter().map(item).collect())),
            ]
        };
        let sentence = |(index, part): (usize, &[[String; 4]])| {
            let texts: Vec<String> = part.iter().map(|satellite| satellite.join(",")).collect();
            let text = format!("GPGSV,{sentences},{},{in_view:02},{}", index + 1, texts.join(","));
            let fields = vec![
                ("talker", "GP".into()),
                ("sentences", sentences.to_string().into()),
                ("number", (index + 1).to_string().into()),
                ("in_view", in_view.to_string().into()),
                ("satellites", Fact::Items(part.iter().map(item).collect())),
                ("signal", "".into()),
            ];
            let is_last = index + 1 == sentences;
            let says = is_last.then(|| ("satellites", all()));
            Message::sentence(time, &text, Some(("gsv", fields))).together(2 * u64::from(second) + 1, says)
        };
        satellites.chunks(4).enumerate().map(sentence).collect()
    }
}

fn text(time: i64, second: u32) -> Message {
    let words = if second == 0 { "MAST TOWER 4 STARTED" } else { "HEATER OFF" };
    let fields = vec![
        ("talker", "WI".into()),
        ("sentences", "1".into()),
        ("number", "1".into()),
        ("identifier", "7".into()),
        ("text", words.into()),
    ];
    Message::sentence(time, &format!("WITXT,01,01,07,{words}"), Some(("txt", fields)))
}

fn clock(time: i64) -> Message {
    let now = civil(time);
    let fields = vec![
        ("talker", "WI".into()),
        ("time", format!("{}.00", clock_text(now)).into()),
        ("date", date_text(now).into()),
        ("zone_hours", "-1".into()),
        ("zone_minutes", "0".into()),
    ];
    let text = format!("WIZDA,{}.00,{:02},{:02},{:04},-01,00", clock_digits(now), now.day(), now.month(), now.year());
    Message::sentence(time, &text, Some(("zda", fields)))
}

fn no_fix(time: i64, second: u32) -> Vec<Message> {
    let now = civil(time);
    let empty = |names: &[&'static str]| names.iter().map(|name| (*name, "".into())).collect::<Fields>();
    let mut gga: Fields = vec![("talker", "GN".into()), ("time", clock_text(now).into())];
    gga.extend(empty(&["latitude", "longitude"]));
    gga.extend([("fix", "none".into()), ("satellites", "0".into())]);
    gga.extend(empty(&["hdop", "altitude", "geoid_separation", "dgps_age", "dgps_station"]));
    let mut rmc: Fields = vec![("talker", "GN".into()), ("time", clock_text(now).into()), ("status", "warning".into())];
    rmc.extend(empty(&["latitude", "longitude", "speed", "course"]));
    rmc.push(("date", date_text(now).into()));
    rmc.extend(empty(&["variation", "variation_direction"]));
    rmc.push(("mode", "no_fix".into()));
    rmc.extend(empty(&["navigation_status"]));
    let clock = clock_digits(now);
    let date = format!("{:02}{:02}{:02}", now.day(), now.month(), now.year() % 100);
    let (gga_text, rmc_text) =
        (format!("GNGGA,{clock},,,,,0,00,,,M,,M,,"), format!("GNRMC,{clock},V,,,,,,,{date},,,N"));
    both(time, second, (&gga_text, gga), (&rmc_text, rmc))
}

/// The two sentences of a position, and what they say together.
fn both(time: i64, second: u32, (gga_text, gga): (&str, Fields), (rmc_text, rmc): (&str, Fields)) -> Vec<Message> {
    let of = |fields: &Fields, name: &str| {
        fields.iter().find(|(known, _)| *known == name).map_or(Fact::from(""), |(_, fact)| fact.clone())
    };
    let from_gga = ["talker", "time", "latitude", "longitude", "fix", "satellites", "hdop", "altitude"];
    let mut position: Fields = from_gga.map(|name| (name, of(&gga, name))).to_vec();
    position.extend(["status", "speed", "course", "date"].map(|name| (name, of(&rmc, name))));
    vec![
        Message::sentence(time, gga_text, Some(("gga", gga))).together(2 * u64::from(second), None),
        Message::sentence(time, rmc_text, Some(("rmc", rmc)))
            .together(2 * u64::from(second), Some(("position", position))),
    ]
}

fn civil(time: i64) -> DateTime {
    let instant = Timestamp::from_nanosecond(i128::from(time)).unwrap_or_default();
    Offset::UTC.to_datetime(instant)
}

fn clock_digits(now: DateTime) -> String {
    format!("{:02}{:02}{:02}", now.hour(), now.minute(), now.second())
}

fn clock_text(now: DateTime) -> String {
    format!("{:02}:{:02}:{:02}", now.hour(), now.minute(), now.second())
}

fn date_text(now: DateTime) -> String {
    format!("{:04}-{:02}-{:02}", now.year(), now.month(), now.day())
}

/// Ten-thousandths of a minute as degrees and minutes: dddmm.mmmm.
fn degrees_minutes(value: i64, digits: usize) -> String {
    let value = value.abs();
    let (degrees, minutes) = (value / 600_000, value % 600_000);
    format!("{degrees:0digits$}{:02}.{:04}", minutes / 10_000, minutes % 10_000)
}

/// The same in degrees to seven places: there are 600,000 ten-thousandths in a degree.
fn degrees(value: i64) -> String {
    let rounded = half_even(value.abs() * 100, 6);
    places(if value < 0 { -rounded } else { rounded }, 7)
}
