package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/facts"
)

// originHelp says where contracts can come from.
const originHelp = `Each can be the Go package of a program that calls api.Serve, which is built and run for it; a file with
an OpenAPI document, as JSON or YAML, or with a description; the http or https address of a document; or REVISION:PATH for
a package or a file as it is in a revision of Git.`

// A versioned contract is one of those that an origin has.
type versioned struct {
	version string // "" where there are no versions, or where it is not known
	prefix  string // of its paths, where the version is chosen by it
	doc     *contract.Document
}

// contracts gives those of all versions that an origin has.
func (s source) contracts(ctx context.Context, from string) ([]versioned, error) {
	if strings.HasPrefix(from, "http://") || strings.HasPrefix(from, "https://") {
		text, err := fetch(ctx, from)
		if err != nil {
			return nil, err
		}
		return contractsIn(from, text)
	}
	if file, err := os.Stat(from); err == nil && file.Mode().IsRegular() {
		text, err := os.ReadFile(from)
		if err != nil {
			return nil, err
		}
		return contractsIn(from, text)
	}
	if revision, path, is := strings.Cut(from, ":"); is && revision != "" {
		return s.inRevision(ctx, revision, path)
	}
	d, err := s.describe(ctx, from)
	if err != nil {
		return nil, err
	}
	return contractsOf(d)
}

// contractsIn reads a document, or a description.
func contractsIn(from string, text []byte) ([]versioned, error) {
	var isDescription struct {
		OpenAPI any `json:"openapi"`
		Routes  any `json:"routes"`
	}
	if json.Unmarshal(text, &isDescription) == nil && isDescription.OpenAPI == nil && isDescription.Routes != nil {
		var d facts.API
		if err := json.Unmarshal(text, &d); err != nil {
			return nil, fmt.Errorf("%s is not a description of an API: %w", from, err)
		}
		return contractsOf(d)
	}
	doc, err := readContract(from, text)
	if err != nil {
		return nil, err
	}
	return []versioned{{doc: doc}}, nil
}

// readContract reads a document as JSON or YAML. Faults begin with the name of the file.
func readContract(from string, text []byte) (*contract.Document, error) {
	doc, err := yaml.Read(text)
	if all, is := errors.AsType[contract.Faults](err); is {
		lines := []string{from + " is not an OpenAPI document:"}
		for _, f := range all {
			lines = append(lines, "  "+f.Error())
		}
		return nil, checked(errors.New(strings.Join(lines, "\n")))
	}
	if err != nil {
		return nil, checked(fmt.Errorf("%s: %w", from, err))
	}
	return doc, nil
}

// contractsOf makes those of a description.
func contractsOf(d facts.API) (all []versioned, err error) {
	versions, err := contract.Versions(d)
	for _, v := range versions {
		all = append(all, versioned{version: v.Name, prefix: v.Prefix, doc: v.Document})
	}
	return all, err
}

// fetchLimit is for how long an address is waited for.
const fetchLimit = 30 * time.Second

// fetch gets a document.
func fetch(ctx context.Context, address string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, fetchLimit)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json, application/yaml;q=0.9, */*;q=0.5")
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, checked(err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return nil, checked(fmt.Errorf("%s answered %s", address, response.Status))
	}
	text, err := io.ReadAll(io.LimitReader(response.Body, contract.MaxSize+1))
	return text, checked(err)
}

// inRevision gives the contracts of a package, or of a file, as it was in a revision. It is checked out into a folder that
// is removed again.
func (s source) inRevision(ctx context.Context, revision, path string) (all []versioned, err error) {
	top, err := git(ctx, "rev-parse", "--show-toplevel")
	if err != nil {
		return nil, err
	}
	here, err := git(ctx, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	name := revision + ":" + path
	if kind, err := git(ctx, "cat-file", "-t", revision+":"+filepath.ToSlash(filepath.Join(here, path))); err == nil &&
		kind == "blob" {
		text, err := git(ctx, "show", revision+":"+filepath.ToSlash(filepath.Join(here, path)))
		if err != nil {
			return nil, err
		}
		return contractsIn(name, []byte(text))
	}
	dir, err := os.MkdirTemp("", "wicketway-")
	if err != nil {
		return nil, checked(err)
	}
	defer os.RemoveAll(dir)
	tree := filepath.Join(dir, "tree")
	if _, err := git(ctx, "-C", top, "worktree", "add", "--detach", tree, revision); err != nil {
		return nil, err
	}
	defer git(context.WithoutCancel(ctx), "-C", top, "worktree", "remove", "--force", tree)
	defer s.errs.progress("building " + name)()
	text, err := askProgram(ctx, filepath.Join(tree, here), path)
	if err != nil {
		return nil, err
	}
	return contractsIn(name, text)
}

// git is what git says, without spaces around it.
func git(ctx context.Context, args ...string) (string, error) {
	c := exec.CommandContext(ctx, "git", args...)
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if err != nil {
		why := strings.TrimSpace(said.String())
		if why == "" {
			why = err.Error()
		}
		return "", checked(fmt.Errorf("git: %s", why))
	}
	return strings.TrimSpace(string(out)), nil
}
