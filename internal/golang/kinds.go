package golang

import (
	"fmt"
	"maps"

	"github.com/wicketway/wicketway/contract"
)

// kindsIn are the codes that a schema of problems names, with their titles.
func (w *Writer) KindsIn(s contract.Schema, depth int) map[string]string {
	all := map[string]string{}
	if depth > 8 {
		return all
	}
	if ref := s.Reference(); ref != "" {
		if to, err := contract.Resolve[contract.Schema](w.Document, ref); err == nil {
			maps.Copy(all, w.KindsIn(*to, depth+1))
		}
	}
	for _, keyword := range []string{"oneOf", "anyOf", "allOf"} {
		for _, one := range s.List(keyword) {
			maps.Copy(all, w.KindsIn(one, depth+1))
		}
	}
	properties := s.Schemas("properties")
	code, has := properties.Get("code")
	if !has {
		return all
	}
	titles, _ := properties.Get("title")
	title, _ := EnumOf(titles)
	codes, _ := EnumOf(code)
	for _, one := range codes {
		all[one] = ""
		if len(title) > 0 && len(codes) == 1 {
			all[one] = title[0]
		}
	}
	return all
}

// Kind gives the variable of a kind of problem, which is declared once.
func (w *Writer) Kind(code string, status int, title string) string {
	if w.kinds[code] == "" {
		w.kinds[code] = w.Unique("Err" + Camel(code))
		w.Kinds = append(w.Kinds, fmt.Sprintf("%s = problem.Define(%d, %q, %q)", w.kinds[code], status, code, title))
	}
	return w.kinds[code]
}
