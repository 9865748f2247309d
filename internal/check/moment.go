package check

import (
	"regexp"
	"strings"
	"time"
)

// The grammar of RFC 3339, 5.6. Package time takes more (one-digit hours, commas,
// offsets of 99 hours) and less (no leap seconds, no small t and z).
var (
	fullTime = regexp.MustCompile(
		`^([01][0-9]|2[0-3]):[0-5][0-9]:([0-5][0-9]|60)(\.[0-9]+)?([Zz]|[+-]([01][0-9]|2[0-3]):[0-5][0-9])$`,
	)
	fullDate = regexp.MustCompile(`^[0-9]{4}-[0-9]{2}-[0-9]{2}$`)
)

func isDate(s string) bool {
	_, err := time.Parse(time.DateOnly, s)
	return err == nil && fullDate.MatchString(s)
}

// isTime takes a 60th second only in the last minute of a day in UTC, where leap
// seconds stand (RFC 3339, 5.7).
func isTime(s string) bool {
	_, ok := parseMoment("2000-01-01T" + s)
	return ok
}

func isMoment(s string) bool {
	_, ok := parseMoment(s)
	return ok
}

// parseMoment reads a date-time. A leap second is the first of the next minute, as
// in the time of computers; one that would end beyond the year 9999 is refused, since
// it could not be written again.
func parseMoment(s string) (time.Time, bool) {
	if len(s) < len("2006-01-02T") || !isDate(s[:10]) || s[10] != 'T' && s[10] != 't' || !fullTime.MatchString(s[11:]) {
		return time.Time{}, false
	}
	leap := s[17:19] == "60"
	plain := strings.ToUpper(s)
	if leap {
		plain = plain[:17] + "59" + plain[19:]
	}
	at, err := time.Parse(time.RFC3339, plain)
	if err != nil {
		return time.Time{}, false
	}
	if leap {
		if utc := at.UTC(); utc.Hour() != 23 || utc.Minute() != 59 {
			return time.Time{}, false
		}
		at = at.Add(time.Second).Truncate(time.Second)
	}
	return at, at.Year() <= 9999
}
