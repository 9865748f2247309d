package probe

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/contract/valid"
)

// An exchange is a request that was sent, and its answer.
type exchange struct {
	o       *operation
	request requests.Request
	caller  int // whose token goes out as requests.Token
	url     *url.URL
	answer  Answer
	err     error
}

// code is that of a problem; "" where there is none.
func (x *exchange) code() string {
	var p struct {
		Code string `json:"code"`
	}
	json.Unmarshal(x.answer.Body, &p)
	return p.Code
}

// got is the answer in a few words.
func (x *exchange) got() string {
	if x.err != nil {
		return "no answer"
	}
	if x.answer.Status >= 400 {
		return strings.TrimSpace(fmt.Sprint(x.answer.Status, " ", x.code()))
	}
	return strconv.Itoa(x.answer.Status)
}

func (x *exchange) succeeded() bool {
	return x.err == nil && x.answer.Status >= 200 && x.answer.Status < 400
}

// send sends a request for an operation. A route that asks to be left alone is (RFC 6585, 4).
func (p *prober) send(o *operation, r requests.Request, caller int) *exchange {
	x := &exchange{o: o, request: r, caller: caller}
	var sent *http.Request
	if sent, x.err = http.NewRequestWithContext(p.ctx, r.Method, "http://api.invalid"+p.Base+r.Target, bytes.NewReader(r.Body)); x.err != nil {
		return x
	}
	if r.Body == nil {
		sent.Body, sent.GetBody, sent.ContentLength = nil, nil, 0
	}
	for _, f := range r.Header {
		sent.Header.Add(f.Name, p.tokens(f.Value, caller, o))
	}
	x.url = &url.URL{Path: strings.TrimPrefix(sent.URL.Path, p.Base), RawPath: strings.TrimPrefix(sent.URL.RawPath, p.Base), RawQuery: sent.URL.RawQuery}
	x.answer, x.err = p.Send(sent, o.listen())
	if x.answer.Cut {
		o.left++
	}
	o.sent++
	p.report.Sent++
	if x.err != nil {
		o.why = x.err.Error()
		return x
	}
	if r.Method == o.method && x.answer.Status != 0 {
		o.got[x.answer.Status]++
	}
	if x.answer.Status == http.StatusTooManyRequests {
		o.paused = time.Now().Add(retryAfter(x.answer.Header.Get("Retry-After")))
	}
	return x
}

// listen is for how long the answer is listened to, if it is a stream.
func (o *operation) listen() time.Duration {
	switch {
	case !o.streams:
		return 0
	case o.left < severalLeft:
		return aWhile
	}
	return aMoment
}

// retryAfter is how long to wait (RFC 9110, 10.2.3); a while where the answer does not say.
func retryAfter(text string) time.Duration {
	if seconds, err := strconv.Atoi(text); err == nil && seconds >= 0 && seconds < 1<<30 {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return time.Until(at)
	}
	return 10 * time.Second
}

// tokens puts those of callers into a header field.
func (p *prober) tokens(value string, caller int, o *operation) string {
	if !strings.Contains(value, "$WICKETWAY_") {
		return value
	}
	mine := ""
	if caller >= 0 && caller < len(p.callers) {
		mine = p.callers[caller]
	}
	value = strings.Replace(value, requests.OtherToken, p.Other, 1)
	if before, after, has := strings.Cut(value, requests.TokenWithoutScopes); has {
		return before + p.withoutScopes(o) + after
	}
	return strings.Replace(value, requests.Token, mine, 1)
}

// withoutScopes is the token of a caller who is known not to have a scope that an operation needs; "" where nobody is.
func (p *prober) withoutScopes(o *operation) string {
	for i, token := range p.callers {
		if p.lacks(i, o) {
			return token
		}
	}
	return ""
}

