package wicketwaytest

import (
	"errors"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/facts"
)

// Matches fails the test for each difference between an API and a contract that was written first, in a file of OpenAPI as
// JSON or YAML: what is missing, what is more, and what differs. Of the versions of the API that counts which has the most
// operations of the file.
//
// An API may answer less than the contract allows, add header fields, take null for a body that is optional, and answer what
// only callers with conditions or ranges get (304, 206). Problems that Wicketway itself raises need not be
// in the contract, and numbers of the type integer may be held to 64 bits, or to the size that their format names.
func Matches(t testing.TB, api *wicketway.API, file string) {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatalf("Matches: %v", err)
	}
	wanted, err := yaml.Read(text)
	if err != nil {
		t.Fatalf("Matches: %s: %v", file, err)
	}
	is, err := matching(api, wanted)
	if err != nil {
		t.Fatalf("Matches: %v", err)
	}
	for _, c := range contract.Compare(sized(wanted), is) {
		switch {
		case c.Class == contract.Safe && c.Direction == "read",
			c.Class == contract.Safe && strings.HasSuffix(c.Pointer, "/deprecated"):
		case c.Class == contract.Look && c.Direction == "read" && canBeMissing.MatchString(c.Pointer): // one that can be missing is
		case c.Class == contract.Safe && isBody.MatchString(c.Pointer): // null, where a body is optional
		case c.Class == contract.Safe && strings.HasSuffix(c.Pointer, "/application~1merge-patch+json"): // as JSON is for PATCH
		case c.Class == contract.Safe:
			t.Errorf("Matches: %s has more: %s: %s", api.Info().Title, c.Operation, c.Reason)
		default:
			t.Errorf("Matches: %s differs: %v", api.Info().Title, c)
		}
	}
}

// isBody is the pointer to the type of a whole body.
var isBody = regexp.MustCompile(`/requestBody/content/[^/]+/schema/(?:type|anyOf)$`)

// canBeMissing is the pointer to a header field of an answer, or to a link.
var canBeMissing = regexp.MustCompile(`/(?:headers|links)/[^/]+$`)

// matching is the contract of the version that has the most operations of a document, without the kinds of problem that are
// not declared by a route, and that the document does not name.
func matching(api *wicketway.API, wanted *contract.Document) (best *contract.Document, err error) {
	d := withoutOwn(api.Describe(), string(wanted.Text()))
	var versions []string
	for _, r := range d.Routes {
		if !slices.Contains(versions, r.Version) {
			versions = append(versions, r.Version)
		}
	}
	want := operations(wanted)
	most := -1
	for _, version := range versions {
		is, err := contract.Of(d, version)
		if err != nil {
			continue // it has no routes for a contract
		}
		n := 0
		for name := range operations(is) {
			if want[name] != nil {
				n++
			}
		}
		if n > most {
			best, most = is, n
		}
	}
	if best == nil {
		return nil, errors.New("the API has no routes")
	}
	for name, o := range operations(best) {
		o.Responses.Delete("default") // which is any other problem of Wicketway's own
		for _, status := range []string{"206", "304"} {
			if want[name] == nil {
				continue
			}
			if _, has := want[name].Responses.Get(status); !has {
				o.Responses.Delete(status)
			}
		}
	}
	return sized(best), nil
}

// withoutOwn is a description without the kinds of problem that nobody has declared, except those that a text names.
func withoutOwn(d facts.API, text string) facts.API {
	isNamed := func(code string) bool { return strings.Contains(text, strconv.Quote(code)) }
	d.Routes = slices.Clone(d.Routes)
	for i, r := range d.Routes {
		d.Routes[i].Raises = slices.DeleteFunc(
			slices.Clone(r.Raises),
			func(p facts.Problem) bool { return p.By != "route" && !isNamed(p.Code) },
		)
	}
	d.Problems = slices.DeleteFunc(
		slices.Clone(d.Problems),
		func(k facts.Kind) bool { return len(k.Routes) == 0 && !isNamed(k.Code) },
	)
	return d
}

var parameter = regexp.MustCompile(`\{[^}]*\}`)

// operations are those of a document by METHOD PATH, where the names of parameters are left out.
func operations(d *contract.Document) map[string]*contract.Operation {
	all := map[string]*contract.Operation{}
	for path, item := range d.Paths.All() {
		for method, o := range item.Operations() {
			all[method+" "+parameter.ReplaceAllString(path, "{}")] = o
		}
	}
	return all
}

// sizes are the bounds of whole numbers by their formats (OpenAPI's registry of formats); "" is where there is none.
var sizes = map[string][2]string{
	"":       {"-9223372036854775808", "9223372036854775807"},
	"int64":  {"-9223372036854775808", "9223372036854775807"},
	"int32":  {"-2147483648", "2147483647"},
	"int16":  {"-32768", "32767"},
	"int8":   {"-128", "127"},
	"uint64": {"0", "18446744073709551615"},
	"uint32": {"0", "4294967295"},
	"uint16": {"0", "65535"},
	"uint8":  {"0", "255"},
}

// sized is a document whose whole numbers have the bounds of their formats.
func sized(d *contract.Document) *contract.Document {
	copied, _, err := d.As("3.1")
	if err != nil {
		return d
	}
	contract.Each(copied, func(_ string, s *contract.Schema) {
		if !s.IsZero() {
			*s = s.Rewrite(withSize)
		}
	})
	return copied
}

func withSize(s contract.Schema) contract.Schema {
	size, known := sizes[s.String("format")]
	if !known || !slices.Contains(s.Types(), "integer") || slices.Contains(s.Types(), "number") {
		return s
	}
	has := func(keyword string) bool {
		_, has := s.Get(keyword)
		return has
	}
	if !has("minimum") && !has("exclusiveMinimum") {
		s = s.With("minimum", jsontext.Value(size[0]))
	}
	if !has("maximum") && !has("exclusiveMaximum") {
		s = s.With("maximum", jsontext.Value(size[1]))
	}
	return s
}
