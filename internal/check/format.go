package check

import (
	"net/netip"
	"regexp"
	"strings"
)

// formats are those of JSON Schema validation (draft 2020-12, 7.3) that are
// really checked, each with what a person is told.
var formats = map[string]struct {
	detail string
	holds  func(string) bool
}{
	"date-time": {"must be a date and time such as 2026-05-04T09:30:00Z (RFC 3339)", isMoment},
	"date":      {"must be a date such as 2026-05-04", isDate},
	"time":      {"must be a time such as 09:30:00Z", isTime},
	"duration":  {"must be a duration such as P1DT2H (RFC 3339, appendix A)", isDuration},
	"email":     {"must be an e-mail address", isEmail},
	"hostname":  {"must be a host name", isHostname},
	"ipv4": {"must be an IPv4 address", func(s string) bool {
		a, err := netip.ParseAddr(s)
		return err == nil &&
			a.Is4()
	}},
	"ipv6": {"must be an IPv6 address", isIPv6},
	"regex": {"must be a regular expression", func(s string) bool {
		_,
			err := CompilePattern(s)
		return err == nil
	}},
	"uri":  {"must be a URI with its scheme", isURI},
	"uuid": {"must be a UUID", uuid.MatchString},
}

// Format is the check of a format by its name; known is false for formats that are not checked.
func Format(name string) (holds func(string) bool, known bool) {
	f, known := formats[name]
	return f.holds, known
}

var (
	uuid     = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)
	duration = regexp.MustCompile(
		`^P(\d+W|(\d+Y(\d+M(\d+D)?)?|\d+M(\d+D)?|\d+D)?(T(\d+H(\d+M(\d+S)?)?|\d+M(\d+S)?|\d+S))?)$`,
	)
	label = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)

	// RFC 5321, 4.1.2: a dot-string, or a quoted string.
	localPart = regexp.MustCompile("^(?:[a-zA-Z0-9!#$%&'*+/=?^_`{|}~-]+(?:\\.[a-zA-Z0-9!#$%&'*+/=?^_`{|}~-]+)*" +
		`|"(?:[ !#-\[\]-~]|\\[ -~])*")$`)

	// RFC 3986, appendix A; the host is looked at apart.
	uri = regexp.MustCompile(`^[a-zA-Z][a-zA-Z0-9+.-]*:` +
		`(?://(?:(?:[\w.~!$&'()*+,;=:-]|%[0-9a-fA-F]{2})*@)?(\[[^\]/?#]*\]|(?:[\w.~!$&'()*+,;=-]|%[0-9a-fA-F]{2})*)(?::[0-9]*)?(?:/(?:[\w.~!$&'()*+,;=:@/-]|%[0-9a-fA-F]{2})*)?` +
		`|/?(?:(?:[\w.~!$&'()*+,;=:@-]|%[0-9a-fA-F]{2})(?:[\w.~!$&'()*+,;=:@/-]|%[0-9a-fA-F]{2})*)?)` +
		`(?:\?(?:[\w.~!$&'()*+,;=:@/?-]|%[0-9a-fA-F]{2})*)?(?:#(?:[\w.~!$&'()*+,;=:@/?-]|%[0-9a-fA-F]{2})*)?$`)
	ipFuture = regexp.MustCompile(`^[vV][0-9a-fA-F]+\.[\w.~!$&'()*+,;=:-]+$`)
)

func isDuration(s string) bool { return len(s) > 1 && duration.MatchString(s) }

// isEmail takes a bare mailbox, without a name before it (RFC 5321, 4.1.2 and 4.5.3.1).
func isEmail(s string) bool {
	at := strings.LastIndexByte(s, '@')
	if at < 1 || at > 64 || len(s) > 254 || !localPart.MatchString(s[:at]) {
		return false
	}
	domain := s[at+1:]
	if literal, ok := strings.CutPrefix(domain, "["); ok {
		literal, closed := strings.CutSuffix(literal, "]")
		if six, ok := strings.CutPrefix(literal, "IPv6:"); ok {
			return closed && isIPv6(six)
		}
		a, err := netip.ParseAddr(literal)
		return closed && err == nil && a.Is4()
	}
	return isHostname(domain)
}

// isHostname follows RFC 1123, 2.1.
func isHostname(s string) bool {
	for part := range strings.SplitSeq(s, ".") {
		if !label.MatchString(part) {
			return false
		}
	}
	return len(s) <= 253
}

func isIPv6(s string) bool {
	a, err := netip.ParseAddr(s)
	return err == nil && a.Is6() && a.Zone() == ""
}

func isURI(s string) bool {
	parts := uri.FindStringSubmatch(s)
	if parts == nil {
		return false
	}
	literal, ok := strings.CutPrefix(parts[1], "[")
	literal = strings.TrimSuffix(literal, "]")
	return !ok || isIPv6(literal) || ipFuture.MatchString(literal)
}
