//! Periods of a composite: half-open intervals of the UTC day of acquisition.

use std::str::FromStr;

use jiff::civil::Date;

use crate::error::{Error, Result};

/// How scenes are put together.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
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
    /// By so many days counted from 1 January; the last period of a year is shorter.
    Days(u16),
    /// Each scene for itself.
    Scene,
    /// By windows from a first to a last day; scenes in none are left out.
    Windows(Vec<(Date, Date)>),
}

const NAMES: &[(&str, Every)] = &[
    ("all", Every::All),
    ("year", Every::Year),
    ("season", Every::Season),
    ("month", Every::Month),
    ("16 days", Every::Days(16)),
    ("scene", Every::Scene),
];

impl Every {
    /// Its name.
    pub fn name(&self) -> String {
        match self {
            Every::Days(n) => format!("{n} days"),
            Every::Windows(list) => list.iter().map(|(a, b)| format!("{a}..{b}")).collect::<Vec<_>>().join(","),
            other => NAMES.iter().find(|(_, e)| e == other).map_or(String::new(), |(n, _)| (*n).to_string()),
        }
    }

    /// The name of the period a day falls in, if it falls in one; names of one kind sort by time.
    pub fn period(&self, day: Date) -> Option<String> {
        Some(match self {
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
            Every::Days(n) => {
                let n = i64::from((*n).max(1));
                let number = i64::from(day.day_of_year() - 1) / n;
                let first = day.first_of_year().saturating_add(jiff::Span::new().days(number * n));
                let last = first.saturating_add(jiff::Span::new().days(n - 1)).min(day.last_of_year());
                window_name(first, last)
            }
            Every::Windows(list) => {
                let (first, last) = list.iter().find(|(a, b)| (*a..=*b).contains(&day))?;
                window_name(*first, *last)
            }
        })
    }
}

/// The name of a window of days: a whole month or year by its own name.
pub(super) fn window_name(first: Date, last: Date) -> String {
    match () {
        () if first == last => first.to_string(),
        () if first == first.first_of_year() && last == first.last_of_year() => format!("{:04}", first.year()),
        () if first == first.first_of_month() && last == first.last_of_month() => first.strftime("%Y-%m").to_string(),
        () => format!("{first}_{last}"),
    }
}

/// The first and last day of a period by its name, as [`Every::period`] gives it; none where it is no span of days.
pub fn days_of(period: &str) -> Option<(Date, Date)> {
    // two scenes of a day are told apart by what follows it
    if let Some(day) = period.get(..10).and_then(|t| t.parse::<Date>().ok()) {
        let last = period.get(11..).and_then(|t| t.parse::<Date>().ok()).filter(|l| *l >= day);
        return Some((day, last.unwrap_or(day)));
    }
    if let Some((year, season)) = period.split_once('-')
        && let Some(number) = season.chars().next().and_then(|c| c.to_digit(10)).filter(|_| season.len() == 4)
    {
        let year: i16 = year.parse().ok()?;
        let first = Date::new(year, 1, 1).ok()?.saturating_add(jiff::Span::new().months(i64::from(number) * 3 - 4));
        return Some((first, first.saturating_add(jiff::Span::new().months(2)).last_of_month()));
    }
    window(period).ok()
}

/// A window of days written `2031-04-01..2031-06-15`; a month or a year stands for all its days.
///
/// # Errors
/// Where it is none.
pub fn window(text: &str) -> Result<(Date, Date)> {
    let wrong = || {
        Error::Usage(format!(
            "'{text}' is no window of days: write 2031-04-01..2031-06-15, a day, a month as 2031-06 or a year as 2031"
        ))
    };
    let span = |t: &str| -> Result<(Date, Date)> {
        let t = t.trim();
        if let Ok(day) = t.parse::<Date>() {
            return Ok((day, day));
        }
        let digits = |t: &str| t.bytes().all(|b| b.is_ascii_digit());
        let (first, whole_year) = match t.split_once('-') {
            None if t.len() == 4 && digits(t) => (format!("{t}-01-01"), true),
            Some((y, m)) if y.len() == 4 && m.len() == 2 && digits(y) && digits(m) => (format!("{t}-01"), false),
            _ => return Err(wrong()),
        };
        let first: Date = first.parse().map_err(|_| wrong())?;
        Ok((first, if whole_year { first.last_of_year() } else { first.last_of_month() }))
    };
    let (first, last) = match text.split_once("..") {
        Some((a, b)) => (span(a)?.0, span(b)?.1),
        None => span(text)?,
    };
    if first <= last { Ok((first, last)) } else { Err(wrong()) }
}

