// Package problem holds errors as RFC 9457 describes them: a kind of problem is
// declared once, as a package variable, and raised wherever it occurs.
//
//	var (
//		ErrCanal      = problem.Define(http.StatusConflict, "canal", "The canal cannot do that now")
//		ErrLockClosed = ErrCanal.Define(http.StatusConflict, "lock-closed", "The lock is closed")
//	)
//
//	return ErrLockClosed.Newf("%s reopens on %s", lock, day).With("reopens", day).Because(err)
//
// The caller sees the kind, the detail and the members added with With. The
// cause given to Because is for the log.
package problem

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
)

// A Kind is one kind of problem: a status, a code for programs and a title for
// people. Kinds form families: errors.Is holds for the kind of an error and for
// every kind that it was defined from. Kinds are immutable and safe to share.
type Kind struct {
	status int
	code   string
	title  string
	means  string
	family *Kind
	carry  []Member
	fields []string
}

// Define declares a kind. The status is an HTTP status from 400 to 599 (RFC
// 9110, 15.5 and 15.6); the code is short, stable and unique among the kinds of
// an API (lower-case letters, digits and hyphens); the title is the same for
// every occurrence. Build reports kinds that break this.
func Define(status int, code, title string) *Kind {
	return &Kind{status: status, code: code, title: title}
}

// Define declares a kind that belongs to k's family.
func (k *Kind) Define(status int, code, title string) *Kind {
	return &Kind{status: status, code: code, title: title, family: k}
}

// Status is the HTTP status of the answer.
func (k *Kind) Status() int { return k.status }

// Code names the kind to programs.
func (k *Kind) Code() string { return k.code }

// Title names the kind to people.
func (k *Kind) Title() string { return k.title }

// Means adds an explanation of the kind and of what a caller can do about it, for the
// catalogue of an API's problems. It is for the declaration:
//
//	var ErrSlotTaken = problem.Define(409, "slot-taken", "The slot is taken").Means("Choose another half hour.")
func (k *Kind) Means(text string) *Kind {
	k.means = text
	return k
}

// Meaning returns the text of Means.
func (k *Kind) Meaning() string { return k.means }

// A Member is one that the problems of a kind carry in addition to the standard ones (RFC 9457,
// 3.2).
type Member struct {
	Name string
	// Example is a value that it can have; its Go type is that of all values.
	Example any
}

// Carries declares a member that problems of the kind have, by an example of its value. In
// development a problem with another member, or a value of another Go type, is a failure. It
// is for the declaration:
//
//	var ErrLockClosed = problem.Define(409, "lock-closed", "The lock is closed").Carries("reopens", "2027-05-04")
func (k *Kind) Carries(name string, example any) *Kind {
	k.carry = append(k.carry, Member{name, example})
	return k
}

// Sends declares header fields that answers with problems of the kind have, such as Retry-After. It is for
// the declaration.
func (k *Kind) Sends(fields ...string) *Kind {
	k.fields = append(k.fields, fields...)
	return k
}

// Fields are the names that Sends has declared for the kind, and for the families it belongs to.
func (k *Kind) Fields() []string {
	if k.family == nil {
		return k.fields
	}
	return append(slices.Clip(k.family.Fields()), k.fields...)
}

// Members are those that were declared for the kind, and for the families it belongs to.
func (k *Kind) Members() []Member {
	if k.family == nil {
		return k.carry
	}
	return append(slices.Clip(k.family.Members()), k.carry...)
}

// Example is an occurrence that has the members of the kind, with their examples.
func (k *Kind) Example() *Problem {
	p := &Problem{kind: k, detail: "What happened this time, in a sentence."}
	for _, m := range k.Members() {
		p.With(m.Name, m.Example)
	}
	if k == Invalid || k == Unreadable {
		pointer := "/crew"
		p.WithItems(Item{In: "body", Pointer: &pointer, Rule: "maximum", Want: 40, Detail: "must be at most 40"})
	}
	return p
}

// Family is the kind that k was defined from; nil where there is none.
func (k *Kind) Family() *Kind { return k.family }

// Error makes a kind a target for errors.Is, and an error to return where there
// is nothing to add.
func (k *Kind) Error() string { return k.code + ": " + k.title }

// Is reports whether target is k or a kind of its family.
func (k *Kind) Is(target error) bool {
	for ; k != nil; k = k.family {
		if target == error(k) {
			return true
		}
	}
	return false
}

// Check returns an error where the declaration is wrong.
func (k *Kind) Check() error {
	if k == nil {
		return errors.New("the kind is nil")
	}
	if k.status < 400 || k.status > 599 {
		return errors.New("problem " + strconv.Quote(k.code) + ": status " + strconv.Itoa(k.status) +
			" is not an error (400 to 599)")
	}
	if k.title == "" {
		return errors.New("problem " + strconv.Quote(k.code) + ": the title is empty")
	}
	for i := range len(k.code) {
		c := k.code[i]
		if !('a' <= c && c <= 'z' || '0' <= c && c <= '9' || c == '-' && i > 0) {
			return errors.New("problem " + strconv.Quote(k.code) +
				": a code has lower-case letters, digits and hyphens")
		}
	}
	for _, m := range k.carry {
		if _, err := (member{m.Name, m.Example}).encode(); err != nil || m.Name == "" {
			return fmt.Errorf("problem %q: the member %q cannot be carried: %v", k.code, m.Name, cmp.Or(err, errNoName))
		}
	}
	if k.code == "" {
		return errors.New("a problem of status " + strconv.Itoa(k.status) + " has no code")
	}
	return nil
}

var errNoName = errors.New("it has no name")

