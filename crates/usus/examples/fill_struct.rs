//! Reads records into structs of one's own, by the names of their fields.

#![allow(clippy::print_stdout)] // An example shows what it does.

use serde::Deserialize;
use usus::{Decoder, Format, Record};

const NMEA: &str = usus::SHIPPED[0].1;

/// Only what is wanted of a `gga` record; absent values are `None`.
#[derive(Debug, Deserialize)]
struct Position {
    time: String,
    latitude: Option<f64>,
    longitude: Option<f64>,
    satellites: u8,
}

/// A record with a group.
#[derive(Debug, Deserialize)]
struct Sky {
    in_view: u8,
    satellites: Vec<Satellite>,
}

#[derive(Debug, Deserialize)]
struct Satellite {
    id: u16,
    snr: Option<u8>,
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let plan = Format::parse(NMEA)?.compile()?;
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).ok_or("the format speaks of several lines")?;
    let mut failed = None;
    let mut print = |record: &Record<'_>| {
        let result = match record.kind() {
            "gga" => record.to::<Position>().map(|position| {
                println!(
                    "{} {:?} {:?} from {} satellites",
                    position.time, position.latitude, position.longitude, position.satellites
                );
            }),
            "gsv" => record.to::<Sky>().map(|sky| {
                let tracked = sky.satellites.iter().filter(|satellite| satellite.snr.is_some());
                println!(
                    "{} in view; here {:?}",
                    sky.in_view,
                    tracked.map(|satellite| satellite.id).collect::<Vec<_>>()
                );
            }),
            _ => Ok(()),
        };
        failed = failed.take().or(result.err());
    };
    let bytes = b"$GNGGA,061741,,,,,0,00,,,M,,M,,*7D\r\n\
        $GNGGA,061742,4518.207,N,00853.915,W,1,11,1.2,1843.7,M,48.3,M,,*73\r\n\
        $GPGSV,3,3,10,19,48,312,37,27,11,064,*7F\r\n";
    decoder.decode(usus::Chunk::new(line, bytes), &mut print)?;
    match failed {
        Some(error) => Err(error.into()),
        None => Ok(()),
    }
}
