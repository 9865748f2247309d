package demo

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
)

// makers make the requests of the contracts of both versions.
type makers struct {
	documents map[string]*contract.Document
	made      map[string]*requests.Maker
}

func (c *Canal) makers() (m makers, err error) {
	m = makers{map[string]*contract.Document{}, map[string]*requests.Maker{}}
	for _, version := range []string{"v1", "v2"} {
		if m.documents[version], err = c.API.Contract(version); err != nil {
			return m, err
		}
		m.made[version] = requests.Of(m.documents[version])
	}
	return m, nil
}

// request makes the good request of an operation, such as "v2 passages.book", or the one that is wrong in one way.
func (m makers) request(of, wrong string) (requests.Request, error) {
	version, id, _ := strings.Cut(of, " ")
	d := m.documents[version]
	if d == nil {
		return requests.Request{}, fmt.Errorf("%s names no version", of)
	}
	for path, item := range d.Paths.All() {
		for method, o := range item.Operations() {
			if o.ID != id {
				continue
			}
			if wrong == "" {
				return m.made[version].Good(method, path)
			}
			all, err := m.made[version].Wrong(method, path)
			if err != nil {
				return requests.Request{}, err
			}
			for _, r := range all {
				if r.Wrong == wrong {
					return r, nil
				}
			}
			return requests.Request{}, fmt.Errorf("%s has no request that is wrong so: %s", of, wrong)
		}
	}
	return requests.Request{}, fmt.Errorf("there is no operation %s", of)
}

// allSteps are those of the tour, with the requests that are made of the contracts, and what must come back for wrong ones.
func (c *Canal) allSteps() ([]step, error) {
	m, err := c.makers()
	if err != nil {
		return nil, err
	}
	all := make([]step, len(steps))
	for i, s := range steps {
		if s.of != "" {
			r, err := m.request(s.of, s.wrong)
			if err != nil {
				return nil, err
			}
			s.take(r)
		}
		all[i] = s
	}
	return all, nil
}

// take has a step send a request. Whose token goes out is said by the step.
func (s *step) take(r requests.Request) {
	s.line, s.body = r.Method+" "+r.Target, string(r.Body)
	header := s.header.Clone()
	if header == nil {
		header = http.Header{}
	}
	for _, f := range r.Header {
		switch {
		case f.Name != "Authorization":
			header.Set(f.Name, f.Value)
		case !strings.Contains(f.Value, "$"):
			s.as = strings.TrimPrefix(f.Value, "Bearer ")
		}
	}
	if s.header = header; s.wrong != "" {
		s.status = r.Status
		if s.code == "" {
			s.code = r.Code
		}
	}
}

// The tokens in the lines to paste: those that wicketway probe and others look for in the environment, and the keeper's.
const keeperToken = "$WICKETWAY_KEEPER_TOKEN"

// lines are requests to paste: good ones of the contracts, and some with a fault.
func (c *Canal) lines(address string) (all []string, err error) {
	m, err := c.makers()
	if err != nil {
		return nil, err
	}
	for _, one := range []struct{ of, wrong, token string }{
		{of: "v2 locks.find"}, {of: "v1 locks.find"}, {of: "v2 locks.levels"}, {of: "v2 notices.latest"},
		{of: "v2 passages.list", token: requests.Token}, {of: "v2 passages.book", token: requests.Token},
		{of: "v1 passages.list", token: requests.Token}, {of: "v2 locks.operate", token: keeperToken}, {of: "v2 tokens.signIn"},
		{of: "v2 passages.book", wrong: "no credentials"},
		{of: "v2 passages.book", wrong: "the member /crew breaks maximum (40)", token: requests.Token},
		{of: "v2 locks.operate", wrong: "without the scope locks:operate", token: requests.Token},
	} {
		r, err := m.request(one.of, one.wrong)
		if err != nil {
			return nil, err
		}
		for i, f := range r.Header {
			r.Header[i].Value = strings.NewReplacer(requests.TokenWithoutScopes, one.token, requests.Token, one.token).Replace(f.Value)
		}
		line := r.Line(address)
		if one.wrong != "" {
			line += fmt.Sprintf(" # %d %s: %s", r.Status, r.Code, r.Wrong)
		}
		all = append(all, line)
	}
	return all, nil
}
