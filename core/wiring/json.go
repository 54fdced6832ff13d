package wiring

import (
	"encoding/json"
	"math"
)

// MarshalJSON implements json.Marshaler: [a, b, Ω], with null for what is over range.
func (p Pair) MarshalJSON() ([]byte, error) {
	if math.IsInf(p.Ohms, 1) {
		return json.Marshal([]any{p.A, p.B, nil})
	}
	return json.Marshal([]any{p.A, p.B, p.Ohms})
}

// UnmarshalJSON implements json.Unmarshaler.
func (p *Pair) UnmarshalJSON(data []byte) error {
	var ohms *float64
	if err := json.Unmarshal(data, &[3]any{&p.A, &p.B, &ohms}); err != nil {
		return err
	}
	if p.Ohms = math.Inf(1); ohms != nil {
		p.Ohms = *ohms
	}
	return nil
}
