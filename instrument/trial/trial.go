// Package trial tries a dialect on a real instrument: each capability in a way that energises nothing, with
// every message and answer, the line of the dialect that is wrong, and what to write instead.
package trial

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"

	"usherbench/core/seats"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
	"usherbench/instrument/modbus"
	"usherbench/instrument/scpi"
)

// Verdict is how a step went.
type Verdict string

// The verdicts.
const (
	Right   Verdict = "right"
	Wrong   Verdict = "wrong"
	Skipped Verdict = "skipped"
)

// Step is one capability that was tried.
type Step struct {
	Name      string              `json:"name"`
	Place     string              `json:"place"`
	Verdict   Verdict             `json:"verdict"`
	What      string              `json:"what"`
	Remedy    string              `json:"remedy,omitempty"`
	Exchanges []messages.Exchange `json:"exchanges"`
}

// Options of a trial.
type Options struct {
	// Channel is the one that is tried; 0: the first, and with Energise it is seen that every channel answers for itself.
	Channel int
	// Energise also switches the output on, with every setpoint at its least.
	Energise bool
	// Done is called after each step.
	Done func(Step)
}

// trial is one under way, on one channel as one kind of seat.
type trial struct {
	ctx     context.Context
	channel *instrument.Channel
	kind    string // of seat, as which the channel is tried
	options Options
	steps   []Step
	seen    uint64 // exchanges shown so far
}

// Run tries a dialect on its instrument, as every seat that a channel can fill.
func Run(ctx context.Context, i *instrument.Instrument, o Options) []Step {
	every := o.Channel == 0 && o.Energise
	o.Channel = max(o.Channel, 1)
	i.Believe() // the dialect is what is tried
	t := &trial{ctx: ctx, options: o}
	for k, seat := range i.Dialect.Seats {
		t.channel, t.kind = i.Channel(o.Channel, seat), seat
		if k == 0 && !t.basics() {
			return t.steps
		}
		t.seat(seat)
		for n := 2; every && n <= i.Dialect.Channels; n++ {
			t.other(n)
		}
	}
	return t.steps
}

// other switches another channel on and off, which must answer for itself.
func (t *trial) other(n int) {
	first := t.channel
	defer func() { t.channel = first }()
	t.channel = first.Instrument.Channel(n, t.kind)
	if as := fmt.Sprintf("channel %d as %s: ", n, t.kind); t.channel.Dialect.Words[seats.Output] != nil && t.off(as) {
		t.energise(as)
	}
}

// step tries one thing; try gives what was found, or an error and what to do about it.
func (t *trial) step(name string, at dialect.Place, try func() (what, remedy string, err error)) bool {
	what, remedy, err := try()
	if err != nil {
		// What the step left in the queue is not the next one's; the connection may have to be opened anew.
		if queue, queueErr := t.queue(); queueErr == nil && len(queue) > 0 && len(queue) < 5 {
			err = fmt.Errorf("%w; its error queue says %s", err, strings.Join(queue, ", "))
		}
	}
	s := Step{Name: name, Place: at.String(), Verdict: Right, What: what, Remedy: remedy}
	if err != nil {
		s.Verdict, s.What = Wrong, plain(err)
		if s.Remedy == "" {
			s.Remedy = t.general(err)
		}
	}
	trace := t.channel.Trace()
	total := trace.Statistics().Messages
	if n := int(total - t.seen); n > 0 {
		s.Exchanges = trace.Last(n)
	}
	t.seen = total
	t.steps = append(t.steps, s)
	if t.options.Done != nil {
		t.options.Done(s)
	}
	return err == nil
}

var (
	noise   = regexp.MustCompile(`instrument \S+: |(?:tcp|serial|usbtmc|hislip|vxi11|modbus-rtu|modbus-tcp)://\S+: `)
	timeout = regexp.MustCompile(`(?:read tcp \S+: )?i/o timeout`)
)

// plain drops what the reader knows already: which instrument it is.
func plain(err error) string {
	text := strings.ReplaceAll(err.Error(), "\n", "; ")
	return noise.ReplaceAllString(timeout.ReplaceAllString(text, "in time"), "")
}

// general words a remedy for an error that no step knows better about.
func (t *trial) general(err error) string {
	var refused *scpi.InstrumentError
	var exception *modbus.Exception
	switch {
	case errors.As(err, &refused):
		return "look the message up in the instrument's command list; the instrument refused it"
	case errors.As(err, &exception) && exception.Code == 2:
		return "the register does not exist: many manuals count from 1, or write 40001 for register 0 and 30001 for input " +
			"0; subtract that"
	case errors.As(err, &exception):
		return "compare type, width and scale of the register with the manual"
	case errors.Is(err, modbus.ErrChecksum) || errors.Is(err, modbus.ErrShort):
		return "check baud, parity and stop bits of the address"
	}
	return "the instrument gave no answer: look the message up in its command list, or give it more time with " +
		"\"answers within\""
}

