package network

import (
	"fmt"
	"time"
)

// A Moment is a minute of the calendar where a network is, see Network.Location: minutes since Monday,
// 1 January of the year 1, 00:00, by the Gregorian calendar. A clock that is set back has some minutes
// twice and one that is set forward some never; both are as any others here.
type Moment int

const (
	minutesADay  = 24 * 60
	minutesAWeek = 7 * minutesADay
)

// MomentOf returns the moment of the first week of all, of a day, 0 for Monday to 6 for Sunday, and a minute
// of the day, 0 to 1439: one for schedules.
func MomentOf(day, minute int) Moment { return Moment(day*minutesADay + minute) }

// MomentAt returns the moment of a time, where that is.
func MomentAt(t time.Time) Moment {
	year, month, day := t.Date()
	civil := time.Date(year, month, day, t.Hour(), t.Minute(), 0, 0, time.UTC)
	return Moment((civil.Unix() - time.Time{}.Unix()) / 60)
}

// Time returns the time of a moment somewhere.
func (m Moment) Time(where *time.Location) time.Time {
	days, minute := m.day(), m.minute()
	return time.Date(1, 1, 1+days, 0, minute, 0, 0, where)
}

func (m Moment) day() int { return int(m) / minutesADay }

func (m Moment) minute() int { return int(m) % minutesADay }

func (m Moment) ofWeek() int { return int(m) % minutesAWeek }

// Date returns the day of the moment.
func (m Moment) Date() Date { return DateOf(m.Time(time.UTC)) }

// String writes the moment as "2026-11-23 14:00".
func (m Moment) String() string { return m.Time(time.UTC).Format("2006-01-02 15:04") }

// Near writes the moment as "mon 14:00" where it is in the week that begins with a day, and as String does
// where it is not.
func (m Moment) Near(first Date) string {
	if since := m - first.Begins(); since < 0 || since >= minutesAWeek {
		return m.String()
	}
	return fmt.Sprintf("%s %02d:%02d", DayNames[m.ofWeek()/minutesADay], m.minute()/60, m.minute()%60)
}

// NextOn returns the moment of a minute on the first day of some name, 0 for Monday, from a day on.
func (d Date) NextOn(weekday, minute int) Moment {
	begins := d.Begins()
	days := (weekday - begins.ofWeek()/minutesADay + 7) % 7
	return begins + Moment(days*minutesADay+minute)
}
