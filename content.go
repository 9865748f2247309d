package wicketway

import (
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
)

// Content is an output that is sent as it is: a text, a picture, a file. Where its body can
// seek, callers can ask for parts of it (RFC 9110, 14) and on condition of its Tag and Modified
// (RFC 9110, 13).
type Content struct {
	// Type is the media type. Without one that of the name's extension counts, and else
	// application/octet-stream: what the bytes look like never does.
	Type string
	// Name is what the file is called for callers who keep it (RFC 6266).
	Name string
	// Download asks browsers to keep it rather than show it.
	Download bool
	// Size is in bytes, where it is known and the body cannot seek.
	Size int64
	// Modified is when it changed last.
	Modified time.Time
	// Tag is an entity tag, or a text that one is made of. Under [Conditional] a body that can
	// seek has one otherwise: of its size and Modified or, where that is not known, of its bytes, if it has
	// no more than 1 MiB of them.
	Tag string
	// Body is closed when the answer has been sent, or will not be, if it is an io.Closer. An
	// fs.File says its size and when it changed last itself.
	Body io.Reader
}

// Text is a plain text in UTF-8.
func Text(text string) Content {
	return Content{Type: "text/plain; charset=utf-8", Body: strings.NewReader(text)}
}

// Answer sends the content.
func (c Content) Answer(w http.ResponseWriter, r *http.Request) error {
	defer c.discard()
	s := stateOf(r.Context())
	return answer.SendContent(w, r, answer.Content{
		Type:     c.Type,
		Name:     c.Name,
		Download: c.Download,
		Size:     c.Size,
		Modified: c.Modified,
		Tag:      c.Tag,
		Body:     c.Body,
		Hashed:   s != nil && s.target.terms().conditional,
	})
}

// discard closes what will not be sent.
func (c Content) discard() {
	if body, ok := c.Body.(io.Closer); ok {
		body.Close()
	}
}

// Answers says what is sent.
func (Content) Answers() []facts.Answer {
	return []facts.Answer{
		{Status: http.StatusOK, Media: "*/*", Fields: []string{"Content-Disposition"}},
		{Status: http.StatusNotModified},
		{Status: http.StatusPartialContent, Media: "*/*", Fields: []string{"Content-Disposition", "Content-Range"}},
	}
}
