package wicketway

import (
	"errors"
	"net"
	"os"
	"syscall"
)

// door is a filter for a listening socket (socket(7), SO_ATTACH_FILTER) that lets no new handshake in: of
// TCP segments it drops those that have the flag SYN and not ACK (RFC 9293, 3.1). Handshakes that
// are under way, and connections, go on.
var door = []syscall.SockFilter{
	{Code: syscall.BPF_LD | syscall.BPF_B | syscall.BPF_ABS, K: 13}, // the flags
	{Code: syscall.BPF_ALU | syscall.BPF_AND | syscall.BPF_K, K: 0x12},
	{Code: syscall.BPF_JMP | syscall.BPF_JEQ | syscall.BPF_K, Jt: 1, K: 0x02},
	{Code: syscall.BPF_RET | syscall.BPF_K, K: 0xffffffff},
	{Code: syscall.BPF_RET | syscall.BPF_K, K: 0},
}

// shutDoor lets no new connection reach a listener. It cannot be opened again.
func shutDoor(l *net.TCPListener) error {
	raw, err := l.SyscallConn()
	if err != nil {
		return err
	}
	var refused error
	err = raw.Control(func(socket uintptr) { refused = syscall.AttachLsf(int(socket), door) })
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
