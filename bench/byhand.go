package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/golang-jwt/jwt/v5"
	"github.com/google/uuid"
)

// byHand is what a careful engineer writes for the same work with net/http and
// the same libraries: a switch, a map, and everything in its place.
func byHand() http.Handler {
	return &handmade{
		parser: jwt.NewParser(jwt.WithValidMethods([]string{"HS256"}), jwt.WithExpirationRequired()),
		fixed: map[string]http.HandlerFunc{"GET /api/v2/locks": func(w http.ResponseWriter,
			_ *http.Request) {
			w.Write([]byte(`""`))
		}},
	}
}

type handmade struct {
	parser *jwt.Parser
	fixed  map[string]http.HandlerFunc
}

type handmadeKey struct{}

// about is what the pieces of one request tell each other.
type about struct {
	id, caller, route, code string
	failure                 error
}

type recorder struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(p []byte) (int, error) {
	if r.status == 0 {
		r.status = http.StatusOK
	}
	n, err := r.ResponseWriter.Write(p)
	r.bytes += int64(n)
	return n, err
}

func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

func (h *handmade) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	start := time.Now()
	id, err := uuid.NewV7()
	if err != nil {
		panic(err)
	}
	a := &about{id: id.String()}
	rec := &recorder{ResponseWriter: w}
	r = r.WithContext(context.WithValue(r.Context(), handmadeKey{}, a))
	rec.Header().Set("X-Request-Id", a.id)
	defer func() {
		if v := recover(); v != nil {
			a.fail(rec, http.StatusInternalServerError, "internal", "Something went wrong on the server",
				fmt.Errorf("panic: %v", v))
		}
		level := slog.LevelInfo
		switch {
		case rec.status >= 500:
			level = slog.LevelError
		case rec.status >= 400:
			level = slog.LevelWarn
		}
		attrs := []slog.Attr{
			slog.String("method", r.Method), slog.String("path", r.URL.Path), slog.String("route", a.route),
			slog.Int("status", rec.status), slog.Float64("duration_ms", milliseconds(time.Since(start))),
			slog.Int64("sent", rec.bytes), slog.String("request", a.id),
		}
		if a.caller != "" {
			attrs = append(attrs, slog.Int64("received", r.ContentLength), slog.String("caller", a.caller))
		}
		if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
			attrs = append(attrs, slog.String("remote", host))
		}
		if a.failure != nil {
			attrs = append(attrs, slog.String("code", a.code), slog.String("error", a.failure.Error()))
		}
		logged.LogAttrs(r.Context(), level, "request", attrs...)
	}()
	h.route(rec, r, a)
}

func (h *handmade) route(w http.ResponseWriter, r *http.Request, a *about) {
	rest, under := strings.CutPrefix(r.URL.Path, "/api/v2/locks/")
	lock, is := strings.CutSuffix(rest, "/passages")
	switch {
	case under && is && lock != "" && !strings.Contains(lock, "/"):
		a.route = "/api/v2/locks/{lock}/passages"
		if r.Method != http.MethodPost {
			w.Header().Set("Allow", "OPTIONS, POST")
			a.fail(w, http.StatusMethodNotAllowed, "method-not-allowed", "The method does not apply here",
				errors.New("method"))
			return
		}
		scopes, ok := h.admit(w, r, a)
		if !ok {
			return
		}
		if !slices.Contains(scopes, "passages") {
			w.Header().Set("WWW-Authenticate", `Bearer error="insufficient_scope", scope="passages"`)
			a.fail(w, http.StatusForbidden, "scope-missing", "The caller lacks a scope", errors.New("scope"))
			return
		}
		h.book(w, r, a, lock)
	default:
		if serve := h.fixed[r.Method+" "+r.URL.Path]; serve != nil {
			if _, ok := h.admit(w, r, a); ok {
				serve(w, r)
			}
			return
		}
		a.tell(w, http.StatusNotFound, "not-found", "Nothing is here", "Nothing is at "+r.URL.EscapedPath()+".", nil,
			errors.New("not-found: Nothing is at "+r.URL.EscapedPath()+"."))
	}
}

func (h *handmade) admit(w http.ResponseWriter, r *http.Request, a *about) ([]string, bool) {
	scheme, text, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(scheme, "Bearer") {
		w.Header().Set("WWW-Authenticate", "Bearer")
		a.fail(w, http.StatusUnauthorized, "token-missing", "The request has no token", errors.New("no token"))
		return nil, false
	}
	var claims struct {
		jwt.RegisteredClaims
		Scope string `json:"scope"`
	}
	_, err := h.parser.ParseWithClaims(text, &claims, func(*jwt.Token) (any, error) { return secret, nil })
	if err != nil || claims.Subject == "" {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		a.fail(w, http.StatusUnauthorized, "token-rejected", "The token is not accepted", err)
		return nil, false
	}
	a.caller = claims.Subject
	return strings.Fields(claims.Scope), true
}

// handmadeBooking distinguishes absent members from zero ones by pointers.
type handmadeBooking struct {
	Vessel    string    `json:"vessel"`
	Direction string    `json:"direction"`
	Slot      time.Time `json:"slot"`
	Crew      int       `json:"crew"`
	Deposit   *int      `json:"deposit"`
	Hazardous *bool     `json:"hazardous"`
	Cargo     *struct {
		Kind   string   `json:"kind"`
		Tonnes *float64 `json:"tonnes"`
	} `json:"cargo"`
	Stops  []string `json:"stops"`
	Remark *string  `json:"remark"`
}

