package contract

import "strings"

// Moved gives the document with the paths below a prefix below another one instead, so that versions of an API that are
// chosen by the path can be compared. The document itself stays as it is, and shares its parts.
func (d *Document) Moved(from, to string) *Document {
	moved := *d
	moved.Paths = Extensible[*PathItem]{Extensions: d.Paths.Extensions}
	for path, item := range d.Paths.All() {
		if rest, is := strings.CutPrefix(path, from); is && (rest == "" || rest[0] == '/') {
			path = to + rest
		}
		moved.Paths.Set(path, item)
	}
	return &moved
}
