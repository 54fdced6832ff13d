// Package transport opens byte streams to instruments.
//
// An address says where an instrument is: "tcp://192.168.1.20:5025". Other schemes are refused with the list of those that are
// known, so that a new one is added in one place.
package transport

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/url"
	"time"
)

// Link is a byte stream with deadlines, the only thing that the protocols above need of a transport.
type Link interface {
	io.ReadWriteCloser
	// SetDeadline bounds every read and write that follows; the zero time lifts the bound.
	SetDeadline(t time.Time) error
}

// Check reports an address that cannot be opened on any machine.
func Check(address string) error {
	_, err := parse(address)
	return err
}

func parse(address string) (*url.URL, error) {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Scheme == "":
		return nil, fmt.Errorf("address %q: write it like tcp://192.168.1.20:5025", address)
	case u.Scheme != "tcp":
		return nil, fmt.Errorf("address %q: the transport %q is not known; known: tcp", address, u.Scheme)
	case u.Hostname() == "" || u.Port() == "":
		return nil, fmt.Errorf("address %q: a host and a port are needed, like tcp://192.168.1.20:5025", address)
	}
	return u, nil
}

// Open connects to an address.
func Open(ctx context.Context, address string) (Link, error) {
	u, err := parse(address)
	if err != nil {
		return nil, err
	}
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", u.Host)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", address, err)
	}
	return conn, nil
}
