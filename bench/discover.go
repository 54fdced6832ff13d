package bench

import (
	"context"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"usherbench/api"
	"usherbench/core/document"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/transport"
)

// Bounds of a discovery.
const (
	identifyWithin = time.Second
	announceWithin = time.Second // is listened for announcements
	mostAddresses  = 4096
	atOnce         = 64
)

// Discover asks who answers at the named places, and nowhere else. What the bench has already is not disturbed.
func (b *Bench) Discover(ctx context.Context, where api.Discovery) ([]api.Found, error) {
	addresses := slices.Clone(where.Addresses)
	for _, host := range where.Hosts {
		for _, port := range where.Ports {
			addresses = append(addresses, "tcp://"+net.JoinHostPort(host, strconv.Itoa(port)))
		}
	}
	if len(where.Hosts) > 0 && len(where.Ports) == 0 {
		return nil, fmt.Errorf("%w: hosts without ports; name the ports to look at, such as 5025", api.ErrBadRequest)
	}
	var lines [][]string // addresses on one wire are asked one after another
	for _, a := range addresses {
		if _, err := transport.Parse(a); err != nil {
			return nil, fmt.Errorf("%w: %w", api.ErrBadRequest, err)
		}
		lines = append(lines, []string{a})
	}
	if where.Serial {
		devices, err := transport.SerialDevices()
		if err != nil {
			return nil, fmt.Errorf("list the serial devices: %w", err)
		}
		bauds := where.Bauds
		if len(bauds) == 0 {
			bauds = []int{9600, 115200}
		}
		for _, device := range devices {
			var line []string
			for _, baud := range bauds {
				line = append(line, fmt.Sprintf("serial://%s?baud=%d", device, baud))
			}
			lines = append(lines, line)
		}
	}
	if where.Announced {
		announced, err := transport.Announced(ctx, announceWithin)
		if err != nil {
			return nil, err
		}
		for _, address := range announced {
			lines = append(lines, []string{address})
		}
		if len(lines) == 0 {
			return []api.Found{}, nil
		}
	}
	if len(lines) == 0 || len(lines) > mostAddresses {
		return nil, fmt.Errorf("%w: %d places to look at; name 1 to %d hosts with ports, addresses, serial, or announced",
			api.ErrBadRequest,
			len(lines), mostAddresses)
	}
	if _, known := b.Dialects()[where.Dialect]; where.Dialect != "" && !known {
		return nil, fmt.Errorf("%w: dialect %q is not known; %s", api.ErrBadRequest, where.Dialect,
			document.Suggest(where.Dialect, slices.Sorted(maps.Keys(b.Dialects()))))
	}
	return b.ask(ctx, where, lines), nil
}

func (b *Bench) ask(ctx context.Context, where api.Discovery, lines [][]string) []api.Found {
	config := b.Config()
	slots := make(chan struct{}, atOnce)
	answers := make([][]api.Found, len(lines))
	var wg sync.WaitGroup
	for i, line := range lines {
		wg.Add(1)
		go func() {
			defer wg.Done()
			slots <- struct{}{}
			defer func() { <-slots }()
			for _, address := range line {
				found := b.identifyAt(ctx, config, address, where.Dialect)
				answers[i] = append(answers[i], found)
				if found.Identity != "" {
					return // the other baud rates of the line are wrong then
				}
			}
		}()
	}
	wg.Wait()
	return slices.Concat(answers...)
}

// identifyAt asks who answers at an address: with the question of the dialect that is named, or with every dialect's
// where none is named or it has none.
func (b *Bench) identifyAt(ctx context.Context, config Config, address, named string) api.Found {
	found := api.Found{Address: address, Dialects: []string{}}
	for name, i := range config.Instruments {
		if i.Address == address {
			found.Name = name
			known, err := b.Instrument(name)
			if err != nil {
				return b.offer(found, "", err)
			}
			identity, err := known.Identify(ctx)
			return b.offer(found, identity, err)
		}
	}
	a, err := transport.Parse(address)
	if err != nil {
		return b.offer(found, "", err)
	}
	questions := b.questions(a)
	spoken, isNamed := b.Dialects()[named]
	if isNamed && spoken.Identity.Match != nil {
		questions = []*dialect.Dialect{spoken}
	}
	var last error
	for _, d := range questions {
		i, err := b.reach("found", address, d)
		if err != nil {
			last = err
			continue
		}
		attempt, cancel := context.WithTimeout(ctx, identifyWithin)
		identity, err := i.Identify(attempt)
		cancel()
		_ = i.Close() // it was only asked
		if identity != "" {
			return b.offer(found, identity, nil)
		}
		last = err
	}
	found = b.offer(found, "", last)
	if isNamed && last != nil && b.nobodyUses(config, a) {
		if suspicion := instrument.Suspect(ctx, a.Through(b.options.Memory), spoken); suspicion != "" {
			found.Problem += "; " + suspicion
		}
	}
	return found
}

// nobodyUses tells whether an address is on no line of an instrument that the bench has.
func (b *Bench) nobodyUses(config Config, a transport.Address) bool {
	for _, i := range config.Instruments {
		if other, err := transport.Parse(i.Address); err == nil && other.Host == a.Host && other.Path == a.Path {
			return false
		}
	}
	return true
}

// questions are dialects with the different ways to ask for an identity that suit an address.
func (b *Bench) questions(a transport.Address) (all []*dialect.Dialect) {
	library := b.Dialects()
	asked := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(library)) {
		d := library[name]
		if d.Identity.Match == nil || a.Registers() != (d.Protocol == dialect.Registers) {
			continue
		}
		key := fmt.Sprint(d.Identity.Ask.Message, d.Identity.Ask.Register, d.Send, d.Receive)
		if !asked[key] {
			asked[key] = true
			all = append(all, d)
		}
	}
	slices.SortStableFunc(all, func(x, y *dialect.Dialect) int { // the standard's question first
		return strings.Compare(y.Identity.Ask.Message, x.Identity.Ask.Message)
	})
	return all
}

func (b *Bench) offer(found api.Found, identity string, err error) api.Found {
	found.Identity = identity
	if offered := b.Dialects().Offer(identity); offered != nil {
		found.Dialects = offered
	}
	if err != nil && identity == "" {
		found.Problem = err.Error()
	}
	return found
}
