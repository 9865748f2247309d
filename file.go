package wicketway

import (
	"io"
	"reflect"

	"github.com/wicketway/wicketway/internal/bind"
)

// A File is a file of a form. Its content is read with Open, and is gone when
// the request has ended.
type File struct {
	// Name is what the caller calls the file. It is never to be used as a path.
	Name string
	// Type is the media type, found from the content, not from what was claimed, but
	// for kinds of text, which the content does not tell apart.
	Type string
	// Size is in bytes.
	Size int64

	content io.ReaderAt
}

// Open reads the file from its start. It can be called more than once.
func (f File) Open() *io.SectionReader { return io.NewSectionReader(f.content, 0, f.Size) }

// fileType is the Go type that files of forms are read into.
var fileType = bind.FileType{
	Type: reflect.TypeFor[File](),
	Make: func(f bind.Received) reflect.Value { return reflect.ValueOf(File{f.Name, f.Type, f.Size, f.Content}) },
}
