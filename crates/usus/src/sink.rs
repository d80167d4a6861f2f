//! Where events go.

use core::convert::Infallible;

use crate::decoder::LineInside;
use crate::event::{Event, Notice, Reject};
use crate::input::LineId;
use crate::record::Record;

/// Takes the events of a decoder. Only records have to be dealt with; a closure over records is a sink too.
///
/// An error stops [`Events::drain`](crate::Events::drain) and is returned by it; the decoder stays as it is, and the next call goes
/// on behind the event that failed.
pub trait Sink {
    /// What can go wrong.
    type Error;

    /// Is told that there is a line, and what it is called. The decoder does not know names; what feeds it does.
    fn line(&mut self, _line: LineId, _name: &str) {}

    /// Is told that there is a line inside of another, before anything of it comes.
    fn line_inside(&mut self, _inside: &LineInside<'_>) {}

    /// Takes a record.
    ///
    /// # Errors
    ///
    /// Whatever the sink cannot do.
    fn record(&mut self, record: &Record<'_>) -> Result<(), Self::Error>;

    /// Takes bytes that gave no record.
    ///
    /// # Errors
    ///
    /// Whatever the sink cannot do.
    fn reject(&mut self, _reject: &Reject<'_>) -> Result<(), Self::Error> {
        Ok(())
    }

    /// Takes bytes of a frame that the edge of the recording cut.
    ///
    /// # Errors
    ///
    /// Whatever the sink cannot do.
    fn clipped(&mut self, _clipped: &Reject<'_>) -> Result<(), Self::Error> {
        Ok(())
    }

    /// Takes a notice.
    ///
    /// # Errors
    ///
    /// Whatever the sink cannot do.
    fn notice(&mut self, _notice: &Notice<'_>) -> Result<(), Self::Error> {
        Ok(())
    }

    /// Writes out what it has gathered: nothing more comes for the moment.
    ///
    /// # Errors
    ///
    /// Whatever the sink cannot do.
    fn flush(&mut self) -> Result<(), Self::Error> {
        Ok(())
    }

    /// Takes any event: calls the method for it.
    ///
    /// # Errors
    ///
    /// What that method returns.
    fn event(&mut self, event: Event<'_>) -> Result<(), Self::Error> {
        match event {
            Event::Record(record) => self.record(&record),
            Event::Reject(reject) => self.reject(&reject),
            Event::Clipped(clipped) => self.clipped(&clipped),
            Event::Notice(notice) => self.notice(&notice),
        }
    }
}

impl<F: FnMut(&Record<'_>)> Sink for F {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        self(record);
        Ok(())
    }
}

/// A closure over records that may fail: its error stops whoever fills it.
///
/// ```
/// use usus::{Format, Record, Try};
///
/// let format = Format::parse("format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number' }]")?;
/// let plan = format.compile()?;
/// let mut most = Try(|record: &Record<'_>| match record.get("weight").map(|reading| reading.value.to_string()) {
///     Some(weight) if weight.len() > 4 => Err(format!("{weight} cannot be")),
///     _ => Ok(()),
/// });
/// assert_eq!(plan.decode(b"12.5\n99999\n", &mut most), Err("99999 cannot be".to_string()));
/// # Ok::<(), usus::Problems>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Try<F>(pub F);

impl<E, F: FnMut(&Record<'_>) -> Result<(), E>> Sink for Try<F> {
    type Error = E;

    fn record(&mut self, record: &Record<'_>) -> Result<(), E> {
        (self.0)(record)
    }
}
