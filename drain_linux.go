package wicketway

import (
	"errors"
	"net"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// door is a filter for a listening socket (socket(7), SO_ATTACH_FILTER) that lets no new handshake in: of
// TCP segments it drops those that have the flag SYN and not ACK (RFC 9293, 3.1). Handshakes that
// are under way, and connections, go on.
var door = []unix.SockFilter{
	{Code: unix.BPF_LD | unix.BPF_B | unix.BPF_ABS, K: 13}, // the flags
	{Code: unix.BPF_ALU | unix.BPF_AND | unix.BPF_K, K: 0x12},
	{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, Jt: 1, K: 0x02},
	{Code: unix.BPF_RET | unix.BPF_K, K: 0xffffffff},
	{Code: unix.BPF_RET | unix.BPF_K, K: 0},
}

// shutDoor lets no new connection reach a listener. It cannot be opened again.
func shutDoor(l *net.TCPListener) error {
	raw, err := l.SyscallConn()
	if err != nil {
		return err
	}
	var refused error
	err = raw.Control(func(socket uintptr) {
		refused = unix.SetsockoptSockFprog(
			int(socket), unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &unix.SockFprog{Len: uint16(len(door)), Filter: &door[0]},
		)
	})
	return errors.Join(err, refused)
}

// acceptNow takes a connection from the queue of a listener without waiting; nil where it is empty.
func acceptNow(l *net.TCPListener) (net.Conn, error) {
	raw, err := l.SyscallConn()
	if err != nil {
		return nil, err
	}
	socket, refused := -1, syscall.EINTR
	err = raw.Control(func(listening uintptr) {
		for refused == syscall.EINTR || refused == syscall.ECONNABORTED {
			socket, _, err = syscall.Accept4(int(listening), syscall.SOCK_NONBLOCK|syscall.SOCK_CLOEXEC)
			refused, _ = err.(syscall.Errno)
		}
	})
	switch {
	case err != nil:
		return nil, err
	case refused == syscall.EAGAIN:
		return nil, nil
	case refused != 0:
		return nil, refused
	}
	file := os.NewFile(uintptr(socket), "accepted")
	defer file.Close() // the connection has a copy
	conn, err := net.FileConn(file)
	if tcp, ok := conn.(*net.TCPConn); ok {
		tcp.SetKeepAliveConfig(net.KeepAliveConfig{Enable: true}) // as Accept does
	}
	return conn, err
}
