package transport

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// resolveWithin bounds how long a host name is looked up.
const resolveWithin = 500 * time.Millisecond

// Place is where the address leads, whatever it is written like: two addresses with one place are one instrument.
// Names are resolved to addresses and device paths to the devices that they point to, as far as that is possible now.
func (a Address) Place() string {
	where := a.Path
	if a.Host != "" {
		where = hostPlace(a.Host)
	} else if device, err := filepath.EvalSymlinks(a.Path); err == nil {
		where = device
	}
	if a.Unit != 0 {
		where += fmt.Sprintf(" unit %d", a.Unit)
	}
	return where
}

func hostPlace(hostPort string) string {
	host, port, err := net.SplitHostPort(hostPort)
	if err != nil {
		return hostPort
	}
	ips := []string{strings.ToLower(host)}
	if net.ParseIP(host) == nil {
		ctx, cancel := context.WithTimeout(context.Background(), resolveWithin)
		defer cancel()
		if found, err := net.DefaultResolver.LookupHost(ctx, host); err == nil && len(found) > 0 {
			slices.Sort(found)
			ips = found
		}
	}
	for _, text := range ips {
		if ip := net.ParseIP(text); ip != nil && (ip.Equal(net.IPv6loopback) || ip.Equal(net.IPv4(127, 0, 0, 1))) {
			return net.JoinHostPort("127.0.0.1", port)
		}
	}
	return net.JoinHostPort(ips[0], port)
}