// lacks reports whether it is known that a caller lacks a scope: their token says which they have (RFC 9068, 2.2.3), or
// they were refused where the same scopes are needed.
func (p *prober) lacks(caller int, o *operation) bool {
	if len(o.scopes) == 0 {
		return false
	}
	if has, said := scopesOf(p.callers[caller]); said {
		return slices.ContainsFunc(o.scopes, func(scope string) bool { return !slices.Contains(has, scope) })
	}
	return slices.ContainsFunc(p.operations, func(other *operation) bool {
		return other.refused[caller] && slices.Equal(other.scopes, o.scopes)
	})
}

// scopesOf are the scopes that a token names, if it is a JWT that does; nothing in it is verified.
func scopesOf(token string) (scopes []string, said bool) {
	pieces := strings.Split(token, ".")
	if len(pieces) != 3 {
		return nil, false
	}
	text, err := base64.RawURLEncoding.DecodeString(pieces[1])
	var claims struct {
		Scope *string `json:"scope"`
	}
	if err != nil || json.Unmarshal(text, &claims) != nil || claims.Scope == nil {
		return nil, false
	}
	return strings.Fields(*claims.Scope), true
}

// A judgement says what should have come back, and what is wrong; the zero judgement is that all is well.
type judgement struct{ wanted, reason string }

// A check judges an answer.
type check func(*exchange) judgement

// hold holds an answer against the contract, and then against what else must be so. Where it falls short the request is
// made smaller, as long as it still shows that.
func (p *prober) hold(x *exchange, also ...check) bool {
	judge := func(x *exchange) judgement {
		checks := append([]check{p.contractual}, also...)
		if x.request.Wrong != "" && x.err == nil { // that it was not refused says more than what it was answered
			slices.Reverse(checks)
		}
		for _, one := range checks {
			if j := one(x); j.reason != "" {
				return j
			}
		}
		return judgement{}
	}
	j := judge(x)
	if j.reason == "" {
		return true
	}
	key := keyOf(x.o.name, j)
	if p.seen[key] {
		return false
	}
	p.seen[key] = true
	if x.err == nil {
		got := x.got()
		x = p.smaller(x, func(other *exchange) bool { return other.got() == got && keyOf(other.o.name, judge(other)) == key })
	}
	p.find(x, judge(x))
	return false
}

// number is what differs between two findings that are the same.
var number = regexp.MustCompile(`[0-9]+|"[^"]*"`)

func keyOf(operation string, j judgement) string {
	return operation + "\x00" + j.wanted + "\x00" + number.ReplaceAllString(j.reason, "#")
}

// find notes a finding.
func (p *prober) find(x *exchange, j judgement) {
	if len(p.report.Findings) == mostFindings {
		p.report.More++
		return
	}
	test := x.request
	test.Target = p.Base + test.Target
	p.report.Findings = append(p.report.Findings, Finding{x.o.name, x.request.Line(p.Address + p.Base), j.wanted, x.got(), j.reason,
		test.Test(fmt.Sprintf("%s %d", x.o.name, len(p.report.Findings)+1))})
}

// contractual holds an answer against the contract, and against what HTTP asks of every answer.
func (p *prober) contractual(x *exchange) judgement {
	a := x.answer
	switch {
	case x.err != nil:
		return judgement{"an answer", x.err.Error()}
	case a.Status == 0: // a stream without an item yet
		return judgement{}
	case a.Status >= 500 && !x.o.has(a.Status):
		answers := strings.Trim(fmt.Sprint(x.o.statuses), "[]")
		return judgement{"a status of the contract: " + answers, fmt.Sprintf("the answer %d is an error of the server's own, which the contract does not have", a.Status)}
	case a.Status == 401 && a.Header.Get("WWW-Authenticate") == "":
		return judgement{"401 with WWW-Authenticate", "the answer 401 has no field WWW-Authenticate (RFC 9110, 15.5.2)"}
	case a.Status == 405 && a.Header.Get("Allow") == "":
		return judgement{"405 with Allow", "the answer 405 has no field Allow (RFC 9110, 15.5.6)"}
	case (a.Status == 304 || a.Status == 204 || x.request.Method == http.MethodHead) && len(a.Body) > 0 && p.ctx.Err() == nil:
		return judgement{"no body", fmt.Sprintf("the answer %d to %s has a body of %d bytes (RFC 9110, 6.4.1)", a.Status, x.request.Method, len(a.Body))}
	}
	if !p.ours && x.o.guarded && (a.Status == 401 || a.Status == 403) && !x.o.has(a.Status) {
		return judgement{} // which goes without saying where credentials are required
	}
	held := valid.Answer{Method: x.request.Method, URL: x.url, Status: a.Status, Header: a.Header, Body: a.Body, Cut: a.Cut}
	err := p.answers.Check(held)
	if errors.Is(err, valid.ErrNoOperation) {
		return p.elsewhere(x)
	}
	if err != nil {
		_, reason, _ := strings.Cut(err.Error(), "): ")
		if first, more, several := strings.Cut(reason, "\n"); several {
			reason = fmt.Sprintf("%s, and %d more", first, strings.Count(more, "\n")+1)
		}
		return judgement{"an answer of the contract", reason}
	}
	return judgement{}
}

