// Package transport opens byte streams to instruments: TCP, serial lines, the kernel's USB test-and-measurement
// devices, and the protocols of instruments on a network, VXI-11 and HiSLIP.
//
// An address says where an instrument is; [Parse] lists the forms. A serial line may carry several instruments:
// their links share the port and take turns on it.
package transport

import (
	"context"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"usherbench/instrument/transport/hislip"
	"usherbench/instrument/transport/vxi11"
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

// Clearer is what a link offers that can have its instrument drop what it was doing and answering (device clear of IEEE
// 488.1), within the deadline that was set.
type Clearer interface{ Clear() error }

// Requester is what a link offers over which an instrument can say by itself that there is something to ask for
// (service request of IEEE 488.1). The channel gets something whenever it did; requests that nobody has looked for are
// one; it is nil where the instrument cannot do that after all. Status is the instrument's status byte.
type Requester interface {
	Requests() (<-chan struct{}, error)
	Status() (byte, error)
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
	link, err := openHost(ctx, a)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a, err)
	}
	return link, nil
}

// openHost connects to an instrument on the network.
func openHost(ctx context.Context, a Address) (Link, error) {
	part := strings.TrimPrefix(a.Path, "/")
	switch a.Scheme {
	case HiSLIP:
		return orNone(hislip.Open(ctx, a.Host, part, a.Lock))
	case VXI11:
		host := a.Host
		if a.Mapped {
			port, err := vxi11.Find(ctx, host)
			if err != nil {
				return nil, err
			}
			name, _, _ := net.SplitHostPort(host)
			host = net.JoinHostPort(name, strconv.Itoa(port))
		}
		return orNone(vxi11.Open(ctx, host, part, a.Lock))
	}
	var d net.Dialer
	return d.DialContext(ctx, "tcp", a.Host)
}

// orNone is a link, or none where there is an error.
func orNone[L Link](link L, err error) (Link, error) {
	if err != nil {
		return nil, err
	}
	return link, nil
}