// basics tries what belongs to the whole instrument; false if nothing more makes sense.
func (t *trial) basics() bool {
	d := t.channel.Instrument.Dialect
	reached := true
	if d.Identity.Match == nil {
		t.note("identity", d.Identity.Place,
			"the dialect does not ask who the instrument is; preflight cannot tell another one at the address")
	} else {
		t.step("identity", d.Identity.Place, func() (string, string, error) {
			identity, err := t.channel.Identify(t.ctx)
			if errors.As(err, new(*instrument.WrongIdentity)) {
				return "", fmt.Sprintf("write %q, if this is the right instrument", "^"+regexp.QuoteMeta(beginning(identity))),
					fmt.Errorf("it says %s, which %s does not match", messages.Excerpt(identity), d.Identity.Match)
			}
			if reached = err == nil; !reached {
				_ = t.channel.Close() // nothing more is tried with it, and it may be the only connection that there can be
				return "", instrument.Suspect(t.ctx, t.channel.Address, d), err
			}
			return fmt.Sprintf("it says %s", messages.Excerpt(identity)), "", nil
		})
	}
	if !reached {
		return false
	}
	if d.Errors.Query == "" {
		if d.Protocol == dialect.Messages {
			t.note("error queue", d.Errors.Place, "the dialect has no error query; a refused setting is not noticed")
		}
		return true
	}
	return t.step("error queue", d.Errors.Place, func() (string, string, error) {
		queue, err := t.channel.Errors(t.ctx)
		if err != nil {
			return "", "", err
		}
		if len(queue) > 1 && queue[len(queue)-1] == queue[len(queue)-2] {
			head, _, _ := strings.Cut(queue[0], ",")
			return "", fmt.Sprintf("if this means that there is no error, write none: %q", head+","),
				fmt.Errorf("the queue never becomes empty: it says %s again and again, which does not begin with %q",
					messages.Excerpt(queue[0]),
					d.Errors.None)
		}
		if len(queue) > 0 {
			return "it held " + strings.Join(queue, "; ") + "; now it is empty", "", nil
		}
		return "it is empty", "", nil
	})
}

// beginning is what of an identity belongs to the model: maker and model of "maker,model,serial,version".
func beginning(identity string) string {
	parts := strings.SplitN(identity, ",", 3)
	if len(parts) < 3 {
		return identity
	}
	return parts[0] + "," + parts[1] + ","
}

func (t *trial) note(name string, at dialect.Place, what string) {
	s := Step{Name: name, Place: at.String(), Verdict: Skipped, What: what}
	t.steps = append(t.steps, s)
	if t.options.Done != nil {
		t.options.Done(s)
	}
}

