//go:build unix

package handover

import (
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"syscall"
)

// pair gives both ends of a socket pair: the second for a program.
func pair() (mine *net.UnixConn, theirs *os.File, err error) {
	syscall.ForkLock.RLock() // not every system can open them with close-on-exec
	ends, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err == nil {
		syscall.CloseOnExec(ends[0])
		syscall.CloseOnExec(ends[1])
	}
	syscall.ForkLock.RUnlock()
	if err != nil {
		return nil, nil, err
	}
	theirs = os.NewFile(uintptr(ends[1]), "program's end")
	if mine, err = connOf(os.NewFile(uintptr(ends[0]), "keeper's end")); err != nil {
		theirs.Close()
	}
	return mine, theirs, err
}

// connOf makes a connection of a file, which it closes.
func connOf(f *os.File) (*net.UnixConn, error) {
	defer f.Close()
	conn, err := net.FileConn(f)
	if err != nil {
		return nil, err
	}
	unix, ok := conn.(*net.UnixConn)
	if !ok {
		conn.Close()
		return nil, errors.New("the descriptor is not a socket of its kind")
	}
	return unix, nil
}

// ownEnd is the program's end of the pair.
func ownEnd(name string) (*net.UnixConn, error) {
	if name != strconv.Itoa(descriptor) {
		return nil, fmt.Errorf("the descriptor is always %d", descriptor)
	}
	syscall.CloseOnExec(descriptor)
	return connOf(os.NewFile(descriptor, "own end"))
}

// rights is what hands a file on. File.Fd would have the socket block, for all who share it.
func rights(f *os.File) (rights []byte) {
	raw, err := f.SyscallConn()
	if err != nil {
		return nil
	}
	raw.Control(func(descriptor uintptr) { rights = syscall.UnixRights(int(descriptor)) })
	return rights
}

// filesIn are the files that were handed on.
func filesIn(rights []byte) (files []*os.File, err error) {
	messages, err := syscall.ParseSocketControlMessage(rights)
	if err != nil {
		return nil, err
	}
	for i := range messages {
		descriptors, err := syscall.ParseUnixRights(&messages[i])
		if err != nil {
			return files, err
		}
		for _, d := range descriptors {
			syscall.CloseOnExec(d)
			files = append(files, os.NewFile(uintptr(d), "listening"))
		}
	}
	return files, nil
}
