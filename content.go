package wicketway

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/segment"
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
func (c Content) Answer(w http.ResponseWriter, r *http.Request) error { return c.answerAs(0, w, r) }

func (c Content) answerAs(status int, w http.ResponseWriter, r *http.Request) error {
	defer c.discard()
	s := stateOf(r.Context())
	return answer.SendContent(w, r, answer.Content{
		Status:   status,
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

func (Content) leavesStatus() bool { return true }

// discard closes what will not be sent.
func (c Content) discard() {
	if body, ok := c.Body.(io.Closer); ok {
		body.Close()
	}
}

// Answers documents the answers, for listings.
func (Content) Answers() []facts.Answer { return contentAnswers() }

// Redirect is an output that sends the caller to another address (RFC 9110, 15.4).
type Redirect struct {
	// Status is 303, which is the default and has callers read the address by GET, or 307 or
	// 308, which have them repeat the request there, for this time or from now on.
	Status int
	// Path is an escaped path of the same host, with its query: /locks/bell?days=3.
	Path string
	// Elsewhere lets Path be an address on another host: https://canal.example/. Without it such
	// an address is a failure, so that no caller can have others sent away.
	Elsewhere bool
}

// Answer sends the redirect.
func (r Redirect) Answer(w http.ResponseWriter, to *http.Request) error { return r.answerAs(0, w, to) }

func (r Redirect) answerAs(status int, w http.ResponseWriter, _ *http.Request) error {
	if !r.Elsewhere && !segment.IsOwnPath(r.Path) {
		return fmt.Errorf("redirect to %q: it is not a path of this host, such as /locks/bell; Elsewhere allows others",
			r.Path)
	}
	return sendAway(w, status, r.Status, r.Path)
}

func (Redirect) leavesStatus() bool { return false }

// Answers documents the answers, for listings.
func (Redirect) Answers() []facts.Answer {
	var all []facts.Answer
	for _, status := range []int{http.StatusSeeOther, http.StatusTemporaryRedirect, http.StatusPermanentRedirect} {
		all = append(all, facts.Answer{Status: status, Fields: []string{"Location"}})
	}
	return all
}

// RedirectBy is a [Redirect] to a route, which [LocatedBy] names: its path is made of At, that
// route's input, when the answer is sent.
type RedirectBy[In any] struct {
	// Status is as in Redirect.
	Status int
	At     In
	// Location is the address, where it is not to be made of At: package wicketwaytest sets it
	// to what was sent.
	Location string
}

// Answer sends the redirect.
func (r RedirectBy[In]) Answer(w http.ResponseWriter, request *http.Request) error {
	return r.answerAs(0, w, request)
}

func (RedirectBy[In]) leavesStatus() bool { return false }

func (r RedirectBy[In]) answerAs(status int, w http.ResponseWriter, request *http.Request) error {
	s := stateOf(request.Context())
	if s == nil {
		return fmt.Errorf("redirect: the context is not that of an API's request")
	}
	if r.Location != "" {
		return Redirect{Status: r.Status, Path: r.Location}.answerAs(status, w, request)
	}
	path, err := s.location(&r.At)
	if err != nil {
		return err
	}
	return sendAway(w, status, r.Status, path)
}

// Answers documents the answers, for listings.
func (RedirectBy[In]) Answers() []facts.Answer { return Redirect{}.Answers() }

func (RedirectBy[In]) replied() outputTypes { return outputTypes{at: reflect.TypeFor[In]()} }

// sendAway sends a redirect with the status of the Reply around it, or its own.
func sendAway(w http.ResponseWriter, ofReply, own int, to string) error {
	if ofReply != 0 && own != 0 && ofReply != own {
		return fmt.Errorf("redirect to %q: the Reply has the status %d, and the redirect %d: leave one out", to, ofReply, own)
	}
	status := cmp.Or(ofReply, own, http.StatusSeeOther)
	switch status {
	case http.StatusSeeOther, http.StatusTemporaryRedirect, http.StatusPermanentRedirect:
	default:
		return fmt.Errorf("redirect to %q: the status %d is not one of 303, 307 and 308", to, status)
	}
	w.Header().Set("Location", to)
	w.WriteHeader(status)
	return nil
}
