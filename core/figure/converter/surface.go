package converter

import (
	"math"
	"slices"

	"usherbench/core/figure"
)

// Surface is a figure over line and load, as an efficiency map has it in its table: at every place that was
// measured, NaN at those that are not known.
type Surface struct {
	Line, Load []float64   // increasing, in the units of the table
	At         [][]float64 // by line, then by load
}

// SurfaceOf reads a table of line, load and value; ok is false where it does not spread over both.
func SurfaceOf(t *figure.Table) (s Surface, ok bool) {
	if t == nil || len(t.Columns) < 3 {
		return s, false
	}
	number := func(x any) float64 {
		if f, ok := x.(float64); ok {
			return f
		}
		return math.NaN()
	}
	for _, row := range t.Rows {
		s.Line, s.Load = append(s.Line, number(row[0])), append(s.Load, number(row[1]))
	}
	for _, axis := range []*[]float64{&s.Line, &s.Load} {
		slices.Sort(*axis)
		*axis = slices.Compact(slices.DeleteFunc(*axis, math.IsNaN))
	}
	if len(s.Line) < 2 || len(s.Load) < 2 {
		return s, false
	}
	s.At = make([][]float64, len(s.Line))
	for i := range s.At {
		s.At[i] = slices.Repeat([]float64{math.NaN()}, len(s.Load))
	}
	for _, row := range t.Rows {
		i, j := slices.Index(s.Line, number(row[0])), slices.Index(s.Load, number(row[1]))
		if i >= 0 && j >= 0 {
			s.At[i][j] = number(row[2])
		}
	}
	return s, true
}

// Between is the value at a place: bilinear in a cell of which all corners are known, and NaN elsewhere.
func (s Surface) Between(line, load float64) float64 {
	i, u := cell(s.Line, line)
	j, v := cell(s.Load, load)
	if i < 0 || j < 0 {
		return math.NaN()
	}
	return (1-u)*((1-v)*s.At[i][j]+v*s.At[i][j+1]) + u*((1-v)*s.At[i+1][j]+v*s.At[i+1][j+1])
}

// cell is the stretch of an axis that holds x, and how far along it x lies; −1: none does.
func cell(axis []float64, x float64) (i int, share float64) {
	last := len(axis) - 1
	if !(x >= axis[0] && x <= axis[last]) {
		return -1, 0
	}
	i, _ = slices.BinarySearch(axis, x)
	i = min(max(i-1, 0), last-1)
	return i, (x - axis[i]) / (axis[i+1] - axis[i])
}

// Body is from where to where nine tenths of the surface lie, up to its highest value: where nearly nothing is
// loaded the efficiency of everything is poor, which must not take all colours and contours.
func (s Surface) Body() (low, high float64) {
	const places = 50
	var all []float64
	for i := range places + 1 {
		for j := range places + 1 {
			x := s.Between(along(s.Line, i, places), along(s.Load, j, places))
			if !math.IsNaN(x) {
				all = append(all, x)
			}
		}
	}
	if len(all) == 0 {
		return math.NaN(), math.NaN()
	}
	slices.Sort(all)
	return all[len(all)/10], all[len(all)-1]
}

// along is the k-th of n equal steps along an axis.
func along(axis []float64, k, n int) float64 {
	first, last := axis[0], axis[len(axis)-1]
	return math.Min(first+(last-first)*float64(k)/float64(n), last)
}

// mostLevels bounds the contours of a surface.
const mostLevels = 8

// Levels are round values for contours of its body.
func (s Surface) Levels() (levels []float64) {
	low, high := s.Body()
	if !(high > low) {
		return nil
	}
	step := math.Pow(10, math.Floor(math.Log10((high-low)/mostLevels)))
	for _, round := range []float64{1, 2, 5, 10} {
		if (high-low)/(round*step) <= mostLevels {
			step *= round
			break
		}
	}
	for k := math.Ceil(low / step); k*step < high; k++ {
		if k*step > low {
			levels = append(levels, k*step)
		}
	}
	return levels
}