// seat tries what a channel does as a kind of seat. The output stays off, but for Energise.
func (t *trial) seat(seat string) {
	d := t.channel.Dialect
	as := "as " + seat + ": "
	if words := d.Words[seats.Output]; words != nil && !t.off(as) {
		return // nothing may be set while it is not sure that the output is off
	}
	for _, q := range d.Read {
		t.reading(as, q)
	}
	for _, q := range slices.Sorted(maps.Keys(d.Set)) {
		t.number(as+"set "+q, q, d.Set[q], func(x float64) error { return t.channel.Set(t.ctx, q, x) })
	}
	t.words(as, seats.Mode)
	for _, choice := range seats.AllChoices() {
		t.words(as, choice.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(d.Protect)) {
		t.protection(as, name)
	}
	for name, q := range map[string]dialect.Query{"tripped": d.Tripped, "interlock": d.Interlock} {
		if q.Exists() {
			t.step(as+name, q.Place, func() (string, string, error) {
				yes, err := t.channel.YesNo(t.ctx, q)
				return map[bool]string{true: "yes", false: "no"}[yes], t.yesNoRemedy(q, err), err
			})
		}
	}
	t.watchdog(as)
	t.program(as)
	if t.options.Energise && d.Words[seats.Output] != nil {
		t.energise(as)
	}
}

func (t *trial) yesNoRemedy(q dialect.Query, err error) string {
	if err == nil {
		return ""
	}
	answer, askErr := t.channel.Ask(t.ctx, q)
	if askErr != nil {
		return t.alternative(q.Message, "")
	}
	return fmt.Sprintf("write what %s means in place of %q or %q", messages.Excerpt(answer), strings.Join(q.Yes, ", "),
		strings.Join(q.No, ", "))
}

// number sets a quantity to a harmless value, reads it back, and restores what was set.
func (t *trial) number(name, of string, s dialect.Setter, set func(float64) error) {
	t.step(name, s.Place, func() (string, string, error) {
		before, readable, err := t.channel.Setting(t.ctx, of)
		if err != nil {
			return "", t.header(s, of), err
		}
		x := t.harmless(of)
		if err := set(x); err != nil {
			return "", t.header(s, of), err
		}
		if !readable {
			return "sent " + dialect.Show(quantityOf(of), x) + "; it cannot be read back without ask", "", nil
		}
		now, _, err := t.channel.Setting(t.ctx, of)
		if err != nil {
			return "", "", err
		}
		restore := set(before)
		if math.Abs(now-x) > 0.01*math.Abs(x)+1e-6 {
			return "", unitRemedy(of, s, now/x), fmt.Errorf("%s was set, but %s reads back", dialect.Show(quantityOf(of), x),
				dialect.Show(quantityOf(of), now))
		}
		return fmt.Sprintf("%s reads back as %s; set to %s again", dialect.Show(quantityOf(of), x),
			dialect.Show(quantityOf(of), now), dialect.Show(quantityOf(of), before)), "", restore
	})
}

func unitRemedy(of string, s dialect.Setter, ratio float64) string {
	symbol := map[string]string{"volts": "V", "amps": "A", "watts": "W", "ohms": "Ω"}[quantityOf(of)]
	near := func(x float64) bool { return math.Abs(ratio/x-1) < 0.02 }
	switch {
	case near(1e-3):
		return fmt.Sprintf("the instrument takes thousandths: add unit: m%s to the setting", symbol)
	case near(1e3) && s.Factor == 1e-3:
		return fmt.Sprintf("the instrument takes whole units: write unit: %s", symbol)
	case near(1e3):
		return fmt.Sprintf("the answer is in thousandths: it is read in the unit of the setting, "+
			"so add unit: m%s if both are", symbol)
	}
	return "compare ask, unit and decimals with the manual"
}

// quantityOf is what a setting or a protection is a number of.
func quantityOf(of string) string {
	q, _, _ := strings.Cut(of, " ")
	return q
}

// harmless is a value that does no harm with the output off: small, but larger than what digits cut off.
func (t *trial) harmless(of string) float64 {
	most, known := t.channel.Dialect.Most(quantityOf(of))
	switch {
	case quantityOf(of) == "ohms" && known:
		return most / 2
	case known:
		return math.Min(most/10, 1)
	}
	return 1
}

func (t *trial) words(as, of string) {
	words := t.channel.Dialect.Words[of]
	if words == nil {
		return
	}
	before, readable, err := t.channel.Word(t.ctx, of)
	for _, word := range slices.Sorted(maps.Keys(words)) {
		t.step(as+of+" "+word, words[word].Place, func() (string, string, error) {
			if err != nil {
				return "", "", err
			}
			if err := t.channel.SetWord(t.ctx, of, word); err != nil {
				return "", t.header(words[word], ""), err
			}
			if !readable {
				return "sent; it cannot be read back without ask", "", nil
			}
			now, _, err := t.channel.Word(t.ctx, of)
			if err == nil && now != word {
				err = fmt.Errorf("it reads back as %s", now)
			}
			return "it reads back", "compare ask with the manual", err
		})
	}
	if readable && err == nil {
		_ = t.channel.SetWord(t.ctx, of, before) // it was set like this a moment ago
	}
}

// protection sets a protection to what it is, so that nothing changes.
func (t *trial) protection(as, name string) {
	s := t.channel.Dialect.Protect[name]
	t.step(as+"protect "+name, s.Place, func() (string, string, error) {
		now, readable, err := t.channel.Setting(t.ctx, name)
		if err != nil {
			return "", t.header(s, name), err
		}
		if !readable {
			return "not tried: without ask it could not be put back", "", nil
		}
		err = t.channel.Protect(t.ctx, name, now)
		return "it stands at " + dialect.Show(quantityOf(name), now), t.headerIf(err, s, name), err
	})
}

func (t *trial) watchdog(as string) {
	w := t.channel.Dialect.Watchdog
	if !w.Arm.Exists() {
		return
	}
	t.step(as+"watchdog", w.Arm.Place, func() (string, string, error) {
		err := t.channel.Send(t.ctx, "arm", w.Arm, w.After.Seconds())
		if err == nil && w.Feed.Exists() {
			err = t.channel.Send(t.ctx, "feed", w.Feed, w.Feed.Word)
		}
		return "armed, fed and disarmed", "", errors.Join(err, t.channel.Send(t.ctx, "disarm", w.Disarm, w.Disarm.Word))
	})
}