impl FromStr for Every {
    type Err = Error;

    fn from_str(text: &str) -> Result<Every> {
        if text.contains("..") {
            let mut list = text.split(',').map(window).collect::<Result<Vec<_>>>()?;
            list.sort();
            if let Some(w) = list.windows(2).find(|w| w[0].1 >= w[1].0) {
                let (a, b) = (window_name(w[0].0, w[0].1), window_name(w[1].0, w[1].1));
                return Err(Error::Usage(format!("the windows {a} and {b} overlap: a scene belongs to one period")));
            }
            return Ok(Every::Windows(list));
        }
        let days = text.strip_suffix(" days").or_else(|| text.strip_suffix(" day")).map(str::trim);
        if let Some(n) = days.and_then(|n| n.parse::<u16>().ok()).filter(|n| (1..=366).contains(n)) {
            return Ok(Every::Days(n));
        }
        let found = NAMES.iter().find(|(n, _)| *n == text).map(|(_, e)| e.clone());
        found.ok_or_else(|| Error::unknown("period", text, NAMES.iter().map(|(n, _)| n)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn periods_give_back_their_days() {
        let day = |t: &str| t.parse::<Date>().unwrap();
        for every in [Every::Year, Every::Month, Every::Scene, Every::Season, Every::Days(16)] {
            for d in ["2031-01-01", "2031-02-28", "2031-07-09", "2031-12-01", "2032-02-29"] {
                let (first, last) = days_of(&every.period(day(d)).unwrap()).unwrap();
                assert!(first <= day(d) && day(d) <= last, "{d}: {first} {last}");
                assert_eq!(every.period(first), every.period(last));
            }
        }
        assert_eq!(days_of("2031-07-09_scene-2"), Some((day("2031-07-09"), day("2031-07-09"))));
        assert_eq!(days_of("all"), None);
    }

    #[test]
    fn days_fall_into_their_periods() {
        let day = |t: &str| t.parse::<Date>().unwrap();
        assert_eq!(Every::Month.period(day("2031-06-30")).unwrap(), "2031-06");
        assert_eq!(Every::Season.period(day("2031-12-01")).unwrap(), "2032-1DJF");
        assert_eq!(Every::Season.period(day("2031-11-30")).unwrap(), "2031-4SON");
        assert_eq!(Every::Days(16).period(day("2031-01-16")).unwrap(), "2031-01-01_2031-01-16");
        assert_eq!(Every::Days(16).period(day("2031-01-17")).unwrap(), "2031-01-17_2031-02-01");
        assert_eq!(Every::Days(16).period(day("2032-12-31")).unwrap(), "2032-12-18_2032-12-31");
        assert_eq!("16 days".parse::<Every>().unwrap(), Every::Days(16));
        assert_eq!(Every::Days(10).period(day("2031-01-11")).unwrap(), "2031-01-11_2031-01-20");
        assert_eq!("10 days".parse::<Every>().unwrap().name(), "10 days");
        let windows: Every = "2031-07..2031-08,2031-04-10..2031-05-03".parse().unwrap();
        assert_eq!(windows.name(), "2031-04-10..2031-05-03,2031-07-01..2031-08-31");
        assert_eq!(windows.period(day("2031-08-31")).unwrap(), "2031-07-01_2031-08-31");
        assert_eq!(windows.period(day("2031-09-01")), None);
        assert!("2031..2031-12,2031-06..2032".parse::<Every>().unwrap_err().to_string().contains("overlap"));
        assert!("2031-6..2031-07".parse::<Every>().unwrap_err().to_string().contains("no window of days"));
        assert!("monthly".parse::<Every>().unwrap_err().to_string().contains("did you mean 'month'"));
    }
}
