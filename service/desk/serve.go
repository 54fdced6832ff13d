package desk

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"runtime/debug"
	"syscall"
)

// Bounds of a process: from when on it is sparing with memory, and what it cannot go beyond.
const (
	softMemory = 512 << 20
	hardMemory = 1 << 30
)

// handle is the first file beside the standard ones: the connection with which a process was started.
const handle = 3

// Serve answers requests over the connection with which this process was started, until that ends. It bounds the
// memory of the process.
func Serve(handler http.Handler) error {
	debug.SetMemoryLimit(softMemory)
	debug.SetTraceback("single")
	if err := syscall.Setrlimit(syscall.RLIMIT_DATA, &syscall.Rlimit{Cur: hardMemory, Max: hardMemory}); err != nil {
		return fmt.Errorf("bound the memory: %w", err)
	}
	file := os.NewFile(handle, "desk")
	connection, err := net.FileConn(file)
	if err != nil {
		return fmt.Errorf("this is a process that the service starts: %w", err)
	}
	_ = file.Close() // the connection is another handle
	ended := make(chan struct{})
	server := &http.Server{Handler: handler, ConnState: func(_ net.Conn, s http.ConnState) {
		if s == http.StateClosed {
			close(ended)
		}
	}}
	if err := server.Serve(&once{connection: connection, ended: ended}); !errors.Is(err, io.EOF) {
		return err
	}
	return nil
}

// once is a listener for one connection.
type once struct {
	connection net.Conn
	ended      chan struct{}
}

func (l *once) Accept() (net.Conn, error) {
	if c := l.connection; c != nil {
		l.connection = nil
		return c, nil
	}
	<-l.ended
	return nil, io.EOF
}

func (l *once) Close() error   { return nil }
func (l *once) Addr() net.Addr { return &net.UnixAddr{Name: "desk", Net: "unix"} }
