package handover

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Sockets are kept for one program after another. The zero Sockets is ready for use; it is safe for concurrent use.
type Sockets struct {
	// InUse says more about an address that another process has; nil adds nothing.
	InUse func(address string) string
	// Free has every address be a free port of this machine instead, which nobody else is told of.
	Free bool

	mu   sync.Mutex
	open map[asked]*kept
}

// asked is an address, and how often the program has asked for it before: each ":0" is a port of its own.
type asked struct {
	address string
	before  int
}

// A kept socket is open as long as programs ask for it.
type kept struct {
	listener net.Listener
	file     *os.File // what is handed on
}

func (k *kept) close() {
	k.file.Close()
	k.listener.Close()
}

// A Child is a program that was started.
type Child struct {
	// Messages are what the program says; closed when it has closed its end.
	Messages <-chan Message

	sockets *Sockets
	conn    *net.UnixConn // nil where the system has no such sockets
	writing sync.Mutex
	asked   map[asked]bool // guarded by sockets.mu
}

// Start starts a program that can ask for sockets, with its end of a pair. A child belongs to the caller, who closes
// it once the program has ended.
func (s *Sockets) Start(program *exec.Cmd) (*Child, error) {
	messages := make(chan Message)
	c := &Child{Messages: messages, sockets: s, asked: map[asked]bool{}}
	mine, theirs, err := pair()
	if errors.Is(err, errors.ErrUnsupported) {
		close(messages)
		return c, program.Start()
	} else if err != nil {
		return nil, fmt.Errorf("socket pair: %w", err)
	}
	defer theirs.Close()
	program.ExtraFiles = []*os.File{theirs}
	program.Env = append(program.Environ(), fmt.Sprint(Variable, "=", descriptor))
	if err := program.Start(); err != nil {
		mine.Close()
		return nil, err
	}
	c.conn = mine
	go c.read(messages)
	return c, nil
}

// read takes what the program says until its end is closed.
func (c *Child) read(messages chan<- Message) {
	defer close(messages)
	for d := jsontext.NewDecoder(c.conn); ; {
		var m Message
		if json.UnmarshalDecode(d, &m) != nil {
			return
		}
		if m.Listen != "" {
			c.give(m.Listen)
			continue
		}
		messages <- m
	}
}

// give hands a socket on.
func (c *Child) give(address string) {
	k, err := c.sockets.get(c, address)
	if err != nil {
		c.order(order{Refused: err.Error(), InUse: errors.Is(err, syscall.EADDRINUSE)}, nil)
		return
	}
	c.order(order{Socket: true}, rights(k.file))
}

func (s *Sockets) get(c *Child, address string) (*kept, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := asked{address: address}
	for c.asked[at] {
		if !strings.HasSuffix(address, ":0") {
			return nil, fmt.Errorf("the program listens on %s already: %w", address, syscall.EADDRINUSE)
		}
		at.before++
	}
	c.asked[at] = true
	if k := s.open[at]; k != nil {
		return k, nil
	}
	if s.Free {
		address = "127.0.0.1:0"
	}
	l, err := Open(address)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) && s.InUse != nil {
			return nil, fmt.Errorf("%w%s", err, s.InUse(address))
		}
		return nil, err
	}
	withFile, ok := l.(interface{ File() (*os.File, error) })
	if !ok {
		l.Close()
		return nil, fmt.Errorf("%s: the socket has no descriptor", address)
	}
	file, err := withFile.File()
	if err != nil {
		l.Close()
		return nil, err
	}
	if s.open == nil {
		s.open = map[asked]*kept{}
	}
	s.open[at] = &kept{l, file}
	return s.open[at], nil
}

func (c *Child) order(o order, rights []byte) {
	if c.conn == nil {
		return
	}
	text, err := json.Marshal(o)
	if err != nil {
		return // an order has nothing that JSON cannot have
	}
	c.writing.Lock()
	defer c.writing.Unlock()
	c.conn.WriteMsgUnix(append(text, '\n'), rights, nil) // to a program that has ended nothing need be said
}

// Drain tells the program to finish what is under way, and to end.
func (c *Child) Drain() { c.order(order{Drain: true}, nil) }

// Behind tells the program in a line why newer code does not serve; "" that there is none.
func (c *Child) Behind(why string) { c.order(order{Behind: &why}, nil) }

// Close closes the keeper's end: a program that still runs drains.
func (c *Child) Close() {
	if c.conn != nil {
		c.conn.Close()
	}
}

// Only closes the sockets that this program has not asked for.
func (s *Sockets) Only(c *Child) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for at, k := range s.open {
		if !c.asked[at] {
			k.close()
			delete(s.open, at)
		}
	}
}

// Listeners gives copies of all sockets, for one who answers in a program's place.
func (s *Sockets) Listeners() (all []net.Listener) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.open {
		if l, err := net.FileListener(k.file); err == nil {
			all = append(all, l)
		}
	}
	return all
}

// Close closes all sockets.
func (s *Sockets) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.open {
		k.close()
	}
	s.open = nil
}
