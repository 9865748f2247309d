package handbook

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/contract"
)

// A book has the handbooks of several versions, the oldest first.
type book []*site

// bookOf makes the handbooks of several versions, each of which knows of the others, and what has changed since the one
// before.
func bookOf(versions []contract.Versioned) (b book) {
	for i, v := range versions {
		shown := v.Name
		if len(versions) == 1 {
			shown = ""
		}
		key := cmp.Or(pageOf(v.Name), "api")
		for n := 2; b.version(key) != nil || key == "assets" || key == "problems"; n++ {
			key = cmp.Or(pageOf(v.Name), "api") + "-" + strconv.Itoa(n)
		}
		s := newSite(v.Document, shown, key)
		if i > 0 {
			s.Before = b[i-1]
			b[i-1].After = s
			s.compare(versions[i-1], v)
		}
		b = append(b, s)
	}
	return b
}

// version finds that of a name; nil where there is none.
func (b book) version(name string) *site {
	if i := slices.IndexFunc(b, func(s *site) bool { return s.Key == name }); i >= 0 {
		return b[i]
	}
	return nil
}

// last is the newest version.
func (b book) last() *site { return b[len(b)-1] }

// since is what has changed in an operation since the version before.
type since struct {
	Version string
	Was     *operation // nil: it is new
	Changes []change
	Rows    []difference
}

// A change of an operation.
type change struct{ Class, Reason string }

var classes = []string{string(contract.Breaking), string(contract.Look), string(contract.Safe)}

// A difference is a place that is not the same in two versions, side by side.
type difference struct{ Part, Name, Was, Is string }

// compare notes for each operation what differs from the version before, and which one of that it succeeds.
func (s *site) compare(before, now contract.Versioned) {
	old, moved := before.Document, before.Prefix != "" && now.Prefix != ""
	if moved {
		old = old.Moved(before.Prefix, now.Prefix)
	}
	was := map[string]*operation{}
	for _, o := range s.Before.operations {
		path := o.Path
		if rest, is := strings.CutPrefix(path, before.Prefix); moved && is && (rest == "" || rest[0] == '/') {
			path = now.Prefix + rest
		}
		was[o.Method+" "+path] = o
	}
	changes := map[string][]change{}
	for _, c := range contract.Compare(old, now.Document) {
		changes[c.Operation] = append(changes[c.Operation], change{string(c.Class), c.Reason})
	}
	for _, all := range changes { // what breaks callers comes first
		slices.SortStableFunc(all, func(a, b change) int {
			return cmp.Compare(slices.Index(classes, a.Class), slices.Index(classes, b.Class))
		})
	}
	for _, o := range s.operations {
		line := o.Method + " " + o.Path
		o.Since = &since{Version: before.Name, Was: was[line]}
		if earlier := was[line]; earlier != nil {
			earlier.Successor = o
			o.Since.Changes, o.Since.Rows = changes[strings.ReplaceAll(line, "{+", "{")], differences(earlier, o)
		}
	}
	for _, a := range s.Before.Areas {
		for _, o := range a.Operations {
			if o.Successor == nil {
				s.Gone = append(s.Gone, o)
			}
		}
	}
}

// differences are the parameters and members that one of two operations lacks, or has otherwise.
func differences(was, is *operation) (all []difference) {
	old, rest := map[string]string{}, []difference{}
	was.places(func(part, name, says string) {
		old[part+"\x00"+name] = says
		rest = append(rest, difference{Part: part, Name: name, Was: says})
	})
	is.places(func(part, name, says string) {
		key := part + "\x00" + name
		if before, has := old[key]; !has || before != says {
			all = append(all, difference{part, name, before, says})
		}
		delete(old, key)
	})
	for _, d := range rest {
		if _, gone := old[d.Part+"\x00"+d.Name]; gone {
			all = append(all, d)
		}
	}
	return all
}

// places gives all places of an operation, with what is said of each.
func (o *operation) places(yield func(part, name, says string)) {
	rows := func(part string, all []value) {
		var above []string
		for _, v := range all {
			above = append(above[:min(v.Depth, len(above))], v.Name)
			says := v.Type
			if v.Rules != "" {
				says += ": " + v.Rules
			}
			if v.Required {
				says += ", required"
			}
			yield(part, strings.Join(above, "."), says)
		}
	}
	for _, p := range o.Inputs {
		rows(p.Where, []value{p})
	}
	rows("body", o.Body)
	if len(o.Answers) > 0 {
		rows("answer", o.Answers[0].Members)
	}
}
