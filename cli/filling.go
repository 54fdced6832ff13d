package cli

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"usherbench/api"
	"usherbench/core/seats"
)

// putProbes gives the seat that captures its probes: "output=1:10", "current=3:100A".
func putProbes(filled map[string]api.SeatConfig, probes []string) error {
	if len(probes) == 0 {
		return nil
	}
	at := slices.IndexFunc(slices.Sorted(maps.Keys(filled)), func(name string) bool {
		kind, ok := seats.KindOf(name)
		return ok && kind.Is(seats.Captures)
	})
	if at < 0 {
		return usage("--probe is for a seat that captures; add scope=INSTRUMENT")
	}
	name := slices.Sorted(maps.Keys(filled))[at]
	seat := filled[name]
	seat.Probes = map[string]api.ProbeConfig{}
	for _, text := range probes {
		probe, rest, ok := strings.Cut(text, "=")
		channel, factor, scaled := strings.Cut(rest, ":")
		p := api.ProbeConfig{Unit: "V"}
		if scaled && strings.HasSuffix(factor, "A") {
			factor, p.Unit = strings.TrimSuffix(factor, "A"), "A"
		}
		var err error
		if p.Channel, err = strconv.Atoi(channel); err != nil || !ok {
			return usage("--probe %q: write it like output=1:10, or current=3:100A", text)
		}
		if scaled {
			if p.Factor, err = strconv.ParseFloat(strings.TrimSuffix(factor, "V"), 64); err != nil {
				return usage("--probe %q: the factor is a number, as in output=1:10", text)
			}
		}
		seat.Probes[probe] = p
	}
	filled[name] = seat
	return nil
}

// putLeads says what the leads of seats have: "load=0.012:0.001".
func putLeads(filled map[string]api.SeatConfig, leads []string) error {
	for _, text := range leads {
		name, rest, _ := strings.Cut(text, "=")
		seat, ok := filled[name]
		if !ok {
			return usage("--leads %q: the bay has no seat %q; write it like load=0.012:0.001", text, name)
		}
		ohms, within, _ := strings.Cut(rest, ":")
		var l api.LeadsConfig
		var err error
		if l.Ohms, err = strconv.ParseFloat(ohms, 64); err == nil && l.Ohms != 0 {
			l.Within, err = strconv.ParseFloat(within, 64)
		}
		if err != nil {
			return usage("--leads %q: write it like load=0.012:0.001, in ohms", text)
		}
		if seat.Leads = &l; l.Ohms == 0 {
			seat.Leads = nil
		}
		filled[name] = seat
	}
	return nil
}

// fill reads "psu1:1", "psu1:1+psu1:2" (parallel) or "psu1:1++psu1:2" (series).
func fill(seat *api.SeatConfig, text string) error {
	separator, gang := "+", "parallel"
	if strings.Contains(text, "++") {
		separator, gang = "++", "series"
	}
	var refs []api.ChannelRef
	for _, part := range strings.Split(text, separator) {
		name, number, has := strings.Cut(part, ":")
		ref := api.ChannelRef{Instrument: name, Channel: 1}
		if has {
			var err error
			if ref.Channel, err = strconv.Atoi(number); err != nil {
				return usage("%q: the channel is a number, as in psu1:2", part)
			}
		}
		refs = append(refs, ref)
	}
	if len(refs) == 1 {
		seat.Instrument, seat.Channel = refs[0].Instrument, refs[0].Channel
		return nil
	}
	seat.Gang, seat.Channels = gang, refs
	return nil
}
