package instrument

import (
	"context"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"

	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
	"usherbench/instrument/modbus"
	"usherbench/instrument/scpi"
)

// registers speaks Modbus.
type registers struct{ client *modbus.Client }

func (t *registers) set(ctx context.Context, d *dialect.Dialect, s dialect.Setter, channel int, value float64) error {
	if s.Numbered {
		value = float64(channel)
	}
	words, err := s.Register.Form.Encode(value / s.Factor)
	if err != nil {
		return err
	}
	return t.client.Write(ctx, uint16(d.At(s.Register, channel)), s.Register.Several, words...)
}

// confirm asks once: an answer by registers names the question that it is of.
func (t *registers) confirm(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error) {
	return t.ask(ctx, d, q, channel)
}

func (t *registers) ask(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error) {
	address := uint16(d.At(q.Register, channel))
	if n := q.Register.Text; n > 0 {
		words, err := t.client.Read(ctx, q.Register.Input, address, n)
		if err != nil {
			return "", err
		}
		var text strings.Builder
		for _, w := range words {
			text.WriteByte(byte(w >> 8))
			text.WriteByte(byte(w))
		}
		return strings.Trim(text.String(), "\x00 "), nil
	}
	words, err := t.client.Read(ctx, q.Register.Input, address, q.Register.Form.Registers())
	if err != nil {
		return "", err
	}
	x := q.Register.Form.Decode(words)
	if len(q.Gives) > 0 && q.Gives[0].Bit >= 0 {
		x = inSI(q.Gives[0], x)
	}
	return strconv.FormatFloat(x, 'f', -1, 64), nil
}

// read asks for neighbours in one message, but not across a gap: many instruments refuse a stretch with an
// address in it that they do not have.
func (t *registers) read(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int,
	values []float64) error {
	for first := 0; first < len(q.Gives); {
		last := first + 1
		from := d.At(q.Gives[first].Register, channel)
		end := from + q.Gives[first].Register.Form.Registers()
		for ; last < len(q.Gives); last++ {
			r := q.Gives[last].Register
			at := d.At(r, channel)
			if r.Input != q.Gives[first].Register.Input || at < from || at > end ||
				at+r.Form.Registers()-from > modbus.MostRead {
				break
			}
			end = max(end, at+r.Form.Registers())
		}
		words, err := t.client.Read(ctx, q.Gives[first].Register.Input, uint16(from), end-from)
		if err != nil {
			return err
		}
		for k := first; k < last; k++ {
			r := q.Gives[k].Register
			at := d.At(r, channel) - from
			x := r.Form.Decode(words[at : at+r.Form.Registers()])
			code, is := q.Gives[k].Codes.OfRegisters(r.Form, x)
			if values[k] = code; !is {
				values[k] = inSI(q.Gives[k], x)
			}
		}
		first = last
	}
	return nil
}

// codes reads a waveform window by window.
func (t *registers) codes(ctx context.Context, d *dialect.Dialect, q dialect.Samples, channel, samples int) ([]int16,
	error) {
	codes := scpi.Codes{Format: *q.Block}
	bytes := samples * q.Block.Size()
	codes.Begin(bytes)
	for page, left := 0, (bytes+1)/2; left > 0; page++ {
		from := d.At(q.Register, channel)
		if q.Page.Exists() {
			if err := t.set(ctx, d, q.Page, channel, float64(page)); err != nil {
				return nil, err
			}
		} else {
			from += page * q.Window
		}
		window := min(q.Window, left)
		if from+window > 1<<16 {
			return nil, fmt.Errorf("%d samples reach beyond the last register; name the page of a window", samples)
		}
		for done := 0; done < window; {
			words, err := t.client.Read(ctx, q.Register.Input, uint16(from+done), min(window-done, modbus.MostRead))
			if err != nil {
				return nil, err
			}
			part := make([]byte, 0, 2*len(words))
			for _, w := range words {
				part = binary.BigEndian.AppendUint16(part, w)
			}
			if _, err := codes.Write(part[:min(len(part), bytes)]); err != nil {
				return nil, err
			}
			bytes -= len(part)
			done += len(words)
		}
		left -= window
	}
	return codes.All()
}

func (t *registers) errors(context.Context) ([]string, error) { return nil, nil }

func (t *registers) trace() *messages.Trace { return &t.client.Trace }

func (t *registers) giveUp() { t.client.GiveUp() }

func (t *registers) close() error { return t.client.Close() }