// The kinds that Wicketway itself raises.
var (
	BadRequest = Define(http.StatusBadRequest, "bad-request", "The request cannot be read").
			Means("The request line or a header field is malformed.")
	Unreadable = BadRequest.Define(http.StatusBadRequest, "input-unreadable", "The input cannot be read").
			Means("The member errors lists every item, with its place and the expected form.")
	Unauthorized = Define(http.StatusUnauthorized, "unauthorized", "The caller is not known").
			Sends("WWW-Authenticate")
	Forbidden    = Define(http.StatusForbidden, "forbidden", "The caller may not do this")
	ScopeMissing = Forbidden.Define(http.StatusForbidden, "scope-missing", "The caller lacks a scope").
			Carries("scopes", []string{"locks:operate"}).
			Sends("WWW-Authenticate")
	NotFound = Define(http.StatusNotFound, "not-found", "Nothing is here").
			Means("The member near, where there is one, lists routes that may have been meant.").
			Sends("Link")
	VersionUnknown = NotFound.Define(http.StatusNotFound, "version-unknown", "The API has no such version").
			Means("The member versions lists those that are served.").
			Carries("versions", []string{"v1", "v2"})
	VersionInvalid = BadRequest.Define(http.StatusBadRequest, "version-invalid", "Unknown API version").
			Means("The member versions lists those that are served.").
			Carries("versions", []string{"v1", "v2"})
	MethodNotAllowed = Define(http.StatusMethodNotAllowed, "method-not-allowed",
		"The method does not apply here").
		Means("The field Allow lists the methods that do; the member near, where there is one, routes that may have been meant.").
		Sends("Allow", "Link")
	NotAcceptable = Define(http.StatusNotAcceptable, "not-acceptable", "None of the accepted formats is available").
			Means("The member offered lists the media types that are.").
			Carries("offered", []string{"application/json", "text/csv"})
	VersionNotAcceptable = NotAcceptable.Define(http.StatusNotAcceptable, "version-not-acceptable",
		"None of the accepted versions is available").
		Means("The member versions lists those that are served, for the parameter version of media types.").
		Carries("versions", []string{"v1", "v2"})
	BodyTimeout = Define(http.StatusRequestTimeout, "body-timeout",
		"The body did not arrive in time").Means("The body arrived too slowly. The request can be retried.")
	Withdrawn = Define(http.StatusGone, "withdrawn", "This version no longer has this").
			Means("The field Link leads to the version before, which still has it.").
			Sends("Link")
	Retired = Define(http.StatusGone, "retired", "This is no longer served").
		Means("The member sunset says since when. With the member until it is a rehearsal, and served again from then on.").
		Carries("sunset", "2027-06-30T00:00:00Z").
		Carries("until", "2027-05-01T12:00:00Z").
		Sends("Cache-Control")
	BodyTooLarge = Define(http.StatusRequestEntityTooLarge, "body-too-large", "The body is too large").
			Means("The member limit is the size in bytes that is accepted.").
			Carries("limit", 1<<20)
	PreconditionFailed = Define(http.StatusPreconditionFailed, "precondition-failed",
		"A precondition failed").
		Means("Fetch the resource again and retry with its new ETag.")
	UnsupportedMedia = Define(
		http.StatusUnsupportedMediaType, "unsupported-media-type", "The content type is not accepted",
	).
		Means("The response's Accept and Accept-Encoding fields list what is accepted.").
		Carries("accepted", []string{"application/json"}).
		Sends("Accept", "Accept-Encoding", "Accept-Patch", "Accept-Query")
	Invalid = Define(http.StatusUnprocessableEntity, "input-invalid", "The input breaks a rule").
		Means("The member errors lists every item, with its place, the rule and its bound.")
	PreconditionRequired = Define(http.StatusPreconditionRequired, "precondition-required",
		"The request must say which state it expects").
		Means("Send the ETag of the last answer in the field If-Match (RFC 6585, 3).")
	Internal = Define(http.StatusInternalServerError, "internal",
		"Something went wrong on the server").Means("Quote the instance when you report this error.")
	NotImplemented = Define(http.StatusNotImplemented, "not-implemented", "The server cannot do this")
	Timeout        = Define(http.StatusServiceUnavailable, "timeout",
		"The server ran out of time").Means("Retry later, if the request is safe to repeat.")
	Overloaded = Define(http.StatusServiceUnavailable, "overloaded", "The server is overloaded").
			Means("Nothing was done. The field Retry-After says in how many seconds to try again.").
			Sends("Retry-After")
)

// ofStatus are the kinds that stand for a status as such.
var ofStatus = func() map[int]*Kind {
	kinds := map[int]*Kind{}
	for status := 400; status < 600; status++ {
		if text := http.StatusText(status); text != "" {
			code := strings.ToLower(strings.ReplaceAll(strings.ReplaceAll(text, " ", "-"), "'", ""))
			kinds[status] = Define(status, code, text)
		}
	}
	for _, k := range []*Kind{BadRequest, Unauthorized, Forbidden, NotFound, MethodNotAllowed, NotAcceptable, BodyTimeout,
		PreconditionFailed, BodyTooLarge, UnsupportedMedia, PreconditionRequired, NotImplemented, Internal} {
		kinds[k.status] = k
	}
	kinds[http.StatusRequestedRangeNotSatisfiable].Sends("Content-Range")
	kinds[http.StatusTooManyRequests].Sends("Retry-After")
	return kinds
}()

// OfStatus is the kind for an error of which only the status is known. A status
// that is unknown or no error counts as 500.
func OfStatus(status int) *Kind {
	if k := ofStatus[status]; k != nil {
		return k
	}
	return Internal
}
