package transport

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// resolveWithin bounds how long a host name is looked up, and resolvedFor how long what was found is remembered.
const (
	resolveWithin = 500 * time.Millisecond
	resolvedFor   = 10 * time.Second
)

// resolved remembers host names: a bench asks for all of its places with every change.
var resolved = struct {
	sync.Mutex
	hosts map[string]lookup
}{hosts: map[string]lookup{}}

type lookup struct {
	ips []string
	at  time.Time
}

// ipsOf looks a host name up; one that is not found stands for itself.
func ipsOf(host string) []string {
	resolved.Lock()
	known, ok := resolved.hosts[host]
	resolved.Unlock()
	if ok && time.Since(known.at) < resolvedFor {
		return known.ips
	}
	ctx, cancel := context.WithTimeout(context.Background(), resolveWithin)
	defer cancel()
	ips, err := net.DefaultResolver.LookupHost(ctx, host)
	if err != nil || len(ips) == 0 {
		ips = []string{host}
	}
	slices.Sort(ips)
	resolved.Lock()
	defer resolved.Unlock()
	resolved.hosts[host] = lookup{ips, time.Now()}
	return ips
}

// Place is where the address leads, whatever it is written like: two addresses with one place are one instrument.
// Names are resolved to addresses and device paths to the devices that they point to, as far as that is possible now.
func (a Address) Place() string {
	where := a.Path
	switch {
	case a.Scheme == Memory:
		where = fmt.Sprintf("memory of process %d: %s", os.Getpid(), a.Host)
	case a.Host != "":
		where = hostPlace(a.Host) + a.Path
	default:
		if device, err := filepath.EvalSymlinks(a.Path); err == nil {
			where = device
		}
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
		ips = ipsOf(ips[0])
	}
	for _, text := range ips {
		if ip := net.ParseIP(text); ip != nil && (ip.Equal(net.IPv6loopback) || ip.Equal(net.IPv4(127, 0, 0, 1))) {
			return net.JoinHostPort("127.0.0.1", port)
		}
	}
	return net.JoinHostPort(ips[0], port)
}
