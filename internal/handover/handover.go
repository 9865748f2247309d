// Package handover keeps listening sockets for programs that serve on them one after another, so that no
// connection is refused or lost between two of them.
//
// The keeper ([Sockets]) starts a program with one end of a socket pair as descriptor 3, which [Variable] names. Over it
// the program ([Program]) asks for each of its addresses, and gets the listening socket (SCM_RIGHTS, unix(7)); says
// that it is ready, and what it serves; and is told to drain, or that newer code does not build. It drains as well
// where the other end is gone, so that no program outlives its keeper.
//
// Messages are JSON values. Systems without such sockets start programs without the pair: they listen for themselves.
package handover

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"syscall"

	"github.com/go-json-experiment/json/jsontext"
)

// Variable names the descriptor of the socket pair in the environment of a program. The program removes it at once.
const Variable = "WICKETWAY_WATCH"

// descriptor is the number of the first file that os/exec passes on.
const descriptor = 3

// A Mistake is one of those that a program was built with, where that is known.
type Mistake struct {
	File string `json:"file,omitzero"`
	Line int    `json:"line,omitzero"`
	Text string `json:"text"`
}

// A Message is what a program says: one of these.
type Message struct {
	// Listen asks for the socket of an address. The keeper answers it itself.
	Listen string `json:"listen,omitzero"`
	// Ready are the addresses at which the program serves an API, and Title is that API's.
	Ready []string `json:"ready,omitzero"`
	Title string   `json:"title,omitzero"`
	// Description is that of the API (package facts).
	Description jsontext.Value `json:"description,omitzero"`
	// Mistakes are those for which there is no API.
	Mistakes []Mistake `json:"mistakes,omitzero"`
}

// An order is what the keeper says.
type order struct {
	Socket  bool    `json:"socket,omitzero"`  // one comes with it
	Refused string  `json:"refused,omitzero"` // why none does
	InUse   bool    `json:"inUse,omitzero"`   // because another process has it
	Drain   bool    `json:"drain,omitzero"`
	Behind  *string `json:"behind,omitzero"` // why newer code does not serve; "" where there is none
}

// Open listens on an address: ":8080", "127.0.0.1:8080", "[::1]:0" or "unix:/run/canal.sock". A socket file that nobody
// listens on any more is replaced.
func Open(address string) (net.Listener, error) {
	path, unix := strings.CutPrefix(address, "unix:")
	if !unix {
		return openTCP(address)
	}
	l, err := net.Listen("unix", path)
	if err == nil {
		return l, nil
	}
	if about, statErr := os.Stat(path); statErr != nil || about.Mode()&os.ModeSocket == 0 {
		return nil, err
	}
	conn, dialErr := net.Dial("unix", path)
	if dialErr == nil {
		conn.Close()
	}
	if !errors.Is(dialErr, syscall.ECONNREFUSED) {
		return nil, err // somebody else serves there, though their queue may be full
	}
	if os.Remove(path) != nil {
		return nil, err
	}
	return net.Listen("unix", path)
}

func openTCP(address string) (net.Listener, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil || port == "" {
		return nil, fmt.Errorf(
			"the address %q has no port: write :8080 or 127.0.0.1:8080, with :0 for one that is free", address,
		)
	}
	if _, err := net.LookupPort("tcp", port); err != nil {
		return nil, fmt.Errorf("the address %q has no valid port: %s is not a number from 0 to 65535", address, port)
	}
	plain := net.ListenConfig{}
	plain.SetMultipathTCP(false) // its listeners take no filter, which a drain needs
	return plain.Listen(context.Background(), "tcp", address)
}

// refusal is the error that an order carries.
func (o order) refusal() error {
	if o.InUse {
		return fmt.Errorf("%s (%w)", o.Refused, syscall.EADDRINUSE)
	}
	return errors.New(cmp.Or(o.Refused, "the keeper of the sockets gave none"))
}
