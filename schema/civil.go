package schema

import (
	"database/sql/driver"
	"fmt"
	"time"
)

// A Date is a day of the calendar without a time and a place: full-date of RFC 3339, 5.6, from the year 0001 to 9999.
// It is comparable; the zero Date is 0001-01-01, as of time.Time. Rules such as minimum=2026-04-01 hold for it, and it
// is stored by database/sql as a text that sorts by time.
type Date struct {
	year       int16 // from 0, which is year 1
	month, day uint8 // from 0
}

// NewDate makes a Date; values outside of their range are carried over, as time.Date does. It panics for a year that is
// not from 1 to 9999.
func NewDate(year int, month time.Month, day int) Date {
	return DateOf(time.Date(year, month, day, 0, 0, 0, 0, time.UTC))
}

// DateOf is the day of a moment, where the moment's location has it. It panics for a year that is not from 1 to 9999.
func DateOf(t time.Time) Date {
	year, month, day := t.Date()
	if year < 1 || year > 9999 {
		panic(fmt.Sprintf("schema: the year %d is not from 1 to 9999 (RFC 3339, 5.6)", year))
	}
	return Date{int16(year - 1), uint8(month - 1), uint8(day - 1)}
}

// ParseDate reads a full-date: 2026-05-04.
func ParseDate(text string) (Date, error) {
	t, err := time.Parse(time.DateOnly, text)
	if err != nil || len(text) != len(time.DateOnly) || t.Year() < 1 {
		return Date{}, errNoDate
	}
	return DateOf(t), nil
}

var errNoDate = fmt.Errorf("write a date such as 2026-05-04 (RFC 3339)")

// Year, Month and Day are its parts.
func (d Date) Year() int         { return int(d.year) + 1 }
func (d Date) Month() time.Month { return time.Month(d.month) + 1 }
func (d Date) Day() int          { return int(d.day) + 1 }

// Weekday is the day of the week.
func (d Date) Weekday() time.Weekday { return d.In(time.UTC).Weekday() }

// In is the moment at which the day begins in a location.
func (d Date) In(where *time.Location) time.Time {
	return time.Date(d.Year(), d.Month(), d.Day(), 0, 0, 0, 0, where)
}

// AddDays is the day so many days later. It panics beyond the years 1 to 9999.
func (d Date) AddDays(n int) Date { return NewDate(d.Year(), d.Month(), d.Day()+n) }

// Compare is -1 for an earlier day than the other one, 1 for a later, and 0 for the same.
func (d Date) Compare(other Date) int { return d.In(time.UTC).Compare(other.In(time.UTC)) }

// String writes a full-date.
func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year(), d.Month(), d.Day()) }

// MarshalText writes a full-date.
func (d Date) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads a full-date.
func (d *Date) UnmarshalText(text []byte) (err error) {
	*d, err = ParseDate(string(text))
	return err
}

// JSONFormat names the format in JSON Schema.
func (Date) JSONFormat() string { return "date" }

// Value is the text, for database/sql.
func (d Date) Value() (driver.Value, error) { return d.String(), nil }

// Scan reads a text or a moment, for database/sql. A NULL is an error: use sql.Null[Date] for a column that can be NULL.
func (d *Date) Scan(stored any) error {
	switch v := stored.(type) {
	case string:
		return d.UnmarshalText([]byte(v[:min(len(v), len(time.DateOnly))]))
	case []byte:
		return d.UnmarshalText(v[:min(len(v), len(time.DateOnly))])
	case time.Time:
		*d = DateOf(v)
		return nil
	}
	return fmt.Errorf("schema: a %T is stored, not a date", stored)
}

// A TimeOfDay is a time of the clock without a day and a place, to the nanosecond: partial-time of RFC 3339, 5.6,
// without leap seconds. It is comparable; the zero TimeOfDay is midnight. Rules such as minimum=06:00:00 hold for it,
// and it is stored by database/sql as a text that sorts by time.
type TimeOfDay struct{ since time.Duration }

// NewTimeOfDay makes a TimeOfDay of the time since midnight. It panics for one that is not from 0 to 24 hours.
func NewTimeOfDay(sinceMidnight time.Duration) TimeOfDay {
	if sinceMidnight < 0 || sinceMidnight >= 24*time.Hour {
		panic(fmt.Sprintf("schema: %v after midnight is not a time of one day", sinceMidnight))
	}
	return TimeOfDay{sinceMidnight}
}

// TimeOfDayOf is the time of a moment, where the moment's location has it.
func TimeOfDayOf(t time.Time) TimeOfDay {
	h, m, s := t.Clock()
	return TimeOfDay{time.Duration(h)*time.Hour + time.Duration(m)*time.Minute + time.Duration(s)*time.Second +
		time.Duration(t.Nanosecond())}
}

// ParseTimeOfDay reads a partial-time: 09:30:00, or 09:30:00.5.
func ParseTimeOfDay(text string) (TimeOfDay, error) {
	t, err := time.Parse("15:04:05", text)
	if err != nil || len(text) < len("15:04:05") || text[2] != ':' || len(text) > 8 && text[8] != '.' {
		return TimeOfDay{}, errNoTime
	}
	return TimeOfDayOf(t), nil
}

var errNoTime = fmt.Errorf("write a time such as 09:30:00 (RFC 3339)")

// SinceMidnight is the time since midnight on a day without a change of the clock.
func (t TimeOfDay) SinceMidnight() time.Duration { return t.since }

// On is the moment on a day in a location. A time that a change of the clock leaves out is taken as time.Date does.
func (t TimeOfDay) On(d Date, where *time.Location) time.Time {
	seconds := int(t.since / time.Second) // nanoseconds of a day are too many for an int of 32 bits
	return time.Date(d.Year(), d.Month(), d.Day(), 0, 0, seconds, int(t.since%time.Second), where)
}

// Compare is -1 for an earlier time than the other one, 1 for a later, and 0 for the same.
func (t TimeOfDay) Compare(other TimeOfDay) int {
	switch {
	case t.since < other.since:
		return -1
	case t.since > other.since:
		return 1
	}
	return 0
}

// String writes a partial-time, with as many digits of a second as it has.
func (t TimeOfDay) String() string {
	return time.Time{}.Add(t.since).Format("15:04:05.999999999")
}

// MarshalText writes a partial-time.
func (t TimeOfDay) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads a partial-time.
func (t *TimeOfDay) UnmarshalText(text []byte) (err error) {
	*t, err = ParseTimeOfDay(string(text))
	return err
}

// JSONFormat names the format, as the registry of OpenAPI does.
func (TimeOfDay) JSONFormat() string { return "time-local" }

// Value is the text, for database/sql.
func (t TimeOfDay) Value() (driver.Value, error) { return t.String(), nil }

// Scan reads a text or a moment, for database/sql. A NULL is an error: use sql.Null[TimeOfDay] for a column that can be NULL.
func (t *TimeOfDay) Scan(stored any) error {
	switch v := stored.(type) {
	case string:
		return t.UnmarshalText([]byte(v))
	case []byte:
		return t.UnmarshalText(v)
	case time.Time:
		*t = TimeOfDayOf(v)
		return nil
	}
	return fmt.Errorf("schema: a %T is stored, not a time of the day", stored)
}