var plate = regexp.MustCompile(`^[A-Z]{2}-[0-9]{4}$`)

// handmadeFault is a fault as the answer shows it.
type handmadeFault struct {
	In      string `json:"in"`
	Pointer string `json:"pointer"`
	Rule    string `json:"rule"`
	Want    any    `json:"want,omitzero"`
	Detail  string `json:"detail"`
}

func (b *handmadeBooking) faults() (found []handmadeFault) {
	check := func(ok bool, pointer, rule string, want any, detail string) {
		if !ok {
			found = append(found, handmadeFault{"body", pointer, rule, want, detail})
		}
	}
	check(plate.MatchString(b.Vessel), "/vessel", "pattern", "^[A-Z]{2}-[0-9]{4}$",
		"must match the pattern ^[A-Z]{2}-[0-9]{4}$")
	check(b.Direction == "up" || b.Direction == "down", "/direction", "enum", []string{"up", "down"},
		"must be one of up, down")
	check(!b.Slot.IsZero(), "/slot", "required", nil, "is missing")
	check(b.Crew >= 1, "/crew", "minimum", 1, "must be at least 1")
	check(b.Crew <= 40, "/crew", "maximum", 40, "must be at most 40")
	check(b.Deposit != nil && *b.Deposit >= 0, "/deposit", "minimum", 0, "must be at least 0")
	check(b.Hazardous != nil, "/hazardous", "required", nil, "is missing")
	check(b.Cargo != nil && b.Cargo.Tonnes != nil && *b.Cargo.Tonnes >= 0, "/cargo/tonnes", "minimum", 0,
		"must be at least 0")
	check(b.Cargo == nil || b.Cargo.Tonnes == nil || *b.Cargo.Tonnes <= 300, "/cargo/tonnes", "maximum", 300,
		"must be at most 300")
	check(b.Cargo != nil && b.Cargo.Kind != "", "/cargo/kind", "minLength", 1, "must have at least 1 character")
	check(b.Cargo == nil || utf8.RuneCountInString(b.Cargo.Kind) <= 40, "/cargo/kind", "maxLength", 40,
		"must have at most 40 characters")
	check(b.Stops != nil && len(b.Stops) <= 8, "/stops", "maxItems", 8, "must have at most 8 items")
	check(b.Remark != nil && utf8.RuneCountInString(*b.Remark) <= 200, "/remark", "maxLength", 200,
		"must have at most 200 characters")
	return found
}

func (h *handmade) book(w http.ResponseWriter, r *http.Request, a *about, lock string) {
	if utf8.RuneCountInString(lock) > 40 {
		a.fail(w, http.StatusUnprocessableEntity, "input-invalid", "The input breaks a rule", errors.New("lock"))
		return
	}
	quiet := false
	switch q := r.URL.Query().Get("quiet"); q {
	case "", "false":
	case "true":
		quiet = true
	default:
		a.fail(w, http.StatusBadRequest, "input-unreadable", "The input cannot be read", errors.New("quiet"))
		return
	}
	if r.Header.Get("Content-Type") != "application/json" {
		a.fail(w, http.StatusUnsupportedMediaType, "unsupported-media-type", "The content type is not accepted",
			errors.New("type"))
		return
	}
	var b handmadeBooking
	if err := json.UnmarshalRead(http.MaxBytesReader(w, r.Body, 1<<20), &b,
		json.RejectUnknownMembers(true)); err != nil {
		a.fail(w, http.StatusBadRequest, "input-unreadable", "The input cannot be read", err)
		return
	}
	if found := b.faults(); found != nil {
		a.tell(w, http.StatusUnprocessableEntity, "input-invalid", "The input breaks a rule",
			fmt.Sprintf("%d values are invalid.", len(found)), found, handmadeFaults(found))
		return
	}
	out, err := json.Marshal(booked{61, lock, b.Vessel, b.Slot, b.Crew, a.caller, quiet})
	if err != nil {
		a.fail(w, http.StatusInternalServerError, "internal", "Something went wrong on the server", err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Content-Length", strconv.Itoa(len(out)))
	w.WriteHeader(http.StatusCreated)
	w.Write(out)
}

// handmadeFaults are for the log.
type handmadeFaults []handmadeFault

func (fs handmadeFaults) Error() string {
	text := "input-invalid"
	for _, f := range fs {
		text += "; " + f.Pointer + " " + f.Detail
	}
	return text
}

func (a *about) fail(w http.ResponseWriter, status int, code, title string, err error) {
	a.tell(w, status, code, title, "", nil, err)
}

func (a *about) tell(w http.ResponseWriter, status int, code, title, detail string, faults []handmadeFault, err error) {
	a.failure, a.code = err, code
	text, _ := json.Marshal(struct {
		Type     string          `json:"type"`
		Title    string          `json:"title"`
		Status   int             `json:"status"`
		Detail   string          `json:"detail,omitzero"`
		Instance string          `json:"instance"`
		Code     string          `json:"code"`
		Errors   []handmadeFault `json:"errors,omitempty"`
	}{"/problems/" + code, title, status, detail, "urn:uuid:" + a.id, code, faults})
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Add("Vary", "Accept")
	w.WriteHeader(status)
	w.Write(text)
}

// milliseconds are those of a record, with three decimals.
func milliseconds(d time.Duration) float64 { return float64(d.Round(time.Microsecond)) / 1e6 }
