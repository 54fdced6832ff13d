package transport

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/hashicorp/mdns"

	"usherbench/instrument/transport/vxi11"
)

// announcements are the services by which instruments announce themselves by mDNS (RFC 6762, DNS-SD types registered
// with IANA), and the addresses that they mean.
var announcements = map[string]func(host string, port int) string{
	"_scpi-raw._tcp": func(host string, port int) string {
		return TCP + "://" + net.JoinHostPort(host, strconv.Itoa(port))
	},
	"_hislip._tcp": func(host string, port int) string {
		return HiSLIP + "://" + net.JoinHostPort(host, strconv.Itoa(port)) + "/hislip0"
	},
	"_vxi-11._tcp": func(host string, port int) string { // the port is the port mapper's
		address := VXI11 + "://" + host + "/inst0"
		if port != vxi11.PortmapPort {
			address += "?portmapper=" + strconv.Itoa(port)
		}
		return address
	},
}

// Announced listens for a while for the instruments that announce themselves on the networks of this computer, and
// gives their addresses, sorted. An error says that no network could be asked.
func Announced(ctx context.Context, within time.Duration) ([]string, error) {
	interfaces, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex // guards what follows
	found := map[string]bool{}
	var failed []error
	asked := 0
	var asking sync.WaitGroup
	for _, i := range interfaces {
		if i.Flags&net.FlagUp == 0 || i.Flags&(net.FlagMulticast|net.FlagLoopback) == 0 {
			continue
		}
		for service, address := range announcements {
			asking.Go(func() {
				entries, err := announcedOn(ctx, i, service, within)
				mu.Lock()
				defer mu.Unlock()
				if err != nil {
					failed = append(failed, fmt.Errorf("%s: %w", i.Name, err))
					return
				}
				asked++
				for _, e := range entries {
					found[address(e.AddrV4.String(), e.Port)] = true
				}
			})
		}
	}
	asking.Wait()
	if asked == 0 {
		return nil, fmt.Errorf("no network could be asked for instruments: %w", errors.Join(failed...))
	}
	var addresses []string
	for a := range found {
		addresses = append(addresses, a)
	}
	slices.Sort(addresses)
	return addresses, nil
}

// announcedOn are the announcements of a service on one network.
func announcedOn(ctx context.Context, on net.Interface, service string, within time.Duration) (all []*mdns.ServiceEntry,
	err error) {
	entries := make(chan *mdns.ServiceEntry, 256)
	err = mdns.QueryContext(ctx, &mdns.QueryParam{Service: service, Timeout: within, Interface: &on, Entries: entries,
		DisableIPv6: true, Logger: log.New(io.Discard, "", 0)})
	close(entries)
	for e := range entries {
		if e.AddrV4 != nil && e.Port > 0 {
			all = append(all, e)
		}
	}
	return all, err
}
