package trace

import "math"

// Bucket is the smallest and the largest present value among consecutive samples; both are NaN if none is present.
type Bucket struct {
	T        float64 // time of the first sample
	Min, Max float64
}

// Extend takes one more value into the bucket.
func (b *Bucket) Extend(x float64) { b.Merge(Bucket{Min: x, Max: x}) }

// Merge takes another bucket's range into the bucket.
func (b *Bucket) Merge(o Bucket) {
	if math.IsNaN(o.Min) {
		return
	}
	if math.IsNaN(b.Min) || o.Min < b.Min {
		b.Min = o.Min
	}
	if math.IsNaN(b.Max) || o.Max > b.Max {
		b.Max = o.Max
	}
}

// Decimate reduces buckets that lie in a ≤ T < b (ordered by time) to at most n of equal duration. Empty ones
// are left out, so that a gap stays a gap.
func Decimate(buckets []Bucket, a, b float64, n int) []Bucket {
	if len(buckets) <= n || n <= 0 || b <= a {
		return buckets
	}
	out := make([]Bucket, 0, n)
	width, slot := (b-a)/float64(n), -1
	for _, in := range buckets {
		k := min(max(int((in.T-a)/width), 0), n-1)
		if k != slot {
			out = append(out, in)
			slot = k
			continue
		}
		out[len(out)-1].Merge(in)
	}
	return out
}
