//! Periods of a composite: half-open intervals of the UTC day of acquisition.

use std::str::FromStr;

use jiff::civil::Date;

use crate::error::{Error, Result};

/// How scenes are put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Every {
    /// All in one.
    #[default]
    All,
    /// By calendar year.
    Year,
    /// By season: March to May, …; December belongs to the next year's winter.
    Season,
    /// By calendar month.
    Month,
    /// By sixteen days counted from 1 January; the last of a year is shorter.
    SixteenDays,
    /// Each scene for itself.
    Scene,
}

const NAMES: &[(&str, Every)] = &[
    ("all", Every::All),
    ("year", Every::Year),
    ("season", Every::Season),
    ("month", Every::Month),
    ("16 days", Every::SixteenDays),
    ("scene", Every::Scene),
];

impl Every {
    /// Its name.
    pub fn name(self) -> &'static str {
        NAMES.iter().find(|(_, e)| *e == self).map_or("", |(n, _)| n)
    }

    /// The name of the period a day falls in; names of one kind sort by time.
    pub fn period(self, day: Date) -> String {
        match self {
            Every::All => "all".into(),
            Every::Year => format!("{:04}", day.year()),
            Every::Month => format!("{:04}-{:02}", day.year(), day.month()),
            Every::Scene => day.to_string(),
            Every::Season => {
                let (number, name) =
                    [(1, "DJF"), (2, "MAM"), (3, "JJA"), (4, "SON")][usize::from(day.month() as u8 % 12 / 3)];
                let year = i32::from(day.year()) + i32::from(day.month() == 12);
                format!("{year:04}-{number}{name}")
            }
            Every::SixteenDays => {
                let number = (day.day_of_year() - 1) / 16;
                let first = day.first_of_year().saturating_add(jiff::Span::new().days(i64::from(number) * 16));
                let last = first.saturating_add(jiff::Span::new().days(15)).min(day.last_of_year());
                format!("{first}_{last}")
            }
        }
    }
}

impl FromStr for Every {
    type Err = Error;

    fn from_str(text: &str) -> Result<Every> {
        let found = NAMES.iter().find(|(n, _)| *n == text).map(|(_, e)| *e);
        found.ok_or_else(|| Error::unknown("period", text, NAMES.iter().map(|(n, _)| n)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_fall_into_their_periods() {
        let day = |t: &str| t.parse::<Date>().unwrap();
        assert_eq!(Every::Month.period(day("2031-06-30")), "2031-06");
        assert_eq!(Every::Season.period(day("2031-12-01")), "2032-1DJF");
        assert_eq!(Every::Season.period(day("2031-11-30")), "2031-4SON");
        assert_eq!(Every::SixteenDays.period(day("2031-01-16")), "2031-01-01_2031-01-16");
        assert_eq!(Every::SixteenDays.period(day("2031-01-17")), "2031-01-17_2031-02-01");
        assert_eq!(Every::SixteenDays.period(day("2032-12-31")), "2032-12-18_2032-12-31");
        assert_eq!("16 days".parse::<Every>().unwrap(), Every::SixteenDays);
        assert!("monthly".parse::<Every>().unwrap_err().to_string().contains("did you mean 'month'"));
    }
}
