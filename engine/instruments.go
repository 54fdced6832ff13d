package engine

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

// Instruments describes the bench and asks each instrument who it is, all at once.
func (e *Engine) Instruments(ctx context.Context) ([]api.Instrument, error) {
	config, err := e.BenchConfig()
	if err != nil {
		return nil, err
	}
	e.mu.RLock()
	opened := maps.Clone(e.instruments)
	e.mu.RUnlock()
	names := slices.Sorted(maps.Keys(opened))
	list := make([]api.Instrument, len(names))
	var wg sync.WaitGroup
	for k, name := range names {
		wg.Add(1)
		go func() {
			defer wg.Done()
			list[k] = e.describe(ctx, name, opened[name], config)
		}()
	}
	wg.Wait()
	return list, nil
}

func (e *Engine) describe(ctx context.Context, name string, i *instrument.Instrument,
	config api.BenchConfig) api.Instrument {
	c := config.Instruments[name]
	a := api.Instrument{Name: name, Address: c.Address, Dialect: i.Dialect.Name, Calibrated: c.Calibrated, Due: c.Due,
		Fills:  []string{},
		Origin: config.Origin["instruments."+name]}
	identity, err := i.Identify(ctx)
	a.Identity, a.Healthy = identity, err == nil
	if err != nil {
		a.Problem = err.Error()
	}
	stats := i.Trace().Statistics()
	a.Messages, a.Errors, a.Connects = stats.Messages, stats.Errors, stats.Connects
	a.Median, a.P99 = stats.Median.Seconds(), stats.P99.Seconds()
	for _, bay := range slices.Sorted(maps.Keys(config.Bays)) {
		for _, seat := range slices.Sorted(maps.Keys(config.Bays[bay].Seats)) {
			for _, ref := range config.Bays[bay].Seats[seat].All() {
				if fills := bay + "." + seat; ref.Instrument == name && !slices.Contains(a.Fills, fills) {
					a.Fills = append(a.Fills, fills)
				}
			}
		}
	}
	return a
}

// Exchanges lists the last messages to an instrument, oldest first.
func (e *Engine) Exchanges(name string, n int) ([]api.Exchange, error) {
	e.mu.RLock()
	i, ok := e.instruments[name]
	known := slices.Collect(maps.Keys(e.instruments))
	e.mu.RUnlock()
	if !ok {
		return nil, fmt.Errorf("%w: %q; %s", ErrUnknownInstrument, name, document.Suggest(name, known))
	}
	list := []api.Exchange{}
	for _, x := range i.Trace().Last(n) {
		list = append(list, api.Exchange{At: x.At, Message: x.Message, Answer: x.Answer, Latency: x.Latency.Seconds(),
			Error: x.Error})
	}
	return list, nil
}

// Bounds of a discovery.
const (
	identifyWithin = time.Second
	mostAddresses  = 4096
	atOnce         = 64
)

// Discover asks who answers at the named places, and nowhere else. What the bench has already is not disturbed.
func (e *Engine) Discover(ctx context.Context, where api.Discovery) ([]api.Found, error) {
	addresses := slices.Clone(where.Addresses)
	for _, host := range where.Hosts {
		for _, port := range where.Ports {
			addresses = append(addresses, "tcp://"+net.JoinHostPort(host, strconv.Itoa(port)))
		}
	}
	if len(where.Hosts) > 0 && len(where.Ports) == 0 {
		return nil, fmt.Errorf("%w: hosts without ports; name the ports to look at, such as 5025", ErrBadRequest)
	}
	var lines [][]string // addresses on one wire are asked one after another
	for _, a := range addresses {
		if _, err := transport.Parse(a); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrBadRequest, err)
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
	if len(lines) == 0 || len(lines) > mostAddresses {
		return nil, fmt.Errorf("%w: %d places to look at; name 1 to %d hosts with ports, addresses, or serial", ErrBadRequest,
			len(lines), mostAddresses)
	}
	return e.ask(ctx, lines), nil
}

func (e *Engine) ask(ctx context.Context, lines [][]string) []api.Found {
	config := e.Config()
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
				found := e.identifyAt(ctx, config, address)
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

// identifyAt asks who answers at an address, with every dialect's question where the standard one has no answer.
func (e *Engine) identifyAt(ctx context.Context, config Config, address string) api.Found {
	found := api.Found{Address: address, Dialects: []string{}}
	for name, i := range config.Instruments {
		if i.Address == address {
			found.Name = name
			e.mu.RLock()
			known := e.instruments[name]
			e.mu.RUnlock()
			identity, err := known.Identify(ctx)
			return e.offer(found, identity, err)
		}
	}
	a, err := transport.Parse(address)
	if err != nil {
		return e.offer(found, "", err)
	}
	var last error
	for _, d := range e.questions(a) {
		i, err := instrument.Open("found", address, d)
		if err != nil {
			last = err
			continue
		}
		attempt, cancel := context.WithTimeout(ctx, identifyWithin)
		identity, err := i.Identify(attempt)
		cancel()
		_ = i.Close() // it was only asked
		if identity != "" {
			return e.offer(found, identity, nil)
		}
		last = err
	}
	return e.offer(found, "", last)
}

// questions are dialects with the different ways to ask for an identity that suit an address.
func (e *Engine) questions(a transport.Address) (all []*dialect.Dialect) {
	library := e.Dialects()
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

func (e *Engine) offer(found api.Found, identity string, err error) api.Found {
	found.Identity = identity
	if offered := e.Dialects().Offer(identity); offered != nil {
		found.Dialects = offered
	}
	if err != nil && identity == "" {
		found.Problem = err.Error()
	}
	return found
}
