package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/internal/discover"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/observe/trail"
	"github.com/wicketway/wicketway/problem"
)

// A following is what the command was asked for.
type following struct {
	at     string // of the trails
	client *http.Client
	out    screen

	id                          string
	last                        int
	failed, steps, asJSON, asGo bool
	seen                        map[string]bool // what was shown, by number and time
	waiting                     bool            // for an API that does not answer
}

func trailCommand() *cobra.Command {
	f := following{client: discover.Client()}
	c := &cobra.Command{
		Use:   "trail ADDRESS",
		Short: "Follow what happens inside an API in development",
		Long: `Follow what happens inside an API in development: each request when it has ended, and of those that failed the
steps with their times, what the guard decided, what was asked of the database, what was logged, and the causes with
their places in the code. It goes on until it is stopped, also when the program starts again.

The API keeps its trails with package observe/trail. ADDRESS is that of the API, whose api-catalog (RFC 9727) leads
there, or that of the trails themselves. Where they are guarded the token is in WICKETWAY_TOKEN.

With --id one request is shown, wholly, and with --test as a test in Go that sends it again.`,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			f.out = screenOf(c.OutOrStdout())
			switch {
			case f.last < 0:
				return fmt.Errorf("--last %d: must not be negative", f.last)
			case f.asGo && f.id == "":
				return errors.New("--test needs the request that it is about: --id ID")
			}
			var err error
			if f.at, err = discover.Trails(c.Context(), f.client, args[0]); err != nil {
				return err
			}
			if f.id != "" {
				return f.one(c.Context())
			}
			return f.follow(c.Context(), screenOf(c.ErrOrStderr()))
		},
	}
	flags := c.Flags()
	flags.IntVar(&f.last, "last", 10, "begin with up to this many requests that have ended")
	flags.BoolVar(&f.failed, "failed", false, "show only requests that failed")
	flags.BoolVar(&f.steps, "steps", false, "also show the steps of requests that did not fail")
	flags.StringVar(&f.id, "id", "", "show one request: its `ID`, as in the field X-Request-Id, or its number")
	flags.BoolVar(&f.asGo, "test", false, "print the request of --id as a test in Go")
	flags.BoolVar(&f.asJSON, "json", false, "print each trail as a line of JSON")
	return c
}

// get asks for trails.
func (f *following) get(ctx context.Context, below, accept string) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, f.at+below, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", accept)
	if token := os.Getenv("WICKETWAY_TOKEN"); token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := f.client.Do(r)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode == http.StatusOK {
		return resp, nil
	}
	defer resp.Body.Close()
	why := fmt.Errorf("%s%s was answered %s", f.at, below, resp.Status)
	if p, err := problem.Read(resp); err == nil {
		why = fmt.Errorf("%s%s was answered %d: %s %s", f.at, below, resp.StatusCode, p.Kind().Title(), p.Detail())
	}
	if resp.StatusCode >= http.StatusInternalServerError {
		return nil, why // perhaps it is not ready yet
	}
	return nil, &noTrail{why}
}

// A noTrail says that there are no trails.
type noTrail struct{ error }

// one shows one request.
func (f *following) one(ctx context.Context) error {
	resp, err := f.get(ctx, "/"+url.PathEscape(f.id), "application/json")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var t trail.Trail
	if err := json.UnmarshalRead(io.LimitReader(resp.Body, mostOfAnswer), &t); err != nil {
		return fmt.Errorf("%s/%s is not a trail: %w", f.at, f.id, err)
	}
	switch {
	case f.asJSON:
		return f.json(t)
	case f.asGo:
		return f.test(t)
	}
	show(f.out, t, everyStep)
	showRequest(f.out, t)
	return nil
}

func (f *following) json(t trail.Trail) error {
	text, err := json.Marshal(t)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(f.out, string(text))
	return checked(err)
}

// howItCame are the header fields that say how a request came, and not what it asks.
var howItCame = []string{"Accept-Encoding", "Connection", "Content-Length", "User-Agent", "Traceparent", "Tracestate", "X-Request-Id"}

// test prints a request as a test. What was blanked is the caller's token.
func (f *following) test(t trail.Trail) error {
	if t.Status == 0 || t.Code == "caller-left" {
		return errors.New("the request got no complete answer, so there is nothing to test")
	}
	if t.Left > 0 {
		return fmt.Errorf("%d bytes of the body were not kept, so it cannot be written as a test", t.Left)
	}
	r := requests.Request{Method: t.Method, Target: t.Target, Status: t.Status, Code: t.Code}
	for _, name := range slices.Sorted(maps.Keys(t.Header)) {
		if slices.Contains(howItCame, name) {
			continue
		}
		for _, value := range t.Header[name] {
			r.Header = append(r.Header, requests.Field{Name: name, Value: strings.ReplaceAll(value, secret.Blank, requests.Token)})
		}
	}
	if t.Body != "" {
		r.Body = []byte(t.Body)
	}
	_, err := fmt.Fprint(f.out, r.Test(strings.NewReplacer("{", "", "}", "").Replace(t.Route)+" "+strconv.Itoa(t.Status)))
	return checked(err)
}

// patience is how long a program that does not answer is given until it is asked again.
const patience = 500 * time.Millisecond

// mostAgain is how many trails are asked for where the connection was lost.
const mostAgain = 1000

// follow shows requests as they end, until the context does.
func (f *following) follow(ctx context.Context, status screen) error {
	resp, err := f.get(ctx, "/", "application/json") // a stream has no answer before its first item
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var all []trail.Trail
	err = json.UnmarshalRead(io.LimitReader(resp.Body, mostOfAnswer), &all)
	if err != nil || len(all) > 0 && all[0].Number == 0 {
		return errors.Join(fmt.Errorf("%s is not a list of trails", f.at), err)
	}
	last := f.last
	for {
		err := f.stream(ctx, last)
		if ctx.Err() != nil {
			return nil
		}
		if _, is := errors.AsType[*noTrail](err); is {
			return err
		}
		if !f.waiting {
			fmt.Fprintln(status, "The connection has ended; waiting for the API.")
			f.waiting = true
		}
		select {
		case <-ctx.Done():
		case <-time.After(patience):
		}
		last = mostAgain // what was shown already is passed over
	}
}

// stream shows the requests of one connection.
func (f *following) stream(ctx context.Context, last int) error {
	resp, err := f.get(ctx, "/live?last="+strconv.Itoa(last), "application/x-ndjson")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	for from := jsontext.NewDecoder(resp.Body); ; {
		value, err := from.ReadValue()
		if err != nil {
			return err
		}
		var t trail.Trail
		if err := json.Unmarshal(value, &t); err != nil || t.Method == "" {
			return &noTrail{errors.Join(fmt.Errorf("%s/live has something that is not a trail: %.200s", f.at, value), err)}
		}
		f.waiting = false
		key := fmt.Sprint(t.Number, t.At)
		if f.seen[key] || f.failed && !hasFailed(t) {
			continue
		}
		if f.seen == nil || len(f.seen) > 10*mostAgain {
			f.seen = map[string]bool{}
		}
		f.seen[key] = true
		if f.asJSON {
			if err := f.json(t); err != nil {
				return &noTrail{err}
			}
			continue
		}
		how := oneLine
		if f.steps || hasFailed(t) {
			how = theSteps
		}
		show(f.out, t, how)
	}
}

func hasFailed(t trail.Trail) bool { return t.Failure != nil || t.Status >= 400 || t.Notes != nil }
