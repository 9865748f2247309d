package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"go/format"
	"io"
	"net"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/cmd/wicketway/internal/watch"
	"github.com/wicketway/wicketway/internal/discover"
	"github.com/wicketway/wicketway/internal/probe"
)

// A probing is what the command was asked for.
type probing struct {
	version, contract, junit, tests string
	tokenFiles                      []string
	otherFile                       string
	settings                        probe.Settings
	asJSON                          bool
}

func probeCommand() *cobra.Command {
	var p probing
	c := &cobra.Command{
		Use:   "probe TARGET [-- ARGUMENTS]",
		Short: "Drive an API by its contract, and say where an answer is not as it says",
		Long: `Drive an API by its contract, and say where an answer is not as it says.

TARGET is the http or https address of an API that runs, or the Go package of a program that calls api.Serve, which is
built and started on a free port, with what is behind --. The contract of an address is found in its api-catalog (RFC
9727), by a Link with the relation service-desc, at the address itself, or in the file that --contract names. Requests
go to the address alone: no redirect, no link and no server of the contract leads elsewhere.

Good requests are sent, wrong ones with one fault each, and others that are drawn at the edges of every rule. What is
created is read, changed, asked for by another caller, and deleted; lists are read page by page. The requests change
data: with --safe only those that read are sent. Nothing is deleted that the run has not created, except what has no
parameter in its path.

The token of a caller is in WICKETWAY_TOKEN, or in a file; of several files each operation takes the first token that
may call it. Where there is none, and an open operation of the contract gives an access_token (RFC 6749, 5.1), its
example gets one. Exit status 1 says that there are findings.`,
		Args: func(c *cobra.Command, args []string) error {
			own := args
			if n := c.ArgsLenAtDash(); n >= 0 {
				own = args[:n]
			}
			switch {
			case len(own) > 1:
				return fmt.Errorf("unexpected argument %q: %s; arguments of the program come behind --", own[1], c.CommandPath()+" TARGET [-- ARGUMENTS]")
			case len(own) == 0:
				return fmt.Errorf("missing TARGET: %s", c.CommandPath()+" TARGET [-- ARGUMENTS]")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if err := p.tokens(); err != nil {
				return err
			}
			reports, err := p.run(c.Context(), screenOf(c.ErrOrStderr()), args[0], args[1:])
			if err != nil {
				return err
			}
			return p.answer(c.OutOrStdout(), reports)
		},
	}
	f := c.Flags()
	f.StringVar(&p.version, "version", "", "probe this version alone (default: all)")
	f.StringVar(&p.contract, "contract", "", "the contract is in this `FILE`")
	f.Uint64Var(&p.settings.Seed, "seed", 0, "where what is drawn begins; the same `NUMBER` draws the same requests")
	f.IntVar(&p.settings.Draws, "draws", 60, "how many requests are drawn for each operation")
	f.DurationVar(&p.settings.For, "for", 0, "draw for this long, such as `30s`, instead of --draws")
	f.StringArrayVar(&p.settings.Only, "only", nil, "probe this operation alone, or those of a pattern, such as 'passages.*'; can be given again")
	f.BoolVar(&p.settings.Safe, "safe", false, "send GET, HEAD and OPTIONS alone")
	f.StringArrayVar(&p.tokenFiles, "token-file", nil, "the `FILE` has a caller's token; can be given again, for callers with other scopes")
	f.StringVar(&p.otherFile, "other-token-file", "", "the `FILE` has the token of another caller, for whom what the first one creates must not be there (default: WICKETWAY_OTHER_TOKEN)")
	f.BoolVar(&p.asJSON, "json", false, "print the findings as JSON")
	f.StringVar(&p.junit, "junit", "", "write the results into a `FILE` as JUnit XML as well")
	f.StringVar(&p.tests, "tests", "", "write a test in Go for each finding into a `FILE`, for a package main with the API in the variable api")
	c.ValidArgsFunction = completeArguments
	return c
}

// readToken reads the token in a file.
func readToken(file string) (string, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	token := strings.TrimSpace(string(text))
	if token == "" || strings.ContainsAny(token, " \t\r\n") {
		return "", fmt.Errorf("%s has no token: it must have one, and nothing else", file)
	}
	return token, nil
}

// tokens reads those of the callers.
func (p *probing) tokens() error {
	if token := os.Getenv("WICKETWAY_TOKEN"); token != "" {
		p.settings.Tokens = append(p.settings.Tokens, token)
	}
	for _, file := range p.tokenFiles {
		token, err := readToken(file)
		if err != nil {
			return err
		}
		p.settings.Tokens = append(p.settings.Tokens, token)
	}
	p.settings.Other = os.Getenv("WICKETWAY_OTHER_TOKEN")
	if p.otherFile != "" {
		var err error
		p.settings.Other, err = readToken(p.otherFile)
		return err
	}
	return nil
}

// run probes each contract of the target.
func (p *probing) run(ctx context.Context, errs screen, target string, arguments []string) (reports []probe.Report, err error) {
	address, contracts := target, []discover.Contract(nil)
	if strings.HasPrefix(target, "http://") || strings.HasPrefix(target, "https://") {
		if len(arguments) > 0 {
			return nil, fmt.Errorf("%s is an address, which takes no arguments behind --", target)
		}
		contracts, err = p.ofAddress(ctx, target)
	} else if host, _, not := net.SplitHostPort(target); not == nil && host != "" {
		return nil, fmt.Errorf("%s is no package; the address of an API begins with http:// or https://: http://%s", target, target)
	} else {
		var end func()
		if address, contracts, end, err = p.ofPackage(ctx, errs, target, arguments); end != nil {
			defer end()
		}
	}
	if err != nil {
		return nil, checked(err)
	}
	if contracts, err = p.chosen(target, contracts); err != nil {
		return nil, err
	}
	at, err := url.Parse(address)
	if err != nil {
		return nil, checked(err)
	}
	send, done := probe.Address(at)
	defer done()
	for _, one := range contracts {
		s := p.settings
		s.Document, s.Base, s.Send, s.Address = one.Document, one.Base, send, at.Scheme+"://"+at.Host
		stop := errs.progress("probing " + one.Document.Info.Title + " " + one.Name)
		report, err := probe.Run(ctx, s)
		stop()
		if err != nil {
			return nil, checked(err)
		}
		if report.Title = strings.TrimSpace(one.Document.Info.Title + " " + one.Name); ctx.Err() != nil {
			return nil, checked(errors.New("interrupted"))
		}
		reports = append(reports, report)
	}
	return reports, nil
}

func (p *probing) ofAddress(ctx context.Context, address string) ([]discover.Contract, error) {
	if p.contract == "" {
		client := discover.Client()
		defer client.CloseIdleConnections()
		return discover.At(ctx, client, address)
	}
	text, err := os.ReadFile(p.contract)
	if err != nil {
		return nil, err
	}
	doc, err := readContract(p.contract, text)
	if err != nil {
		return nil, err
	}
	at, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	base := strings.TrimSuffix(at.EscapedPath(), "/")
	if base == "" {
		base = discover.Base(at, doc)
	}
	return []discover.Contract{{Document: doc, Base: base}}, nil
}

func (p *probing) ofPackage(ctx context.Context, errs screen, pkg string, arguments []string) (string, []discover.Contract, func(), error) {
	stop := errs.progress("building and starting " + pkg)
	address, api, end, err := watch.Once(ctx, pkg, arguments)
	if stop(); err != nil {
		return "", nil, nil, err
	}
	if p.contract != "" {
		contracts, err := p.ofAddress(ctx, address)
		return address, contracts, end, err
	}
	all, err := contractsOf(api)
	var contracts []discover.Contract
	for _, one := range all {
		contracts = append(contracts, discover.Contract{Name: one.version, Document: one.doc})
	}
	return address, contracts, end, err
}

// chosen are the contracts of the version that was asked for.
func (p *probing) chosen(target string, all []discover.Contract) ([]discover.Contract, error) {
	if p.version == "" {
		return all, nil
	}
	var names []string
	for _, one := range all {
		if one.Name == p.version {
			return []discover.Contract{one}, nil
		}
		names = append(names, one.Name)
	}
	return nil, fmt.Errorf("%s has no version %s; available: %s", target, p.version, strings.Join(names, ", "))
}

// answer prints what came of it.
func (p *probing) answer(out io.Writer, reports []probe.Report) error {
	findings := []probe.Finding{}
	for _, r := range reports {
		findings = append(findings, r.Findings...)
	}
	if p.junit != "" {
		file, err := os.Create(p.junit)
		if err != nil {
			return checked(err)
		}
		if err := errors.Join(probe.WriteJUnit(file, reports), file.Close()); err != nil {
			return checked(err)
		}
	}
	if p.tests != "" && len(findings) > 0 {
		text, err := testsOf(findings)
		if err == nil {
			err = os.WriteFile(p.tests, text, 0o644)
		}
		if err != nil {
			return checked(err)
		}
	}
	if p.asJSON {
		if err := printJSON(out, findings); err != nil {
			return err
		}
	} else {
		for i, r := range reports {
			if i > 0 {
				fmt.Fprintln(out)
			}
			printProbe(screenOf(out), r)
		}
	}
	if len(findings) > 0 {
		return checked(fmt.Errorf("%d %s not as the contract says (seed %d)", len(findings), plural(len(findings), "answer is", "answers are"), p.settings.Seed))
	}
	return nil
}

// testsOf are the tests of findings as a file, for a package main in which the variable api is the API.
func testsOf(findings []probe.Finding) ([]byte, error) {
	var tests strings.Builder
	for _, f := range findings {
		tests.WriteString("\n" + f.Test)
	}
	var b bytes.Buffer
	b.WriteString("package main\n\nimport (\n")
	for _, one := range []struct{ pkg, use string }{{"net/http/httptest", "httptest."}, {"os", "os.Getenv("}, {"strings", "strings.NewReader("}, {"testing", "testing."}} {
		if strings.Contains(tests.String(), one.use) {
			fmt.Fprintf(&b, "%q\n", one.pkg)
		}
	}
	fmt.Fprintf(&b, "\n%q\n)\n%s", "github.com/wicketway/wicketway/wicketwaytest", tests.String())
	return format.Source(b.Bytes())
}

func printProbe(out screen, r probe.Report) {
	fmt.Fprintf(out, "%s: %d requests\n\n", out.mark(strong, r.Title), r.Sent)
	g := newGrid(out)
	g.row("operation", "sent", "answered")
	for _, t := range r.Tried {
		g.row(t.Operation, fmt.Sprint(t.Sent), t.Answered())
	}
	g.flush()
	for i, n := range r.NotReached() {
		if i == 0 {
			fmt.Fprintf(out, "\n%s\n", out.mark(strong, "not reached"))
		}
		fmt.Fprintf(out, "  %s: %s\n", n.What, out.mark(faint, fold(strings.Join(n.Where, ", "), out.width()-4, len(n.What)+4)))
	}
	for _, f := range r.Findings {
		fmt.Fprintf(out, "\n%s: %s\n  wanted %s, got %s\n  %s\n", out.mark(bad, f.Operation), f.Reason, f.Wanted, out.mark(bad, f.Got), out.mark(faint, f.Request))
	}
	if r.More > 0 {
		fmt.Fprintf(out, "\nand %d more\n", r.More)
	}
}
