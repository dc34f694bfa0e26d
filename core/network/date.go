package network

import (
	"fmt"
	"strings"
	"time"
)

// A Date is a day as YYYY-MM-DD (ISO 8601), so that dates compare as texts do. The zero Date is none.
type Date string

// DateOf returns the day of a time, where that is.
func DateOf(t time.Time) Date { return Date(t.Format(time.DateOnly)) }

// midnight is what programs put behind a day that write YAML: there it is a time.
const midnight = "T00:00:00Z"

// ParseDate reads a date.
func ParseDate(text string) (Date, error) {
	text = strings.TrimSuffix(text, midnight)
	if _, err := time.Parse(time.DateOnly, text); err != nil {
		return "", fmt.Errorf("%s: not a day; write it as YEAR-MONTH-DAY, as 2027-01-31", text)
	}
	return Date(text), nil
}

// After returns the day that is so many days later.
func (d Date) After(days int) Date {
	t, err := time.Parse(time.DateOnly, string(d))
	if err != nil {
		return ""
	}
	return DateOf(t.AddDate(0, 0, days))
}

// IsOver reports whether something that is until a day is over on another one. What has no last
// day never is.
func (d Date) IsOver(today Date) bool { return d != "" && d < today }

// On makes the network that of a day: rules whose last day is over take no part. It comes before
// the network is compiled.
func (n *Network) On(today Date) {
	n.Today = today
	for _, g := range n.Gateways {
		for r := range g.Rules() {
			r.Expired = r.Until.IsOver(today)
		}
	}
}

// NextExpiry returns the first of the last days of rules that are not over, none where there is no
// such rule.
func (n *Network) NextExpiry() (next Date) {
	for _, g := range n.Gateways {
		for r := range g.Rules() {
			if r.Until != "" && !r.Expired && (next == "" || r.Until < next) {
				next = r.Until
			}
		}
	}
	return next
}
