package network

import (
	"fmt"
	"strings"
)

// A Schedule is the times of the week at which a rule is active. Hours that cross
// midnight belong to the day they begin on.
type Schedule struct {
	Text        string
	Days        [7]bool // Monday first
	First, Last int     // minutes of the day; active from First up to, not including, Last
}

// DayNames are the days as files write them.
var DayNames = [7]string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// Holds reports whether the schedule covers the moment.
func (s *Schedule) Holds(at Moment) bool {
	length := s.Last - s.First
	if length <= 0 {
		length += minutesADay
	}
	for day, on := range s.Days {
		since := (at.ofWeek() - day*minutesADay - s.First + minutesAWeek) % minutesAWeek
		if on && since < length {
			return true
		}
	}
	return false
}

// week returns the minutes of the week at which the schedule holds, as marks.
func (s *Schedule) week() *week {
	var w week
	length := s.Last - s.First
	if length <= 0 {
		length += minutesADay
	}
	for day, on := range s.Days {
		for minute := 0; on && minute < length; minute++ {
			w[(day*minutesADay+s.First+minute)%minutesAWeek] = true
		}
	}
	return &w
}

// ParseDays reads days as "mon-fri", "sat", with commas between them.
func ParseDays(text string) ([7]bool, error) {
	var days [7]bool
	for part := range strings.SplitSeq(text, ",") {
		first, last, isRange := strings.Cut(strings.TrimSpace(part), "-")
		if !isRange {
			last = first
		}
		a, b := dayNumber(first), dayNumber(last)
		if a < 0 || b < 0 {
			return days, fmt.Errorf("%s: not days; write mon, tue, wed, thu, fri, sat, sun or a range like mon-fri", strings.TrimSpace(part))
		}
		for day := a; ; day = (day + 1) % 7 {
			days[day] = true
			if day == b {
				break
			}
		}
	}
	return days, nil
}

func dayNumber(name string) int {
	for i, known := range DayNames {
		if known == name {
			return i
		}
	}
	return -1
}

// ParseHours reads "HH:MM-HH:MM" as minutes of the day, 00:00 to 24:00.
func ParseHours(text string) (first, last int, err error) {
	from, to, found := strings.Cut(text, "-")
	a, okA := clock(from)
	b, okB := clock(to)
	if !found || !okA || !okB || a == minutesADay || a == b {
		return 0, 0, fmt.Errorf("%s: not hours; write HH:MM-HH:MM, as 08:00-18:00", text)
	}
	return a, b, nil
}

func clock(text string) (int, bool) {
	if len(text) != 5 || text[2] != ':' {
		return 0, false
	}
	for _, i := range []int{0, 1, 3, 4} {
		if text[i] < '0' || text[i] > '9' {
			return 0, false
		}
	}
	hour, minute := int(text[0]-'0')*10+int(text[1]-'0'), int(text[3]-'0')*10+int(text[4]-'0')
	total := hour*60 + minute
	return total, minute < 60 && total <= minutesADay
}
