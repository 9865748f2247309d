package handover

import (
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// outlive is for how long a program goes on at most once its keeper is gone: requests that are under way have their
// time, and a program that never ends does not stay.
const outlive = 30 * time.Second

// A Program is this process, where a keeper has started it. A nil Program is one that nobody has started so: its
// methods do nothing, and [Program.Listen] opens the address itself. It is safe for concurrent use.
type Program struct {
	conn   *net.UnixConn
	failed error // why the pair cannot be used

	drain   chan struct{} // closed when told, and when the keeper is gone
	answers chan answer
	behind  atomic.Pointer[string]

	asking  sync.Mutex // one question at a time
	writing sync.Mutex
}

// An answer is what a question for a socket gets.
type answer struct {
	socket *os.File
	err    error
}

// inherited is taken when the process starts, so that no process that it starts has the variable or the descriptor.
var inherited = take()

// Inherited is what a keeper has started; nil for any other process.
func Inherited() *Program { return inherited }

func take() *Program {
	name := os.Getenv(Variable)
	if name == "" {
		return nil
	}
	os.Unsetenv(Variable)
	p := &Program{drain: make(chan struct{}), answers: make(chan answer)}
	if p.conn, p.failed = ownEnd(name); p.failed != nil {
		p.failed = fmt.Errorf("%s=%s is for programs that wicketway watch starts: %w", Variable, name, p.failed)
		return p
	}
	go p.listenToKeeper()
	return p
}

// listenToKeeper takes orders until the keeper is gone.
func (p *Program) listenToKeeper() {
	in := &rightsReader{conn: p.conn}
	for d := jsontext.NewDecoder(in); ; {
		var o order
		if err := json.UnmarshalDecode(d, &o); err != nil {
			break
		}
		switch {
		case o.Socket:
			p.answers <- answer{socket: in.next()}
		case o.Refused != "":
			p.answers <- answer{err: o.refusal()}
		case o.Behind != nil:
			p.behind.Store(o.Behind)
		case o.Drain:
			p.beginDrain()
		}
	}
	p.beginDrain()
	close(p.answers)
	time.Sleep(outlive)
	os.Exit(1)
}

func (p *Program) beginDrain() {
	select {
	case <-p.drain:
	default:
		close(p.drain)
	}
}

// Listen gives the socket of an address, which the keeper keeps.
func (p *Program) Listen(address string) (net.Listener, error) {
	if p == nil {
		return Open(address)
	}
	if p.failed != nil {
		return nil, p.failed
	}
	p.asking.Lock()
	defer p.asking.Unlock()
	if err := p.say(Message{Listen: address}); err != nil {
		return nil, err
	}
	a, there := <-p.answers
	switch {
	case !there:
		return nil, errors.New("the keeper of the sockets is gone")
	case a.err != nil:
		return nil, a.err
	case a.socket == nil:
		return nil, order{}.refusal()
	}
	defer a.socket.Close() // the listener has a copy
	return net.FileListener(a.socket)
}

// Ready says at which addresses an API is served.
func (p *Program) Ready(title string, addresses []string) {
	p.say(Message{Ready: addresses, Title: title})
}

// Describe says what is served.
func (p *Program) Describe(description []byte) { p.say(Message{Description: description}) }

// Mistaken says why nothing is.
func (p *Program) Mistaken(mistakes []Mistake) { p.say(Message{Mistakes: mistakes}) }

// say tells the keeper something. One that is gone does not need to know.
func (p *Program) say(m Message) error {
	if p == nil || p.failed != nil {
		return nil
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	p.writing.Lock()
	defer p.writing.Unlock()
	_, err = p.conn.Write(append(text, '\n'))
	return err
}

// Drain is closed when the program should drain; nil where nobody will say so.
func (p *Program) Drain() <-chan struct{} {
	if p == nil || p.failed != nil {
		return nil
	}
	return p.drain
}

// Behind says in a line why newer code does not serve, and "" where there is none.
func (p *Program) Behind() string {
	if p == nil {
		return ""
	}
	if text := p.behind.Load(); text != nil {
		return *text
	}
	return ""
}

// A rightsReader reads bytes, and keeps the files that come with them in their order.
type rightsReader struct {
	conn  *net.UnixConn
	files []*os.File
}

func (r *rightsReader) Read(b []byte) (int, error) {
	rights := make([]byte, 64)
	n, m, _, _, err := r.conn.ReadMsgUnix(b, rights)
	if err != nil {
		return n, err
	}
	if m > 0 {
		files, err := filesIn(rights[:m])
		if err != nil {
			return n, err
		}
		r.files = append(r.files, files...)
	}
	return n, nil
}

func (r *rightsReader) next() *os.File {
	if len(r.files) == 0 {
		return nil
	}
	f := r.files[0]
	r.files = r.files[1:]
	return f
}
