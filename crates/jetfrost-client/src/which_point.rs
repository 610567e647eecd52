//! Which recovery point a person means, and what speaks against it.

use jetfrost_types::PointKind;
use jetfrost_wire::point::{Point, Suspicion};
use jiff::civil;
use jiff::tz::TimeZone;

/// Which recovery point a person means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum At {
    /// The latest.
    Latest,
    /// The latest one before everything that is suspect.
    LastGood,
    /// The one with this number.
    Sequence(u64),
    /// The last one not after this moment, in the machine's time zone.
    Time(civil::DateTime),
}

impl std::str::FromStr for At {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "latest" => return Ok(Self::Latest),
            "last-good" => return Ok(Self::LastGood),
            _ => {}
        }
        if let Ok(sequence) = text.parse() {
            return Ok(Self::Sequence(sequence));
        }
        if let Ok(date) = text.parse::<civil::Date>()
            && text.len() == 10
        {
            return Ok(Self::Time(date.at(23, 59, 59, 999_999_999)));
        }
        text.parse().map(Self::Time).map_err(|_| {
            format!("'{text}' is neither 'latest' nor 'last-good', nor a number, nor a time such as 2026-11-20T14:00")
        })
    }
}

impl At {
    /// Finds the point, of a kind if one is given, among `points`, which come latest first.
    pub(crate) fn find<'p>(&self, points: &'p [Point], kind: Option<PointKind>) -> Option<&'p Point> {
        let mut of_kind = points.iter().filter(|p| kind.is_none_or(|kind| p.kind == kind));
        match self {
            Self::Latest => of_kind.next(),
            Self::LastGood => {
                let first = first_suspect(points, kind);
                of_kind.find(|p| first.is_none_or(|first| p.sequence < first) && p.is_good())
            }
            Self::Sequence(sequence) => of_kind.find(|p| p.sequence == *sequence),
            Self::Time(time) => {
                let moment = time.to_zoned(TimeZone::system()).ok()?.timestamp();
                of_kind.find(|p| p.committed <= moment)
            }
        }
    }
}

/// What speaks against a point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Doubt {
    /// The first suspect point, which it is or comes after.
    pub suspect: u64,
    /// Why that one looked like an incident; none where only a person marked it.
    pub suspicion: Option<Suspicion>,
    /// The latest point before it against which nothing is known.
    pub last_good: Option<u64>,
}

impl Doubt {
    /// What speaks against a point among `points`, if anything does.
    pub(crate) fn about(point: &Point, points: &[Point]) -> Option<Self> {
        let suspect = first_suspect(points, Some(point.kind)).filter(|suspect| *suspect <= point.sequence);
        let own = || (!point.is_good()).then_some(point.sequence);
        let suspect = suspect.or_else(own)?;
        let good = |p: &&Point| p.kind == point.kind && p.sequence < suspect && p.is_good();
        let suspicion = points.iter().find(|p| p.sequence == suspect).and_then(|p| p.suspicion);
        Some(Self { suspect, suspicion, last_good: points.iter().find(good).map(|p| p.sequence) })
    }
}

/// The first point, of a kind if one is given, that is suspect: what was made after it may hold the same.
fn first_suspect(points: &[Point], kind: Option<PointKind>) -> Option<u64> {
    let of_kind = points.iter().filter(|p| kind.is_none_or(|kind| p.kind == kind));
    of_kind.filter(|p| p.is_suspect()).map(|p| p.sequence).min()
}

#[cfg(test)]
mod tests {
    use jetfrost_wire::point::{Marked, PointMark};
    use jiff::Timestamp;

    use super::*;

    fn point(sequence: u64, created: &str) -> Point {
        Point {
            sequence,
            kind: if sequence == 6 { PointKind::Disk } else { PointKind::Files },
            committed: created.parse().expect("a time"),
            files: 0,
            bytes: 0,
            exceptions: 0,
            sent: 0,
            hold: None,
            pending_removal: None,
            lost: false,
            changes: None,
            suspicion: None,
            mark: None,
        }
    }

    #[test]
    fn a_point_is_meant_by_number_time_or_as_the_latest() {
        let points = [
            point(9, "2026-11-20T12:00:00Z"),
            point(8, "2026-11-18T12:00:00Z"),
            point(6, "2026-11-12T01:00:00Z"),
            point(5, "2026-11-10T12:00:00Z"),
        ];
        let found = |text: &str| text.parse::<At>().expect("parses").find(&points, Some(PointKind::Files)).map(|p| p.sequence);
        assert_eq!(found("latest"), Some(9));
        assert_eq!(found("8"), Some(8));
        assert_eq!(found("7"), None);
        assert_eq!(found("6"), None, "it is of another kind");
        assert_eq!(found("2026-11-19"), Some(8));
        assert_eq!(found("2026-11-12T08:00"), Some(5));
        assert_eq!(found("2026-11-01"), None);
        assert!("yesterday".parse::<At>().is_err());
    }

    fn with(point: Point, suspicion: Option<Suspicion>, mark: Option<PointMark>) -> Point {
        let marked = |mark| Marked { mark, reason: "looked at".into(), by: "ingrid".into(), at: Timestamp::UNIX_EPOCH };
        Point { kind: PointKind::Files, suspicion, mark: mark.map(marked), ..point }
    }

    #[test]
    fn what_comes_after_a_suspect_point_is_in_doubt_until_a_person_decides() {
        let scrambled = Some(Suspicion::Scrambled);
        let points = |of_7: Option<PointMark>, of_8: Option<PointMark>| {
            [
                with(point(9, "2026-11-20T12:00:00Z"), None, None),
                with(point(8, "2026-11-18T12:00:00Z"), scrambled, of_8),
                with(point(7, "2026-11-17T12:00:00Z"), scrambled, of_7),
                with(point(5, "2026-11-10T12:00:00Z"), None, None),
            ]
        };
        let judged = |points: &[Point]| {
            let last_good = At::LastGood.find(points, Some(PointKind::Files)).map(|p| p.sequence);
            let doubts: Vec<Option<u64>> = points.iter().map(|p| Doubt::about(p, points).map(|doubt| doubt.suspect)).collect();
            (last_good, doubts)
        };
        assert_eq!(judged(&points(None, None)), (Some(5), vec![Some(7), Some(7), Some(7), None]));
        assert_eq!(judged(&points(Some(PointMark::Good), None)), (Some(7), vec![Some(8), Some(8), None, None]));
        let good = Some(PointMark::Good);
        assert_eq!(judged(&points(good, good)), (Some(9), vec![None; 4]));
        let resolved = Some(PointMark::Resolved);
        assert_eq!(judged(&points(resolved, resolved)), (Some(9), vec![None, Some(8), Some(7), None]), "it is over");
        let found = Doubt::about(&points(None, None)[0], &points(None, None)).expect("in doubt");
        assert_eq!((found.suspicion, found.last_good), (scrambled, Some(5)));
    }
}
