package main

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

func tokenCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "token",
		Short: "Make and read tokens (JWT) for trying things out",
		Args:  cobra.ArbitraryArgs,
		RunE:  chooses,
	}
	c.AddCommand(tokenMakeCommand(), tokenShowCommand())
	return c
}

// keyFlags are those that say which key a token is signed with.
type keyFlags struct{ key, algorithm, issuer, audience, kid string }

func (k *keyFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&k.key, "key", "", "`FILE` with the key: PEM, a JWK or JWK set, or the bytes of a secret")
	c.Flags().
		StringVar(&k.algorithm, "alg", "", "algorithm of the key (default: HS256 for a secret, RS256, ES256 or EdDSA by its type)")
	c.Flags().StringVar(&k.issuer, "issuer", "", "the claim iss")
	c.Flags().StringVar(&k.audience, "audience", "", "the claim aud")
	c.Flags().StringVar(&k.kid, "kid", "", "the name of the key")
}

// keys reads the key.
func (k *keyFlags) keys() (auth.Keys, error) {
	text, err := os.ReadFile(k.key)
	if err != nil {
		return auth.Keys{}, err
	}
	keys, err := k.parse(text)
	if err == nil {
		err = auth.Bearer(keys, auth.Settings{}).(interface{ Check() error }).Check()
	}
	if err != nil {
		return keys, fmt.Errorf("%s: %w", k.key, err)
	}
	return keys, nil
}

func (k *keyFlags) parse(text []byte) (auth.Keys, error) {
	candidates := []string{"RS256", "ES256", "EdDSA", "HS256"}
	if k.algorithm != "" {
		candidates = []string{k.algorithm}
	}
	var make func(algorithm string) auth.Keys
	switch {
	case bytes.Contains(text, []byte("-----BEGIN")):
		make = func(algorithm string) auth.Keys { return auth.PEM(algorithm, text) }
	case jsontext.Value(text).Kind() == '{':
		return k.named(auth.JWK(text, candidates...)), nil
	default:
		make = func(algorithm string) auth.Keys { return auth.Trust(algorithm, bytes.TrimRight(text, "\r\n")) }
		if k.algorithm == "" {
			candidates = []string{"HS256"}
		}
	}
	var errs []error
	for _, algorithm := range candidates {
		keys := make(algorithm)
		err := auth.Bearer(keys, auth.Settings{}).(interface{ Check() error }).Check()
		if err == nil {
			return k.named(keys), nil
		}
		errs = append(errs, err)
	}
	return auth.Keys{}, errors.Join(errs...)
}

func (k *keyFlags) named(keys auth.Keys) auth.Keys {
	if k.kid != "" {
		keys = keys.Named(k.kid)
	}
	if k.issuer != "" {
		keys = keys.IssuedBy(k.issuer)
	}
	return keys
}

func (k *keyFlags) guard(keys auth.Keys) exchange.Authenticator {
	var settings auth.Settings
	if k.audience != "" {
		settings.Audience = []string{k.audience}
	}
	return auth.Bearer(keys, settings)
}

func tokenMakeCommand() *cobra.Command {
	var k keyFlags
	var subject, scopes, claims string
	var lifetime time.Duration
	c := &cobra.Command{
		Use:   "make",
		Short: "Sign a token",
		Long: `Sign a token, and print it.

Without --key a random secret is generated and printed.`,
		Args: takes,
		RunE: func(c *cobra.Command, _ []string) error {
			if subject == "" {
				return errors.New("missing --subject NAME, the caller that the token is for")
			}
			keys, err := k.orMadeUp(c.ErrOrStderr())
			if err != nil {
				return err
			}
			t := auth.NewToken{
				Subject:  subject,
				Scopes:   strings.Fields(strings.ReplaceAll(scopes, ",", " ")),
				Lifetime: lifetime,
			}
			if claims != "" {
				var more map[string]any
				if err := json.Unmarshal([]byte(claims), &more); err != nil {
					return fmt.Errorf("--claims %s is not a JSON object, such as {\"plate\":\"OB-1204\"}", claims)
				}
				t.Claims = more
			}
			text, err := auth.Issue(k.guard(keys), t)
			if err != nil {
				return err
			}
			fmt.Fprintln(c.OutOrStdout(), text)
			return nil
		},
	}
	k.add(c)
	c.Flags().StringVar(&subject, "subject", "", "the claim sub: whose token it is")
	c.Flags().StringVar(&scopes, "scopes", "", "scopes of the caller, separated by spaces or commas")
	c.Flags().DurationVar(&lifetime, "expires-in", time.Hour, "`DURATION` for which it is good: 90s, 15m, 12h")
	c.Flags().StringVar(&claims, "claims", "", "more claims, as a JSON object")
	return c
}

// orMadeUp reads the key, or makes a secret up and says so.
func (k *keyFlags) orMadeUp(notes io.Writer) (auth.Keys, error) {
	if k.key != "" {
		return k.keys()
	}
	if k.algorithm != "" && k.algorithm != "HS256" {
		return auth.Keys{}, fmt.Errorf("--alg %s needs a --key", k.algorithm)
	}
	secret := base64.RawURLEncoding.EncodeToString(madeUp())
	fmt.Fprintf(notes, "signed by HS256 with a random secret: %s\n", secret)
	return k.named(auth.HS256([]byte(secret))), nil
}

