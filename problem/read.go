package problem

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// readLimit is how much of an answer is read for a problem, in bytes.
const readLimit = 1 << 20

// Read reads the problem that an answer holds, and closes its body. It finds the
// kind among those given, and then among the built-in ones, by the member code;
// an answer of another kind gets one of its own, so that its code, title and
// status can still be asked. An error says that the answer holds no problem.
func Read(resp *http.Response, kinds ...*Kind) (*Problem, error) {
	defer resp.Body.Close()
	media, _, _ := mime.ParseMediaType(resp.Header.Get("Content-Type"))
	if media != MediaType {
		return nil, fmt.Errorf("the answer (%s) is %q, not %s", resp.Status, media, MediaType)
	}
	var told struct {
		Title   string                    `json:"title"`
		Status  int                       `json:"status"`
		Detail  string                    `json:"detail"`
		Code    string                    `json:"code"`
		Errors  []Item                    `json:"errors"`
		Members map[string]jsontext.Value `json:",embed"`
	}
	if err := json.UnmarshalRead(io.LimitReader(resp.Body, readLimit), &told); err != nil {
		return nil, errors.Join(fmt.Errorf("the answer (%s) holds no problem", resp.Status), err)
	}
	p := &Problem{kind: find(told.Code, kinds), detail: told.Detail, items: told.Errors, header: resp.Header}
	if p.kind == nil {
		p.kind = Define(resp.StatusCode, told.Code, told.Title)
	}
	for name, value := range told.Members {
		p.members = append(p.members, member{name, value})
	}
	return p, nil
}

func find(code string, kinds []*Kind) *Kind {
	for _, k := range kinds {
		if k.code == code {
			return k
		}
	}
	for _, k := range builtIn {
		if k.code == code {
			return k
		}
	}
	for _, k := range ofStatus {
		if k.code == code {
			return k
		}
	}
	return nil
}

// BuiltIn are the kinds that Wicketway itself raises.
func BuiltIn() []*Kind { return slices.Clone(builtIn) }

var builtIn = []*Kind{
	BadRequest,
	Unreadable,
	Unauthorized,
	Forbidden,
	ScopeMissing,
	NotFound,
	VersionUnknown,
	VersionInvalid,
	MethodNotAllowed,
	NotAcceptable,
	VersionNotAcceptable,
	BodyTimeout,
	Withdrawn,
	Retired,
	PreconditionFailed,
	BodyTooLarge,
	UnsupportedMedia,
	Invalid,
	PreconditionRequired,
	Internal,
	NotImplemented,
	Timeout,
	Overloaded,
}