// elsewhere judges the answer to a request that the contract has no operation for.
func (p *prober) elsewhere(x *exchange) judgement {
	a := x.answer
	media, _, _ := strings.Cut(a.Header.Get("Content-Type"), ";")
	switch {
	case x.request.Method == http.MethodOptions || !p.ours:
		return judgement{}
	case a.Status < 300:
		return judgement{"404 or 405", fmt.Sprintf("%s %s is no operation of the contract, and was answered %d", x.request.Method, x.o.path, a.Status)}
	case a.Status >= 400 && !strings.HasSuffix(media, "+json") && media != "application/json":
		return judgement{"a problem as JSON", fmt.Sprintf("the answer %d is %q, and no problem", a.Status, media)}
	}
	return judgement{}
}

// wants checks that one of some statuses comes back, and a code where one is known. Answers that say that the request came
// at a bad time are no findings.
func wants(what, code string, statuses ...int) check {
	return func(x *exchange) judgement {
		statuses := slices.DeleteFunc(slices.Clone(statuses), func(s int) bool { return s == 0 })
		if x.later() || slices.Contains(statuses, x.answer.Status) && (code == "" || x.code() == code) {
			return judgement{}
		}
		var names []string
		for _, s := range statuses {
			names = append(names, strconv.Itoa(s))
		}
		wanted := strings.TrimSpace(strings.Join(names, " or ") + " " + code)
		if len(names) > 9 {
			wanted = "a refusal (4xx)"
		}
		return judgement{wanted, what}
	}
}

// later reports whether an answer says that the request came at a bad time, or has not begun.
func (x *exchange) later() bool {
	return x.answer.Status == 0 || x.answer.Status == http.StatusTooManyRequests || x.answer.Status == http.StatusServiceUnavailable && x.o.has(503)
}

// accepted checks that a request which keeps all rules is not refused for breaking one.
func (p *prober) accepted(x *exchange) judgement {
	refused := x.answer.Status == 400 || x.answer.Status == 415 || x.answer.Status == 422
	if refused && !p.maker.Takes(x.o.method, x.o.path, x.request) {
		return judgement{} // it was made smaller, and is wrong now
	}
	if !refused || x.o.rules && x.answer.Status != 415 {
		return judgement{}
	}
	return judgement{"a success", fmt.Sprintf("a request that keeps all rules of the contract is refused: %s", firstFault(x))}
}

// firstFault is what a problem says about an input.
func firstFault(x *exchange) string {
	var p struct {
		Detail string `json:"detail"`
		Title  string `json:"title"`
		Errors []struct {
			In      string `json:"in"`
			Name    string `json:"name"`
			Pointer string `json:"pointer"`
			Detail  string `json:"detail"`
		} `json:"errors"`
	}
	json.Unmarshal(x.answer.Body, &p)
	for _, e := range p.Errors {
		return strings.TrimSpace(e.In + " " + e.Name + e.Pointer + " " + e.Detail)
	}
	if p.Detail != "" {
		return p.Detail
	}
	return p.Title
}