func madeUp() []byte {
	secret := make([]byte, 32)
	rand.Read(secret) // never fails (crypto/rand)
	return secret
}

// A shownToken is what a token says, and whether it is good.
type shownToken struct {
	Header jsontext.Value `json:"header"`
	Claims jsontext.Value `json:"claims"`
	// Checked says whether there was a key to verify it with; Wrong is what is wrong then.
	Checked bool   `json:"checked"`
	Wrong   string `json:"wrong,omitzero"`
	Code    string `json:"code,omitzero"`
}

func tokenShowCommand() *cobra.Command {
	var k keyFlags
	var asJSON bool
	c := &cobra.Command{
		Use:   "show TOKEN",
		Short: "Show the claims of a token, and with a key whether it is valid",
		Long: `Show the claims of a token, and with a key whether it is valid. TOKEN is - for standard input.

The exit status is 1 where the token is not valid.`,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			text := args[0]
			if text == "-" {
				all, err := io.ReadAll(io.LimitReader(c.InOrStdin(), 1<<20))
				if err != nil {
					return checked(err)
				}
				text = string(all)
			}
			text = strings.TrimPrefix(strings.TrimSpace(text), "Bearer ")
			shown, err := showToken(text)
			if err != nil {
				return checked(err)
			}
			if k.key != "" {
				if err := k.verify(text, &shown); err != nil {
					return err
				}
			}
			if asJSON {
				err = printJSON(c.OutOrStdout(), shown)
			} else {
				shown.print(c.OutOrStdout())
			}
			if err == nil && shown.Wrong != "" {
				err = checked(errors.New("the token is not valid: " + shown.Wrong))
			}
			return err
		},
	}
	k.add(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func showToken(text string) (shownToken, error) {
	var shown shownToken
	parts := strings.Split(text, ".")
	if len(parts) != 3 {
		return shown, fmt.Errorf("not a signed JWT: expected three parts separated by dots, found %d", len(parts))
	}
	for i, into := range []*jsontext.Value{&shown.Header, &shown.Claims} {
		raw, err := base64.RawURLEncoding.DecodeString(parts[i])
		if err != nil {
			return shown, fmt.Errorf("part %d of the token is not base64url (RFC 4648, 5)", i+1)
		}
		if *into = raw; !into.IsValid() || into.Kind() != '{' {
			return shown, fmt.Errorf("part %d of the token is not a JSON object: %.200q", i+1, raw)
		}
	}
	return shown, nil
}

// verify asks the same guard that an API has.
func (k *keyFlags) verify(text string, shown *shownToken) error {
	keys, err := k.keys()
	if err != nil {
		return err
	}
	r, err := http.NewRequest(http.MethodGet, "/", nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+text)
	var claims struct {
		Audience jsontext.Value `json:"aud"`
	}
	if k.audience == "" && json.Unmarshal(shown.Claims, &claims) == nil && claims.Audience.Kind() == '"' {
		json.Unmarshal(claims.Audience, &k.audience) // whatever it says, where nothing is wanted
	}
	shown.Checked = true
	_, err = k.guard(keys).Authenticate(r)
	if p := problem.In(err); p != nil {
		shown.Wrong, shown.Code = strings.TrimSuffix(p.Detail(), "."), p.Kind().Code()
		return nil
	}
	return checked(err)
}

func (s shownToken) print(out io.Writer) {
	t := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	defer t.Flush()
	printMembers(t, "header", s.Header)
	printMembers(t, "claims", s.Claims)
	switch {
	case !s.Checked:
		fmt.Fprintln(t, "verified\tno: give the --key that it is signed with")
	case s.Wrong != "":
		fmt.Fprintf(t, "verified\tno: %s (%s)\n", s.Wrong, s.Code)
	default:
		fmt.Fprintln(t, "verified\tyes")
	}
}

// printMembers prints an object a line a member; moments are told as such.
func printMembers(out io.Writer, label string, object jsontext.Value) {
	d := jsontext.NewDecoder(bytes.NewReader(object))
	d.ReadToken()
	for i := 0; d.PeekKind() == '"'; i++ {
		name, _ := d.ReadToken()
		member := name.String()
		value, err := d.ReadValue()
		if err != nil {
			return
		}
		note := ""
		var seconds float64
		if (member == "exp" || member == "iat" || member == "nbf") && json.Unmarshal(value, &seconds) == nil &&
			seconds < 1e11 {
			at := time.Unix(int64(seconds), 0).UTC()
			note = fmt.Sprintf("\t%s, %s", at.Format(time.RFC3339), fromNow(time.Until(at)))
		}
		fmt.Fprintf(out, "%s\t%s\t%s%s\n", first(i, label), member, value, note)
	}
}

func fromNow(d time.Duration) string {
	if d < 0 {
		return (-d).Round(time.Second).String() + " ago"
	}
	return "in " + d.Round(time.Second).String()
}
