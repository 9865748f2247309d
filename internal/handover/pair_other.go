//go:build !unix

package handover

import (
	"errors"
	"net"
	"os"
)

func pair() (*net.UnixConn, *os.File, error) { return nil, nil, errors.ErrUnsupported }

func ownEnd(string) (*net.UnixConn, error) { return nil, errors.ErrUnsupported }

func rights(*os.File) []byte { return nil }

func filesIn([]byte) ([]*os.File, error) { return nil, errors.ErrUnsupported }
