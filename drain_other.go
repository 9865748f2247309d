//go:build !linux

package wicketway

import (
	"errors"
	"net"
)

// shutDoor needs a filter that only Linux has.
func shutDoor(*net.TCPListener) error { return errors.ErrUnsupported }

// acceptNow is asked behind a shut door alone.
func acceptNow(*net.TCPListener) (net.Conn, error) { return nil, errors.ErrUnsupported }
