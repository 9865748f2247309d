// Package discover finds the contracts of an API that runs: in its catalog (RFC 9727), by a link to its description (RFC
// 8631), or at the address itself; and in the catalog where it keeps its trails. Nothing is asked for at another host, whatever an answer says.
package discover

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/facts"
)

// A Contract that was found.
type Contract struct {
	Name     string // the last part of its address
	Address  string
	Tag      string // the entity tag that it had
	Base     string // where its paths begin on the host, such as /v1
	Document *contract.Document
}

// Client is a client that stays at one host: other redirects are not followed, and proxies of the environment are not asked.
func Client() *http.Client {
	return &http.Client{
		Transport: &http.Transport{},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 5 || r.URL.Host != via[0].URL.Host {
				return http.ErrUseLastResponse
			}
			return nil
		},
	}
}

const catalogPath = "/.well-known/api-catalog"

// At finds the contracts of the API at an address.
func At(ctx context.Context, client *http.Client, address string) ([]Contract, error) {
	at, err := url.Parse(address)
	if err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https" {
		return nil, fmt.Errorf("%s is not an http or https address", address)
	}
	own, ownErr := get(ctx, client, at)
	if ownErr == nil {
		if doc, err := yaml.Read(own.body); err == nil && own.status == http.StatusOK {
			return []Contract{contractAt(at, own, doc)}, nil
		}
	}
	catalog := *at
	catalog.Path, catalog.RawPath, catalog.RawQuery = catalogPath, "", ""
	listed, err := get(ctx, client, &catalog)
	if err != nil {
		return nil, err
	}
	addresses := inCatalog(listed, "service-desc")
	for _, link := range append(own.header.Values("Link"), listed.header.Values("Link")...) {
		addresses = append(addresses, described(link)...)
	}
	var all []Contract
	seen := map[string]bool{}
	var elsewhere error
	for _, reference := range addresses {
		to, err := catalog.Parse(reference)
		switch {
		case err != nil || seen[to.String()]:
			continue
		case to.Host != at.Host || to.Scheme != at.Scheme:
			elsewhere = errors.Join(elsewhere, fmt.Errorf("a contract is at %s, which is another host", to))
			continue
		}
		seen[to.String()] = true
		got, err := get(ctx, client, to)
		if err != nil {
			return nil, err
		}
		if got.status != http.StatusOK {
			return nil, fmt.Errorf("the contract %s was answered %d", to, got.status)
		}
		doc, err := yaml.Read(got.body)
		if err != nil {
			return nil, fmt.Errorf("the contract %s: %w", to, err)
		}
		all = append(all, contractAt(to, got, doc))
	}
	if all == nil {
		return nil, errors.Join(fmt.Errorf("%s leads to no contract: it has neither %s nor a Link with the relation service-desc", address, catalogPath), elsewhere)
	}
	return all, nil
}

// Trails finds where the API at an address lists what happened to its last requests: the address itself, where it has a path.
func Trails(ctx context.Context, client *http.Client, address string) (string, error) {
	at, err := url.Parse(address)
	if err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https" {
		return "", fmt.Errorf("%s is not an http or https address", address)
	}
	if strings.Trim(at.Path, "/") != "" {
		return strings.TrimRight(at.String(), "/"), nil
	}
	at.Path, at.RawPath, at.RawQuery = catalogPath, "", ""
	listed, err := get(ctx, client, at)
	if err != nil {
		return "", err
	}
	for _, reference := range inCatalog(listed, facts.TrailsRelation) {
		if to, err := at.Parse(reference); err == nil && to.Host == at.Host && to.Scheme == at.Scheme {
			return to.String(), nil
		}
	}
	return "", fmt.Errorf("%s%s leads to no trails: does the API run in development, with the Parts of observe/trail? Else give their own address, such as %s://%s/trails",
		strings.TrimSuffix(address, "/"), catalogPath, at.Scheme, at.Host)
}

// contractAt is a document that was got. Its paths begin where its first server is, if that is this host.
func contractAt(at *url.URL, got answer, doc *contract.Document) Contract {
	name := path.Base(at.Path)
	return Contract{strings.TrimSuffix(strings.TrimSuffix(name, ".json"), ".yaml"), at.String(), got.header.Get("ETag"), Base(at, doc), doc}
}

// Base is where the paths of a document begin on the host that an address is of: at its first server there.
func Base(at *url.URL, doc *contract.Document) string {
	for _, s := range doc.Servers {
		text := s.URL
		for name, v := range s.Variables.All() {
			text = strings.ReplaceAll(text, "{"+name+"}", v.Default)
		}
		if to, err := at.Parse(text); err == nil && (to.Host == at.Host || len(doc.Servers) == 1) {
			return strings.TrimSuffix(to.EscapedPath(), "/")
		}
	}
	return ""
}

type answer struct {
	status int
	header http.Header
	body   []byte
}

func get(ctx context.Context, client *http.Client, at *url.URL) (answer, error) {
	return getIf(ctx, client, at, "")
}

// getIf gets something unless it has a tag.
func getIf(ctx context.Context, client *http.Client, at *url.URL, tag string) (a answer, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return a, err
	}
	r.Header.Set("Accept", "application/json, application/linkset+json, application/yaml;q=0.9, */*;q=0.5")
	if tag != "" {
		r.Header.Set("If-None-Match", tag)
	}
	got, err := client.Do(r)
	if err != nil {
		if e, is := errors.AsType[*url.Error](err); is {
			err = e.Err
		}
		return a, fmt.Errorf("%s: %w", at, err)
	}
	defer got.Body.Close()
	a.status, a.header = got.StatusCode, got.Header
	a.body, err = io.ReadAll(io.LimitReader(got.Body, contract.MaxSize+1))
	return a, err
}

// inCatalog are the targets of a relation in a linkset (RFC 9264, 4.2).
func inCatalog(a answer, relation string) (addresses []string) {
	var set struct {
		Linkset []map[string]jsontext.Value `json:"linkset"`
	}
	if a.status != http.StatusOK || json.Unmarshal(a.body, &set) != nil {
		return nil
	}
	for _, one := range set.Linkset {
		var targets []struct {
			Href string `json:"href"`
		}
		if json.Unmarshal(one[relation], &targets) == nil {
			for _, to := range targets {
				addresses = append(addresses, to.Href)
			}
		}
	}
	return addresses
}

// described are the targets of links to descriptions in a field (RFC 8288, 3).
func described(field string) (targets []string) {
	for link := range strings.SplitSeq(field, ",") {
		target, parameters, is := strings.Cut(strings.TrimSpace(link), ">")
		parameters = strings.ReplaceAll(strings.ReplaceAll(parameters, `"`, ""), " ", "")
		if is && strings.HasPrefix(target, "<") && strings.Contains(parameters+";", "rel=service-desc;") {
			targets = append(targets, target[1:])
		}
	}
	return targets
}

// Again reads a contract again, if its tag is another one now; nil where it is the same.
func Again(ctx context.Context, client *http.Client, address, tag string) (*Contract, error) {
	at, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	got, err := getIf(ctx, client, at, tag)
	if err != nil || got.status == http.StatusNotModified || tag != "" && got.header.Get("ETag") == tag {
		return nil, err
	}
	if got.status != http.StatusOK {
		return nil, fmt.Errorf("the contract %s was answered %d", at, got.status)
	}
	doc, err := yaml.Read(got.body)
	if err != nil {
		return nil, fmt.Errorf("the contract %s: %w", at, err)
	}
	found := contractAt(at, got, doc)
	return &found, nil
}
