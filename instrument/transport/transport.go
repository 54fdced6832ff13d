// Package transport opens byte streams to instruments: TCP, serial lines, and the kernel's USB
// test-and-measurement devices.
//
// An address says where an instrument is; [Parse] lists the forms. A serial line may carry several instruments:
// their links share the port and take turns on it.
package transport

import (
	"context"
	"fmt"
	"io"
	"net"
	"time"
)

// Link is a byte stream with deadlines, the only thing that the protocols above need of a transport.
type Link interface {
	io.ReadWriteCloser
	// SetDeadline bounds every read and write that follows; the zero time lifts the bound.
	SetDeadline(t time.Time) error
}

// Turns is what a link offers that shares its line with others: an exchange begins with a turn and ends with
// release. Bytes that came before the turn are dropped.
type Turns interface {
	Turn(ctx context.Context) (release func(), err error)
}

// Open connects to an address.
func Open(ctx context.Context, a Address) (Link, error) {
	switch {
	case a.IsSerial():
		return openSerial(ctx, a)
	case a.Scheme == Memory:
		conn, err := a.network.Dial(ctx, a.Host)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", a, err)
		}
		return conn, nil
	case a.Scheme == USBTMC:
		return openUSBTMC(a)
	}
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", a.Host)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a, err)
	}
	return conn, nil
}
