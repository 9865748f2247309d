package schema

import (
	"net/mail"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"time"
)

// formats are those of JSON Schema validation (draft 2020-12, 7.3) that are
// really checked, each with what a person is told.
var formats = map[string]struct {
	detail string
	holds  func(string) bool
}{
	"date-time": {"must be a date and time such as 2026-05-04T09:30:00Z", parses(time.RFC3339)},
	"date":      {"must be a date such as 2026-05-04", parses(time.DateOnly)},
	"time":      {"must be a time such as 09:30:00Z", parses("15:04:05Z07:00")},
	"duration":  {"must be a duration such as P1DT2H (RFC 3339, appendix A)", isDuration},
	"email":     {"must be an e-mail address", isEmail},
	"hostname":  {"must be a host name", isHostname},
	"ipv4":      {"must be an IPv4 address", func(s string) bool { a, err := netip.ParseAddr(s); return err == nil && a.Is4() }},
	"ipv6":      {"must be an IPv6 address", func(s string) bool { a, err := netip.ParseAddr(s); return err == nil && a.Is6() && a.Zone() == "" }},
	"regex":     {"must be a regular expression", func(s string) bool { _, err := compilePattern(s); return err == nil }},
	"uri": {"must be a URI with its scheme", func(s string) bool {
		u, err := url.Parse(s)
		return err == nil && u.IsAbs() && !strings.ContainsAny(s, " \\^`{}|<>\"")
	}},
	"uuid": {"must be a UUID", uuid.MatchString},
}

var (
	uuid     = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)
	duration = regexp.MustCompile(`^P(\d+W|(\d+Y(\d+M(\d+D)?)?|\d+M(\d+D)?|\d+D)?(T(\d+H(\d+M(\d+S)?)?|\d+M(\d+S)?|\d+S))?)$`)
	label    = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)
)

func parses(layout string) func(string) bool {
	return func(s string) bool { _, err := time.Parse(layout, s); return err == nil }
}

func isDuration(s string) bool { return len(s) > 1 && duration.MatchString(s) }

// isEmail takes a bare address, without a name before it (RFC 5321, 4.1.2).
func isEmail(s string) bool {
	a, err := mail.ParseAddress(s)
	return err == nil && a.Address == s
}

// isHostname follows RFC 1123, 2.1.
func isHostname(s string) bool {
	for part := range strings.SplitSeq(strings.TrimSuffix(s, "."), ".") {
		if !label.MatchString(part) {
			return false
		}
	}
	return len(s) <= 253
}
